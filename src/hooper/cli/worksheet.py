"""hooper worksheet"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

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
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.planning.model import Forward, Sheet, WorksheetDocument, ports_text
from hooper.planning.worksheet import labels, make_sheets

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.planning.model import Plan
    from hooper.site.load import SiteFile
    from hooper.site.model import Site

app = sub_app("What to enter by hand on each router.")

WORDS = (
    ("outside port", "also called WAN, external, public, service or start port"),
    ("inside address", "also LAN, internal, private or server address; some pages show a list of devices instead"),
    ("inside port", "also LAN, internal, private or destination port"),
    ("only from", "also source, remote or allowed address; for `anyone` leave the field as it is"),
)
PAGES = "port forwarding, port sharing, virtual servers, NAT rules or applications"
PROOF = (
    "On each router: save or apply, then look at its list once more: every rule is there and switched on.",
    "Prove it from outside. A test from the same network proves nothing. Join this computer to a phone's mobile data"
    " by cable and run `hooper check --from interface:NAME`.",
)


@app.command()
def worksheet(
    gateway: Annotated[
        list[str] | None, typer.Argument(metavar="GATEWAY", help="Only these routers; else all.")
    ] = None,
    markdown: Annotated[bool, typer.Option("--markdown", help="Print Markdown, to keep or to send.")] = False,
    ticked: Annotated[
        bool, typer.Option("--ticked", help="Remember that these sheets have been entered just as they stand.")
    ] = False,
    rest: Annotated[
        bool, typer.Option("--rest", help="Leave out the rules that `router open` has entered and that still last.")
    ] = False,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """What to enter by hand on each router, with the words that their pages use, and how to prove it."""
    from hooper.planning.plan import make_plan

    session = Session("worksheet", json, quiet, verbose)
    if markdown and json:
        raise UsageError("--markdown and --json exclude each other", remedy="Give one of them.")
    file = session.read_site(site, mask=mask)
    chosen = choose(gateway or (), file.site.gateways, "gateway")
    plan = make_plan(file, session.at.date())
    sheets = make_sheets(file.site, plan, chosen)
    document = WorksheetDocument(_without_entered(session, file, sheets, state) if rest else sheets)
    title = file.site.site.title or "this site"
    if session.mask:
        title = session.mask.text(title)

    def render(shown: WorksheetDocument, out: Console) -> None:
        if markdown:
            typer.echo(as_markdown(shown, file.site, title, str(session.at.date())))
        else:
            as_text(shown, file.site, title, out)

    if ticked:
        _remember(session, file, plan, document, state)
    elif state is not None and not rest:
        raise UsageError("--state says nothing without --ticked or --rest", remedy="Leave it out, or give one of them.")
    code = session.show(document, render)
    if not plan.feasible:
        session.note("\nThis plan has errors: entered like this, not everything will work. See `hooper plan`.")
    raise typer.Exit(worst([code, 0 if plan.feasible else EXIT_NEEDS_A_PERSON]))


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


def _remember(session: Session, file: SiteFile, plan: Plan, document: WorksheetDocument, state: Path | None) -> None:
    """Keep the ticks, each with what it stands for: a sheet that changes later is no longer ticked off."""
    from hooper.planning.worksheet import sheet_mark
    from hooper.store.state import State, state_folder, store_name

    with State(state_folder(state) / store_name(file)) as store:
        store.tell(session.at, {f"sheet:{sheet.gateway}": sheet_mark(plan, sheet.gateway) for sheet in document.sheets})
    session.note(f"Ticked off: {', '.join(sheet.gateway for sheet in document.sheets)}.\n")


def _columns(sheet: Sheet) -> tuple[str, ...]:
    columns = ("label", "transport", "outside port", "inside address", "inside port")
    return (*columns, "only from") if any(rule.sources for rule in sheet.rules) else columns


def _cells(rule: Forward, label: str, *, with_sources: bool) -> tuple[str, ...]:
    cells = (
        label,
        {"tcp": "TCP", "udp": "UDP", "both": "TCP+UDP"}.get(rule.transport, rule.transport),
        ports_text(rule.outside_ports),
        rule.target_address,
        ports_text(rule.target_ports),
    )
    return (*cells, ", ".join(rule.sources) or "anyone") if with_sources else cells


def _rows(sheet: Sheet, site: Site) -> Iterable[tuple[str, ...]]:
    length = site.gateways[sheet.gateway].form.label_length
    for rule, label in zip(sheet.rules, labels(sheet.rules, length), strict=True):
        yield _cells(rule, label, with_sources="only from" in _columns(sheet))


def _steps(sheet: Sheet, site: Site) -> tuple[str, str]:
    """The two sentences above a sheet's rules."""
    lan = site.gateways[sheet.gateway].lan
    return (
        f"Open http://{lan.ip}/ in a browser and log in.",
        f"Find the page for {PAGES}, and enter {'this rule' if len(sheet.rules) == 1 else 'these rules'}:",
    )


