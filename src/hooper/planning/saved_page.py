"""A router's page as a browser saved it: the rules, addresses and reservations on it, whoever made the router. Pure.

Pages are tables, tables in tables, forms with numbered fields, lists of labels and values, or data in a script. What
looks like a rule and cannot be read is told, with its place; a page's other words are left aside.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import TYPE_CHECKING, Any

from hooper.addresses import classify, parse_address
from hooper.errors import UsageError, Where
from hooper.planning.against import BadTable, TableRow, column_of, row_of
from hooper.planning.page_scripts import data_in, objects_in, value_rows
from hooper.planning.page_tree import PageNode, grid_of, joined, leaves_of, switch_of, tree_of, value_of

if TYPE_CHECKING:
    from hooper.planning.values import Forward

LARGEST = 4_000_000  # letters
MOST = 2_000  # rows of one page
ENTRY = 200  # elements and texts in one entry of a list
OUTER = frozenset({"ext", "external", "wan", "public", "outside", "incoming", "outer", "from"})
INNER = frozenset(
    {"int", "internal", "lan", "local", "private", "inside", "server", "target", "dest", "destination", "to"}
)
WHOSE = frozenset({"ip", "addr", "address", "host", "client", "server", "device"})
MAC = re.compile(r"(?<![0-9a-f])(?:[0-9a-f]{2}[:-]){5}[0-9a-f]{2}(?![0-9a-f])", re.I)
IPV4 = re.compile(r"(?<![\d.])\d{1,3}(?:\.\d{1,3}){3}(?![\d.])")
TRANSPORT = re.compile(r"^(tcp|udp|both|tcp\s*[/+&]\s*udp|udp\s*[/+&]\s*tcp)$", re.I)
PORTS = re.compile(r"^\d{1,5}(\s*[-:–]\s*\d{1,5})?$")
WAN = re.compile(r"\b(wan|internet|external|public|outside)\b.*\b(ip|address|ipv4)\b|\bwan ?ip\b", re.I)
POOL = re.compile(r"\b(dhcp|pool|range|lease)\b", re.I)
START, END = re.compile(r"\b(start|first|from|begin)\b", re.I), re.compile(r"\b(end|last|to|until)\b", re.I)
ON, OFF = (
    re.compile(r"^(on|yes|true|enabled?|active|✓|✔|1)$", re.I),
    re.compile(r"^(off|no|false|disabled?|inactive|✗|✘|0)$", re.I),
)


@dataclass(frozen=True, slots=True)
class PageReservation:
    """A device that always gets the same address. name: as the page has it; empty: none."""

    mac: str
    address: str
    name: str


@dataclass(frozen=True, slots=True)
class PageRead:
    """What a page was understood to say. wan: the router's outer address; pool: what its DHCP hands out.

    guessed: the places of rules without headings, which were read by how their values look. not_understood: sentences.
    numbers: all addresses and numbers on it, whether they were understood or not.
    """

    rules: tuple[TableRow, ...]
    wan: str | None
    pool: tuple[str, str] | None
    reservations: tuple[PageReservation, ...]
    guessed: tuple[str, ...]
    not_understood: tuple[str, ...]
    numbers: frozenset[str] = frozenset()

    def may_hold(self, rule: Forward) -> bool:
        """Whether a rule that was not found may stand on it all the same: in a row that could not be read."""
        ports = set(rule.outside_ports or ())
        return bool(self.not_understood) or (
            rule.target_address in self.numbers and all(str(port) in self.numbers for port in ports)
        )


def is_page(text: str) -> bool:
    """Whether this is a page, and no table of CSV or JSON."""
    return text.removeprefix("\ufeff").lstrip()[:1] == "<"


def read_page(text: str, name: str) -> PageRead:
    """Read a saved page. Raises: BadTable: it is too large, or nothing on it is understood."""
    if len(text) > LARGEST:
        raise BadTable(f"the page is longer than {LARGEST:,} letters", where=Where(name), remedy="Save the page alone.")
    reading = _Reading(name)
    reading.take(tree_of(text))
    whole = joined(text)
    numbers = frozenset((*IPV4.findall(whole), *re.findall(r"(?<![\d.])\d{1,5}(?![\d.])", whole)))
    found = replace(reading.done(), numbers=numbers)
    if not (found.rules or found.wan or found.pool or found.reservations or found.not_understood):
        raise BadTable(
            "nothing on this page looks like a list of rules, an address or a reservation",
            where=Where(name),
            remedy='Save the page that shows the list of rules, with the browser\'s "Save as"; a frame on its own.',
        )
    return found


# --- what stands on it


@dataclass
class _Reading:
    """One page being read. name: what to call it in messages."""

    name: str
    rules: list[TableRow] = field(default_factory=list)
    guessed: list[str] = field(default_factory=list)
    odd: list[str] = field(default_factory=list)
    reservations: list[PageReservation] = field(default_factory=list)
    labelled: list[tuple[str, str]] = field(default_factory=list)

    def take(self, root: PageNode) -> None:
        """All ways to write a list down, one after the other."""
        for number, table in enumerate(root.all("table"), 1):
            self._table(table, f"table {number}")
        self._forms(root)
        self._lists(root)
        for number, script in enumerate(root.all("script"), 1):
            words = "".join(child for child in script.children if isinstance(child, str))
            self._script(words, f"script {number}")
        if not self.rules:
            self._lines(root)
        self._fields(root)

    def done(self) -> PageRead:
        rules = {(row.transport, row.outside, row.target, row.inside): row for row in reversed(self.rules)}
        wan = next((address for label, value in self.labelled if WAN.search(label)
                    if (address := _outer(value)) is not None), None)  # fmt: skip
        kept = [row for row in self.rules if rules.get((row.transport, row.outside, row.target, row.inside)) is row]
        reservations = tuple(dict.fromkeys(self.reservations))
        return PageRead(
            tuple(kept[:MOST]), wan, _pool(self.labelled), reservations, tuple(self.guessed), tuple(self.odd)
        )

    def rule(self, cells: Mapping[str, Any], place: str) -> bool:
        """Take a rule, or say why it is none; whether it was taken."""
        if not cells.get("outside") and not cells.get("target"):
            return False
        try:
            self.rules.append(row_of(cells, Where(self.name), place))
        except UsageError as exc:
            self.odd.append(f"{exc.message}.")
            return False
        return True

    # tables

    def _table(self, table: PageNode, place: str) -> None:
        grid = grid_of(table)
        if len(grid) < 2:
            self._pairs(grid)
            return
        columns, start = _headings(grid)
        names = set(columns.values())
        switches = grid_of(table, switch_of)
        if {"outside", "target"} <= names and "mac" not in names:
            for number, (cells, turned) in enumerate(zip(grid[start:], switches[start:], strict=True), 1):
                row = {name: cells[at] for at, name in columns.items() if at < len(cells) and cells[at]}
                if row.get("outside") or row.get("target"):
                    self.rule(_shaped(row | _turned(columns, cells, turned)), f"{place}, row {number}")
        elif {"mac", "target"} <= names:
            for cells in grid[start:]:
                row = {name: cells[at] for at, name in columns.items() if at < len(cells)}
                self._reserve(row.get("mac", ""), row.get("target", ""), row.get("label", ""))
        else:
            for number, (cells, turned) in enumerate(zip(grid, switches, strict=True), 1):
                self._guess(cells, f"{place}, row {number}", turned)
            self._pairs(grid)

    def _pairs(self, grid: Sequence[Sequence[str]]) -> None:
        for cells in grid:
            words = [cell for cell in cells if cell]
            self.labelled += list(pairwise(words))

    def _reserve(self, mac: str, address: str, name: str) -> None:
        found, where = MAC.search(mac), IPV4.search(address)
        if found is not None and where is not None:
            self.reservations.append(PageReservation(found[0].lower().replace("-", ":"), where[0], name[:60]))

    def _guess(self, cells: Sequence[str], place: str, turned: Sequence[str] = ()) -> bool:
        """A row without headings, by how its values look. turned: what the switches in its cells say."""
        row = _by_look(cells)
        said = {word for word in turned if word}
        if row is not None and said:
            row["enabled"] = said.pop() if len(said) == 1 else "?"
        if row is None or not self.rule(row, place):
            return False
        self.guessed.append(place)
        return True

    # forms

    def _forms(self, root: PageNode) -> None:
        """Fields with numbers in their names: each number is a row."""
        rows: dict[tuple[str, str], dict[str, str]] = {}
        inside_tables = {id(node) for table in root.all("table") for node in table.walk()} if self.rules else set()
        for node in root.all("input", "select", "textarea"):
            name = node.attributes.get("name") or node.attributes.get("id") or ""
            found = re.fullmatch(r"(.*?)[\[_.-]?(\d+)[\]_.-]*(.*)", name)
            if id(node) in inside_tables or found is None:
                continue
            column = _column(found[3]) or _column(f"{found[1]} {found[3]}")
            if column is not None:
                rows.setdefault(("", found[2]), {}).setdefault(column, value_of(node))
        for (_, number), row in rows.items():
            self.rule(_shaped(row), f"form, number {number}")

    # lists of labels and values

    def _lists(self, root: PageNode) -> None:
        for number, entry in enumerate((node for node in root.walk() if _is_entry(node)), 1):
            pairs = list(_label_pairs(entry))
            row: dict[str, str] = {}
            for label, value in pairs:
                column = _column(label)
                if column is not None and value:
                    row.setdefault(column, value)
            if row.get("outside") and row.get("target"):
                self.rule(_shaped(row), f"entry {number}")
            self.labelled += pairs

    # scripts

    def _script(self, words: str, place: str) -> None:
        for data in data_in(words):
            for number, row in enumerate(objects_in(data), 1):
                cells: dict[str, Any] = {}
                for key, value in row.items():
                    column = _column(str(key))
                    if column is not None and not isinstance(value, list | dict):
                        cells.setdefault(column, str(value))
                if cells.get("outside") and cells.get("target"):
                    self.rule(_shaped(cells), f"{place}, entry {number}")
                elif "mac" in cells:
                    self._reserve(cells["mac"], cells.get("target", ""), cells.get("label", ""))
                self.labelled += [
                    (str(key), str(value)) for key, value in row.items() if not isinstance(value, list | dict)
                ]
            for number, values in enumerate(value_rows(data), 1):
                self._guess([str(value) for value in values], f"{place}, row {number}")
        for number, text in enumerate(re.findall(r"""["']([^"'\n]{10,300})["']""", words), 1):
            parts = [part for part in re.split(r"[>;|,\t]", text) if part.strip()]
            if len(parts) >= 3:
                self._guess([piece for part in parts for piece in _apart(part)], f"{place}, text {number}")

    # lines

    def _lines(self, root: PageNode) -> None:
        """Rules written as lines of text."""
        blocks = ("li", "pre", "p", "div", "table", "ul")
        for number, node in enumerate(root.all("li", "pre", "p", "div"), 1):
            if node.size >= ENTRY or any(isinstance(one, PageNode) and one.tag in blocks for one in node.children):
                continue
            typed = "".join(child for child in node.children if isinstance(child, str))
            for line in typed.splitlines() if node.tag == "pre" else [node.text]:
                words = re.split(r"[\s,;|>→]+|->", line)
                self._guess([piece for word in words for piece in _apart(word)], f"text {number}")

    def _fields(self, root: PageNode) -> None:
        """What else has a label: an input after its label, a text with a colon."""
        names = {node.attributes["for"]: node.text for node in root.all("label") if node.attributes.get("for")}
        for node in root.all("input", "select"):
            label = (
                names.get(node.attributes.get("id", "")) or node.attributes.get("name") or node.attributes.get("id", "")
            )
            self.labelled.append((re.sub(r"[_-]|(?<=[a-z])(?=[A-Z])", " ", label), value_of(node)))
        for node in (one for one in root.all("p", "div", "span", "li", "td") if one.size < ENTRY):
            label, colon, value = node.text.partition(":")
            if colon and len(label) < 60:
                self.labelled.append((label, value.strip()))


def _turned(columns: Mapping[int, str], cells: Sequence[str], turned: Sequence[str]) -> dict[str, str]:
    """Whether a row's rule is switched on, as far as its cells say; ? where they have a switch that is not read."""
    at = next((at for at, name in columns.items() if name == "enabled"), None)
    if at is not None:
        return {"enabled": (turned[at] if at < len(turned) else "") or (cells[at] if at < len(cells) else "") or "?"}
    said = [word for at, word in enumerate(turned) if word and at not in columns]
    return {"enabled": "?"} if said else {}


