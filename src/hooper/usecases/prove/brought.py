"""What was seen elsewhere: the result of a visit, brought home, known again by its seal and held against the plan; and
what a person saw, kept with its date, as evidence that proves nothing.
"""

from __future__ import annotations

import hmac
import json
from dataclasses import dataclass, replace
from datetime import timedelta
from pathlib import Path

from hooper import deeds
from hooper.check.results import CheckDocument, From, Result
from hooper.check.wish import Outcome
from hooper.clock import read_moment
from hooper.errors import HooperError, RefusedForSafety, UsageError
from hooper.files import read_text
from hooper.jsonform import read_as, read_json
from hooper.places import Place
from hooper.site.protocols import SPEECHES
from hooper.usecases.prove.check import document_of
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.prove.visit import RESULT, Brought, proof_of
from hooper.usecases.run import Run
from hooper.words.said import say


class NotOurVisit(RefusedForSafety):
    """The result is of no pack of this site, or was changed on the way."""

    code = "visit-not-ours"
    remedy = f"Bring the file as it was written, to the site whose `{deeds.PACK}` made the pack."


CLOCKS = timedelta(minutes=10)  # by which two computers' clocks may differ


def _against_plan(run: Run, result: Result) -> str | None:
    """What of a result cannot have come of a look at this site; None: nothing."""
    service = run.site.services.get(result.service)
    if service is None:
        return None  # it was taken away since; nothing is kept of it
    if result.expected == "reachable" and service.reach != "public":
        return f'it was to be reached, and its reach is "{service.reach}"'
    reached = result.verdict in ("answered", "connected") and not result.problems
    if result.verdict == "connected" and SPEECHES[service.speaks].told and result.expected == "reachable":
        reached = False
    right = result.verdict in ("silent", "refused") if result.expected == "unreachable" else reached
    if result.ok and not right:
        return f"{result.verdict} is called ok, and it is not what was planned"
    if not 0 <= result.port <= 65535:
        return f"there is no port {result.port}"
    if not 0 <= result.took_ms <= 3_600_000:
        return f"no look takes {result.took_ms} ms"
    return None


async def take_in(run: Run, file: Path) -> tuple[CheckDocument, list[HooperError]]:
    """Keep the result of a visit as proof, with its place and time.

    file: that was brought home. Raises: MachineError, UsageError: it is no such file; NotOurVisit.
    """
    remedy = f"Give the file that `{deeds.VISIT}` wrote elsewhere."
    try:
        brought = read_json(Brought, read_text(file).encode())
        at, results = read_moment(brought.at), read_as(tuple[Result, ...], list(brought.results))
        origin = read_as(From, brought.looked_from)
        if brought.form != RESULT:
            raise ValueError(brought.form)
    except ValueError:
        raise UsageError(f"{file} is no result of a visit, or it is damaged", remedy=remedy) from None
    key = f"visit:{brought.id}"
    known = run.state.values.value(key) if run.state is not None else None
    if known is None or run.state is None:
        raise NotOurVisit(f"{file} is of a pack that this site does not know, or was brought home already")
    seal, expires, *made = known.split(" ", 3)
    if not hmac.compare_digest(proof_of(brought, seal).encode(), brought.proof.encode("utf-8", "replace")):
        raise NotOurVisit(f"{file} is not as the visit wrote it")
    if at > read_moment(expires) or (made and at < read_moment(made[0]) - CLOCKS) or at > run.at + CLOCKS:
        raise NotOurVisit(f"{file} was made at {brought.at}, when its pack could not be used")
    for result in results:
        if (wrong := _against_plan(run, result)) is not None:
            raise NotOurVisit(f"{file} says of {result.service} what cannot be: {wrong}")
    unknown = {one.service for one in results} - run.site.services.keys()
    kept = [one for one in results if one.service not in unknown]
    outcome = Outcome(Place(origin.kind, origin.name), origin.proves_outside, kept)
    outcome.remarks += [say("service-no-more", service=service) for service in sorted(unknown)]
    keep_look(replace(run, at=at), outcome, seen_at=at, bases=json.loads(made[1]) if len(made) > 1 else {})
    run.state.values.forget(key)
    return document_of(outcome), []


@dataclass(frozen=True, slots=True)
class ReportedDocument:
    """`hooper visit tell`. how: what was seen, in the person's words."""

    service: str
    how: str


def keep_reported(run: Run, service: str, how: str) -> tuple[ReportedDocument, list[HooperError]]:
    """Keep it.

    how: in the person's words. Raises: StateError.
    """
    if run.state is not None:
        run.state.ledger.tell(run.at, {f"services.{service}/saw": how}, basis=run.basis)
    return ReportedDocument(service, how), []
