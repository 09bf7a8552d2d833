"""A look from elsewhere by one file, its result brought home; looking until it answers."""

from __future__ import annotations

import json
import random
import stat
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from fuzz.damage import damaged

from hooper.errors import HooperError
from hooper.jsonform import plain, read_json
from hooper.usecases.prove.visit import Brought, packed_site, proof_of, read_pack
from support.program import Lab, Ran, valid

LEAVES = {"line": None, "family": "ipv4"}  # of a place elsewhere


@pytest.fixture
def town(lab: Lab, tmp_path: Path) -> Lab:
    lab.as_built()
    return Lab({**lab.env, "STATE": str(tmp_path / "state")}, lab.folder)


def home(town: Lab, *arguments: str) -> Ran:
    return town.run(*arguments, "--state", town.env["STATE"], "--json")


def away(town: Lab, *arguments: str) -> Ran:
    """On the laptop elsewhere, without a site file."""
    town.run("lab", "plug", "away")
    try:
        return town.run(*arguments, "--yes", "--json", HOOPER_SITE="")
    finally:
        town.run("lab", "plug", "home")


def packed(town: Lab, tmp_path: Path, *services: str) -> Path:
    file = tmp_path / "visit.json"
    ran = home(town, "visit", "pack", *services, "--out", str(file))
    assert valid("pack", ran.document)["file"] == str(file)
    return file