def _worded(name: str) -> str:
    """The name of a field as words."""
    return re.sub(r"[_-]|(?<=[a-z])(?=[A-Z])", " ", name)


def _column(label: str) -> str | None:
    """The column that a heading, a label or the name of a field stands for: by its whole, else by its parts."""
    if (known := column_of(label)) is not None:
        return known
    parts = {part.lower() for part in re.findall(r"[A-Za-z][a-z]*|[A-Z]+(?![a-z])", label)}
    letters = re.sub(r"[^a-z]", "", label.lower())
    if parts & {"mac", "hwaddr"}:
        return "mac"
    outer, inner = bool(parts & OUTER), bool(parts & INNER)
    if parts & {"port", "ports"} or letters.endswith(("port", "ports")):
        inner = inner or letters.startswith(("int", "lan", "local", "priv"))
        return "outside_last" if parts & {"end", "last"} else "inside" if inner and not outer else "outside"
    if inner and parts & WHOSE:
        return "target"
    if parts & {"proto", "protocol", "transport"}:
        return "transport"
    return "enabled" if parts & {"enable", "enabled", "active", "on", "status", "state"} and len(parts) < 3 else None


def _shaped(row: Mapping[str, Any]) -> dict[str, Any]:
    """A row's cells, as `row_of` reads them: words around a number or an address are left aside."""
    out = dict(row)
    address = IPV4.search(str(out.get("target", "")))
    if address is not None:
        after = str(out["target"])[address.end() :]
        port = re.match(r"\s*:\s*(\d{1,5})", after)
        out["target"] = address[0]
        if port is not None:
            out.setdefault("inside", port[1])
    if ON.match(str(out.get("enabled", ""))):
        out["enabled"] = "yes"
    elif OFF.match(str(out.get("enabled", ""))):
        out["enabled"] = "no"
    elif "enabled" in out:
        out["enabled"] = "?"
    for name in ("outside", "inside"):
        text = re.sub(r"\b(tcp|udp|ports?|from)\b[/ :]*", "", str(out.get(name, "")), flags=re.I).strip(" ()/")
        text = re.sub(r"^(\d{1,5})(?:\s*(?:to|until)\s*|\s+)(\d{1,5})$", r"\1-\2", text, flags=re.I)
        if name in out:
            out[name] = text
    if "transport" not in out and (said := re.search(r"\b(tcp|udp)\b", str(row.get("outside", "")), re.I)) is not None:
        out["transport"] = said[1]
    return {name: value for name, value in out.items() if value not in ("", None)}


