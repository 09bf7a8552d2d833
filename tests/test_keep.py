"""The keeper as a program in the lab: its lines, its signals, its state, and that it goes on whatever breaks."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from hooper.lab.boathouse import site_file
from support.kept import Kept, Line, changed, is_done
from support.program import Lab, program, start_lab, valid

NAME = "boathouse.heronquay.example"
ONE_ROUTER = '[gateways.club-router]\nline = "fibre"'


@pytest.fixture
def lab(tmp_path: Path) -> Iterator[Lab]:
    with start_lab(tmp_path / "lab") as started:
        yield started


def site_of(lab: Lab, tmp_path: Path, *changes: tuple[str, str], name: str = "site.toml") -> Path:
    """The boathouse's site file behind one router that speaks, with changes."""
    lab.run("lab", "line", "one-nat")
    text = site_file().decode()
    a, b = text.index("[gateways.fibre-box]"), text.index("[gateways.club-router]")
    text = text[:a] + text[b:].replace('behind = "fibre-box"\nwan = "192.168.90.2"\n', 'line = "fibre"\n', 1)
    keep = '[keep]\naddresses = "10m"\nrules = "10m"\nchecks = "10m"\n\n[measure]'
    for old, new in (("[measure]", keep), *changes):
        assert old in text, old
        text = text.replace(old, new, 1)
    site = lab.folder / name
    site.write_text(text)
    return site


@contextlib.contextmanager
def kept(lab: Lab, site: Path, state: Path, *more: str) -> Iterator[Kept]:
    keeper = Kept([site], state, *more, env=lab.env)
    try:
        yield keeper
    finally:
        code, said = keeper.close()
    assert (code, said.replace("[lab] the simulated town, not the real network\n", "")) == (0, "")


def test_what_happens_is_heard_and_acted_on(lab: Lab, tmp_path: Path) -> None:
    site = site_of(lab, tmp_path)
    with kept(lab, site, tmp_path / "state") as keeper:
        keeper.all(changed("name", "current"), is_done("rules"), is_done("check here"))
        lab.run("lab", "readdress", "203.0.113.50")
        keeper.until(changed("address", "203.0.113.50"))
        keeper.until(changed("name", "stale"))
        _, line = keeper.until(changed("name", "current"))
        assert line["change"]["seconds"] < 5
        lab.run("lab", "restart", "club-router")
        _, line = keeper.until(changed("rule", "missing"))
        assert line["change"]["cause"] == "rules-lost"
        keeper.until(changed("rule", "entered"))
        lab.run("lab", "clock", "--advance", "3d")  # as after a laptop's sleep
        keeper.until(lambda line: line["said"] == "heard" and line["detail"].startswith("woke"), 40)
        keeper.until(is_done("names"))
    for line in keeper.seen:
        valid("keep", line)
    rows = json.loads(lab.run("status", "--site", str(site), "--state", str(tmp_path / "state"), "--json").out)["rows"]
    stands = {(row["kind"], row["subject"], row["aspect"]): row["state"] for row in rows}
    assert stands["name", NAME, "A"] == "current"
    assert stands["rule", "film-page", "club-router"] == "entered"
    ran = lab.run("history", "--site", str(site), "--state", str(tmp_path / "state"), "--json", "--since", "30d")
    history = valid("history", ran.document)
    lost = [row for row in history["outages"] if row["cause"] == "rules-lost"]
    assert {row["subject"] for row in lost} >= {"film-page", "hub-page", "gate"}
    assert all(row["end"] for row in lost)


def test_a_broken_service_has_its_cause(lab: Lab, tmp_path: Path) -> None:
    site = site_of(lab, tmp_path, ('checks = "10m"', 'checks = "2s"'))
    with kept(lab, site, tmp_path / "state") as keeper:
        keeper.all(is_done("check here"))
        lab.run("lab", "line", "several-nats")
        lab.run("lab", "break", "service-stopped", "hub-page")
        _, line = keeper.until(changed("service", "broken"), 40)
        assert (line["change"]["subject"], line["change"]["cause"]) == ("hub-page", "service-stopped")
        lab.run("lab", "mend")
        keeper.until(lambda line: changed("service", "answers")(line) and line["change"]["subject"] == "hub-page", 40)


