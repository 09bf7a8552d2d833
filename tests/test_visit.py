"""A look from elsewhere by one file, its result brought home; looking until it answers."""

from __future__ import annotations

import json
import stat
from pathlib import Path
from typing import Any

import pytest
from fuzz.damage import damaged

from hooper.errors import HooperError
from hooper.usecases.visit import packed_site, read_pack
from support.program import Lab, Ran, valid


@pytest.fixture
def town(lab: Lab, tmp_path: Path) -> Lab:
    lab.as_built()
    return Lab({**lab.env, "STATE": str(tmp_path / "state")}, lab.folder)


def home(town: Lab, *arguments: str) -> Ran:
    return town.run("check", *arguments, "--state", town.env["STATE"], "--json")


def away(town: Lab, *arguments: str) -> Ran:
    """On the laptop elsewhere, without a site file."""
    town.run("lab", "plug", "away")
    try:
        return town.run("check", *arguments, "--json", HOOPER_SITE="")
    finally:
        town.run("lab", "plug", "home")


def packed(town: Lab, tmp_path: Path, *services: str) -> Path:
    file = tmp_path / "visit.json"
    ran = home(town, *services, "--pack", str(file))
    assert valid("pack", ran.document)["file"] == str(file)
    return file


def test_a_visit_is_proof_with_its_place_and_time(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page", "hub-page", "slip-page")
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    ran = away(town, "--visit", str(file), "--place", "the café at the harbour")
    document = valid("check", ran.document)
    assert (ran.code, document["from"]) == (
        0, {"kind": "visit", "name": "the café at the harbour", "proves_outside": True},
    )  # fmt: skip
    told = {row["service"]: (row["verdict"], row["ok"]) for row in document["results"]}
    assert told == {"film-page": ("answered", True), "hub-page": ("answered", True), "slip-page": ("silent", True)}
    assert "same certificate as inside on" in document["results"][0]["detail"] + document["results"][2]["detail"]
    result = tmp_path / "visit-result.json"
    town.run("lab", "clock", "--advance", "2m")
    assert valid("check", home(town, "--brought", str(result)).document)["from"]["name"] == "the café at the harbour"
    why = town.run("why", "film-page", "--state", town.env["STATE"], "--json").document
    assert (why["ok"], "seen 2 min ago" in why["steps"][-1]["evidence"][0]) == (True, True), why["steps"][-1]
    again = home(town, "--brought", str(result))
    assert (again.code, again.document["errors"][0]["code"]) == (5, "visit-not-ours")


def test_a_rule_to_another_host_is_told_from_elsewhere_too(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    town.run("lab", "break", "forward-wrong-host", "film-page")
    ran = away(town, "--visit", str(file))
    assert (ran.code, ran.document["results"][0]["verdict"]) == (1, "mismatched")


def test_what_was_changed_on_the_way_is_not_kept(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    town.run("lab", "break", "provider-blocks-port", "film-page")
    away(town, "--visit", str(file))
    result = tmp_path / "visit-result.json"
    changed = json.loads(result.read_text())
    changed["results"][0] |= {"verdict": "answered", "ok": True}
    result.write_text(json.dumps(changed))
    ran = home(town, "--brought", str(result))
    assert (ran.code, ran.document["errors"][0]["code"]) == (5, "visit-not-ours")


def test_a_pack_ends_and_proves_nothing_at_home(town: Lab, tmp_path: Path) -> None:
    file = packed(town, tmp_path, "film-page")
    here = town.run("check", "--visit", str(file), "--json", HOOPER_SITE="")
    assert {row["verdict"] for row in here.document["results"]} == {"unproven"}
    assert (here.code, here.document["from"]["proves_outside"]) == (1, False)
    old = json.loads(file.read_text()) | {"expires": "2020-01-01T00:00:00Z"}
    file.write_text(json.dumps(old))
    ended = away(town, "--visit", str(file))
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
        ("--pack", "x.json", "--visit", "x.json"),
        ("--visit", "x.json", "film-page"),
        ("--brought", "x.json", "--from", "here"),
        ("--place", "somewhere"),
        ("--every", "3s"),
        ("--for", "3s"),
        ("--out", "x.json"),
        ("--take-over",),
        ("--until", "answered", "--arrival"),
        ("--until", "mended"),
        ("--visit", "no-such.json"),
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
    ran = home(town, "film-page", "--from", "interface:usb0", "--until", "answered", "--for", "3s", "--every", "1s")
    assert ran.code == 1
    assert [(line["event"], line["waiting"]) for line in turns(ran)] == [("seen", 1), ("ended", 1)]
    assert turns(ran)[-1]["rounds"] >= 2
    town.run("lab", "mend")
    well = home(town, "film-page", "hub-page", "--from", "interface:usb0", "--until", "answered")
    assert well.code == 0
    assert [line["event"] for line in turns(well)] == ["seen", "seen", "ended"]
