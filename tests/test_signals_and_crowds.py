"""Ended at any moment, and run by many at once: codes as documented, nothing lost, nobody shut out."""

from __future__ import annotations

import os
import random
import signal
import socket
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from hooper import interrupts
from hooper.cli.parts.outcome import fault
from hooper.errors import MachineError, RefusedForSafety
from hooper.files import MADE_BY, write_output
from support.program import BOATHOUSE, LabProcess, hooper, start_lab
from support.sites import ONE_BOX

SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
HOOPER = (sys.executable, "-m", "hooper")
COMMANDS = (
    ("check", "--from", "interface:usb0", "--state", "state"), ("plan",), ("survey", "--state", "state"),
    ("why", "film-page", "--from", "interface:usb0", "--state", "state"), ("name", "list", "--state", "state"),
    ("router", "open", "film-page", "--state", "state"), ("host", "find"),
)  # fmt: skip


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabProcess]:
    with start_lab(tmp_path_factory.mktemp("lab")) as started:
        yield started


STARTED: list[subprocess.Popen[str]] = []


@pytest.fixture(autouse=True)
def none_is_left() -> Iterator[None]:
    yield
    for process in STARTED:
        process.kill()
        process.communicate()
    STARTED.clear()


def begin(lab: LabProcess, folder: Path, *arguments: str) -> subprocess.Popen[str]:
    process = subprocess.Popen(
        [*HOOPER, *arguments],
        stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=folder,
        env={**os.environ, **lab.env},
    )  # fmt: skip
    STARTED.append(process)
    return process


def test_a_signal_ends_every_command_tidily(lab: LabProcess, tmp_path: Path) -> None:
    """At random moments: it ends with 130 and says so, or had ended already; never with a traceback."""
    number = random.Random(14)
    codes: Counter[int] = Counter()
    for _ in range(12):
        command, sent = number.choice(COMMANDS), number.choice(SIGNALS)
        process = begin(lab, tmp_path, *command)
        assert process.stderr is not None
        assert process.stderr.readline().startswith("[lab]"), "it has begun"
        time.sleep(number.uniform(0, 0.6))  # what is tried is the moment
        process.send_signal(sent)
        _, err = process.communicate(timeout=20)
        assert "Traceback" not in err, (command, err)
        assert "Exception ignored" not in err, (command, err)
        assert process.returncode in (0, 1, 4, 130), (command, sent, process.returncode, err)
        codes[process.returncode] += 1
    assert codes[130]


def test_an_interrupt_that_a_library_wraps_up_is_no_fault(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(interrupts, "_came", False)
    assert fault(["survey"], ValueError("a fault of ours")) == 70
    with pytest.raises(KeyboardInterrupt):
        interrupts.interrupt(signal.SIGTERM, None)
    assert fault(["survey"], ValueError("KeyboardInterrupt: in the making of a schema")) == 130
    assert capsys.readouterr().err.endswith("interrupted\n")


def test_an_interrupt_that_python_wraps_up_is_no_fault(capsys: pytest.CaptureFixture[str]) -> None:
    """One that falls into `__set_name__` comes out as a RuntimeError (Python 3.11)."""
    try:
        try:
            raise KeyboardInterrupt
        except KeyboardInterrupt as inner:
            raise RuntimeError("Error calling __set_name__") from inner
    except RuntimeError as exc:
        assert fault(["survey"], exc) == 130
    assert capsys.readouterr().err == "interrupted\n"


def test_two_edits_at_once_are_both_kept_or_one_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    path.write_text(ONE_BOX)
    kept = refused = 0
    for round_ in range(4):
        both = [
            subprocess.Popen(
                [*HOOPER, "host", "add", f"h{round_}{n}", "--address", f"10.44.7.{10 + 2 * round_ + n}"],
                stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=tmp_path,
            )
            for n in range(2)
        ]  # fmt: skip
        for n, process in enumerate(both):
            _, err = process.communicate(timeout=30)
            there = f"[hosts.h{round_}{n}]" in path.read_text()
            assert process.returncode in (0, 6), err
            assert there == (process.returncode == 0), "what was said to be written is there"
            kept, refused = kept + there, refused + (not there)
    assert kept >= 4
    assert kept + refused == 8


def test_many_opens_and_closes_at_once_lose_nothing(lab: LabProcess, tmp_path: Path) -> None:
    deeds = [("open", "film-page"), ("close",), ("open", "gate"), ("open", "film-page"), ("close", "gate")]
    running = [begin(lab, tmp_path, "router", *deed, "--state", "state") for deed in deeds]
    for process in running:
        _, err = process.communicate(timeout=60)
        assert process.returncode in (0, 1), err
    ended = [begin(lab, tmp_path, "router", "close", "--state", "state") for _ in range(2)]
    for process in ended:
        process.communicate(timeout=60)
    left = begin(lab, tmp_path, "router", "list", "--state", "state", "--json")
    out, _ = left.communicate(timeout=30)
    assert '"hooper film-page"' not in out
    assert '"hooper gate"' not in out
    assert left.returncode == 0


def test_a_crowd_without_the_token_shuts_nobody_out(lab: LabProcess) -> None:
    port = lab.private()["port"]
    crowd = [socket.create_connection(("127.0.0.1", port)) for _ in range(300)]
    try:
        assert lab.run("lab", "read", "--json").code == 0
        assert lab.start("check", "film-page", "--from", "here").code == 0
    finally:
        for one in crowd:
            one.close()


def test_a_pipe_is_no_labs_file(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "lab.json")
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    ran = hooper("check", env={"HOOPER_LAB": str(tmp_path / "lab.json")}, cwd=tmp_path)
    assert (ran.code, "it is a pipe" in ran.err) == (6, True)


def test_what_is_written_replaces_nothing_of_anybody_else(tmp_path: Path) -> None:
    site = tmp_path / "site.toml"
    site.write_text(ONE_BOX)
    (tmp_path / "theirs.svg").write_text("<svg/>")
    (tmp_path / "link.svg").symlink_to(site)
    os.mkfifo(tmp_path / "pipe.svg")
    os.link(site, tmp_path / "same.toml")
    for name in ("site.toml", "theirs.svg", "link.svg", "pipe.svg", "same.toml", "."):
        ran = hooper("plan", "--svg", "--out", str(tmp_path / name), cwd=tmp_path)
        assert ran.code == 5, (name, ran.err)
        if name not in ("theirs.svg",):
            assert hooper("plan", "--svg", "--out", str(tmp_path / name), "--force", cwd=tmp_path).code == 5, name
    assert site.read_text() == ONE_BOX
    assert (tmp_path / "theirs.svg").read_text() == "<svg/>"
    assert hooper("plan", "--force", cwd=tmp_path).code == 2, "no option does nothing"
    assert hooper("plan", "--svg", "--out", str(tmp_path / "theirs.svg"), "--force", cwd=tmp_path).code == 0
    assert hooper("plan", "--svg", "--out", str(tmp_path / "theirs.svg"), cwd=tmp_path).code == 0, "it is ours now"


def test_a_device_is_never_replaced(tmp_path: Path) -> None:
    with pytest.raises(RefusedForSafety, match="a device"):
        write_output(Path("/dev/null"), MADE_BY, force=True)
    with pytest.raises(MachineError):
        write_output(tmp_path / "nowhere" / "x.svg", MADE_BY)
