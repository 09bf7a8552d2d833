"""The tables of the site file as options: what a key takes, and its help, are the ones of the schema."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any

from hooper.errors import UsageError
from hooper.site.mistakes import singular
from hooper.site.pointers import POINTERS
from hooper.words.data import data

if TYPE_CHECKING:
    from hooper.site.edit import Value

LEFT_OUT = ("options", "ready", "accepted")  # what other packages read, and what has commands of its own
WHAT = {"integer": "N", "boolean": "yes|no"}
BY_FORM = {  # what is written, by how the schema describes it
    "^(env|file):.+$": "REF",
    "^[0-9]+(ms|s|m|h|d|w)?$": "TIME",
    "^https?://[^\\s]+$": "URL",
    "^https://[^\\s]+$": "URL",
    "An IP address.": "ADDRESS",
    "An IPv6 address.": "ADDRESS",
    "A MAC address in any common spelling.": "MAC",
    "An IPv6 prefix.": "PREFIX",
    "An address with a port, such as 192.0.2.10:3478.": "ADDRESS:PORT",
    "A DNS server's address, with its port where that is not 53.": "ADDRESS",
    "A DNS name.": "NAME",
    "A DNS name, with all below it, or a network.": "NAME",
    "First and last address that DHCP hands out, joined by a dash.": "FIRST-LAST",
    'A transport with a port or range: "tcp 25", "udp 5000-5010", "both 53".': "PORTS",
}
BY_KEY = {
    "address": "ADDRESS",
    "wan": "ADDRESS",
    "lan": "LAN",
    "interface": "INTERFACE",
    "page_folder": "DIR",
    "give_to": "DIR",
    "quiet": "FROM-TO",
    "kind": "KIND",
    "echo": "URL",
}
YES_OR_NO = {"yes": True, "no": False, "true": True, "false": False}


@cache
def _schema() -> dict[str, Any]:
    found: dict[str, Any] = json.loads(files("hooper.site").joinpath("site.schema.json").read_text(encoding="utf-8"))
    return found


def _properties(table: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Each key of a table that is a value, and those of the tables in it, with a dot between."""
    definitions = _schema()["$defs"]

    def inside(of: Mapping[str, Any], before: str) -> Iterator[tuple[str, dict[str, Any]]]:
        for key, shape in of["properties"].items():
            inner = shape.get("$ref", "").rpartition("/")[2]
            if key in LEFT_OUT or _is_table(shape) or (before and inner):
                continue
            if inner:
                yield from inside(definitions[inner], f"{key}.")
            else:
                yield f"{before}{key}", shape

    entry = _schema()["properties"][table]
    named = entry.get("additionalProperties") or next(iter(entry.get("patternProperties", {}).values()), entry)
    reference = named["$ref"]
    yield from inside(definitions[reference.rpartition("/")[2]], "")


def _is_table(shape: Mapping[str, Any]) -> bool:
    """Whether a value is a table of its own, or a list of such, which no option can hold."""
    ways = [way for way in _ways(shape) if way.get("type") != "null"]
    inner = [way for one in ways for way in _ways(one.get("items", one))]
    return "$ref" not in shape and all("$ref" in one or one.get("type") == "object" for one in inner)


def _taken(key: str, shape: Mapping[str, Any], table: str | None) -> str:
    """What an option takes, as its help writes it. table: which the key points into."""
    if table is not None:
        return singular(table).upper()
    ways = list(_ways(shape))
    ways += [way for one in ways for way in _ways(one.get("items", {}))]
    told = (word for one in ways for word in (one.get("pattern"), one.get("description")) if word in BY_FORM)
    kinds, form = _kinds(shape), next(told, None)
    if key in BY_KEY or form is not None:
        return BY_KEY.get(key) or BY_FORM[str(form)]
    return WHAT.get(kinds[0] if kinds else "", "WORD" if _words(shape) else "TEXT")


def _words(shape: Mapping[str, Any]) -> list[str]:
    """The words of which a value, or each of a list, is one."""
    ways = list(_ways(shape))
    return [str(word) for one in (*ways, *(one.get("items", {}) for one in ways)) for word in one.get("enum", ())]


def _kinds(shape: Mapping[str, Any]) -> list[str]:
    """The JSON types that a value may have, those of a list's items left out."""
    return [str(one["type"]) for one in _ways(shape) if one.get("type") not in (None, "null")]


def _ways(shape: Mapping[str, Any]) -> Iterator[Mapping[str, Any]]:
    """The shapes that a value may have."""
    if "anyOf" not in shape:
        yield shape
    for one in shape.get("anyOf", ()):
        yield from _ways(one)


def rows_of(table: str) -> dict[str, list[str]]:
    """Each key of a table as words/options.json has an option: how it is written, its help, what a shell is offered."""
    pointed = {one.key: one.into[0] for one in POINTERS if one.table == table}
    rows = {}
    for key, shape in _properties(table):
        kinds, words = _kinds(shape), _words(shape)
        taken = _taken(key, shape, pointed.get(key))
        several = " ..." if "array" in kinds else ""
        choices = f" ({', '.join(words)})" if words else ""
        offered = [f"keys {pointed[key]}"] if key in pointed else [f"words {' '.join(words)}"] if words else []
        text = str(shape.get("description", ""))
        option = option_of(key)
        rows[key] = [f"{option} {taken}{several}", text.removesuffix(".") + f"{choices}.", *offered]
    return {**rows, **data("options")["keys"].get(singular(table), {})}


def option_of(key: str) -> str:
    """How the option for a key is written; a key that all commands have an option of is told from that."""
    return "--quiet-hours" if key == "quiet" else "--" + key.replace("_", "-").replace(".", "-")


def typed(table: str, given: Mapping[str, str | Sequence[str]]) -> dict[str, Value]:
    """What was given, as the site file has it: numbers, yes and no, lists. Raises: UsageError."""
    shapes = dict(_properties(table))
    return {key: _value(key, shapes[key], value) for key, value in given.items()}


def day(option: str, text: str) -> date:
    """A day. Raises: UsageError."""
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise UsageError(f"{option} {text!r} is not a date", remedy="Write it like 2027-03-31.") from None


def _value(key: str, shape: Mapping[str, Any], given: str | Sequence[str]) -> Value:
    if not isinstance(given, str):
        inner: dict[str, Any] = next((one["items"] for one in _ways(shape) if "items" in one), {})
        listed = [_value(key, inner, one) for one in given]
        return listed[0] if len(listed) == 1 and "string" in _kinds(shape) else listed
    kinds = _kinds(shape)
    if any(one.get("format") == "date" for one in _ways(shape)):
        return day(option_of(key), given)
    if "integer" in kinds and given.isascii() and given.isdigit():
        return int(given)
    if "boolean" in kinds:
        if given.lower() not in YES_OR_NO:
            raise UsageError(f"{option_of(key)} {given!r} is neither yes nor no", remedy="Write yes or no.")
        return YES_OR_NO[given.lower()]
    return given