def test_once_does_what_is_due_and_no_more(lab: Lab, tmp_path: Path) -> None:
    site = site_of(lab, tmp_path)

    def done() -> list[str]:
        ran = program("keep", str(site), "--state", str(tmp_path / "s"), "--once", "--quiet", "--json", env=lab.env)
        assert ran.code == 0, ran
        lines: list[Line] = [json.loads(text) for text in ran.out.splitlines()]
        assert (lines[0]["said"], lines[-1]["said"]) == ("started", "ended")
        return [line["task"] for line in lines if line["said"] == "done"]

    assert {"names", "rules", "certificates", "check here", "line", "risks", "prune"} <= set(done())
    assert done() == []
    lab.run("lab", "clock", "--advance", "11m")
    assert set(done()) == {"names", "rules", "check here"}


def test_a_broken_site_file_is_not_taken(lab: Lab, tmp_path: Path) -> None:
    site = site_of(lab, tmp_path)
    with kept(lab, site, tmp_path / "state") as keeper:
        keeper.until(is_done("names"))
        text = site.read_text()
        site.write_text(text.replace("version = 1", "version = one"))
        keeper.process.send_signal(signal.SIGHUP)
        _, line = keeper.until(lambda line: line["said"] == "trouble" and line["task"] == "site file")
        assert line["trouble"]["where"]["line"] == 3
        _, line = keeper.until(lambda line: line["said"] == "reloaded")
        assert "kept to" in line["detail"]
        site.write_text(text.replace('addresses = "10m"', 'addresses = "1s"'))
        keeper.process.send_signal(signal.SIGHUP)
        keeper.until(lambda line: line["said"] == "reloaded")
        for _ in range(3):
            keeper.until(is_done("names"))


def test_several_sites_in_one_process_and_one_keeper_for_each(lab: Lab, tmp_path: Path) -> None:
    first = site_of(lab, tmp_path)
    second = site_of(lab, tmp_path, ('id = "boathouse"', 'id = "other"'), name="other.toml")
    keeper = Kept([first, second], tmp_path / "state", env=lab.env)
    keeper.all(
        lambda line: is_done("names")(line) and line["site"] == str(first),
        lambda line: is_done("names")(line) and line["site"] == str(second),
    )
    ran = program("keep", str(second), "--state", str(tmp_path / "state"), env=lab.env)
    assert ran.code == 6
    assert "another keeper runs" in ran.err
    assert keeper.close()[0] == 0
    assert program("keep", str(second), "--state", str(tmp_path / "state"), "--once", env=lab.env).code == 0


@pytest.mark.parametrize("trouble", ["newer", "damaged", "read-only"])
def test_a_state_that_cannot_be_used_does_not_end_it(lab: Lab, tmp_path: Path, trouble: str) -> None:
    """It says so, goes on looking, and takes the state up once it can be used."""
    site, state = site_of(lab, tmp_path), tmp_path / "state"
    assert program("name", "list", "--site", str(site), "--state", str(state), env=lab.env).code == 0
    (path,) = state.glob("*.sqlite3")
    whole = path.read_bytes()
    if trouble == "newer":
        with contextlib.closing(sqlite3.connect(path)) as db:
            db.execute("PRAGMA user_version = 999")
    elif trouble == "damaged":
        path.write_bytes(b"this is no database at all, and was one\n" * 200)
    else:
        if os.geteuid() == 0:
            pytest.skip("root writes everywhere")
        path.chmod(0o400)
    with kept(lab, site, state) as keeper:
        _, line = keeper.until(lambda line: line["said"] == "trouble" and line["task"] == "state")
        assert line["trouble"]["code"] == "state"
        assert line["trouble"]["remedy"]
        keeper.all(is_done("check here"), is_done("names"))
        path.unlink()
        path.write_bytes(whole)
        path.chmod(0o600)
        with contextlib.suppress(FileNotFoundError):
            for leftover in state.glob("*.sqlite3-*"):
                leftover.unlink()
        keeper.until(is_done("names"), 60)


def test_a_full_disk_is_told_and_what_can_be_done_is_done(lab: Lab, tmp_path: Path) -> None:
    """The state may not grow: nothing is half written, and the services are looked at all the same."""
    site, state = site_of(lab, tmp_path), tmp_path / "state"
    code = (
        "import resource, signal, sys\n"
        "signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
        "resource.setrlimit(resource.RLIMIT_FSIZE, (8192, 8192))\n"
        "from hooper.cli.main import run\nrun(sys.argv[1:])\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, "keep", str(site), "--state", str(state), "--once", "--quiet", "--json"],
        capture_output=True, text=True, timeout=90, check=False, env={**os.environ, **lab.env},
    )  # fmt: skip
    assert "Traceback" not in done.stderr
    lines: list[Line] = [json.loads(text) for text in done.stdout.splitlines()]
    assert any(line["said"] == "trouble" and line["trouble"]["code"] == "state" for line in lines), lines
    assert "check here" in [line["task"] for line in lines if line["said"] == "done"]
    assert lines[-1]["said"] == "ended"


