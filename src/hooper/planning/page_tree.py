"""A page as a tree, however it was written: elements that nobody ended, tables in tables, cells for several. Pure."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from html.parser import HTMLParser

MOST = 2_000  # rows of one table
DEEPEST = 300  # elements in each other; what is deeper belongs to the last of them
VOID = frozenset({"br", "hr", "img", "input", "meta", "link", "area", "base", "col", "embed", "source", "track", "wbr"})
CLOSES = {  # an element that begins: those that end with it, and those beyond which it ends nothing
    "tr": (("tr", "td", "th"), ("table",)),
    "td": (("td", "th"), ("tr", "table")),
    "th": (("td", "th"), ("tr", "table")),
    "li": (("li",), ("ul", "ol", "table")),
    "dt": (("dt", "dd"), ("dl", "table")),
    "dd": (("dt", "dd"), ("dl", "table")),
    "option": (("option",), ("select", "table")),
    "p": (("p",), ("div", "td", "li", "table")),
}


@dataclass
class PageNode:
    tag: str
    attributes: dict[str, str]
    children: list[PageNode | str] = field(default_factory=list)
    size: int = 1

    def walk(self) -> Iterator[PageNode]:
        """It and all inside, in the order of the page."""
        waiting: list[PageNode] = [self]
        while waiting:
            node = waiting.pop()
            yield node
            waiting += [child for child in reversed(node.children) if isinstance(child, PageNode)]

    def all(self, *tags: str) -> Iterator[PageNode]:
        return (node for node in self.walk() if node.tag in tags)

    @property
    def text(self) -> str:
        """Its words, with what its fields hold."""
        parts: list[str] = []
        waiting: list[PageNode | str] = [self]
        while waiting:
            one = waiting.pop()
            if isinstance(one, str):
                parts.append(one)
            elif one.tag in ("input", "select", "textarea"):
                parts.append(f" {value_of(one)} ")
            elif one.tag == "img":
                parts.append(f" {one.attributes.get('alt', '')} ")
            elif one.tag not in ("script", "style", "option"):
                waiting += reversed(one.children)
                parts.append(" ")
        return joined(" ".join("".join(parts).split()))


_APART = re.compile(r"(?<![\d.])(\d{1,3})\s*\.\s*(\d{1,3})\s*\.\s*(\d{1,3})\s*\.\s*(\d{1,3})(?![\d.])")
_SWITCH = re.compile(r"toggle|switch|slider|enabl|disabl|activ|status|state|led|lamp|tick|check|\b(on|off)\b", re.I)
_CHOOSES = re.compile(r"sel|del|remov|pick|mark|edit|trash|modif|move|all\b", re.I)


def joined(text: str) -> str:
    """A text in which an address stands whole, that was written in parts: as words, fields, and words again."""
    return _APART.sub(lambda match: ".".join(match.groups()), text)


def switch_of(node: PageNode) -> str:
    """What the switches inside say: on, off, ? where there is one that says nothing in words; empty: there is none."""
    said = [word for one in node.walk() if (word := _switched(one))]
    return said[0] if len(set(said)) == 1 else "?" if said else ""


def _switched(node: PageNode) -> str:
    kind, names = node.attributes.get("type", "").lower(), " ".join(
        node.attributes.get(key, "") for key in ("name", "id", "class", "alt", "title", "src")
    )  # fmt: skip
    told = node.attributes.get("aria-checked", node.attributes.get("aria-pressed"))
    if told is not None or node.attributes.get("role") == "switch":
        return {"true": "on", "false": "off"}.get(told or "", "?")
    if node.tag == "input" and kind in ("checkbox", "radio"):
        return "" if _CHOOSES.search(names) else value_of(node)
    if node.tag not in ("img", "svg", "i", "span", "a", "button", "label", "div", "em", "b") or node.text.strip():
        return ""
    return "?" if _SWITCH.search(names) and not _CHOOSES.search(names) else ""


def value_of(node: PageNode) -> str:
    """What a field holds."""
    if node.tag == "select":
        options = list(node.all("option"))
        chosen = next((one for one in options if "selected" in one.attributes), options[0] if options else None)
        if chosen is None:
            return ""
        return " ".join("".join(child for child in chosen.children if isinstance(child, str)).split()) or (
            chosen.attributes.get("value", "")
        )
    if node.tag == "textarea":
        return "".join(child for child in node.children if isinstance(child, str)).strip()
    kind = node.attributes.get("type", "text").lower()
    if kind in ("checkbox", "radio"):
        return "on" if "checked" in node.attributes else "off"
    if kind in ("button", "submit", "image", "reset", "password", "hidden"):
        return node.attributes.get("value", "") if kind == "hidden" else ""
    return node.attributes.get("value", "")


def _measure(root: PageNode) -> None:
    """Count what each element holds, so that none that holds half the page is read as one entry of a list."""
    for node in reversed(list(root.walk())):
        node.size = 1 + sum(child.size if isinstance(child, PageNode) else 1 for child in node.children)


class _Builder(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.root = PageNode("page", {})
        self._open = [self.root]

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        ended, stop = CLOSES.get(tag, ((), ()))
        first = len(self._open)
        for at in range(len(self._open) - 1, 0, -1):
            if self._open[at].tag in stop:
                break
            if self._open[at].tag in ended:
                first = at
        del self._open[first:]
        node = PageNode(tag, {name: value or "" for name, value in attrs})
        self._open[-1].children.append(node)
        if tag not in VOID and len(self._open) < DEEPEST:
            self._open.append(node)

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self._open[-1].children.append(PageNode(tag, {name: value or "" for name, value in attrs}))

    def handle_endtag(self, tag: str) -> None:
        for at in range(len(self._open) - 1, 0, -1):
            if self._open[at].tag == tag:
                del self._open[at:]
                return

    def handle_data(self, data: str) -> None:
        self._open[-1].children.append(data)

    def parse_marked_section(self, i: int, report: bool = True) -> int:
        """What is no marked section is text, as browsers have it; the library takes it for a mistake of its own."""
        try:
            return super().parse_marked_section(i, report)
        except AssertionError:
            return -1


def tree_of(text: str) -> PageNode:
    """The page as a tree, each element with its size."""
    builder = _Builder()
    builder.feed(text.removeprefix("\ufeff"))
    builder.close()
    _measure(builder.root)
    return builder.root


def grid_of(table: PageNode, read: Callable[[PageNode], str] = lambda cell: cell.text) -> list[list[str]]:
    """The cells of a table by row and column, those that span several repeated; a table inside is one of its own.

    read: what is wanted of a cell.
    """
    rows: list[list[str]] = []
    spans: dict[int, tuple[int, str]] = {}
    for row in own(table, "tr"):
        cells: list[str] = []
        for cell in own(row, "td", "th"):
            _fill(cells, spans)
            text = "" if any(True for _ in cell.all("table")) else read(cell)
            width, height = _span(cell, "colspan"), _span(cell, "rowspan")
            for _ in range(width):
                if height > 1:
                    spans[len(cells)] = (height - 1, text)
                cells.append(text)
        _fill(cells, spans)
        rows.append(cells)
        if len(rows) > MOST:
            break
    return rows


def _fill(cells: list[str], spans: dict[int, tuple[int, str]]) -> None:
    while (left := spans.get(len(cells))) is not None and left[0] > 0:
        spans[len(cells)] = (left[0] - 1, left[1])
        cells.append(left[1])


def own(node: PageNode, *tags: str) -> Iterator[PageNode]:
    """Those of these inside, but not inside of a table of its own."""
    waiting = [child for child in reversed(node.children) if isinstance(child, PageNode)]
    while waiting:
        one = waiting.pop()
        if one.tag in tags:
            yield one
        elif one.tag != "table":
            waiting += [child for child in reversed(one.children) if isinstance(child, PageNode)]


def _span(cell: PageNode, name: str) -> int:
    text = cell.attributes.get(name, "1")
    return min(int(text), 60) if text.isascii() and text.isdigit() and int(text) else 1


def leaves_of(node: PageNode) -> Iterator[PageNode | str]:
    waiting: list[PageNode | str] = list(reversed(node.children))
    while waiting:
        one = waiting.pop()
        if isinstance(one, str):
            if one.strip():
                yield " ".join(one.split())
        elif one.tag in ("input", "select", "textarea"):
            yield one
        elif one.tag not in ("script", "style"):
            waiting += reversed(one.children)
