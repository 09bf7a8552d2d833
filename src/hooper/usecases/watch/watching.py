"""Looking at the services again and again: what breaks is looked at twice before it is called so, and why is asked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import anyio

from hooper.check.results import Result
from hooper.check.wish import Outcome
from hooper.errors import HooperError
from hooper.places import Place
from hooper.store.kept import Condition
from hooper.usecases.prove.check import CheckRequest, look
from hooper.usecases.prove.gathering import WhyRequest
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.prove.why import why
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import of_results

AT_ONCE = 4  # diagnoses side by side


@dataclass(frozen=True)
class WatchRequest:
    """origin: the place to look from. deadline: seconds for one look. again_s: seconds between the two looks."""

    origin: Place
    deadline: float = 5.0
    again_s: float = 3.0


async def watch_services(run: Run, request: WatchRequest) -> tuple[tuple[Condition, ...], list[HooperError]]:
    """Look at all services from one place, and keep what was seen. Raises: as `check`."""
    wanted = CheckRequest(tuple(run.site.services), request.origin, deadline=request.deadline)
    outcome = await look(run, wanted)
    suspects = _newly_broken(run, outcome)
    if suspects:
        await run.here.clock.sleep(request.again_s)
        again = await look(run, replace(wanted, services=suspects))
        outcome = replace(outcome, results=[*_others(outcome, suspects), *again.results])
    causes = await _causes(run, request, _newly_broken(run, outcome))
    keep_look(run, outcome, causes)
    return tuple(of_results(run.basis, outcome.place, outcome.results, causes)), outcome.errors


def _others(outcome: Outcome, services: tuple[str, ...]) -> list[Result]:
    return [result for result in outcome.results if result.service not in services]


def _newly_broken(run: Run, outcome: Outcome) -> tuple[str, ...]:
    """The services that are broken by this look, and were not known to be."""
    known: Mapping[str, str] = {}
    with run.keeping() as state:
        if state is not None:
            place = str(outcome.place)
            stood = [one.condition for one in state.history.conditions()]
            known = {one.subject: one.state for one in stood if (one.kind, one.aspect) == ("service", place)}
    now = of_results(run.basis, outcome.place, outcome.results)
    return tuple(one.subject for one in now if one.state == "broken" and known.get(one.subject) != "broken")


async def _causes(run: Run, request: WatchRequest, services: tuple[str, ...]) -> dict[str, str]:
    """The likeliest cause of each service that broke; what cannot be told is left out."""
    causes: dict[str, str] = {}
    limit = anyio.CapacityLimiter(AT_ONCE)
    origin = request.origin if request.origin.kind != "here" else None

    async def one(service: str) -> None:
        own = replace(run, trouble=[], changed=[], file=run.file)
        async with limit:
            try:
                document, _ = await why(own, WhyRequest(service, origin, deadline=request.deadline, keep=False))
            except HooperError:
                return
        if document.causes and document.causes[0].certainty != "possible":
            causes[service] = document.causes[0].code

    async with anyio.create_task_group() as tasks:
        for service in services:
            tasks.start_soon(one, service)
    return causes
