"""A router's page as a browser saved it: twenty structures, what cannot be read, hostile pages, the commands."""

from __future__ import annotations

import contextlib
import time
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hooper.errors import UsageError
from hooper.planning.against import compare_table
from hooper.planning.plan import make_plan
from hooper.planning.saved_page import is_page, read_page
from hooper.site.load import parse_site
from support.program import BOATHOUSE, hooper, valid
from support.saved_pages import KNOWN, PAGES, STATUS

PLAN = make_plan(parse_site(BOATHOUSE.encode(), "site.toml"), date(2026, 5, 1))


@pytest.mark.parametrize("name", PAGES)
def test_all_rules_are_read_whatever_the_page_is_made_of(name: str) -> None:
    found = read_page(PAGES[name], f"{name}.html")
    rules = {(row.transport, row.outside.first, row.target, row.inside.first) for row in found.rules}
    assert rules == KNOWN, (found.not_understood, found.rules)
    assert not found.not_understood
    states = {row.outside.first: row.enabled for row in found.rules}
    if name in ("headings", "fields in a table", "numbered fields", "data in a script"):
        assert states == {443: True, 10554: True, 51820: True, 13389: False}
    assert len(found.rules) == len(KNOWN)


def test_there_are_twenty() -> None:
    assert len(PAGES) == 20


def test_addresses_the_pool_reservations_and_what_is_odd() -> None:
    found = read_page(STATUS, "status.html")
    assert (found.wan, found.pool) == ("203.0.113.44", ("192.168.90.20", "192.168.90.199"))
    assert [(one.mac, one.address, one.name) for one in found.reservations] == [
        ("02:00:5e:90:00:02", "192.168.90.2", "club-router"),
    ]  # fmt: skip
    assert len(found.rules) == 1
    assert found.not_understood == ("table 3, row 2: 'http' is no port.",)


def test_a_page_without_anything_is_told() -> None:
    with pytest.raises(UsageError, match="nothing on this page looks like"):
        read_page(
            "<html><body><h1>Please log in</h1><form><input type=password name=pw></form></body></html>", "x.html"
        )
    assert is_page("\ufeff  <!doctype html>")
    assert not is_page("transport,outside port")


@given(st.text(max_size=400))
@settings(max_examples=60)
def test_any_text_is_a_page_or_is_refused(text: str) -> None:
    for page in (f"<{text}", f"<table><tr><th>Protocol<th>External port<th>Internal IP<tr>{text}</table>",
                 f"<script>var x = [{text}];</script>"):  # fmt: skip
        try:
            read_page(page, "x.html")
        except UsageError:
            continue


@pytest.mark.parametrize(
    "page",
    [
        "<div>" * 8_000,
        "<table>" * 4_000 + "<tr><td>1",
        "<script>var a = " + "[" * 100_000 + "</script>",
        "<script>" + "= {a: '" * 3_000 + "</script>",
        '<table><tr><td colspan="9999999" rowspan="9999999">x</table>' * 100,
        "<table>" + "<tr><td>TCP<td>443<td>10.44.7.30<td>443" * 3_000,
    ],
)
def test_hostile_pages_end_soon(page: str) -> None:
    started = time.process_time()
    with contextlib.suppress(UsageError):
        read_page(page, "x.html")
    assert time.process_time() - started < 10


# --- the commands


@pytest.fixture
def site(tmp_path: Path) -> Path:
    path = tmp_path / "site.toml"
    path.write_text(BOATHOUSE, encoding="utf-8")
    return path


def test_a_page_is_held_against_the_plan(site: Path, tmp_path: Path) -> None:
    page = tmp_path / "page.html"
    page.write_text(STATUS, encoding="utf-8")
    ran = hooper("plan", "--site", str(site), "--against", f"fibre-box={page}", "--json")
    document = valid("plan", ran.document)
    states = {row["service"]: row["state"] for row in document["against"]}
    assert (states["film-page"], states["hub-page"]) == ("same", "not-known")  # one row of it is not understood
    (understood,) = document["understood"]
    assert (understood["gateway"], understood["rules"], understood["wan_address"]) == ("fibre-box", 1, "203.0.113.44")
    assert understood["not_understood"] == ["table 3, row 2: 'http' is no port."]
    text = hooper("plan", "--site", str(site), "--against", f"fibre-box={page}").out
    assert "Understood from the page" in text
    assert "'http' is no port" in text


