"""survey, host find and host suggest as a user runs them, in the lab."""

from __future__ import annotations

import json
import os
import pty
import select
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support.program import BOATHOUSE, Lab, Ran, valid

FIBRE = "fibre-box"


@pytest.fixture(autouse=True)
def _usual_line(lab: Lab) -> Iterator[None]:
    yield
    lab.ask("mend")
    lab.ask("plug", where="home")
    lab.ask("line", shape={})


def line(lab: Lab, kind: str, **more: Any) -> None:
    assert lab.ask("line", shape={"kind": kind, **more})["shape"]["kind"] == kind


def survey(lab: Lab, *arguments: str, deadline: str = "3.5") -> tuple[int, Any]:
    ran = lab.run("survey", *arguments, "--deadline", deadline, "--json")
    return ran.code, valid("survey", ran.document)


def own_site(lab: Lab, tmp_path: Path) -> Path:
    path = tmp_path / "site.toml"
    path.write_text(BOATHOUSE)
    (tmp_path / "secrets").mkdir()
    return path


def test_what_is_missing_is_said_with_where_it_stands_and_remembered(lab: Lab, tmp_path: Path) -> None:
    line(lab, "several-nats", dead=["gateway"])
    state = ("--state", str(tmp_path / "state"))
    code, got = survey(lab, *state)
    assert (code, got["situation"], got["can_forward"]) == (0, "unclear", None)
    (missing,) = got["missing"]
    assert (missing["gateway"], missing["option"]) == (FIBRE, "--wan fibre-box=ADDRESS")
    assert "http://192.168.90.1" in missing["where"]
    assert any("firewall" in remark and "guest network" in remark for remark in got["remarks"])
    assert survey(lab, *state, "--wan", "fibre-box=203.0.113.44")[1]["situation"] == "several-nats"
    code, again = survey(lab, *state)
    assert again["situation"] == "several-nats"
    row = next(row for row in again["comparisons"] if row["left"]["what"].startswith(FIBRE))
    assert row["left"]["source"].startswith("told ")
    assert again["missing"] == []


def test_the_question_takes_an_answer_and_asks_again_for_nonsense(lab: Lab, tmp_path: Path) -> None:
    line(lab, "several-nats", dead=["gateway"])
    ran = lab.run("survey", "--ask", "--json", "--state", str(tmp_path), stdin="nonsense\n203.0.113.44\n")
    assert valid("survey", ran.document)["situation"] == "several-nats"
    left = lab.run("survey", "--ask", "--json", "--state", str(tmp_path / "other"), stdin="\n")
    assert valid("survey", left.document)["situation"] == "unclear"


def test_on_a_terminal_it_asks_and_shows_what_is_running(lab: Lab, tmp_path: Path) -> None:
    line(lab, "several-nats", dead=["gateway"])
    environment = {**os.environ, **lab.env, "TERM": "xterm", "COLUMNS": "100"}
    child, terminal = pty.fork()
    if child == 0:
        os.execve(sys.executable, [sys.executable, "-m", "hooper", "survey", "--state", str(tmp_path)], environment)
    said, until, answered = b"", time.monotonic() + 60, False
    while time.monotonic() < until:
        if select.select([terminal], [], [], 1)[0]:
            try:
                said += os.read(terminal, 65536)
            except OSError:
                break
        if not answered and b"It is (empty" in said:
            os.write(terminal, b"203.0.113.44\r")
            answered = True
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
    assert answered
    assert b"looking: " in said
    assert b"Several routers stand in a row" in said


def test_a_site_that_has_too_many_or_too_few_gateways_is_told(lab: Lab) -> None:
    line(lab, "one-nat")
    code, got = survey(lab)
    assert (code, got["situation"]) == (0, "one-nat")
    assert [f["code"] for f in got["findings"]] == ["gateway-not-on-the-way"]
    line(lab, "third-box", speaks="both")
    code, got = survey(lab)
    assert (code, got["situation"], got["can_forward"]) == (0, "several-nats", True)
    assert any("192.168.100.1" in remark for remark in got["remarks"])


