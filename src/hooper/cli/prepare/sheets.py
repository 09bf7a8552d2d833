"""The sheets for the terminal."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from hooper.cli.parts.render import counted, heading, indented, table
from hooper.cli.parts.session import GUIDED
from hooper.cli.parts.spelling import spelled
from hooper.report import sheet_words as words
from hooper.report.sheets import hosts_lines

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.documents import DeviceSheet, Letter, Sheet, WorksheetDocument
    from hooper.site.model import Site

BOX = "[ ] "


def as_text(document: WorksheetDocument, site: Site, title: str, out: Screen) -> None:
    """Whatever the document holds."""
    for ruleset in document.rulesets:
        out.file.write(ruleset.text)
    if document.rulesets:
        return
    sheets, removing = document.sheets or document.removals, bool(document.removals)
    if sheets:
        heading(out, f"What to {'take away' if removing else 'enter'} at {title}")
    for number, sheet in enumerate(sheets, 1):
        out.print()
        heading(out, f"{number}. {sheet.gateway}: {counted(len(sheet.rules), 'rule')}")
        _router(sheet, site, out, removing=removing)
    if any(sheet.rules or sheet.own for sheet in document.sheets):
        if not GUIDED.get():  # else it is what comes next
            out.print()
            heading(out, f"{len(document.sheets) + 1}. Then")
            for step in map(spelled, words.PROOF):
                indented(out, step, mark=BOX, left=3)
        out.print()
        heading(out, "What the pages call it")
        for word, meaning in words.meanings(document.sheets):
            indented(out, meaning, mark=f"{word:<16}", left=3)
    for number, device in enumerate(document.devices):
        if number:
            out.print()
        _device(device, out)
    for letter in document.letters:
        _letter(letter, out)
    if document.changes:
        heading(out, "What is different since the sheets that were ticked off")
        for change in document.changes:
            indented(out, f"{change.gateway}: {words.changed(change)}", mark=BOX, left=3)
    if document.clients:
        heading(out, "For the hosts files of devices inside")
        needed = any(line.needed for line in document.clients)
        why = "the public address does not work from inside" if needed else "only if the name does not work from inside"
        indented(out, f"Enter them where they are wanted: {why}.", left=3)
        for row in hosts_lines(document):
            out.print(f"   {row.expandtabs(24)}")


def _router(sheet: Sheet, site: Site, out: Screen, *, removing: bool) -> None:
    rules, pinholes = words.forwards(sheet), words.pinholes(sheet)
    if not removing:
        for note in sheet.notes:
            indented(out, note, mark="! ", left=3)
    if sheet.asks:
        indented(out, words.login(sheet, site), mark=BOX, left=3)
    for step in words.steps(sheet, removing=removing):
        indented(out, step, mark=BOX, left=3)
    if rules:
        indented(out, words.enter(sheet, removing=removing), mark=BOX, left=3)
        out.print()
        _boxes(words.columns(sheet, site, rules), words.rows(sheet, site, rules), out)
    if pinholes:
        indented(out, words.openings(removing=removing), mark=BOX, left=3)
        _boxes(words.PINHOLE_COLUMNS, words.pinhole_rows(pinholes), out)
    if sheet.reservations and not removing:
        out.print()
        indented(out, words.RESERVE, mark=BOX, left=3)
        _boxes(("host", "address", "MAC"), words.reservation_rows(sheet), out)
    if sheet.routes:
        out.print()
        indented(out, words.routes(removing=removing), mark=BOX, left=3)
        _boxes(("network", "by (gateway)"), words.route_rows(sheet), out)


def _boxes(columns: tuple[str, ...], rows: Iterable[tuple[str, ...]], out: Screen) -> None:
    drawn = table("   ", *columns, right=("outside port", "inside port", "port"))
    for row in rows:
        drawn.add_row(BOX.strip(), *row)
    out.print(drawn)


def _device(sheet: DeviceSheet, out: Screen) -> None:
    heading(out, words.device_title(sheet))
    indented(out, words.device_page(sheet), mark=BOX, left=3)
    for field, value in words.device_rows(sheet):
        indented(out, value, mark=f"{field:<18}", left=7)
    for note in sheet.notes:
        indented(out, note, mark="! ", left=3)
    if sheet.services:
        out.print()
        drawn = table("   ", *words.SERVICE_COLUMNS)
        for row in words.device_services(sheet):
            drawn.add_row("", *row)
        out.print(drawn)
        out.print()
    for tick in sheet.ticks:
        mark = {True: "[x] ", False: "[!] ", None: BOX}[tick.said]
        indented(out, tick.question, mark=mark, left=3)


def _letter(letter: Letter, out: Screen) -> None:
    heading(out, letter.subject)
    for paragraph in letter.paragraphs:
        out.print()
        indented(out, paragraph, left=0)
