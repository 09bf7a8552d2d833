"""Edits of the site file: they do what they say, and nothing else changes by a byte."""

from __future__ import annotations

import tomllib
from collections import Counter
from datetime import date
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hooper.site.edit import (
    CannotEdit,
    Value,
    add_entry,
    add_keys,
    add_table,
    literal,
    remove_key,
    remove_table,
    set_key,
)
from hooper.site.load import parse_site
from hooper.site.mistakes import Path
from hooper.site.positions import comments, layout
from support.program import BOATHOUSE

MANY_WAYS = """\
# a file in which everything is written in another way
version = 1
lines = { fibre = { address = "dynamic" } }   # all in one line

[gateways]
box = { line = "fibre", lan = "10.44.7.1/24" }  # the only box

# hosts, by dotted keys
[hosts.a]  # the first
address = "10.44.7.5"  # by hand
ready.clock = true     # since May
ready.tls = false
[hosts."b-2"]
"address" = '10.44.7.6'
ready = { clock = true } # inline

[services.s]
host = "a" # a's
speaks = "http"
reach = "public"
sources = [
    "198.51.100.0/24", # the club
    # and the office:
    "203.0.113.7",
] # nobody else
accepted = { finding = "clear-text-open", reason = "r # no comment", until = 2027-01-01 } # for now
[services.t]
host = "b-2"
port = 9
# the end"""
TEXTS = {"boathouse": BOATHOUSE, "many ways": MANY_WAYS, "crlf": MANY_WAYS.replace("\n", "\r\n")}


def read(text: str) -> Any:
    return tomllib.loads(text)


@pytest.mark.parametrize("text", TEXTS.values(), ids=TEXTS)
def test_the_texts_are_sites(text: str) -> None:
    assert parse_site(text.encode(), "site.toml").site.hosts


def test_a_value_is_replaced_in_its_place_and_its_comment_stays() -> None:
    after = set_key(MANY_WAYS, ("hosts", "a"), "address", "10.44.7.9")
    assert after == MANY_WAYS.replace('"10.44.7.5"  # by hand', '"10.44.7.9"  # by hand')


def test_a_list_that_is_replaced_keeps_its_comments_above() -> None:
    after = set_key(MANY_WAYS, ("services", "s"), "sources", ["198.51.100.9"])
    assert '# the club\n# and the office:\nsources = ["198.51.100.9"] # nobody else\n' in after


def test_ticks_go_where_ticks_are_written() -> None:
    after = set_key(MANY_WAYS, ("hosts", "a", "ready"), "dns", True)
    assert "ready.tls = false\nready.dns = true\n" in after
    after = set_key(MANY_WAYS, ("hosts", "b-2", "ready"), "dns", True)
    assert "ready = { clock = true, dns = true } # inline\n" in after
    after = set_key(BOATHOUSE, ("hosts", "hub", "ready"), "clock", False)
    assert "ready = { default_password_changed = true, second_factor = true, clock = false }\n" in after


def test_a_new_table_comes_after_its_kind_and_before_the_next_heading() -> None:
    after = add_table(BOATHOUSE, ("hosts", "new"), {"address": "10.44.7.70", "mac": "02:00:5e:44:07:70"})
    block = '\n\n[hosts.new]\naddress = "10.44.7.70"\nmac = "02:00:5e:44:07:70"\n\n# --- what they offer'
    assert block in after
    assert after.replace(block, "\n\n# --- what they offer") == BOATHOUSE
    assert read(add_table(MANY_WAYS, ("lines", "mobile"), {"address": "dynamic"}))["lines"]["mobile"]


def test_a_removed_table_leaves_its_comments_and_no_hole() -> None:
    after = remove_table(BOATHOUSE, ("services", "slip-film"))
    assert "slip-film" not in read(after)["services"]
    assert "# the camera cannot encrypt" in after
    assert "\n\n\n" not in after
    assert read(remove_table(MANY_WAYS, ("hosts", "a")))["hosts"] == {"b-2": read(MANY_WAYS)["hosts"]["b-2"]}