def as_text(document: WorksheetDocument, site: Site, title: str, out: Console) -> None:
    """The sheets for the terminal."""
    from hooper.cli.render import counted, heading, indented, table

    heading(out, f"What to enter at {title}")
    number = 0
    for sheet in document.sheets:
        out.print()
        number += 1
        heading(out, f"{number}. {sheet.gateway}: {counted(len(sheet.rules), 'rule')}")
        for note in sheet.notes:
            indented(out, note, mark="! ", left=3)
        if sheet.rules:
            for sentence in _steps(sheet, site):
                indented(out, sentence, mark="[ ] ", left=3)
            out.print()
            columns = [name.replace(" ", "\n") for name in _columns(sheet)]
            drawn = table("   ", *columns, right=("outside\nport", "inside\nport"))
            for row in _rows(sheet, site):
                drawn.add_row("[ ]", *row)
            out.print(drawn)
        if sheet.reservations:
            out.print()
            indented(out, "On the page for DHCP, LAN or network, reserve these addresses:", mark="[ ] ", left=3)
            drawn = table("   ", "host", "address", "MAC")
            for item in sheet.reservations:
                drawn.add_row("[ ]", item.host, item.address, item.mac or "see the device's label")
            out.print(drawn)
    if any(sheet.rules for sheet in document.sheets):
        out.print()
        heading(out, f"{number + 1}. Then")
        for step in PROOF:
            indented(out, step, mark="[ ] ", left=3)
        out.print()
        heading(out, "What the pages call it")
        for word, meaning in WORDS:
            if word != "only from" or any("only from" in _columns(sheet) for sheet in document.sheets):
                indented(out, meaning, mark=f"{word:<16}", left=3)


def as_markdown(document: WorksheetDocument, site: Site, title: str, day: str) -> str:
    """The sheets as Markdown (CommonMark with tables)."""
    lines = [f"# What to enter at {title}", "", f"Made on {day}.", ""]
    for number, sheet in enumerate(document.sheets, 1):
        lines += [f"## {number}. {sheet.gateway}", ""]
        lines += [f"> {note}\n" for note in sheet.notes]
        if sheet.rules:
            lines += [*(f"- [ ] {sentence}" for sentence in _steps(sheet, site)), ""]
            lines += _markdown_table(("done", *_columns(sheet)), (("☐", *row) for row in _rows(sheet, site)))
        if sheet.reservations:
            lines += ["- [ ] On the page for DHCP, LAN or network, reserve these addresses:", ""]
            rows = (("☐", r.host, r.address, r.mac or "see the device's label") for r in sheet.reservations)
            lines += _markdown_table(("done", "host", "address", "MAC"), rows)
    if any(sheet.rules for sheet in document.sheets):
        lines += [f"## {len(document.sheets) + 1}. Then", "", *(f"- [ ] {step}" for step in PROOF), ""]
        lines += ["## What the pages call it", "", *(f"- **{word}**: {meaning}" for word, meaning in WORDS)]
    return "\n".join(lines).rstrip()


def _markdown_table(columns: tuple[str, ...], rows: Iterable[tuple[str, ...]]) -> list[str]:
    drawn = ["| " + " | ".join(row) + " |" for row in (columns, tuple("---" for _ in columns), *rows)]
    return [*drawn, ""]