def test_a_visit_is_proof_with_its_place_and_time(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page", "hub-page", "slip-page")
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    ran = away(town, "visit", "run", str(file), "--place", "the café at the harbour")
    document = valid("check", ran.document)
    assert (ran.code, document["from"]) == (
        0, {"kind": "visit", "name": "the café at the harbour", "proves_outside": True, **LEAVES},
    )  # fmt: skip
    told = {row["service"]: (row["verdict"], row["ok"]) for row in document["results"]}
    assert told == {"film-page": ("answered", True), "hub-page": ("answered", True), "slip-page": ("silent", True)}
    assert "same certificate as inside on" in document["results"][0]["detail"] + document["results"][2]["detail"]
    result = tmp_path / "visit-result.json"
    town.run("lab", "clock", "--advance", "2m")
    assert (
        valid("check", home(town, "visit", "take", str(result)).document)["from"]["name"] == "the café at the harbour"
    )
    why = town.run("why", "film-page", "--state", town.env["STATE"], "--json").document
    assert (why["ok"], "seen 2 min ago" in why["steps"][-1]["evidence"][0]) == (True, True), why["steps"][-1]
    status = town.run("status", "--state", town.env["STATE"], "--json").document
    (row,) = [one for one in status["rows"] if (one["kind"], one["subject"]) == ("service", "film-page")]
    ago = datetime.fromisoformat(status["at"]) - datetime.fromisoformat(row["seen"])
    assert (row["state"], timedelta(minutes=2) <= ago < timedelta(minutes=4)) == ("answers", True), row
    again = home(town, "visit", "take", str(result))
    assert (again.code, again.document["errors"][0]["code"]) == (5, "visit-not-ours")


def test_a_rule_to_another_host_is_told_from_elsewhere_too(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    town.run("lab", "break", "forward-wrong-host", "film-page")
    ran = away(town, "visit", "run", str(file))
    assert (ran.code, ran.document["results"][0]["verdict"]) == (1, "mismatched")


def test_what_was_changed_on_the_way_is_not_kept(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    town.run("lab", "break", "provider-blocks-port", "film-page")
    away(town, "visit", "run", str(file))
    result = tmp_path / "visit-result.json"
    changed = json.loads(result.read_text())
    changed["results"][0] |= {"verdict": "answered", "ok": True}
    result.write_text(json.dumps(changed))
    ran = home(town, "visit", "take", str(result))
    assert (ran.code, ran.document["errors"][0]["code"]) == (5, "visit-not-ours")


def test_a_pack_ends_and_proves_nothing_at_home(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    here = town.run("visit", "run", str(file), "--yes", "--json", HOOPER_SITE="")
    assert {row["verdict"] for row in here.document["results"]} == {"unproven"}
    assert (here.code, here.document["from"]["proves_outside"]) == (1, False)
    old = json.loads(file.read_text()) | {"expires": "2020-01-01T00:00:00Z"}
    file.write_text(json.dumps(old))
    ended = away(town, "visit", "run", str(file))
    assert (ended.code, ended.document["errors"][0]["code"]) == (5, "visit-expired")


def test_a_pack_holds_no_secret_of_the_site(town: Lab, tmp_path: Path) -> None:
    text = packed(town, tmp_path).read_text()
    secrets = [path.read_text().strip() for path in (town.folder / "secrets").iterdir()]
    assert secrets
    assert not [secret for secret in secrets if secret in text]
    assert "club-names" not in text  # who keeps the names is nobody's business elsewhere


@pytest.mark.parametrize(
    "words",
    [
        ("visit", "pack"),
        ("visit", "run", "x.json", "film-page"),
        ("visit", "take", "x.json", "--from", "here"),
        ("visit", "tell", "film-page"),
        ("visit", "tell", "film-page", "--how", " "),
        ("check", "--every", "3s"),
        ("check", "--for", "3s"),
        ("check", "--from", "hotspot", "--every", "3s"),
        ("check", "--from", "hotspot", "--until", "answered"),
        ("check", "--until", "mended"),
        ("arrival", "film-page", "hub-page"),
        ("arrival", "--from", "here"),
        ("visit", "take", "no-such.json"),
    ],
)
def test_what_does_not_fit_together_is_said(town: Lab, words: tuple[str, ...]) -> None:
    ran = home(town, *words)
    assert ran.code in ((6,) if words[-1] == "no-such.json" else (2,)), ran
    assert ran.document["errors"][0]["remedy"]


def test_a_damaged_pack_is_read_or_refused(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    for data in damaged([file.read_bytes()], 300, 19):
        file.write_bytes(data)
        try:
            packed_site(read_pack(file), "visit.json")
        except HooperError as exc:
            assert exc.exit_code in (2, 6)


# --- until it answers


def turns(ran: Ran) -> list[dict[str, Any]]:
    return [valid("until", json.loads(line)) for line in ran.out.splitlines()]


def test_until_all_is_well_a_line_for_each_turn(town: Lab) -> None:
    """The person enters the missing rule while it is looked."""
    town.run("lab", "break", "forward-missing-inner", "film-page")
    ran = home(
        town, "check", "film-page", "--from", "interface:usb0", "--until", "answered", "--for", "3s", "--every", "1s"
    )
    assert ran.code == 1
    assert [(line["event"], line["waiting"]) for line in turns(ran)] == [("seen", 1), ("ended", 1)]
    assert turns(ran)[-1]["rounds"] >= 2
    town.run("lab", "mend")
    well = home(town, "check", "film-page", "hub-page", "--from", "interface:usb0", "--until", "answered")
    assert well.code == 0
    assert [line["event"] for line in turns(well)] == ["seen", "seen", "ended"]


# --- what strangers make of it


def test_nobody_is_asked_before_a_person_agrees(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    before = len(town.ask("ledger")["entries"])
    ran = town.run("visit", "run", str(file), "--json", HOOPER_SITE="")
    assert (ran.code, ran.document["errors"][0]["code"]) == (5, "not-agreed")
    for words in (ran.document["errors"][0]["message"], town.run("visit", "run", str(file), HOOPER_SITE="").err):
        assert "boathouse.heronquay.example, 203.0.113.44" in words
        assert "TCP 443" in words
    assert not [entry for entry in town.ask("ledger")["entries"][before:] if "443" in str(entry)]


@pytest.mark.parametrize(
    ("change", "code"),
    [
        (lambda pack: pack["public"].update(fibre=["192.168.1.1", pack["made"]]), 5),  # the visitor's own router
        (lambda pack: pack["public"].update(fibre=["127.0.0.1", pack["made"]]), 5),
        (lambda pack: pack["site"]["services"]["film-page"].update(port="1-2000"), None),
        (lambda pack: _services(pack, 2000), 5),
        (lambda pack: pack["site"]["names"].update({f"n{n}.example": {"line": "fibre"} for n in range(99)}), None),
        (lambda pack: pack.update(seal="no seal"), 2),
        (lambda pack: pack.update(services=["nobody"]), 2),
        (lambda pack: pack["public"].update(moon=["203.0.113.9", pack["made"]]), 2),
        (lambda pack: pack["public"].update(fibre=["nan", pack["made"]]), 2),
        (lambda pack: pack["site"].update(services=[]), 2),
        (lambda pack: pack["site"]["services"]["film-page"].update(host="nobody"), 2),
        (lambda pack: pack.update(expires="9999-12-31T23:59:59Z"), None),
        (lambda pack: pack.update(made="0001-01-01T00:00:00Z"), None),
        (lambda pack: pack["site"]["measure"].update(stun=[f"192.0.2.{n}:3478" for n in range(1, 99)]), 5),
    ],
)
def test_a_forged_pack_makes_nobody_scan_others(town: Lab, tmp_path: Path, change: Any, code: int | None) -> None:
    file = packed(town, tmp_path, "film-page")
    pack = json.loads(file.read_text())
    change(pack)
    file.write_text(json.dumps(pack))
    before = len(town.ask("ledger")["entries"])
    ran = away(town, "visit", "run", str(file), "--deadline", "2s")
    assert ran.code == code if code is not None else ran.code in (0, 1, 2, 4, 5), ran.err
    after = town.ask("ledger")["entries"][before:]
    assert not [entry for entry in after if "192.168.1.1" in str(entry) or "127.0.0.1" in str(entry)]
    assert len(after) < 150


def _services(pack: dict[str, Any], count: int) -> None:
    more = {
        f"s{n}": {"host": "film-box", "transport": "tcp", "port": 2000 + n, "reach": "public"} for n in range(count)
    }
    pack["site"]["services"] |= more
    pack["services"] = list(more)


@pytest.mark.parametrize(
    "change",
    [
        {"verdict": "silent"},  # and called well
        {"verdict": "unproven"},
        {"expected": "unreachable"},
        {"verdict": "connected"},
        {"port": 70000},
        {"problems": ["certificate-expired"]},
        {"verdict": "splendid"},
        {"ok": "maybe"},
        {"service": "x" * 5000},
        {"evidence": []},
    ],
)
def test_a_result_is_held_against_the_plan_though_its_seal_fits(
    town: Lab, tmp_path: Path, change: dict[str, Any]
) -> None:
    """Whoever has the pack has its seal; what cannot have been seen of this site is not kept all the same."""
    file = packed(town, tmp_path, "film-page")
    away(town, "visit", "run", str(file))
    path = tmp_path / "visit-result.json"
    brought, seal = read_json(Brought, path.read_bytes()), json.loads(file.read_text())["seal"]
    forged = replace(brought, results=({**brought.results[0], **change},))
    forged = replace(forged, proof=proof_of(forged, seal))
    path.write_text(json.dumps(plain(forged)))
    ran = home(town, "visit", "take", str(path))
    if "service" in change:
        assert ran.code in (0, 1)
        assert not ran.document["results"]
    else:
        assert ran.code in (2, 5), ran
    path.write_text(json.dumps(plain(replace(brought, at="2020-01-01T00:00:00Z"))))
    assert home(town, "visit", "take", str(path)).code == 5


def test_any_change_of_a_pack_or_a_result_ends_in_words(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    away(town, "visit", "run", str(file))
    result = tmp_path / "visit-result.json"
    whole, told = json.loads(file.read_text()), json.loads(result.read_text())
    dice = random.Random(31)
    for _ in range(60):
        file.write_text(json.dumps(twisted(whole, dice)))
        ran = town.run("visit", "run", str(file), "--deadline", "1s", "--json", HOOPER_SITE="")
        assert ran.code in (2, 5, 6), ran.err
        result.write_text(json.dumps(twisted(told, dice)))
        assert home(town, "visit", "take", str(result)).code in (0, 1, 2, 5), ran.err


def test_a_proof_in_other_letters_is_none(town: Lab, tmp_path: Path) -> None:
    away(town, "visit", "run", str(packed(town, tmp_path, "film-page")))
    result = tmp_path / "visit-result.json"
    result.write_text(json.dumps({**json.loads(result.read_text()), "proof": "é" * 64}))
    assert home(town, "visit", "take", str(result)).code == 5


STRANGE: tuple[Any, ...] = (None, "", "nan", -1, 2**70, 1.5, [], {}, True, "\ud800", "x" * 3000, ["a"], {"a": 1})


def twisted(value: Any, dice: random.Random) -> Any:
    """One value in it is another."""
    if isinstance(value, dict) and value and dice.random() < 0.9:
        key = dice.choice(list(value))
        return {**value, key: twisted(value[key], dice)}
    if isinstance(value, list) and value and dice.random() < 0.9:
        number = dice.randrange(len(value))
        return [*value[:number], twisted(value[number], dice), *value[number + 1 :]]
    return dice.choice(STRANGE)


def test_a_place_in_a_strangers_words_is_no_part_of_a_command(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    town.run("lab", "break", "provider-blocks-port", "film-page")
    away(town, "visit", "run", str(file), "--place", "the train; touch pwned")
    ran = town.run("visit", "take", str(tmp_path / "visit-result.json"), "--state", town.env["STATE"])
    status = town.run("status", "--state", town.env["STATE"])
    commands = [line for text in (ran.out, ran.err, status.out) for line in text.splitlines() if "hooper " in line]
    assert any("why film-page" in line for line in commands)
    assert not [line for line in commands if "touch" in line]
