"""Does what people type answer?"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from hooper.addresses import IPAddress
from hooper.check.checking import check_services
from hooper.check.delays import delays
from hooper.check.results import CheckDocument, Skipped
from hooper.check.wish import Outcome, Wish
from hooper.clock import time_left
from hooper.errors import HooperError
from hooper.gateways.reading import Tables
from hooper.places import Place
from hooper.planning.unfolded import side_doors
from hooper.usecases.origins import open_place
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.prove.probing import probe_keys, revoked_certificates
from hooper.usecases.run import Run

TABLES_S = 2.0  # seconds for the routers' tables, beside the probes


@dataclass(frozen=True)
class CheckRequest:
    """services: which. public: addresses by line that were given. deadline: seconds for all of it."""

    services: tuple[str, ...]
    origin: Place
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    deadline: float = 5.0


async def look(run: Run, request: CheckRequest) -> Outcome:
    """Check; nothing is kept yet. Raises: NoNetwork, UsageError, MachineError, ProxyFailed."""
    doors = tuple(side_doors(run.topology, run.plan.forwards))
    known = run.given(request.public)
    started = run.here.clock.monotonic()
    tables = Tables(run.here, run.site, run.site.gateways, min(request.deadline, TABLES_S))
    wish = Wish(run.topology, request.services, request.deadline, known, base=run.base, doors=doors, heard=run.progress,
                keys=probe_keys(run), forwards=run.plan.forwards, tables=tables,
                revoked=revoked_certificates(run))  # fmt: skip
    if request.origin.kind == "here":
        return await check_services(run.here, wish, memory=run.memory)
    outside = await open_place(run, request.origin, request.deadline)
    wish = replace(wish, deadline=time_left(run.here.clock, started, request.deadline))
    return await check_services(run.here, wish, outside, run.memory)


async def check(run: Run, request: CheckRequest) -> tuple[CheckDocument, list[HooperError]]:
    """Check, and keep the results. Raises: as `look`."""
    outcome = await look(run, request)
    keep_look(run, outcome)
    outcome.remarks += delays(run.topology, outcome.results)
    return document_of(outcome), outcome.errors


def document_of(outcome: Outcome) -> CheckDocument:
    """What a check says."""
    return CheckDocument(
        outcome.origin,
        tuple(outcome.results),
        tuple(outcome.findings),
        tuple(Skipped(service, reason) for service, reason in outcome.skipped.items()),
        tuple(outcome.remarks),
    )
