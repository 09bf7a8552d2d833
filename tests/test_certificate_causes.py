"""What breaks certificates besides their dates: revoked, taken back, a root that ended, this computer's own clock."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from hooper.certs.own_authority import make_root
from hooper.lab.devices import tells_time
from hooper.line.facts import ClockRow
from hooper.site.load import parse_site
from hooper.usecases.watch.conditions import of_own_clock, of_roots
from support.program import LabHere, start_lab, town_here, valid

OUTSIDE = ("--from", "interface:usb0", "--deadline", "1.5")


@pytest.fixture
def lab(tmp_path: Path) -> Iterator[LabHere]:
    with town_here(tmp_path / "lab") as lab:
        path = Path(lab.env["HOOPER_SITE"])
        path.write_text(path.read_text().replace("[measure]  ", '[measure]\nntp = ["198.51.100.91"]  '))
        lab.run("router", "open")
        lab.enter_sheets()
        yield lab


def causes(lab: LabHere, service: str) -> dict[str, str]:
    ran = lab.run("why", service, *OUTSIDE, "--json")
    return {one["code"]: one["certainty"] for one in valid("why", ran.document)["causes"]}


def test_what_was_revoked_never_passes(lab: LabHere) -> None:
    """Its dates and names are right, and whoever asks its authority refuses it."""
    assert lab.run("cert", "order").code == 0
    lab.run("lab", "install", "boathouse", "hub-page")
    assert lab.run("check", "hub-page", *OUTSIDE).code == 0
    assert lab.run("cert", "revoke", "boathouse").code == 0
    ran = lab.run("check", "hub-page", *OUTSIDE, "--json")
    (row,) = valid("check", ran.document)["results"]
    assert (row["ok"], row["problems"]) == (False, ["certificate-revoked"])
    assert causes(lab, "hub-page") == {"certificate-revoked": "certain"}
    assert lab.run("cert", "order").code == 0
    lab.run("lab", "install", "boathouse", "hub-page")
    assert causes(lab, "hub-page") == {}


@pytest.mark.parametrize(("manner", "outcome"), [("half", "put-back"), ("never", "put-back"), ("takes", "shown")])
def test_a_device_that_did_not_take_it_is_the_cause_of_what_comes_later(
    lab: LabHere, manner: str, outcome: str
) -> None:
    """The town's hub as a program takes it: at once, late, never, or so that it shows nothing any more."""
    assert lab.run("cert", "order").code == 0
    lab.run("lab", "install", "boathouse", "hub-page")
    path = Path(lab.env["HOOPER_SITE"])
    program = [sys.executable, "-m", "hooper", "lab", "install", "-", "hub-page", "--manner", manner]
    give = f'give_command = {program!r}\ngive_wait = "10s"\n'.replace("'", '"')
    path.write_text(path.read_text().replace("[certificates.boathouse]\n", f"[certificates.boathouse]\n{give}"))
    assert lab.run("cert", "order", "--again").code == 0
    ran = lab.start("cert", "give", "--json", PYTHONPATH=str(Path(__file__).parents[1] / "src"))
    row = valid("cert-give", ran.document)["certificates"][0]
    assert row["outcome"] == outcome, row
    lab.run("lab", "clock", "--advance", "95d")
    found = causes(lab, "hub-page")
    if outcome == "put-back":
        assert (found["certificate-expired"], found["certificate-put-back"]) == ("certain", "certain"), found
    assert ("certificate-put-back" in found) == (outcome == "put-back"), found


def test_a_slow_device_is_waited_for(tmp_path: Path) -> None:
    """In a town of its own process, in real seconds."""
    with start_lab(tmp_path / "lab") as lab:
        assert lab.start("cert", "order").code == 0
        path = Path(lab.env["HOOPER_SITE"])
        program = [sys.executable, "-m", "hooper", "lab", "install", "-", "hub-page", "--manner", "late"]
        give = f'give_command = {program!r}\ngive_wait = "20s"\n'.replace("'", '"')
        path.write_text(path.read_text().replace("[certificates.boathouse]\n", f"[certificates.boathouse]\n{give}"))
        ran = lab.start("cert", "give", "--json", PYTHONPATH=str(Path(__file__).parents[1] / "src"))
        assert valid("cert-give", ran.document)["certificates"][0]["outcome"] == "shown"


