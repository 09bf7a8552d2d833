"""A router's page as a browser saved it: twenty structures, what cannot be read, hostile pages, the commands."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hooper.errors import UsageError
from hooper.planning.saved_page import is_page, read_page
from support.program import BOATHOUSE, hooper, valid
from support.saved_pages import KNOWN, PAGES, STATUS


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
    assert (states["film-page"], states["hub-page"]) == ("same", "missing")
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