def _by_look(cells: Sequence[str]) -> dict[str, str] | None:
    """A rule by how its values look: one transport, one inner address, one or two ports. None: it does not look so."""
    parts = [piece for cell in cells for piece in _apart(cell)]
    address = [part for part in parts if IPV4.fullmatch(part) and _inner(part)]
    transport = [part for part in parts if TRANSPORT.match(part)]
    ports = [part for part in parts if PORTS.match(part) and 1 <= int(re.split(r"\D", part)[0]) <= 65535]
    flags = [part for part in parts if part in ("0", "1")]
    ports = [part for part in ports if part not in flags]
    if len(address) != 1 or len(transport) != 1 or not 1 <= len(ports) <= 2:
        return None
    row = {"outside": ports[0], "target": address[0], "transport": transport[0]}
    if len(ports) == 2:
        row["inside"] = ports[1]
    states = [part for part in parts if (ON.match(part) or OFF.match(part)) and not PORTS.match(part)]
    if states or len(flags) == 1:
        row["enabled"] = "no" if OFF.match((states or flags)[0]) else "yes"
    return row


def _apart(cell: str) -> list[str]:
    """A value with its parts, such as 10.44.7.30:443 or TCP 443."""
    text = cell.strip()
    found = re.fullmatch(r"(\d{1,3}(?:\.\d{1,3}){3})\s*:\s*(\d{1,5})", text)
    if found is not None:
        return [found[1], found[2]]
    found = re.fullmatch(r"(tcp|udp)\s*[/: ]\s*(\d{1,5}(?:-\d{1,5})?)", text, re.I)
    if found is not None:
        return [found[1], found[2]]
    found = re.fullmatch(r"(\d{1,5}(?:-\d{1,5})?)\s*/\s*(tcp|udp)", text, re.I)
    return [found[2], found[1]] if found is not None else [text] if text else []