def test_a_root_that_ended_is_told_and_told_of_in_time(lab: LabHere) -> None:
    lab.run("authority", "make", "house")
    lab.run("service", "add", "hub-lan", "--host", "hub", "--speaks", "https", "--port", "8443", "--reach", "lan")
    lab.run(
        "certificate", "add", "hub-lan", "--names", "hub.home.arpa", "--authority", "house", "--services", "hub-lan"
    )
    assert lab.run("cert", "order", "hub-lan").code == 0
    lab.run("lab", "install", "hub-lan", "hub-page")
    lab.run("keep", "--once")
    rows = valid("status", lab.run("status", "--json").document)["rows"]
    assert {("clock", "this computer", "right"), ("authority", "house", "good")} <= {
        (row["kind"], row["subject"], row["state"]) for row in rows
    }
    lab.run("lab", "clock", "--advance", "3500d")
    lab.run("keep", "--once")
    rows = valid("status", lab.run("status", "--json").document)["rows"]
    (root,) = [row for row in rows if row["kind"] == "authority"]
    assert (root["state"], root["cause"]) == ("ends-soon", "root-ends")
    lab.run("lab", "clock", "--advance", "200d")
    found = causes(lab, "hub-lan")
    assert found["root-ended"] == "certain", found
    assert "certificate-untrusted" not in found
    said = lab.run("why", "hub-lan").out
    assert "hooper authority make house" in said


def test_a_server_of_time_decides_between_the_certificate_and_this_clock(lab: LabHere) -> None:
    """The film box does not tell what time it is by it: a server of time does, and then one of the two is certain."""
    town = lab.board.town
    lab.run("lab", "break", "certificate-expired", "film-page")
    assert causes(lab, "film-page") == {"certificate-expired": "certain"}
    town.nodes["echo"].udp[123] = tells_time(lambda: town.now() - timedelta(days=30))
    found = causes(lab, "film-page")
    assert (found["own-clock"], found["certificate-expired"]) == ("certain", "likely")
    ran = lab.run("why", "film-page", *OUTSIDE)
    assert "30d ahead, says the server of time 198.51.100.91" in ran.out
    del town.nodes["echo"].udp[123]
    assert causes(lab, "film-page") == {"certificate-expired": "likely", "own-clock": "possible"}


@pytest.mark.parametrize(("behind", "state"), [(0.2, "right"), (-59, "right"), (61.5, "off"), (-7200, "off")])
def test_how_the_own_clock_stands(behind: float, state: str) -> None:
    (one,) = of_own_clock(ClockRow("10.44.7.1", behind, 0.1))
    assert (one.state, one.level) == (state, "well" if state == "right" else "wrong")
    assert not list(of_own_clock(None))
    if state == "off":
        assert ("behind" if behind > 0 else "ahead") in str(one.detail)


def test_only_an_own_root_is_looked_at(tmp_path: Path) -> None:
    now = datetime(2026, 5, 1, tzinfo=UTC)
    (tmp_path / "root.pem").write_text(make_root(tmp_path, "house", ["home.arpa"], now))
    text = 'version = 1\n[authorities.house]\nkind = "own"\ntrust = "file:root.pem"\n' + (
        '[authorities.other]\ndirectory = "https://ca.example/directory"\ntrust = "file:root.pem"\n'
        '[authorities.gone]\nkind = "own"\ntrust = "file:nowhere.pem"\n'
    )
    site = parse_site(text.encode(), "site.toml").site
    for days, state in ((0, "good"), (3469, "good"), (3471, "ends-soon"), (4000, "ends-soon")):
        (one,) = of_roots(site, tmp_path, now + timedelta(days=days))
        assert (one.subject, one.state) == ("house", state)
