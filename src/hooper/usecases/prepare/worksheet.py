"""What to enter by hand: each router, each device, the letter to the provider; what changed since the last sheets."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from json import dumps, loads
from typing import Literal

from hooper.errors import HooperError, UsageError
from hooper.jsonform import plain, read_as
from hooper.planning.device_sheets import device_sheets
from hooper.planning.documents import Ruleset, Sheet, SheetChange, WorksheetDocument
from hooper.planning.kept_back import NotReady, refusals
from hooper.planning.letter import address_letter, letters
from hooper.planning.openers import typed_marks
from hooper.planning.values import Forward
from hooper.planning.worksheet import (
    changes_since,
    client_lines,
    make_sheets,
    sheet_mark,
    without_entered,
)
from hooper.usecases.prepare.edits import NOTHING, Acceptance, take_risks
from hooper.usecases.run import Run

Kind = Literal["", "devices", "letter", "removal", "changed", "clients", "nftables"]


@dataclass(frozen=True)
class WorksheetRequest:
    """keys: only these routers, or devices. whole: devices and letters too. rest: without what a program has entered.

    ticked: remember that these sheets have been entered as they stand. accept: risks that are taken.
    """

    kind: Kind = ""
    keys: tuple[str, ...] = ()
    whole: bool = False
    rest: bool = False
    ticked: bool = False
    accept: Acceptance = NOTHING


def worksheet(run: Run, request: WorksheetRequest) -> tuple[WorksheetDocument, list[HooperError]]:
    """The sheets that were asked for; the services that they leave out are trouble.

    Raises: UsageError, StateError.
    """
    run.accepted = take_risks(run, request.accept)
    kept = {key: exc for key, exc in refusals(run.site, run.plan).items() if run.topology.bearer(key) == key}
    document, trouble = _document(run, request, kept)
    if request.ticked:
        _tick(run, document.sheets, kept)
    if request.rest:
        entered = {(sheet.gateway, service) for sheet in document.sheets for service in _entered(run, sheet.gateway)}
        document = WorksheetDocument(without_entered(document.sheets, entered))
    return document, trouble


def _document(
    run: Run, request: WorksheetRequest, kept: Mapping[str, NotReady]
) -> tuple[WorksheetDocument, list[HooperError]]:
    site, topology, plan, keys = run.site, run.topology, run.plan, request.keys
    reasons = {key: one.reason for key, one in kept.items()}
    sheets = make_sheets(topology, plan, keys, without=reasons)
    trouble: list[HooperError] = [NotReady(one.reason, one.remedy, key) for key, one in kept.items()]
    if request.kind == "devices":
        return WorksheetDocument((), devices=tuple(device_sheets(topology, keys))), []
    if request.kind == "letter":
        written = letters(site, sheets)
        if not written and not site.lines:
            raise UsageError("this site has no line", remedy="Add a [lines.*] first.")
        if not written:  # no box is the provider's: what is left to ask for is an address
            written = (address_letter(site, next(iter(site.lines))),)
        return WorksheetDocument((), letters=written), trouble
    if request.kind == "removal":
        return WorksheetDocument((), removals=make_sheets(topology, plan, keys)), []
    if request.kind == "changed":
        return WorksheetDocument((), changes=_changes(run, sheets), never_ticked=_never_ticked(run, keys)), trouble
    if request.kind == "clients":
        return WorksheetDocument((), clients=client_lines(topology)), []
    if request.kind == "nftables":
        from hooper.planning.nftables import ruleset

        if len(keys) != 1 and len(site.gateways) != 1:
            message = "rules for nft are made for one router"
            raise UsageError(message, remedy=f"Name one of: {', '.join(site.gateways)}.")
        key = keys[0] if keys else next(iter(site.gateways))
        return WorksheetDocument((), rulesets=(Ruleset(key, ruleset(site, plan, key, without=set(kept))),)), trouble
    if request.whole and not keys:
        everyone = tuple(device_sheets(topology))
        return WorksheetDocument(sheets, devices=everyone, letters=letters(site, sheets)), trouble
    return WorksheetDocument(sheets), trouble


def _entered(run: Run, gateway: str) -> set[str]:
    """The services whose rules a program has entered there, and that have not ended. Raises: StateError."""
    entries = run.state.journal.entries(gateway).values() if run.state is not None else ()
    return {e.service for e in entries if e.state == "open" and (e.until is None or e.until > run.at)}


def _tick(run: Run, sheets: tuple[Sheet, ...], kept: Mapping[str, NotReady]) -> None:
    """Keep the ticks, each with what it stands for: a sheet that changes later is no longer ticked off."""
    if run.state is not None:
        marks = {
            f"gateways.{sheet.gateway}/sheet": sheet_mark(run.site, run.plan, sheet.gateway, without=kept)
            for sheet in sheets
        }
        typed = typed_marks(run.topology, run.plan, [sheet.gateway for sheet in sheets], kept)
        marks |= {f"gateways.{key}/typed": mark for key, mark in typed.items()}
        rules = {f"gateways.{sheet.gateway}/entered": dumps(plain(sheet.rules)) for sheet in sheets}
        run.state.ledger.tell(run.at, {**marks, **rules})


def _never_ticked(run: Run, gateways: tuple[str, ...]) -> tuple[str, ...]:
    """The gateways no sheet of which was ticked off yet. Raises: StateError."""
    told = run.told()
    return tuple(key for key in gateways or run.site.gateways if f"gateways.{key}/entered" not in told)


def _changes(run: Run, sheets: tuple[Sheet, ...]) -> tuple[SheetChange, ...]:
    """What is different from the sheets that were ticked off last; a router that never was gets everything."""
    told = run.told()
    out: list[SheetChange] = []
    for sheet in sheets:
        known = told.get(f"gateways.{sheet.gateway}/entered")
        before = read_as(list[Forward], loads(known.value)) if known is not None else []
        out += changes_since(sheet.gateway, before, sheet.rules)
    return tuple(out)