def _inner(text: str) -> bool:
    try:
        return not classify(parse_address(text)).reachable
    except ValueError:
        return False


def _outer(text: str) -> str | None:
    """An address that a router could have on its outer side."""
    found = IPV4.search(text)
    if found is None:
        return None
    try:
        address = parse_address(found[0])
    except ValueError:
        return None
    return str(address) if int(address) and not str(address).startswith(("255.", "127.")) else None


def _pool(labelled: Iterable[tuple[str, str]]) -> tuple[str, str] | None:
    """What the DHCP server hands out."""
    first = last = None
    for label, value in labelled:
        found = IPV4.findall(value)
        if POOL.search(label) and len(found) == 2:
            return found[0], found[1]
        if len(found) == 1 and POOL.search(label):
            first = first or (found[0] if START.search(label) else None)
            last = last or (found[0] if END.search(label) and not START.search(label) else None)
    return (first, last) if first is not None and last is not None else None


# --- tables


def _headings(grid: Sequence[Sequence[str]]) -> tuple[dict[int, str], int]:
    """The columns by place, and the row at which the rules begin: of the rows that could be headings the best."""
    best: tuple[dict[int, str], int] = {}, 0
    for at in range(min(len(grid), 8)):
        for deep in (1, 2):
            found = _columns(grid[at : at + deep])
            if len(set(found.values())) > len(set(best[0].values())) and len(grid) > at + deep:
                best = found, at + deep
    return best


