"""The first broken link of a service, with evidence and remedy."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta

from hooper.addresses import IPAddress
from hooper.check.naming import PROBLEMS
from hooper.check.origin import open_origin
from hooper.check.results import Result
from hooper.clock import time_left
from hooper.errors import CounterpartError, HooperError
from hooper.jsonform import read_if
from hooper.line.sources import Given
from hooper.site.places import Origin
from hooper.sourced import Sourced
from hooper.usecases.looking import keep_address, keep_look
from hooper.usecases.run import Run
from hooper.usecases.telling import remember
from hooper.why.case import WhyDocument
from hooper.why.diagnosis import diagnose
from hooper.why.evidence import STORED_FOR, Past, gather_service


@dataclass(frozen=True)
class WhyRequest:
    """origin: the place to look from; None: nobody looks from outside. public: addresses by line
    that were given. told: by the keys of the store, these included.

    deadline: seconds for all of it. keep: what was seen is kept.
    """

    service: str
    origin: Origin | None = None
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    told: Mapping[str, str] = field(default_factory=dict)
    deadline: float = 5.0
    keep: bool = True


async def why(run: Run, request: WhyRequest) -> tuple[WhyDocument, list[HooperError]]:
    """Diagnose, and keep what was seen and told. Raises: NoNetwork, UsageError, MachineError, ProxyFailed."""
    told = remember(run, request.told)
    past, started = Past(Given(request.public, told)), run.here.clock.monotonic()
    with run.keeping() as state:
        if state is not None:
            past = _past(run, request, told)
    outside = None
    trouble: list[HooperError] = []
    if request.origin is not None:
        try:
            outside = await open_origin(run.here, request.origin, run.site, run.base, request.deadline)
        except CounterpartError as exc:  # a proxy that cannot be reached: what is seen from here may tell why
            trouble.append(exc)
    memory = run.state.checks if run.state is not None else None
    left = time_left(run.here.clock, started, request.deadline)
    facts, looks = await gather_service(
        run.here, outside, run.topology, run.plan, request.service, past, memory, left, now=run.at, base=run.base
    )  # fmt: skip
    for look in looks:
        trouble += look.errors
        if request.keep:
            keep_look(run, look)
    if request.keep:
        keep_address(run, facts.line.line, facts.line.public)
    document = diagnose(run.topology, run.plan, facts)
    if document.causes:  # which say why, so that it is no trouble of its own
        trouble = [problem for problem in trouble if problem.code != "public-address-unknown"]
    return document, trouble


def _past(run: Run, request: WhyRequest, told: Mapping[str, Sourced[str]]) -> Past:
    """What earlier runs left. Raises: StateError."""
    assert run.state is not None
    rows = run.state.checks.outside_since(run.at - STORED_FOR - timedelta(seconds=1), run.at, request.service)
    looks = [(at, look) for at, row in rows if (look := read_if(Result, row)) is not None]
    newest = next((look for look in looks if not set(look[1].problems) & set(PROBLEMS)), None)  # of the line itself
    journal = run.state.journal
    entered = {key: frozenset(entry.service for entry in journal.entries(key).values()) for key in run.site.gateways}
    return Past(run.given(request.public, told), newest, run.state.checks.fingerprints(), entered)