def test_it_ends_at_a_safe_point(lab: Lab, tmp_path: Path) -> None:
    """In the middle of a look that takes five seconds."""
    keeper = Kept([site_of(lab, tmp_path)], tmp_path / "state", env=lab.env)
    keeper.until(is_done("names"))
    started = time.monotonic()
    assert keeper.close()[0] == 0
    assert time.monotonic() - started < 15
    assert keeper.seen
    assert [line for _, line in list(keeper.lines.queue)][-1]["said"] == "ended"


def test_without_sites_and_with_wrong_ones(tmp_path: Path) -> None:
    ran = program("keep", cwd=tmp_path)
    assert (ran.code, "there is no such site file" in ran.err) == (3, True)
    (tmp_path / "site.toml").write_text(
        "version = 1\n[keep]\naddresses = 'soon'\nplaces = ['moon']\nmetrics = '8.8.8.8:1'\n"
    )
    ran = program("keep", "--once", cwd=tmp_path)
    assert ran.code == 3
    assert "site.toml:3:" in ran.err
    assert "site.toml:4:" in ran.err
    (tmp_path / "site.toml").write_text("version = 1\n[keep]\nmetrics = '192.0.2.1:9000'\n")
    ran = program("keep", "--once", cwd=tmp_path)
    assert (ran.code, "on this computer alone" in ran.err) == (2, True)


def test_without_its_state_it_renews_what_is_ours_and_says_what_it_does_not(lab: Lab, tmp_path: Path) -> None:
    """The state is taken away, then one is there that cannot be used: nothing is called well that was not done."""
    site, state = site_of(lab, tmp_path), tmp_path / "state"
    with kept(lab, site, state) as keeper:
        keeper.all(is_done("rules"), is_done("names"), is_done("check here"))
        (path,) = state.glob("*.sqlite3")
        whole = path.read_bytes()
        path.unlink()
        newer = sqlite3.connect(path)
        newer.execute("PRAGMA user_version = 999")
        newer.close()
        lab.run("lab", "readdress", "203.0.113.51")
        _, line = keeper.until(lambda line: line["said"] == "trouble" and line["task"] == "state")
        assert "taken away" in line["trouble"]["message"]
        _, line = keeper.until(changed("keeper", "not-used"))
        assert line["change"]["level"] == "wrong"
        keeper.until(changed("name", "current"))  # done without a state too
        lab.run("lab", "clock", "--advance", "5d")
        _, line = keeper.until(lambda line: line["said"] == "trouble" and line["task"] == "rules", 60)
        assert "those that carry Hooper's label are renewed" in line["trouble"]["message"]
        keeper.until(is_done("rules"), 60)
        rows = lab.run("router", "list", "--site", str(site), "--state", str(tmp_path / "other"), "--json").document
        lasts = [rule["lease_s"] for table in rows["gateways"] for rule in table["rules"]]
        assert lasts
        assert min(lasts) > 6 * 86400
        lab.run("lab", "restart", "club-router")  # what is lost now is not entered: nobody would know it to be ours
        keeper.until(lambda line: is_done("rules")(line) and line["outcome"] == "failed", 90)
        assert not lab.run(
            "router", "list", "--site", str(site), "--state", str(tmp_path / "other"), "--json"
        ).document["gateways"][0]["rules"]
        path.write_bytes(whole)
        keeper.until(changed("keeper", "used"), 60)
        keeper.until(changed("rule", "entered"), 60)
    for line in keeper.seen:
        valid("keep", line)


def test_a_state_that_fails_in_the_middle_is_no_reason_to_let_a_rule_run_out(lab: Lab, tmp_path: Path) -> None:
    site, state = site_of(lab, tmp_path), tmp_path / "state"
    program("router", "open", "--site", str(site), "--state", str(state), env=lab.env)
    lab.run("lab", "clock", "--advance", "5d")
    (path,) = state.glob("*.sqlite3")
    with contextlib.closing(sqlite3.connect(path, isolation_level=None)) as other:
        other.execute("BEGIN IMMEDIATE")  # it is read, and takes no writing
        ran = program(
            "router", "open", "--site", str(site), "--state", str(state), "--json", "--deadline", "90", env=lab.env,
            timeout=120,
        )  # fmt: skip
        other.execute("ROLLBACK")
    assert ran.code == 6, ran.err
    outcomes = [change["outcome"] for change in ran.document["changes"]]
    assert outcomes.count("renewed") >= 5
    assert set(outcomes) <= {"renewed", "by-hand"}
    assert any(error["code"] == "state" for error in ran.document["errors"])
