"""The drill before a journey: everything proven from outside now, and what would fail before the return."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, date, datetime

from hooper.clock import read_moment
from hooper.errors import HooperError, UsageError
from hooper.places import Place
from hooper.planning.lasting import DrillRow, ProvenOutside, Provisions, RuleEnds, lasting, may_go, needed
from hooper.usecases.act.certificates import CertificatesRequest, list_certificates
from hooper.usecases.prove.card import card
from hooper.usecases.prove.check import CheckRequest, check
from hooper.usecases.prove.keeping_looks import remember
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import of_services
from hooper.usecases.watch.conditions import how_all_stands
from hooper.usecases.watch.status import keeper_runs

TOLD = ("at-home", "second-way", "accounts")  # what people tell for the journey


@dataclass(frozen=True)
class DrillRequest:
    """until: the day of the return. origin: where to look from now; None: what was seen today counts. told: who is at
    home, another way in, and until when accounts last. deadline: seconds for the look.
    """

    until: date
    origin: Place | None
    told: Mapping[str, str]
    deadline: float = 5.0


@dataclass(frozen=True, slots=True)
class ToType:
    """What is typed away from home to use a service. type: the URL or the address. into: which program."""

    service: str
    type: str
    into: str


@dataclass(frozen=True)
class DrillDocument:
    """`hooper drill`.

    until: the day of the return. go: nothing is known to fail before, and all that is needed was proven from outside
    today. rows: one for each thing that has to be so. cards: what to type away from home.
    """

    until: str
    go: bool
    rows: tuple[DrillRow, ...]
    cards: tuple[ToType, ...]


async def drill(run: Run, request: DrillRequest) -> tuple[DrillDocument, list[HooperError]]:
    """Look from outside, and hold everything against the day of the return.

    Raises: UsageError: the day has passed; StateError; as `check`.
    """
    if request.until < run.at.date():
        raise UsageError(f"{request.until} has passed", remedy="Give the day of the return, such as 2026-12-20.")
    trouble: list[HooperError] = []
    wanted = tuple(needed(run.site))
    if request.origin is not None and wanted:
        try:
            _, found = await check(run, CheckRequest(wanted, request.origin, {}, request.deadline))
            trouble += found
        except UsageError as exc:
            trouble.append(exc)
    told = remember(run, {f"journey/{key}": text for key, text in request.told.items()})
    known = {key: told[f"journey/{key}"].value for key in TOLD if f"journey/{key}" in told}
    ends, more = await _certificates(run, request.deadline)
    keeper = run.state is not None and keeper_runs(run)
    awake = (await run.here.surroundings()).awake if keeper else None
    have = Provisions(run.at, dict(_proofs(run)), ends, tuple(_rules(run)), keeper, *_peers(run), known, awake)
    rows = lasting(run.site, request.until, have)
    cards = await _cards(run, wanted)
    return DrillDocument(str(request.until), may_go(rows), rows, cards), [*trouble, *more]


def _proofs(run: Run) -> Iterator[tuple[str, ProvenOutside]]:
    """The newest look at each service from a place that proves something about outside."""
    if run.state is None:
        return
    for key, judged in of_services(run.site, how_all_stands(run), run.at).items():
        because = judged.because
        if because is not None and Place.read(because.condition.aspect).kind != "here":
            yield key, ProvenOutside(judged.level, because.at)


async def _certificates(run: Run, deadline: float) -> tuple[dict[str, datetime | None], list[HooperError]]:
    if not run.site.certificates:
        return {}, []
    document, trouble = await list_certificates(run, CertificatesRequest(deadline=deadline))
    ends = {row.certificate: read_moment(row.not_after) if row.not_after else None for row in document.certificates}
    return ends, trouble


def _rules(run: Run) -> Iterator[RuleEnds]:
    for one in run.state.journal.all() if run.state is not None else ():
        if one.state == "open" and one.service in run.site.services:
            yield RuleEnds(one.service, one.gateway, one.until.astimezone(UTC) if one.until is not None else None)


def _peers(run: Run) -> tuple[dict[str, str], dict[str, datetime]]:
    """How each stands, and when it last came in from outside."""
    if run.state is None or not run.site.peers:
        return {}, {}
    from hooper.usecases.private.tunnel_conditions import came_in, tunnels_now

    return {one.subject: one.level for one in tunnels_now(run) if one.kind == "peer" and not one.aspect}, came_in(run)


async def _cards(run: Run, wanted: tuple[str, ...]) -> tuple[ToType, ...]:
    """What to type for each that has a card today."""
    cards: list[ToType] = []
    for key in wanted:
        if not run.site.services[key].speech.tunnel:
            with suppress(HooperError):
                made, _ = await card(run, key)
                cards.append(ToType(key, made.type, str(made.into)))
    return tuple(cards)