def _columns(rows: Sequence[Sequence[str]]) -> dict[int, str]:
    out: dict[int, str] = {}
    for at in range(max(map(len, rows), default=0)):
        words = [row[at] for row in rows if at < len(row) and row[at]]
        for text in (" ".join(dict.fromkeys(words)), *reversed(words)):
            column = "mac" if re.search(r"\bmac\b|physical|hardware", text, re.I) else _column(text)
            if column is None or len(text) >= 60:
                continue
            before = next((other for other, known in out.items() if known == column), None)
            if before is None:
                out[at] = column
            elif column == "target" and re.search(r"\bip\b|address", text, re.I):
                out[before], out[at] = "label", column  # the one before names the device
            break
    return out


# --- lists and scripts


def _is_entry(node: PageNode) -> bool:
    """Whether an element holds one rule as labels and values."""
    if node.tag not in ("dl", "div", "li", "fieldset", "section", "article") or not 2 < node.size < ENTRY:
        return False
    return (
        not any(isinstance(child, PageNode) and _is_entry_like(child) for child in node.children)
        and len(node.text) < 600
    )


def _is_entry_like(node: PageNode) -> bool:
    return node.tag in ("dl", "ul", "ol", "fieldset", "table", "section", "article") or (
        node.tag in ("div", "li") and sum(isinstance(child, PageNode) for child in node.children) >= 3
    )


def _label_pairs(entry: PageNode) -> Iterator[tuple[str, str]]:
    """Labels with the values after them."""
    words: list[str] = []
    for node in leaves_of(entry):
        text = node if isinstance(node, str) else value_of(node)
        label, colon, value = text.partition(":")
        if colon and value.strip() and not IPV4.match(text.strip()) and column_of(label) is not None:
            yield label.strip(), value.strip()
            continue
        words.append(text.strip().rstrip(":"))
    words = joined("\n".join(word for word in words if word)).split("\n")
    at = 0
    while at + 1 < len(words):
        if column_of(words[at]) is not None and column_of(words[at + 1]) is None:
            yield words[at], words[at + 1]
            at += 2
        else:
            yield words[at], words[at + 1]
            at += 1
