"""The sheets as Markdown, and as one page to print (HTML that needs nothing beside it)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from hooper.jsonform import each_text
from hooper.planning.documents import Sheet, WorksheetDocument
from hooper.report import sheet_words as words
from hooper.visible import in_markdown, shown_lines

if TYPE_CHECKING:
    from jinja2 import Environment
    from markupsafe import Markup

    from hooper.site.model import Site


def as_markdown(document: WorksheetDocument, site: Site, title: str, day: str) -> str:
    """The sheets as Markdown (CommonMark with tables). What stands in them is text, and no markup."""
    plain, document, title = document, each_text(document, in_markdown), in_markdown(title)
    lines: list[str] = []
    if document.sheets or document.removals:
        verb = "enter" if document.sheets else "take away"
        lines += [f"# What to {verb} at {title}", "", f"Made on {day}.", ""]
    for number, sheet in enumerate(document.sheets or document.removals, 1):
        lines += [f"## {number}. {sheet.gateway}", ""]
        lines += _router(sheet, site, removing=bool(document.removals))
    if any(sheet.rules or sheet.own for sheet in document.sheets):
        lines += [f"## {len(document.sheets) + 1}. Then", "", *(f"- [ ] {step}" for step in words.PROOF), ""]
        lines += ["## What the pages call it", ""]
        lines += [*(f"- **{word}**: {meaning}" for word, meaning in words.meanings(document.sheets)), ""]
    if document.devices:
        lines += [f"# What to set on the devices at {title}", "", f"Made on {day}.", ""]
    for device in document.devices:
        lines += [f"## {words.device_title(device)}", "", f"- [ ] {words.device_page(device)}", ""]
        lines += _table(("field", "enter"), words.device_rows(device))
        lines += [f"> {note}\n" for note in device.notes]
        if device.services:
            lines += _table(words.SERVICE_COLUMNS, words.device_services(device))
        lines += [f"- [{'x' if tick.said else ' '}] {tick.question}" for tick in device.ticks]
        lines.append("")
    for letter in document.letters:
        lines += [f"# {letter.subject}", "", day, "", *(f"{paragraph}\n" for paragraph in letter.paragraphs)]
    if document.changes:
        lines += ["# What is different since the last sheet", ""]
        lines += [f"- [ ] {change.gateway}: {words.changed(change)}" for change in document.changes]
    if document.clients:
        lines += ["# Hosts files of devices inside", "", "```", *hosts_lines(plain), "```"]
    lines += [f"```\n{ruleset.text}```" for ruleset in plain.rulesets]
    return "\n".join(lines).rstrip()


def hosts_lines(document: WorksheetDocument) -> list[str]:
    """As a hosts file has them; of several addresses for one name all but the first are comments."""
    out, seen = [], set()
    for line in document.clients:
        mark = "# or: " if line.name in seen else ""
        seen.add(line.name)
        out.append(f"{mark}{line.address}\t{line.name}\t# {', '.join(line.services)}")
    return out


def _router(sheet: Sheet, site: Site, *, removing: bool) -> list[str]:
    lines = [f"> {note}\n" for note in sheet.notes] if not removing else []
    rules, pinholes = words.forwards(sheet), words.pinholes(sheet)
    if sheet.asks:
        lines += [f"- [ ] {words.login(sheet, site)}"]
    lines += [f"- [ ] {step}" for step in words.steps(sheet, removing=removing)]
    if rules:
        lines += [f"- [ ] {words.enter(sheet, removing=removing)}", ""]
        header = ("done", *words.columns(sheet, site, rules))
        lines += _table(header, (("☐", *row) for row in words.rows(sheet, site, rules)))
    if pinholes:
        lines += [f"- [ ] {words.openings(removing=removing)}", ""]
        lines += _table(("done", *words.PINHOLE_COLUMNS), (("☐", *row) for row in words.pinhole_rows(pinholes)))
    if sheet.reservations and not removing:
        lines += [f"- [ ] {words.RESERVE}", ""]
        rows = (("☐", *row) for row in words.reservation_rows(sheet))
        lines += _table(("done", "host", "address", "MAC"), rows)
    if sheet.routes:
        lines += [f"- [ ] {words.routes(removing=removing)}", ""]
        lines += _table(("done", "network", "by (gateway, next hop)"), (("☐", *row) for row in words.route_rows(sheet)))
    return lines


def _table(columns: tuple[str, ...], rows: Iterable[tuple[str, ...]]) -> list[str]:
    drawn = ["| " + " | ".join(row) + " |" for row in (columns, tuple("---" for _ in columns), *rows)]
    return [*drawn, ""]


def templates() -> Environment:
    """The pages, in which every text is quoted for its place."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    return Environment(
        loader=PackageLoader("hooper.report"),
        autoescape=True,
        finalize=_seen,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def _seen(value: object) -> object:
    """What stands in a page: texts of others with every sign written out that would act on who reads them."""
    return shown_lines(value) if isinstance(value, str) and not hasattr(value, "__html__") else value


_MARKED = re.compile(r"`([^`]+)`|(https?://[^\s,;)\]]+[^\s,;)\].])")
_ADDRESS = re.compile(r"\d+\.\d+\.\d+\.\d+$")


def _marked(text: object) -> Markup:
    """A text with its commands in the letters of commands, and its URLs as links."""
    from markupsafe import Markup, escape

    def shown(match: re.Match[str]) -> str:
        if match[1] is not None:
            return f"<code>{escape(match[1])}</code>"
        return f'<a href="{escape(match[2])}">{escape(match[2])}</a>'

    said, out, at = shown_lines(str(text)), "", 0
    for match in _MARKED.finditer(said):
        out += f"{escape(said[at : match.start()])}{shown(match)}"
        at = match.end()
    return Markup(out + str(escape(said[at:])))  # noqa: S704 - every part of it is escaped


def _linked(text: object) -> Markup:
    """A bare address as a link to the page that opens there; anything else as `_marked`."""
    from markupsafe import Markup

    address, _, more = str(text).partition(" (")
    if not _ADDRESS.fullmatch(address) or address.startswith("255."):
        return _marked(text)
    return Markup('<a href="http://{0}/">{0}</a>{1}').format(address, f" ({more}" if more else "")


def as_html(
    document: WorksheetDocument, site: Site, title: str, day: str, picture: str = "",
    ways: Sequence[tuple[str, str]] = (), *, lab: bool = False,
) -> str:  # fmt: skip
    """One page with all sheets of `document`, to tick off and to print.

    picture: an SVG of the chain to put on top; ways: the same in words, for a narrow window. lab: it is about the
    simulated town, and says so.
    """
    from markupsafe import Markup

    environment = templates()
    environment.globals["words"] = words
    environment.filters.update(marked=_marked, linked=_linked)
    page = environment.get_template("sheets.html")
    return page.render(
        document=document,
        site=site,
        title=title,
        day=day,
        lab=lab,
        picture=Markup(picture),  # noqa: S704 - our own drawing, whose texts are escaped
        ways=ways,
        hosts_lines=hosts_lines(document),
    )
