"""Reading the site file: what is right is understood, each mistake is named with its place."""

from __future__ import annotations

from typing import Any, get_args, get_type_hints

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import EXIT_SITE_FILE, HooperError, flatten
from hooper.ports import Ports
from hooper.site.fields import Key, Keys
from hooper.site.load import SiteFile, parse_site
from hooper.site.model import Site
from hooper.site.pointers import POINTERS
from hooper.site.table import Table
from hooper.site.tunnel_fields import Into
from support.program import BOATHOUSE
from support.sites import ONE_BOX, site


def mistakes(data: str | bytes) -> list[tuple[int | None, int | None, str]]:
    """Line, column and message of each mistake, all with the exit code of a wrong site file."""
    with pytest.raises(HooperError) as caught:
        parse_site(data.encode() if isinstance(data, str) else data, "site.toml")
    assert caught.value.exit_code == EXIT_SITE_FILE
    found = flatten(caught.value)
    assert all(error.where is not None and error.remedy for error in found)
    return [(e.where.line, e.where.column, e.message) for e in found if e.where]


def one(data: str | bytes) -> tuple[int | None, int | None, str]:
    found = mistakes(data)
    assert len(found) == 1, found
    return found[0]


def test_each_key_that_names_another_entry_is_in_the_list_of_pointers() -> None:
    """What is left out there would be checked, renamed and removed by nobody."""

    def holds(annotation: Any) -> bool:
        return annotation in (Key, Keys, Into) or any(map(holds, get_args(annotation)))

    found = {("site", "here")}
    for table, entries in get_type_hints(Site, include_extras=True).items():
        entry = get_args(entries)[-1] if get_args(entries) else None
        if isinstance(entry, type) and issubclass(entry, Table):
            hints = get_type_hints(entry, include_extras=True)
            found |= {(table, key) for key, annotation in hints.items() if holds(annotation)}
    by_words = {("names", "updated_by"), ("certificates", "authority"), ("certificates", "names"), ("services", "name")}
    assert {(one.table, one.key) for one in POINTERS} == found | by_words


def test_the_boathouse_is_understood() -> None:
    file = site(BOATHOUSE)
    assert len(file.site.hosts) == 7
    assert len(file.site.services) == 11
    assert str(file.site.hosts["recorder"].address) == "10.44.7.22"
    assert file.padded == (("hosts.recorder.address", "010.044.007.022", "10.44.7.22"),)
    assert file.site.services["film-page"].used_ports == Ports(443, 443)


def test_a_byte_order_mark_and_windows_line_ends_change_nothing() -> None:
    windows = b"\xef\xbb\xbf" + BOATHOUSE.replace("\n", "\r\n").encode()
    assert parse_site(windows, "site.toml").site == site(BOATHOUSE).site
    line, column, _ = one(b"\xef\xbb\xbfversion = 1\r\n[hosts.a]\r\naddress = 5\r\n")
    assert (line, column) == (3, 11)


