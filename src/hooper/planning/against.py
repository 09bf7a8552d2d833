"""A router's table as somebody typed or exported it, held against the plan. Pure.

CSV with a line of headings, or JSON: a list of rules, or an object that holds such lists. The headings are taken as
routers write them: what is not recognised is ignored, what is missing is said.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from hooper import deeds
from hooper.addresses import parse_address
from hooper.errors import UsageError, Where
from hooper.planning.free_ports import transports
from hooper.planning.values import EVERYTHING, Compared, Forward
from hooper.ports import Ports, ports_text
from hooper.words.data import data

# column: the words for it in headings, letters only, in lower case
WORDS: dict[str, str] = data("columns")
_COLUMN = {word: column for column, words in WORDS.items() for word in words.split()}
YES = ("", "1", "yes", "true", "on", "enabled", "active", "y")
NO = ("0", "no", "false", "off", "disabled", "inactive", "n")
ANYONE = ("", "*", "any", "anyone", "all", "0.0.0.0", "0.0.0.0/0", "everyone")  # noqa: S104 - as pages write it


class BadTable(UsageError):
    """The table that was given cannot be read."""

    code = "table"
    remedy = (
        "Give a line of headings such as `transport,outside port,inside address,inside port`, then one rule a line."
    )


@dataclass(frozen=True, slots=True)
class TableRow:
    """One rule of the table. sources: None where the table does not say. enabled: None where it has a switch that could
    not be read. place: where it stands.
    """

    gateway: str | None
    transport: str
    outside: Ports
    target: str
    inside: Ports
    sources: tuple[str, ...] | None
    label: str
    enabled: bool | None
    place: str


def read_table(text: str, name: str) -> list[TableRow]:
    """The rules of a table. Raises: BadTable, with the place."""
    text = text.removeprefix("\ufeff")
    if text.lstrip()[:1] in ("[", "{"):
        return list(_from_json(text, name))
    return list(_from_csv(text, name))


def _from_csv(text: str, name: str) -> Iterator[TableRow]:
    first = next((line for line in text.splitlines() if line.strip()), "")
    delimiter = max(",;\t|", key=first.count)
    columns: dict[int, str] = {}
    reader = csv.reader(io.StringIO(text), delimiter=delimiter)
    try:
        for cells in reader:
            if not any(cell.strip() for cell in cells):
                continue
            where = Where(name, reader.line_num)
            if not columns:
                columns = {at: column for at, cell in enumerate(cells) if (column := column_of(cell)) is not None}
                missing = {"outside", "target"} - set(columns.values())
                if missing:
                    lacks = " and ".join(
                        sorted("outside port" if m == "outside" else "inside address" for m in missing)
                    )
                    raise BadTable(f"the headings lack the {lacks}: {first.strip()[:80]}", where=where)
                continue
            yield row_of(
                {c: cells[at] for at, c in columns.items() if at < len(cells)}, where, f"line {reader.line_num}"
            )
    except csv.Error as exc:
        raise BadTable(f"not CSV: {exc}", where=Where(name, reader.line_num)) from None
    if not columns:
        raise BadTable("the file is empty", where=Where(name, 1))


def _from_json(text: str, name: str) -> Iterator[TableRow]:
    try:
        data = json.loads(text)
    except ValueError as exc:
        line = getattr(exc, "lineno", 1)
        raise BadTable(f"not JSON: {exc}", where=Where(name, line), remedy="Export it again, or give CSV.") from None
    except RecursionError:
        raise BadTable("not JSON: nested too deep", where=Where(name, 1), remedy="Give a flat list of rules.") from None
    found = list(_rules_in(data, None))
    if not found:
        raise BadTable("there is no list of rules in it", where=Where(name, 1))
    for number, (gateway, rule) in enumerate(found, 1):
        if rule.get("kind") == "pinhole" or rule.get("service") == EVERYTHING:
            continue
        cells: dict[str, Any] = {"gateway": gateway} if gateway else {}
        for key, value in rule.items():
            column = column_of(str(key))
            if column is not None and column not in cells:
                cells[column] = value
        yield row_of(cells, Where(name), f"rule {number}")


def _rules_in(data: Any, gateway: str | None) -> Iterator[tuple[str | None, Mapping[str, Any]]]:
    """Every object that has an outside port and a target, with the gateway around it."""
    if isinstance(data, list):
        for row in data:
            yield from _rules_in(row, gateway)
    elif isinstance(data, dict):
        columns = {column_of(str(key)) for key in data}
        if {"outside", "target"} <= columns and not any(
            isinstance(v, list | dict) and k == "rules" for k, v in data.items()
        ):
            own = data.get("gateway")
            yield (own if isinstance(own, str) else gateway), data
            return
        named = data.get("gateway")
        for value in data.values():
            yield from _rules_in(value, named if isinstance(named, str) else gateway)


def column_of(heading: str) -> str | None:
    """The column that a heading stands for; None: for none that is known."""
    return _COLUMN.get(re.sub(r"[^a-z]", "", heading.lower()))


def row_of(cells: Mapping[str, Any], where: Where, place: str) -> TableRow:
    """A rule by its cells. Raises: BadTable: something of it is missing, or is not what it should be."""
    for needed in ("outside", "target"):
        if cells.get(needed) in (None, "", []):
            raise BadTable(
                f"{place}: there is no {'outside port' if needed == 'outside' else 'inside address'}", where=where
            )
    try:
        outside = _ports(cells["outside"])
        if cells.get("outside_last") not in (None, ""):
            outside = Ports(outside.first, _ports(cells["outside_last"]).last)
        target = str(cells["target"]).strip()
        address, colon, port = target.rpartition(":")
        if colon and "." in address:
            target, cells = address, {"inside": port, **{k: v for k, v in cells.items() if v not in (None, "")}}
        target = str(parse_address(target))
        given = cells.get("inside")
        inside = _ports(given) if given not in (None, "", []) else outside
        if inside.size == 1:  # pages that ask for the first port only
            inside = Ports(inside.first, inside.first + outside.size - 1)
        if outside.size < 1 or inside.size != outside.size:
            raise ValueError(f"{ports_text(outside)} and {ports_text(inside)} do not fit together")
        transport = _transport(cells.get("transport"))
    except ValueError as exc:
        raise BadTable(f"{place}: {exc}", where=where, remedy="Correct this rule in the table.") from None
    return TableRow(
        gateway=str(cells["gateway"]).strip() or None if cells.get("gateway") else None,
        transport=transport,
        outside=outside,
        target=target,
        inside=inside,
        sources=_sources(cells.get("sources")) if "sources" in cells else None,
        label=str(cells.get("label") or "").strip(),
        enabled=_enabled(cells.get("enabled", "yes")),
        place=place,
    )


def _enabled(value: Any) -> bool | None:
    word = str(value if value is not None else "").strip().lower()
    return False if word in NO else True if word in YES else None


def _ports(value: Any) -> Ports:
    if isinstance(value, list) and value and all(type(item) is int for item in value):
        first, last = value[0], value[-1]
    else:
        match = re.fullmatch(r"\s*([0-9]{1,5})(?:\s*[-:–~]\s*([0-9]{1,5}))?\s*", str(value))
        if match is None:
            raise ValueError(f"{str(value)[:40]!r} is no port")
        first, last = int(match[1]), int(match[2] or match[1])
    if not (1 <= first <= 65535 and 1 <= last <= 65535):
        raise ValueError(f"{str(value)[:40]!r} is no port: they go from 1 to 65535")
    return Ports(first, last)


def _transport(value: Any) -> str:
    letters = re.sub(r"[^a-z0-9]", "", str(value if value is not None else "both").lower())
    if letters in ("tcp", "6"):
        return "tcp"
    if letters in ("udp", "17"):
        return "udp"
    if letters in ("both", "tcpudp", "udptcp", "any", "all", "tcpandudp", ""):
        return "both"
    raise ValueError(f"{str(value)[:40]!r} is no transport")


def _sources(value: Any) -> tuple[str, ...]:
    given = value if isinstance(value, list) else re.split(r"[,;\s]+", str(value if value is not None else ""))
    return tuple(sorted(str(source).strip() for source in given if str(source).strip().lower() not in ANYONE))


# --- comparing


def compare_table(
    forwards: Sequence[Forward],
    rows: Sequence[TableRow],
    gateways: Sequence[str],
    named: str | None,
    name: str,
    may_hold: Callable[[Forward], bool] = lambda rule: False,
) -> list[Compared]:
    """A whole table against the plan: of the router that is named, of those that its rows name, or of the only one.

    gateways: those of the site. name: of the table. may_hold: whether a rule that is not among the rows may stand in
    it all the same. Raises: UsageError: it cannot be told whose table it is.
    """
    own = sorted({row.gateway for row in rows if row.gateway is not None})
    if named is not None:
        return compare(forwards, [row for row in rows if row.gateway in (None, named)], named, may_hold)
    strange = [key for key in own if key not in gateways]
    if strange:
        message = f"{name} has rules of {strange[0]!r}, which is no gateway of the site"
        raise UsageError(message, remedy=f"There are: {', '.join(gateways) or 'none'}.")
    if not own and len(gateways) == 1:
        own, rows = [gateways[0]], [replace(row, gateway=gateways[0]) for row in rows]
    if not own:
        raise UsageError(
            f"{name} does not say which router it is of",
            remedy=f"Write {deeds.COMPARE_WITH(name)} with one of: {', '.join(gateways)}.",
        )
    return [one for key in own for one in compare(forwards, [row for row in rows if row.gateway == key], key, may_hold)]


def compare(
    forwards: Iterable[Forward],
    rows: Sequence[TableRow],
    gateway: str,
    may_hold: Callable[[Forward], bool] = lambda rule: False,
) -> list[Compared]:
    """One gateway's planned rules against the rows of its table: what is missing, different, or not planned.

    Several single ports stand for a range, two rules for one that is for both transports.
    """
    out: list[Compared] = []
    met: set[int] = set()
    for rule in forwards:
        if (
            rule.gateway != gateway
            or rule.kind != "forward"
            or rule.outside_ports is None
            or rule.service == EVERYTHING
        ):
            continue
        verdicts = [_held(rule, transport, rows, met, may_hold) for transport in transports(rule.transport)]
        order = ("different", "missing", "not-known")
        state = next((s for s in order if any(v[0] == s for v in verdicts)), "same")
        found = "; ".join(dict.fromkeys(v[1] for v in verdicts if v[1] and (v[0] == state or state != "same"))) or None
        place = ", ".join(dict.fromkeys(v[2] for v in verdicts if v[2]))
        planned = _leads(rule.target_address, rule.target_ports, rule.sources)
        out.append(
            Compared(
                gateway,
                state,  # type: ignore[arg-type]
                rule.service,
                rule.transport,
                rule.outside_ports,
                planned,
                found,
                place,
            )
        )
    for number, row in enumerate(rows):
        if number not in met:
            label = f" ({row.label})" if row.label else ""
            found = _leads(row.target, row.inside, row.sources or ()) + label + _turned(row)
            out.append(Compared(gateway, "unknown", None, row.transport, row.outside, None, found, row.place))
    return out


def _turned(row: TableRow) -> str:
    return "" if row.enabled else ", switched off" if row.enabled is False else ", not known whether it is switched on"


def _held(
    rule: Forward, transport: str, rows: Sequence[TableRow], met: set[int], may_hold: Callable[[Forward], bool]
) -> tuple[str, str, str]:
    """State, what was found, and where, for one transport of a rule."""
    assert rule.outside_ports is not None
    assert rule.target_ports is not None
    first, last = rule.outside_ports
    shift, covered, wrong, unsure, places = rule.target_ports[0] - first, 0, list[str](), list[str](), list[str]()
    for number, row in enumerate(rows):
        if transport not in transports(row.transport) or row.outside[1] < first or last < row.outside[0]:
            continue
        met.add(number)
        places.append(row.place)
        covered += min(last, row.outside[1]) - max(first, row.outside[0]) + 1
        limited = row.sources is not None and rule.sources != row.sources and tuple(sorted(rule.sources)) != row.sources
        wider = row.outside[0] < first or last < row.outside[1]
        other = row.target != rule.target_address or row.inside[0] - row.outside[0] != shift
        if row.enabled is None and not (other or limited or wider):
            unsure.append(f"{_leads(row.target, row.inside, row.sources or ())}{_turned(row)}")
        elif other or limited or wider or not row.enabled:
            off = _turned(row)
            ports = f"{transport} {ports_text(row.outside)} " if wider else ""
            wrong.append(f"{ports}{_leads(row.target, row.inside, row.sources or ())}{off}")
    where = ", ".join(places)
    if wrong:
        return "different", "; ".join(wrong), where
    if not covered and may_hold(rule):
        return "not-known", "it may stand in a row that could not be read", where
    if not covered:
        return "missing", "", where
    if covered < last - first + 1:
        return "different", f"only {covered} of {last - first + 1} ports", where
    if unsure:
        return "not-known", "; ".join(unsure), where
    return "same", "", where


def _leads(address: str, ports: Ports | None, sources: tuple[str, ...]) -> str:
    who = f" from {', '.join(sources)}" if sources else ""
    return f"{address}:{ports_text(ports)}{who}"