def test_a_line_that_cannot_be_forwarded_to_ends_with_1_and_the_ways_that_remain(lab: Lab) -> None:
    line(lab, "carrier-nat", speaks="both")
    ran = lab.run("survey")
    assert ran.code == 1
    assert "100.64.44.9" in ran.out
    assert "The ways that remain" in " ".join(ran.out.split())


def test_save_writes_what_was_measured_and_nothing_else(lab: Lab, tmp_path: Path) -> None:
    path = own_site(lab, tmp_path)
    path.write_text(BOATHOUSE.replace('wan = "192.168.90.2"', 'wan = "192.168.90.77"  # where it was once'))
    before = path.read_text()
    dry = lab.run("survey", "--save", "--dry-run", "--json", "--site", str(path))
    keys = {row["key"]: row["after"] for row in valid("survey", dry.document)["saved"]}
    assert keys == {"lines.fibre.situation": "several-nats", "gateways.club-router.wan": "192.168.90.2"}
    assert path.read_text() == before
    assert lab.run("survey", "--save", "--site", str(path)).code == 0
    expected = before.replace('wan = "192.168.90.77"', 'wan = "192.168.90.2"')
    assert [one for one in path.read_text().splitlines() if "situation" not in one] == expected.splitlines()
    again = lab.run("survey", "--save", "--json", "--site", str(path))
    assert valid("survey", again.document)["saved"] == []
    assert lab.run("plan", "--site", str(path), "--json").code == 0


def test_save_makes_plan_refuse_what_cannot_work(lab: Lab, tmp_path: Path) -> None:
    path = own_site(lab, tmp_path)
    line(lab, "ds-lite")
    assert lab.run("survey", "--save", "--site", str(path)).code == 1
    assert 'situation = "shared-ports"' in path.read_text()
    planned = lab.run("plan", "--site", str(path), "--json")
    assert planned.code == 1
    assert "line-shares-ports" in {f["code"] for f in planned.document["findings"]}


def test_the_move_that_tells_which_box_is_wrong(lab: Lab, tmp_path: Path) -> None:
    state = ("--state", str(tmp_path))
    wrong_place = lab.run("survey", "--between", "--deadline", "1", "--json")
    assert wrong_place.code == 2
    assert "fibre-box" in wrong_place.document["errors"][0]["remedy"]
    assert valid("lab", lab.run("lab", "plug", "between", "--json").document)["where"] == "between"
    code, got = survey(lab, "--between", *state, deadline="2")
    between = got["between"]
    assert (code, between["inner"], between["outer"], between["wrong"]) == (0, "club-router", FIBRE, None)
    assert {row["verdict"] for row in between["results"] if row["ok"]} == {"answered", "connected"}
    assert {row["service"] for row in between["results"] if row["ok"] is None} == {"desk", "timing-desk", "gate"}
    lab.ask("break", fault="forward-missing-outer")  # the inner one is still right
    assert survey(lab, "--between", *state, deadline="2")[1]["between"]["wrong"] is None
    lab.run("check", "film-page", "--from", "interface:usb0", "--deadline", "2", *state)
    code, got = survey(lab, "--between", *state)  # now it is known that it does not answer from outside
    assert (code, got["between"]["wrong"]) == (1, FIBRE)
    assert "film-page did not answer from outside (just now)" in got["between"]["meaning"]
    lab.ask("break", fault="forward-missing-inner", service="hub-page")
    code, got = survey(lab, "--between", *state, deadline="2")
    assert (code, got["between"]["wrong"]) == (1, "club-router")
    assert [row["service"] for row in got["between"]["results"] if row["ok"] is False] == ["hub-page"]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("lab", "line", "nonsense"), "several-nats"),
        (("lab", "line", "one-nat", "--dead", "nobody"), "everything"),
        (("lab", "line", "one-nat", "--mapping", "odd"), "address-and-port"),
        (("lab", "plug", "attic"), "between"),
        (("survey", "--dry-run"), "--save"),
        (("survey", "--wan", "fibre-box"), "GATEWAY=VALUE"),
        (("host", "find", "--deadline", "0"), "5, 5s, 2m"),
    ],
)
def test_wrong_usage(lab: Lab, arguments: tuple[str, ...], says: str) -> None:
    ran = lab.run(*arguments, "--json")
    assert ran.code == 2
    assert says in json.dumps(ran.document["errors"])