@pytest.mark.parametrize(
    ("text", "line", "column", "words"),
    [
        ("version = \n", 1, 11, "not TOML"),
        ("version = 1\n[hots.a]\n", 2, 2, "did you mean 'hosts'?"),
        (ONE_BOX + "[hosts.x]\naddress = '10.9.9.9'\n", 11, 11, "in no network"),
        (ONE_BOX.replace('line = "fibre"', 'behind = "bx"\nwan = "10.1.1.2"'), 5, 10, "no gateway 'bx'"),
        ("version = 1\n[lines.a]\n[lines.a]\n", 3, 9, "[lines.a] stands here a second time"),
        ("version = 1\nversion = 1\n", 2, 12, "second time"),
        (ONE_BOX + "[services.s]\nhost='hub'\nport = 70000\n", 12, 8, "ports go from 1 to 65535"),
        (ONE_BOX + "[services.s]\nhost='hub'\nport = '443'\n", 12, 8, "443 without the quotes"),
        (ONE_BOX + "[services.s]\nhost='hub'\nport = '20-10'\n", 12, 8, "backwards"),
        (ONE_BOX + "[services.s]\nhost='hub'\nport = true\n", 12, 8, "a port is a number"),
        (ONE_BOX.replace("10.44.7.50", "10.44.7.500"), 9, 11, "is not an IPv4 address"),
        ("version = 1\nhosts = 5\n", 2, 9, "a table"),
        ("version = 99\n", 1, 11, "version 1, not 99"),
        ("", 1, 1, "empty"),
        (" \n\t\n", 1, 1, "empty"),
        ("version = 1\nx = " + "[" * 20_000, 2, 69, "nested"),
        ("version = 1\n" + "a." * 20_000 + "b = 1", 2, 1, "nested"),
        ("version = 1\nx = " + "9" * 9000, 1, 1, "too long"),
        (ONE_BOX + "[services.s]\nhost='hub'\n", 10, 1, "has no usual port"),
        (ONE_BOX + "[services.s]\nhost='huub'\nport=1\n", 11, 6, "no host 'huub'"),
        (ONE_BOX + "[services.s]\nhost='hub'\nspeaks='https'\noutside_port='1-2'\n", 13, 14, "differ in length"),
        (ONE_BOX.replace("/24", ""), 6, 7, "lacks the length of the prefix"),
        (
            ONE_BOX.replace("10.44.7.100-", "10.44.8.100-").replace("7.199", "8.199"),
            7,
            8,
            "not in the gateway's network",
        ),
        (ONE_BOX + "[names.'home.example.net']\nline='mobile'\n", 11, 6, "no line 'mobile'"),
        (ONE_BOX + "[updaters.u]\nkind='http'\ntoken='hunter2'\n", 12, 7, "never in the open"),
        (ONE_BOX + "[gateways.router]\n", 10, 11, "reserved word"),
    ],
)
def test_a_mistake_is_named_with_its_place(text: str, line: int, column: int, words: str) -> None:
    found = mistakes(text)
    assert any((a, b) == (line, column) and words in message for a, b, message in found), found
    assert "hunter2" not in str(found)


def test_bytes_that_are_no_text() -> None:
    assert one(b"version = 1\n# caf\xe9\n")[:2] == (2, 6)
    assert "U+0000" in one(b"version = 1\n\0")[2]


def test_all_mistakes_are_told_at_once_in_the_order_of_the_file() -> None:
    text = "version = 1\n[hosts.a]\naddress = '1.2.3'\nadress = 'x'\n[services.b]\nhost = 5\nreach = 'publc'\n"
    found = mistakes(text)
    assert [line for line, _, _ in found] == [3, 4, 6, 7]
    assert "did you mean 'address'" in found[1][2]
    assert "did you mean 'public'" in found[3][2]


def test_a_loop_in_the_chain() -> None:
    text = """version = 1
[gateways.a]
behind = "b"
wan = "10.2.0.2"
lan = "10.1.0.1/24"
[gateways.b]
behind = "a"
wan = "10.1.0.2"
lan = "10.2.0.1/24"
"""
    found = mistakes(text)
    assert found[0][:2] == (3, 10)
    assert "a behind b behind a" in found[0][2]


def test_two_equal_networks_need_a_word_more() -> None:
    twice = """version = 1
[lines.l]
[gateways.outer]
line = "l"
lan = "192.168.1.1/24"
[gateways.inner]
behind = "outer"
wan = "192.168.1.2"
lan = "192.168.1.1/24"
[hosts.h]
address = "192.168.1.9"
"""
    assert "fits the networks of outer and inner" in one(twice)[2]
    assert site(twice + 'behind = "inner"\n').site.hosts["h"].behind == "inner"


@pytest.mark.parametrize("written", ["02:00:5E:44:07:41", "02-00-5e-44-07-41", "0200.5e44.0741", "02005e440741"])
def test_all_spellings_of_a_mac(written: str) -> None:
    assert site(ONE_BOX + f"mac = '{written}'\n").site.hosts["hub"].mac == "02:00:5e:44:07:41"


@given(st.binary(max_size=200))
def test_any_bytes_give_a_site_or_our_own_error(data: bytes) -> None:
    try:
        assert isinstance(parse_site(data, "x"), SiteFile)
    except HooperError as exc:
        assert exc.exit_code == EXIT_SITE_FILE


@given(st.integers(0, len(BOATHOUSE)), st.text(max_size=5), st.integers(0, 8))
def test_a_damaged_boathouse_gives_a_site_or_our_own_error(at: int, patch: str, cut: int) -> None:
    try:
        parse_site((BOATHOUSE[:at] + patch + BOATHOUSE[at + cut :]).encode("utf-8", "surrogatepass"), "x")
    except HooperError as exc:
        assert exc.exit_code == EXIT_SITE_FILE
        assert all(error.where and error.where.line for error in flatten(exc))
