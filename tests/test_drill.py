"""The drill before a journey: what would fail before the return is found, and nobody is sent off without a proof."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.clock import Awake
from hooper.net import awake as clocks
from hooper.planning.lasting import MARGIN, ProvenOutside, Provisions, RuleEnds, lasting, may_go, needed
from hooper.site.load import parse_site
from support.kept import Kept
from support.program import BOATHOUSE, LabHere, Ran, town_here, valid

NOW = datetime(2026, 12, 1, 12, tzinfo=UTC)
BACK = date(2026, 12, 20)
LATE = NOW + timedelta(days=60)
MORE = """
[peers.cox-phone]
tunnel = "oars"
public_key = "SGVyb24gUXVheSByb3dpbmcgY2x1YiBib2F0aG91c2U="
address = "10.88.44.11"
until = 2027-05-01
[tunnels.oars]
service = "gate"
subnet = "10.88.44.0/24"
public_key = "SGVyb24gUXVheSByb3dpbmcgY2x1YiBib2F0aG91c2U="
"""
SITE = parse_site((BOATHOUSE + MORE).encode(), "site.toml").site
WHOLE = Provisions(
    NOW, {key: ProvenOutside("well", NOW) for key in needed(SITE)}, {"boathouse": LATE},
    (RuleEnds("film-page", "club-router", None),), True, {"cox-phone": "well"}, {"cox-phone": NOW},
    {"at-home": "Ida", "second-way": "the neighbour's key"},
)  # fmt: skip


def states(have: Provisions, site: Any = SITE, until: date = BACK) -> dict[tuple[str, str], str]:
    return {(row.kind, row.subject): row.state for row in lasting(site, until, have)}


def test_where_all_lasts_you_may_go() -> None:
    rows = lasting(SITE, BACK, WHOLE)
    assert not [row for row in rows if row.state == "wrong"]
    assert may_go(rows)
    assert all(row.command for row in rows if row.state == "wrong")


FAILS: dict[str, tuple[Callable[[Provisions], Provisions], tuple[str, str]]] = {
    "a computer that sleeps": (lambda have: replace(have, awake=Awake(9 * 86_400.0, 7 * 3600.0)), ("keeper", "sleep")),
    "a profile that has never come in": (lambda have: replace(have, came={}), ("peer", "cox-phone")),
    "a proof of yesterday": (
        lambda have: replace(have, proofs={**have.proofs, "film-page": ProvenOutside("well", NOW - timedelta(days=1))}),
        ("proof", "film-page"),
    ),
    "no proof": (
        lambda have: replace(have, proofs={k: v for k, v in have.proofs.items() if k != "desk"}), ("proof", "desk"),
    ),
    "it does not answer": (
        lambda have: replace(have, proofs={**have.proofs, "desk": ProvenOutside("wrong", NOW)}), ("proof", "desk"),
    ),
    "a certificate that ends": (
        lambda have: replace(have, certificates={"boathouse": NOW + timedelta(days=15)}), ("certificate", "boathouse"),
    ),
    "a certificate that ends a day after the return": (
        lambda have: replace(have, certificates={"boathouse": NOW + timedelta(days=20)}), ("certificate", "boathouse"),
    ),
    "no certificate": (lambda have: replace(have, certificates={"boathouse": None}), ("certificate", "boathouse")),
    "a lease that nobody renews": (
        lambda have: replace(have, keeper=False, rules=(RuleEnds("desk", "club-router", NOW + timedelta(days=7)),)),
        ("rule", "desk on club-router"),
    ),
    "a name that nobody updates": (
        lambda have: replace(have, keeper=False), ("name", "boathouse.heronquay.example"),
    ),
    "a profile that is old": (lambda have: replace(have, peers={"cox-phone": "wrong"}), ("peer", "cox-phone")),
}  # fmt: skip


@pytest.mark.parametrize("name", FAILS)
def test_what_would_fail_before_is_found(name: str) -> None:
    change, (kind, subject) = FAILS[name]
    rows = lasting(SITE, BACK, change(WHOLE))
    (row,) = [one for one in rows if (one.kind, one.subject) == (kind, subject)]
    assert row.state == "wrong"
    assert row.command
    assert str(row.detail)
    assert not may_go(rows)


@pytest.mark.parametrize(("old", "new", "row"), [
    ("until = 2029-10-31", "until = 2026-12-10", ("risk", "slip-film clear-text-open")),
    ("until = 2027-05-01", "until = 2026-12-21", ("peer", "cox-phone")),
    ("default_password_changed = true, second_factor = true", "autostart = false", ("device", "film-box")),
])  # fmt: skip
def test_what_the_site_file_ends_is_found(old: str, new: str, row: tuple[str, str]) -> None:
    site = parse_site((BOATHOUSE + MORE).replace(old, new, 1).encode(), "site.toml").site
    assert states(WHOLE, site)[row] == "wrong"


def test_a_provider_that_drops_idle_names_is_found() -> None:
    text = BOATHOUSE.replace('kind = "http"', 'kind = "http"\nrefresh = "7d"').replace(
        'address = "dynamic"', 'address = "203.0.113.44"'
    )
    site = parse_site(text.encode(), "site.toml").site
    name = ("name", "boathouse.heronquay.example")
    assert states(replace(WHOLE, keeper=False), site)[name] == "wrong"
    assert states(replace(WHOLE, keeper=False), site, NOW.date() + timedelta(days=5))[name] == "ok"
    assert states(WHOLE, site)[name] == "ok"


@given(st.data())
def test_nobody_is_sent_off_without_a_proof_of_the_day(data: st.DataObject) -> None:
    """Whatever is known, and whenever they come back."""
    moments = st.none() | st.integers(-800, 2400).map(lambda hours: NOW + timedelta(hours=hours))
    levels = st.sampled_from(["well", "wrong", "unknown"])
    proofs = data.draw(st.dictionaries(st.sampled_from(needed(SITE)), st.builds(ProvenOutside, levels, moments)))
    until = data.draw(st.dates(NOW.date(), date(2027, 2, 1)))
    have = replace(
        WHOLE, proofs=proofs, keeper=data.draw(st.booleans()), certificates={"boathouse": data.draw(moments)},
        rules=tuple(RuleEnds("desk", "club-router", data.draw(moments)) for _ in range(2)),
    )  # fmt: skip
    rows = lasting(SITE, until, have)
    if not may_go(rows):
        return
    today = [
        one for one in proofs.values() if one.level == "well" and one.at is not None and one.at.date() == NOW.date()
    ]
    assert today
    unproven = set(needed(SITE)) - {key for key, one in proofs.items() if one in today}
    assert unproven <= {"gate"}, "only what no probe can tell"
    ends = have.certificates["boathouse"]
    assert ends is not None
    assert ends.date() >= until + MARGIN
    assert have.keeper or all(one.until is None or one.until.date() >= until + MARGIN for one in have.rules)


def test_sleep_is_what_one_clock_counts_and_the_other_does_not(monkeypatch: pytest.MonkeyPatch) -> None:
    own = clocks.awake()
    assert own is None or own.up_s > own.slept_s >= 0
    told = {time.CLOCK_BOOTTIME: 100_000.0, time.CLOCK_MONOTONIC: 64_000.0}
    monkeypatch.setattr(time, "clock_gettime", told.__getitem__)
    assert clocks.awake() == (100_000.0, 36_000.0)


@pytest.mark.parametrize(("awake", "state"), [
    (Awake(7_200, 0), "open"), (Awake(90_000, 0), "ok"), (Awake(90_000, 30), "ok"), (Awake(7_200, 3_000), "wrong"),
    (None, None),
])  # fmt: skip
def test_whether_the_keepers_computer_sleeps(awake: Awake | None, state: str | None) -> None:
    assert states(replace(WHOLE, awake=awake)).get(("keeper", "sleep")) == state
    assert ("keeper", "sleep") not in states(replace(WHOLE, awake=awake, keeper=False)), "nothing hangs on it"


def test_accounts_are_asked_for_where_a_name_or_a_machine_hangs_on_them() -> None:
    assert states(WHOLE)["people", "accounts"] == "open"
    assert states(replace(WHOLE, told={"accounts": "until March"}))["people", "accounts"] == "ok"
    alone = parse_site((BOATHOUSE[: BOATHOUSE.index("[names.")]).encode(), "site.toml").site
    assert ("people", "accounts") not in states(WHOLE, alone)


# --- in the town


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabHere]:
    with town_here(tmp_path_factory.mktemp("journey")) as lab:
        lab.ask("type", sheets=lab.run("worksheet", "--json").document["sheets"])
        yield lab


def drill(town: LabHere, state: Path, *words: str) -> Ran:
    return town.run("drill", *words, "--state", str(state))


def test_it_proves_what_is_needed_and_says_what_is_left(town: LabHere, tmp_path: Path) -> None:
    first = drill(town, tmp_path, "--until", "2027-01-10", "--json")
    rows = {(row["kind"], row["subject"]): row for row in valid("drill", first.document)["rows"]}
    assert rows["proof", "film-page"]["state"] == "ok", "it looked from outside"
    assert (first.code, first.document["go"]) == (1, False)
    assert rows["name", "boathouse.heronquay.example"]["state"] == "wrong"
    assert town.run("cert", "order", "--state", str(tmp_path)).code == 0
    assert town.run("lab", "install", "boathouse", "hub-page", "--state", str(tmp_path)).code == 0
    shown = drill(town, tmp_path, "--until", "2027-01-10", "--at-home", "Ida", "--second-way", "the phone's profile")
    assert "1 thing would fail before 2027-01-10" in shown.out
    assert "hooper keep" in shown.out
    fixed = tmp_path / "site.toml"
    for name in ("town-ca.pem", "secrets"):
        (tmp_path / name).symlink_to(town.folder / name)
    fixed.write_text((town.folder / "site.toml").read_text().replace('address = "dynamic"', 'address = "203.0.113.44"'))
    ready = drill(town, tmp_path, "--until", "2027-01-10", "--site", str(fixed))
    assert (ready.code, ready.out.startswith("You may go.")) == (0, True), ready.out + ready.err
    assert "Ida" in ready.out, "who is at home is remembered"


def test_a_proof_of_an_earlier_day_is_none(town: LabHere, tmp_path: Path) -> None:
    assert drill(town, tmp_path, "--until", "2027-01-10").code == 1
    town.ask("clock", advance_s=26 * 3600)
    try:
        ran = drill(town, tmp_path, "--until", "2027-01-10", "--from", "today", "--json")
        again = drill(town, tmp_path, "--until", "2027-01-10", "--json")
    finally:
        town.ask("clock", advance_s=-26 * 3600)
    old = {row["subject"]: row["state"] for row in ran.document["rows"] if row["kind"] == "proof"}
    new = {row["subject"]: row["state"] for row in again.document["rows"] if row["kind"] == "proof"}
    assert (old["film-page"], new["film-page"]) == ("wrong", "ok")


def test_the_page_is_for_both_who_go_and_who_stay(town: LabHere, tmp_path: Path) -> None:
    out = tmp_path / "journey.html"
    ran = drill(town, tmp_path, "--until", "2027-01-10", "--html", "--out", str(out), "--at-home", "Ida <&>")
    assert ran.code == 1
    page = out.read_text()
    assert "To take along" in page
    assert "For who stays" in page
    assert "https://boathouse.heronquay.example" in page
    assert "Ida &lt;&amp;&gt;" in page
    assert page.count("data:image/svg+xml;base64,") >= 3
    assert not re.search(r"(?:src|href)=\"https?:", page)
    masked = drill(town, tmp_path, "--until", "2027-01-10", "--html", "--mask")
    assert "boathouse.heronquay.example" not in masked.out


def test_what_makes_no_sense_is_refused(town: LabHere, tmp_path: Path) -> None:
    for words in ((), ("--until", "soon"), ("--until", "2020-01-01"), ("--until", "2027-01-10", "--from", "here"),
                  ("--until", "2027-01-10", "--out", "x"), ("--until", "2027-01-10", "--from", "usb9:x")):  # fmt: skip
        ran = drill(town, tmp_path, *words)
        assert ran.code == 2, (words, ran)


def test_a_computer_that_sleeps_is_found_where_the_keeper_runs(town: LabHere, tmp_path: Path) -> None:
    state = tmp_path / "state"
    keeper = Kept([town.folder / "site.toml"], state, env={"HOOPER_LAB": town.env["HOOPER_LAB"]})
    slept = ("lab", "clock", "--advance", "8h", "--asleep")
    try:
        keeper.until(lambda line: True)
        assert town.run(*slept).code == 0
        ran = drill(town, state, "--until", "2027-01-10", "--accounts", "paid until March", "--json")
    finally:
        keeper.close()
        town.ask("clock", advance_s=-8 * 3600)
    rows = {(row["kind"], row["subject"]): row for row in valid("drill", ran.document)["rows"]}
    assert rows["keeper", "sleep"]["state"] == "wrong", rows
    assert "asleep for 8h" in rows["keeper", "sleep"]["detail"]
    assert rows["people", "accounts"]["state"] == "ok"
    assert (ran.code, ran.document["go"]) == (1, False)
    assert town.run("lab", "clock", "--asleep").code == 2