def test_faults_are_for_the_line_that_was_built(lab: Lab) -> None:
    changed = lab.run("lab", "line", "one-nat", "--dead", "stun", "--dead", "gateway", "--hairpin", "--json")
    shown = valid("lab-line", changed.document)
    assert (shown["kind"], shown["dead"], shown["hairpin"]) == ("one-nat", ["stun", "gateway"], True)
    assert lab.run("lab", "break", "carrier-nat", "--json").code == 2
    line(lab, "several-nats")
    lab.ask("break", fault="name-stale")
    assert lab.run("lab", "line", "one-nat", "--json").code == 2


def found(ran: Ran) -> dict[str, Any]:
    return {row["address"]: row for row in valid("host-find", ran.document)["hosts"]}


def test_hosts_are_found_and_held_against_the_file(lab: Lab) -> None:
    known = found(lab.run("host", "find", "--json"))
    assert known["10.44.7.1"]["state"] == "gateway"
    swept = lab.run("host", "find", "--sweep", "--json")
    rows = found(swept)
    assert swept.code == 0
    assert set(rows) == {f"10.44.7.{n}" for n in (1, 21, 22, 30, 40, 41, 50, 60, 105)}
    recorder = rows["10.44.7.22"]
    assert (recorder["host"], recorder["name"], recorder["mac"]) == (
        "recorder", "recorder.home.arpa", "02:00:5e:44:07:22",
    )  # fmt: skip
    assert recorder["open_ports"] == [8085, 9480, 9481]
    assert rows["10.44.7.105"]["in_pool"] is True
    assert swept.document["silent"] == []


def test_a_host_that_moved_is_found_by_its_mac(lab: Lab) -> None:
    lab.ask("break", fault="host-moved")
    ran = lab.run("host", "find", "--sweep", "--no-ports", "--json")
    rows = found(ran)
    assert ran.code == 1
    assert (rows["10.44.7.132"]["host"], rows["10.44.7.132"]["state"]) == ("film-box", "moved")
    assert rows["10.44.7.132"]["in_pool"] is True
    assert "10.44.7.30" not in rows, "what is remembered of the place that it left is not it"
    assert not rows["10.44.7.132"]["open_ports"]


def test_suggested_addresses_are_silent_ones(lab: Lab, tmp_path: Path) -> None:
    path = own_site(lab, tmp_path)
    without = BOATHOUSE.replace('address = "010.044.007.022"', 'address = "10.44.7.24"')  # where nobody is
    path.write_text(without)
    got = valid("host-suggest", lab.run("host", "suggest", "--site", str(path), "--count", "3", "--json").document)
    assert (got["looked"], got["answered"]) == (True, ["10.44.7.22"])
    assert got["addresses"] == ["10.44.7.20", "10.44.7.23", "10.44.7.25"]
    many = valid("host-suggest", lab.run("host", "suggest", "--count", "70", "--json").document)["addresses"]
    numbers = [int(one.rpartition(".")[2]) for one in many]
    assert numbers == [n for n in range(20, 100) if n not in (21, 22, 30, 40, 41, 50, 60)][:70]  # none left out
    outer = valid("host-suggest", lab.run("host", "suggest", FIBRE, "--count", "1", "--json").document)
    assert outer["looked"] is False
