"""Dynamic names: do they lead here, and making them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import timedelta

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.errors import HooperError, RefusedForSafety, UsageError
from hooper.line.judging import CODES
from hooper.line.measure import measure_line
from hooper.line.situation import LineJudged, judge
from hooper.names.documents import NameRow, NamesDocument
from hooper.names.update import Names
from hooper.usecases.prove.keeping_looks import keep_addresses
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import keep_conditions, of_line, of_names
from hooper.words.said import together

MEASURED_S = 5.0  # seconds for whether anything arrives at the address at all


@dataclass(frozen=True)
class NamesRequest:
    """names: only these; empty: all. deadline: seconds for each question; patience: for an update to show.

    again: ask the provider also where it said to wait, or never again. dry_run: look only. accept: publish an address
    too by which nothing arrives here. patient: a provider that failed is left alone for a while, longer each time.
    trusting: how old a look at the line may be that said that something arrives there, so that none is taken now.
    """

    names: tuple[str, ...] = ()
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    deadline: float = 5.0
    patience: float = 0.0
    again: bool = False
    dry_run: bool = True
    accept: str | None = None
    patient: bool = False
    trusting: timedelta = timedelta(0)


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
    rows = [work.ready(row, again=request.again) for row in await work.look(names)]
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
    if all(_reaches(run, run.site.names[row.name].line, request.trusting) for row in needed):
        return {}
    line, judged = await look_at_line(run, request.public)
    if judged.can_forward is not False:
        return {}
    remedy = f"Ask the provider for a public address, or use a tunnel. To publish it all the same, give {deeds.ACCEPT}."
    return {
        row.name: RefusedForSafety(
            f"{row.name}: not published, since nothing from outside arrives there: {together(judged.evidence)}",
            code=CODES.get(judged.kind, "line-behind-carrier"),
            remedy=remedy,
        )
        for row in needed
        if run.site.names[row.name].line == line
    }


async def look_at_line(run: Run, public: Mapping[str, IPAddress] | None = None) -> tuple[str, LineJudged]:
    """Whether anything from outside arrives at the line that this computer is behind, and its key; it is kept."""
    facts = await measure_line(
        run.here, run.site, run.given(public or {}), MEASURED_S, now=run.at,
        settled=lambda facts: judge(facts).can_forward is False,  # that it reaches, the hops may deny
    )  # fmt: skip
    judged = judge(facts)
    keep_conditions(run, of_line(facts.line, judged))
    return facts.line, judged


def _reaches(run: Run, line: str, trusting: timedelta) -> bool:
    """Whether the line was lately seen to be no hindrance."""
    if run.state is None or not trusting:
        return False
    known = {(one.condition.kind, one.condition.subject): one for one in run.state.history.conditions()}
    stood = known.get(("line", line))
    return stood is not None and stood.condition.state != "barred" and run.at - stood.at < trusting


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
    elif work.memory is not None:
        rows = [work.ready(row, again=request.again) for row in rows]
    rows = [
        replace(row, action="refused", detail=barred[row.name].told) if row.name in barred and row.type == "A" else row
        for row in rows
    ]
    work.trouble += {problem.message: problem for problem in barred.values()}.values()
    _keep(run, work, rows)
    return NamesDocument(request.dry_run, tuple(rows), tuple(work.findings)), work.trouble
