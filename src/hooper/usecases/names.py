"""Dynamic names: do they lead here, and making them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.errors import HooperError, RefusedForSafety, UsageError
from hooper.line.judging import CODES
from hooper.line.measure import measure_line
from hooper.line.situation import judge
from hooper.names.rows import NameRow, NamesDocument
from hooper.names.update import Names
from hooper.usecases.conditions import keep_conditions, of_names
from hooper.usecases.looking import keep_addresses
from hooper.usecases.run import Run

MEASURED_S = 3.0  # seconds for whether anything arrives at the address at all


@dataclass(frozen=True)
class NamesRequest:
    """names: only these; empty: all. deadline: seconds for each question; patience: for an update to show.

    again: ask the provider also where it said to wait, or never again. dry_run: look only. accept: publish an address
    too by which nothing arrives here. patient: a provider that failed is left alone for a while, longer each time.
    """

    names: tuple[str, ...] = ()
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    deadline: float = 5.0
    patience: float = 0.0
    again: bool = False
    dry_run: bool = True
    accept: str | None = None
    patient: bool = False


def _names(run: Run, request: NamesRequest) -> tuple[tuple[str, ...], Names]:
    names = request.names or tuple(run.site.names)
    if not names:
        raise UsageError("the site file has no names", remedy='Add [names."home.example.net"] with its line.')
    memory = run.state.updates if run.state is not None else None
    known = run.given(request.public)
    return names, Names(
        run.here, run.site, run.base, known, request.deadline, request.patience, memory, request.patient
    )


async def list_names(run: Run, request: NamesRequest) -> tuple[NamesDocument, list[HooperError]]:
    """How the names stand. Raises: NoNetwork, UsageError."""
    names, work = _names(run, request)
    rows = await work.look(names)
    _keep(run, work, rows)
    return NamesDocument(True, tuple(rows), tuple(work.findings)), work.trouble


def _keep(run: Run, work: Names, rows: Sequence[NameRow]) -> None:
    keep_addresses(run, work.public.values())
    keep_conditions(run, of_names(rows))


async def _barred(run: Run, request: NamesRequest, rows: list[NameRow]) -> dict[str, HooperError]:
    """The names that would lead to an address by which nothing arrives here: the provider's own NAT has it."""
    needed = [row for row in rows if row.action == "needed" and row.type == "A"]
    if not needed or request.accept is not None:
        return {}
    known = run.given(request.public)
    facts = await measure_line(
        run.here, run.site, known, MEASURED_S, now=run.at, deep=False,
        settled=lambda facts: judge(facts).can_forward is not None,
    )  # fmt: skip
    judged = judge(facts)
    if judged.can_forward is not False:
        return {}
    remedy = f"Ask the provider for a public address, or use a tunnel. To publish it all the same, give {deeds.ACCEPT}."
    return {
        row.name: RefusedForSafety(
            f"{row.name}: not published, since nothing from outside arrives there: {'; '.join(judged.evidence)}",
            code=CODES.get(judged.kind, "line-behind-carrier"),
            remedy=remedy,
        )
        for row in needed
        if run.site.names[row.name].line == facts.line
    }


async def update_names(run: Run, request: NamesRequest) -> tuple[NamesDocument, list[HooperError]]:
    """Update those that do not lead here, and only those. Without a memory nothing is updated.

    Raises: NoNetwork, UsageError, StateError.
    """
    names, work = _names(run, request)
    rows = await work.look(names)
    barred = await _barred(run, request, rows)
    if work.memory is not None and not request.dry_run:
        allowed = [row for row in rows if row.name not in barred]
        done = {(row.name, row.type): row for row in await work.update(allowed, again=request.again)}
        rows = [done.get((row.name, row.type), row) for row in rows]
    rows = [
        replace(row, action="refused", detail=barred[row.name].message)
        if row.name in barred and row.type == "A"
        else row
        for row in rows
    ]
    work.trouble += {problem.message: problem for problem in barred.values()}.values()
    _keep(run, work, rows)
    return NamesDocument(request.dry_run, tuple(rows), tuple(work.findings)), work.trouble
