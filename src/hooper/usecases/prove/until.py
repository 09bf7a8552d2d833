"""Looking again and again while somebody types into a router, until all is as it should be."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

from hooper.check.results import CheckDocument, From, Result
from hooper.check.wish import Outcome
from hooper.errors import HooperError, UsageError
from hooper.usecases.prove.check import CheckRequest, document_of, look
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.run import Run
from hooper.words.said import NOTHING, Said, quoted

Event = Literal["seen", "turned", "trouble", "ended"]
Key = tuple[str, str, int, str | None]


@dataclass(frozen=True, slots=True)
class UntilLine:
    """`hooper check --until answered`: one line.

    event: seen: how a probe came out at the first look; turned: it comes out otherwise now; trouble: a look could not
    be made; ended. result: of the probe; null: this is about none. before: its verdict until now; null: there was none.
    waiting: how many probes are not as they should be yet. rounds: how many looks there have been. detail: in words.
    """

    event: Event
    result: Result | None
    before: str | None
    waiting: int
    rounds: int
    detail: Said = NOTHING


@dataclass(frozen=True)
class UntilRequest:
    """check: what is looked at in each round. every: seconds from one look to the next. hold: seconds for all of it.

    heard: is told each line. drawn: is told all results after each look.
    """

    check: CheckRequest
    every: float
    hold: float
    heard: Callable[[UntilLine], None] = lambda line: None
    drawn: Callable[[From, list[Result], int], None] = lambda origin, results, rounds: None


def waits_for(result: Result) -> bool:
    """Whether there is something to wait for: what no probe can prove will never be well."""
    return not (result.ok or (result.untold and not result.provable))


def _key(result: Result) -> Key:
    return result.service, result.transport, result.port, result.target_address


async def until(run: Run, request: UntilRequest) -> tuple[CheckDocument, list[HooperError]]:
    """Look until every probe is as it should be, or the time is over; the last look is what is given and kept.

    Raises: as `check`, at the first look.
    """
    clock = run.here.clock
    end = clock.monotonic() + request.hold
    before: dict[Key, Result] = {}
    outcome: Outcome | None = None
    rounds, waiting = 0, 0
    while True:
        started = clock.monotonic()
        rounds += 1
        try:
            outcome = await look(run, _this_look(request, rounds))
        except HooperError as exc:
            if outcome is None or isinstance(exc, UsageError):
                raise
            request.heard(UntilLine("trouble", None, None, waiting, rounds, quoted(exc.message)))
        else:
            waiting = sum(map(waits_for, outcome.results))
            _tell(request, outcome, before, waiting, rounds)
            before = {_key(result): result for result in outcome.results}
            request.drawn(outcome.origin, outcome.results, rounds)
        if not waiting or clock.monotonic() >= end:
            break
        await clock.sleep(max(0.0, min(started + request.every, end) - clock.monotonic()))
    keep_look(run, outcome)
    request.heard(UntilLine("ended", None, None, waiting, rounds))
    return document_of(outcome), outcome.errors


def _this_look(request: UntilRequest, rounds: int) -> CheckRequest:
    """Short looks, so that a turn is seen at once; each fourth has all of its time, for what answers slowly."""
    if rounds % 4 == 0:
        return request.check
    return replace(request.check, deadline=min(request.check.deadline, max(1.0, request.every)))


def _tell(request: UntilRequest, outcome: Outcome, before: dict[Key, Result], waiting: int, rounds: int) -> None:
    for result in outcome.results:
        was = before.get(_key(result))
        if was is None:
            request.heard(UntilLine("seen", result, None, waiting, rounds, result.detail))
        elif (was.verdict, was.problems) != (result.verdict, result.problems):
            request.heard(UntilLine("turned", result, was.verdict, waiting, rounds, result.detail))