def test_a_page_tells_the_survey_the_wan_address(site: Path, tmp_path: Path) -> None:
    page = tmp_path / "page.html"
    page.write_text(STATUS, encoding="utf-8")
    state = ("--state", str(tmp_path / "state"))
    ran = hooper("survey", "--site", str(site), "--page", f"fibre-box={page}", *state, "--json", "--deadline", "1s")
    (box,) = [row for row in ran.document["gateways"] if row["gateway"] == "fibre-box"]
    assert (box["wan_address"], box["source"]) == ("203.0.113.44", "told")
    wrong = hooper("survey", "--site", str(site), "--page", "fibre-box=nothing.html", *state, "--json")
    assert wrong.code == 2


HEAD = "<tr><th>{head}<th>Protocol<th>External port<th>Internal IP<th>Internal port</tr>"
ROW = "<tr><td>{switch}<td>TCP<td>{port}<td>{address}<td>443</tr>"


def held(page: str) -> dict[str | None, tuple[str, str | None]]:
    """What comes of it for the rules of the inner router: state and what was found, by service."""
    read = read_page(f"<html><table>{page}</table></html>", "x.html")
    rows = compare_table(PLAN.forwards, list(read.rules), ["club-router"], "club-router", "x.html", read.may_hold)
    return {row.service: (row.state, row.found) for row in rows}


@pytest.mark.parametrize("head", ["Enabled", "Status", ""])
@pytest.mark.parametrize(
    ("switch", "state"),
    [
        ("<button role=switch aria-checked=true></button>", "same"),
        ("<button role=switch aria-checked=false></button>", "different"),
        ("<button role=switch></button>", "not-known"),
        ("<div role=switch aria-checked=mixed></div>", "not-known"),
        ("<button aria-pressed=true class=x></button>", "same"),
        ("<button aria-pressed=false></button>", "different"),
        ('<img src="img/status_green.png">', "not-known"),
        ('<img src="on.gif" alt="">', "not-known"),
        ('<span class="toggle toggle-on"></span>', "not-known"),
        ('<i class="icon-enabled"></i>', "not-known"),
        ("<svg class=switch><circle r=4></circle></svg>", "not-known"),
        ("<input type=checkbox name=active checked>", "same"),
        ("<input type=checkbox name=active>", "different"),
    ],
)
def test_a_switch_that_is_not_read_is_not_known(head: str, switch: str, state: str) -> None:
    if not head and state != "not-known":
        state = "not-known"  # of what it is the switch, nothing says
    found = held(HEAD.format(head=head) + ROW.format(switch=switch, port=443, address="10.44.7.30"))
    assert found["film-page"][0] == state
    assert ("not known whether it is switched on" in (found["film-page"][1] or "")) == (state == "not-known")


def test_pictures_for_editing_and_boxes_for_choosing_are_no_switches() -> None:
    for more in ('<img src="edit.png" alt="Edit">', "<input type=checkbox name=del_1>", '<a class="icon-trash"></a>'):
        found = held(HEAD.format(head="") + ROW.format(switch=more, port=443, address="10.44.7.30"))
        assert found["film-page"][0] == "same", more


@pytest.mark.parametrize(
    "row",
    [
        "<tr><td>films<td>TCP<td>https (443)<td>10.44.7.30<td>what?</tr>",  # understood to be a rule, and not read
        "<tr><td colspan=5>films: tcp 443 goes to the box 10.44.7.30</tr>",  # not understood to be one
        "<tr><td><div>443</div><div>10.44.7.30</div></tr>",
    ],
)
def test_a_row_that_is_not_read_makes_its_rule_not_known_and_never_missing(row: str) -> None:
    other = ROW.format(switch="", port=8443, address="10.44.7.50")
    assert held(HEAD.format(head="Name") + row + other)["film-page"][0] == "not-known"
    assert held(HEAD.format(head="Name") + other)["film-page"][0] == "missing"


@pytest.mark.parametrize(
    ("cells", "target", "ports"),
    [
        ("<td>TCP<td>443<td>10.44.7.<input value=30><td>443", "10.44.7.30", (443, 443)),
        ("<td>TCP<td>443<td><input value=10>.<input value=44>.<input value=7>.<input value=30><td>443", "10.44.7.30",
         (443, 443)),
        ("<td>TCP<td><input value=8000> - <input value=8010><td>10.44.7.30<td>8000", "10.44.7.30", (8000, 8010)),
        ("<td>TCP<td>from <input value=8000> to <input value=8010><td>10.44.7.30<td>8000", "10.44.7.30", (8000, 8010)),
    ],
)  # fmt: skip
def test_values_in_fields_beside_text_are_joined(cells: str, target: str, ports: tuple[int, int]) -> None:
    (row,) = read_page(f"<table>{HEAD.format(head='Name')}<tr><td>x{cells}</tr></table>", "x.html").rules
    assert (row.target, tuple(row.outside)) == (target, ports)
    assert row.enabled is True
