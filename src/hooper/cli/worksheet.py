"""hooper worksheet"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.accepting import AcceptOption, UntilOption, accepted, refusals
from hooper.cli.common import (
    JsonFlag,
    MaskFlag,
    QuietFlag,
    Session,
    SiteOption,
    StateOption,
    VerboseFlag,
    choose,
    sub_app,
)
from hooper.errors import EXIT_NEEDS_A_PERSON, HooperError, UsageError, worst
from hooper.planning.documents import Ruleset, Sheet, SheetChange, WorksheetDocument
from hooper.planning.topology import Topology
from hooper.planning.values import Forward, Plan
from hooper.planning.worksheet import make_sheets

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.site.load import SiteFile
    from hooper.site.model import Site

app = sub_app("What to enter by hand: routers, devices, the letter to the provider.")


@app.command()
def worksheet(
    keys: Annotated[
        list[str] | None,
        typer.Argument(metavar="KEY", help="Only these routers (with --devices: these devices); else all."),
    ] = None,
    devices: Annotated[
        bool, typer.Option("--devices", help="What to set on each device, and what to tick off.")
    ] = False,
    letter: Annotated[
        bool, typer.Option("--letter", help="The letter to the provider, for the provider's boxes.")
    ] = False,
    removal: Annotated[bool, typer.Option("--removal", help="What to take away, to close everything again.")] = False,
    changed: Annotated[
        bool, typer.Option("--changed", help="Only what is different from the sheets that were ticked off last.")
    ] = False,
    clients: Annotated[bool, typer.Option("--clients", help="Lines for the hosts files of devices inside.")] = False,
    nftables: Annotated[
        bool, typer.Option("--nftables", help="The rules as a file for nft, for a Linux router.")
    ] = False,
    markdown: Annotated[bool, typer.Option("--markdown", help="Print Markdown, to keep or to send.")] = False,
    html: Annotated[bool, typer.Option("--html", help="Print one HTML page of routers, devices and letters.")] = False,
    ticked: Annotated[
        bool, typer.Option("--ticked", help="Remember that these sheets have been entered just as they stand.")
    ] = False,
    rest: Annotated[
        bool, typer.Option("--rest", help="Leave out the rules that `router open` has entered and that still last.")
    ] = False,
    accept: AcceptOption = None,
    until: UntilOption = None,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """What to enter by hand on each router, with the words that their pages use, and how to prove it.

    What would be exposed before it is ready is left out, and said (exit code 5).
    """
    from hooper.planning.plan import make_plan

    session = Session("worksheet", json, quiet, verbose)
    kinds = {
        "--devices": devices,
        "--letter": letter,
        "--removal": removal,
        "--changed": changed,
        "--clients": clients,
        "--nftables": nftables,
    }
    kind = _one_of(kinds)
    _one_of({"--markdown": markdown, "--html": html, "--json": json})
    if kind and (ticked or rest):
        raise UsageError(f"--ticked and --rest say nothing with {kind}", remedy="They are for the routers' sheets.")
    if state is not None and not (ticked or rest or changed):
        raise UsageError("--state says nothing here", remedy="It goes with --ticked, --rest or --changed.")
    file = session.read_site(site, mask=mask)
    file = accepted(session, file, site, accept, until, ())
    known = {**file.site.gateways, **(file.site.hosts if kind == "--devices" else {})}
    chosen = choose(keys or (), known, "gateway or host" if kind == "--devices" else "gateway")
    plan = make_plan(file, session.at.date())
    kept = refusals(file, plan)
    document, trouble = _document(session, file, plan, kind, chosen, kept, state, whole=html)
    whole_sheets = document.sheets
    if rest:
        document = WorksheetDocument(_without_entered(session, file, whole_sheets, state))
    title = file.site.site.title or "this site"
    if session.mask:
        title = session.mask.text(title)
    day = str(session.at.date())

    def render(shown: WorksheetDocument, out: Console) -> None:
        from hooper.cli.sheets import as_text

        if html:
            typer.echo(_page(session, file.site, shown, title, day))
        elif markdown:
            from hooper.report.sheets import as_markdown

            typer.echo(as_markdown(shown, file.site, title, day))
        else:
            as_text(shown, file.site, title, out)

    if ticked:
        _remember(session, file, plan, whole_sheets, kept, state)
    code = session.show(document, render, errors=trouble)
    if not plan.feasible:
        session.note("\nThis plan has errors: entered like this, not everything will work. See `hooper plan`.")
    raise typer.Exit(worst([code, 0 if plan.feasible else EXIT_NEEDS_A_PERSON]))


def _page(session: Session, site: Site, shown: WorksheetDocument, title: str, day: str) -> str:
    """The sheets as one HTML page; the routers' sheets have the picture of the chain on top."""
    from hooper.report.chain import as_svg
    from hooper.report.sheets import as_html

    drawn = as_svg(Topology(site), "") if shown.sheets else ""
    return as_html(shown, site, title, day, session.mask.text(drawn) if session.mask else drawn)