def test_a_second_acceptance_joins_the_first() -> None:
    row: dict[str, Value] = {"finding": "default-password", "reason": "no login", "until": date(2027, 2, 1)}
    for text, service in ((MANY_WAYS, "s"), (BOATHOUSE, "slip-film"), (BOATHOUSE, "desk")):
        once = add_entry(text, ("services", service, "accepted"), row)
        twice = add_entry(once, ("services", service, "accepted"), {**row, "finding": "x"})
        thrice = add_entry(twice, ("services", service, "accepted"), {**row, "finding": "y"})
        found = parse_site(thrice.encode(), "s").site.services[service].accepted
        assert [one.finding for one in found][-3:] == ["default-password", "x", "y"]
        assert Counter(comments(thrice)) == Counter(comments(text))


def test_what_cannot_be_edited_safely_is_refused() -> None:
    with pytest.raises(CannotEdit):
        add_table("x = 1\nhosts = 3\n", ("hosts", "a"), {"address": "10.0.0.1"})


@given(
    st.recursive(
        st.text() | st.booleans() | st.integers(-99, 99), lambda v: st.lists(v) | st.dictionaries(st.text(), v)
    )
)
def test_literals_are_read_back(value: Any) -> None:
    assert read("x = " + literal(value))["x"] == value


KEYS = st.sampled_from(["mac", "address_from", "x y", "ready"])
EDITS = st.lists(
    st.tuples(
        st.sampled_from(["set", "unset", "tick", "add", "remove", "accept", "host"]),
        st.integers(0, 20),
        st.text(st.characters(exclude_categories=["Cs"]), max_size=6),
    ),
    max_size=8,
)


@settings(max_examples=60)
@given(st.sampled_from(list(TEXTS)), EDITS)
def test_any_sequence_of_edits_keeps_comments_and_all_unrelated_text(
    name: str, edits: list[tuple[str, int, str]]
) -> None:
    before = text = TEXTS[name]
    touched: set[tuple[Any, ...]] = set()
    for deed, number, word in edits:
        data = read(text)
        hosts, services = list(data.get("hosts", {})), list(data.get("services", {}))
        host, service = hosts[number % len(hosts)], services[number % len(services)]
        if deed == "set":
            text = set_key(text, ("hosts", host), "note", word)
        elif deed == "unset" and "address" in data["hosts"][host]:
            text = remove_key(text, ("hosts", host), "address")
        elif deed == "tick":
            text = set_key(text, ("hosts", host, "ready"), "updates", bool(number % 2))
        elif deed == "add" and f"new{word}" not in services:
            text = add_table(text, ("services", f"new{word}"), {"host": host, "port": 1})
        elif deed == "remove" and len(services) > 1:
            text = remove_table(text, ("services", service))
        elif deed == "accept":
            text = add_entry(
                text, ("services", service, "accepted"), {"finding": "f", "reason": word, "until": date(2027, 1, 1)}
            )
        elif deed == "host" and len(hosts) > 1:
            text = remove_table(text, ("hosts", host))
        touched |= {("hosts", host), ("services", service)}
    kept = Counter(comments(text))
    assert not Counter(comments(before)) - kept
    for block in unrelated(before, touched):
        assert block in text


def unrelated(text: str, touched: set[tuple[Any, ...]]) -> list[str]:
    """The lines of each table that no edit named, from its header to its last pair."""
    where = layout(text)
    out = []
    for header in where.headers:
        if header.path[:2] in touched:
            continue
        own = [pair.end for pair in where.pairs if pair.base == header.path and not pair.inline]
        out.append(text[header.start : max(own, default=header.end)])
    return out


def test_many_keys_at_once_are_what_one_after_the_other_would_be() -> None:
    rows: list[tuple[Path, str, Value]]
    rows = [(("services", key), "outside_port", number) for number, key in enumerate(("s", "t"), 7000)]
    once = add_keys(MANY_WAYS, [*rows, (("lines", "fibre"), "situation", "public")])
    again = MANY_WAYS
    for table, key, value in [*rows, (("lines", "fibre"), "situation", "public")]:
        again = set_key(again, table, key, value)
    assert once == again