def _one_of(flags: dict[str, bool]) -> str:
    """The flag that was given, or nothing. Raises: UsageError: there are several."""
    given = [name for name, on in flags.items() if on]
    if len(given) > 1:
        raise UsageError(f"{' and '.join(given)} exclude each other", remedy="Give one of them.")
    return given[0] if given else ""


def _document(
    session: Session,
    file: SiteFile,
    plan: Plan,
    kind: str,
    chosen: tuple[str, ...],
    kept: dict[str, HooperError],
    state: Path | None,
    *,
    whole: bool,
) -> tuple[WorksheetDocument, list[HooperError]]:
    """What was asked for, and the services that it leaves out."""
    from hooper.planning.devices import device_sheets
    from hooper.planning.gate import NotReady
    from hooper.planning.letter import letters
    from hooper.planning.nftables import ruleset
    from hooper.planning.worksheet import client_lines

    site, topology = file.site, Topology(file.site)
    sheets = make_sheets(topology, plan, chosen, without=kept)
    trouble: list[HooperError] = [NotReady(f"{key}: {one.message}", remedy=one.remedy) for key, one in kept.items()]
    if kind == "--devices":
        return WorksheetDocument((), devices=tuple(device_sheets(topology, chosen))), []
    if kind == "--letter":
        written = letters(site, sheets)
        if not written:
            raise UsageError(
                "no router of this site is the provider's", remedy='Write `managed_by = "provider"` where one is.'
            )
        return WorksheetDocument((), letters=written), trouble
    if kind == "--removal":
        return WorksheetDocument((), removals=make_sheets(topology, plan, chosen)), []
    if kind == "--changed":
        return WorksheetDocument((), changes=_changes(session, file, sheets, state)), trouble
    if kind == "--clients":
        return WorksheetDocument((), clients=client_lines(topology)), []
    if kind == "--nftables":
        if len(chosen) != 1 and len(site.gateways) != 1:
            raise UsageError("--nftables needs one router", remedy=f"Name one of: {', '.join(site.gateways)}.")
        key = chosen[0] if chosen else next(iter(site.gateways))
        text = ruleset(site, plan, key, without=set(kept))
        return WorksheetDocument((), rulesets=(Ruleset(key, text),)), trouble
    if whole and not chosen:
        everyone = tuple(device_sheets(topology))
        return WorksheetDocument(sheets, devices=everyone, letters=letters(site, sheets)), trouble
    return WorksheetDocument(sheets), trouble


def _without_entered(
    session: Session, file: SiteFile, sheets: tuple[Sheet, ...], state: Path | None
) -> tuple[Sheet, ...]:
    """The sheets without the rules that the journal has as entered by a protocol, and that have not ended."""
    from dataclasses import replace

    from hooper.store.state import State, state_folder, store_name

    with State(state_folder(state) / store_name(file)) as store:
        entered = {
            (sheet.gateway, entry.service)
            for sheet in sheets
            for entry in store.entries(sheet.gateway).values()
            if entry.state == "open" and (entry.until is None or entry.until > session.at)
        }
    return tuple(
        replace(sheet, rules=tuple(rule for rule in sheet.rules if (sheet.gateway, rule.service) not in entered))
        for sheet in sheets
    )


def _remember(
    session: Session,
    file: SiteFile,
    plan: Plan,
    sheets: tuple[Sheet, ...],
    kept: dict[str, HooperError],
    state: Path | None,
) -> None:
    """Keep the ticks, each with what it stands for: a sheet that changes later is no longer ticked off."""
    from json import dumps

    from hooper.jsonform import plain
    from hooper.planning.worksheet import sheet_mark
    from hooper.store.state import State, state_folder, store_name

    with State(state_folder(state) / store_name(file)) as store:
        marks = {f"sheet:{sheet.gateway}": sheet_mark(plan, sheet.gateway, without=kept) for sheet in sheets}
        rules = {f"entered:{sheet.gateway}": dumps(plain(sheet.rules)) for sheet in sheets}
        store.tell(session.at, {**marks, **rules})
    session.note(f"Ticked off: {', '.join(sheet.gateway for sheet in sheets)}.\n")


def _changes(
    session: Session, file: SiteFile, sheets: tuple[Sheet, ...], state: Path | None
) -> tuple[SheetChange, ...]:
    """What is different from the sheets that were ticked off last; a router that never was gets everything."""
    from json import loads

    from hooper.planning.worksheet import changes_since
    from hooper.store.state import State, state_folder, store_name

    out: list[SheetChange] = []
    with State(state_folder(state) / store_name(file)) as store:
        told = store.told()
    for sheet in sheets:
        known = told.get(f"entered:{sheet.gateway}")
        if known is None:
            session.note(f"No sheet of {sheet.gateway} was ticked off yet, so all of it is new.")
        before = [_forward(row) for row in loads(known.value)] if known is not None else []
        out += changes_since(sheet.gateway, before, sheet.rules)
    if not out:
        session.note("Nothing is different from the sheets that were ticked off.")
    return tuple(out)


def _forward(row: dict[str, object]) -> Forward:
    """A rule as it was kept: JSON's lists become tuples again."""
    return Forward(**{key: tuple(value) if isinstance(value, list) else value for key, value in row.items()})  # type: ignore[arg-type]
