"""As somebody who has never seen it: a terminal of 80 by 24, an empty folder, and only what the program says next."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import select
import shlex
import struct
import sys
import termios
import time
from pathlib import Path

import pytest

from support.program import BOATHOUSE, ROOT, Lab, Ran, hooper, program

HOOPER = (sys.executable, "-m", "hooper")
STYLES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]|\r")


def on_a_terminal(folder: Path, *arguments: str, answers: dict[str, str] | None = None) -> tuple[int, str]:
    """What a person sees who types this, and answers each question that begins so; else with Enter."""
    child, terminal = pty.fork()
    if child == 0:
        fcntl.ioctl(1, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 80, 0, 0))
        os.chdir(folder)
        left_out = ("HOOPER_", "COLUMNS", "LINES")
        environment = {key: value for key, value in os.environ.items() if not key.startswith(left_out)}
        environment |= {"TERM": "xterm-256color", "XDG_STATE_HOME": str(folder / "state")}
        os.execve(sys.executable, [*HOOPER, *arguments], environment)
    seen, answered, until = b"", 0, time.monotonic() + 60
    while time.monotonic() < until:
        if select.select([terminal], [], [], 1)[0]:
            try:
                seen += os.read(terminal, 65536)
            except OSError:
                break
        text = STYLES.sub("", seen.decode(errors="replace"))
        if text.endswith(": ") and len(seen) > answered:
            question = text.rsplit("\n", 1)[-1]
            reply = next((said for start, said in (answers or {}).items() if question.startswith(start)), "")
            os.write(terminal, reply.encode() + b"\n")
            answered = len(seen)
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    os.close(terminal)
    return code, STYLES.sub("", seen.decode(errors="replace"))


def next_of(text: str) -> list[str]:
    """The commands that stand below the last "Next:", or those that a remedy names."""
    lines = text.splitlines()
    at = max((number for number, line in enumerate(lines) if line.startswith("Next: ")), default=None)
    if at is not None:
        below = [line.strip() for line in lines[at + 1 :]]
        return [line.removeprefix("hooper ") for line in below if line.startswith("hooper ")]
    named: list[str] = re.findall(r"`hooper ([^`]+)`", " ".join(lines))
    return named


def test_from_an_empty_folder_to_a_plan(tmp_path: Path) -> None:
    """Only what it prints is typed; the questions are answered with what is on the table."""
    code, said = on_a_terminal(tmp_path, "plan")
    assert code == 3
    step = next_of(said)[0]
    assert step == "new"
    answers = {
        "What is the place": "Boathouse", "The LAN address": "10.44.7.1/24", "A short name for a first": "hub",
        "Does own-router take": "no", "What hub offers": "https", "Who is to reach": "public",
    }  # fmt: skip
    code, said = on_a_terminal(tmp_path, *shlex.split(step), answers=answers)
    assert code == 0, said
    assert next_of(said)[0] == "survey"  # which would look at the network of whoever runs this test
    seen: set[str] = set()
    for _ in range(8):
        step = next(step for step in next_of(said) if step not in seen | {"survey"})
        code, said = on_a_terminal(tmp_path, *shlex.split(step), *(["--all"] if step == "host tick hub" else []))
        assert code in (0, 1, 5), (step, said)
        seen.add(step)
        if step.startswith("worksheet"):
            break
    assert {"host tick hub", "worksheet own-router"} <= seen
    assert re.search(r"TCP +443 +10\.44\.7\.\d+ +443", said), "the sheet has what to enter"


def test_readmes_first_hour_ends_in_a_proof(lab: Lab, tmp_path: Path) -> None:
    """In the town, from an empty folder, with README's own lines and what is printed, for a device that is there: it
    answers from outside, by its own certificate.
    """
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    hour = readme[readme.index("## The first real hour") :].partition("```sh\n")[2].partition("```")[0]
    lines = [line.partition("  #")[0].strip() for line in hour.splitlines()]
    own = {"stage-cam": "film-box", "stage-page": "films", "10.44.7.23": "10.44.7.30"}
    here = {"HOOPER_SITE": str(tmp_path / "site.toml"), "XDG_STATE_HOME": str(tmp_path)}
    town = Lab({**lab.env, **here}, tmp_path)
    lab.ask("mend")
    lab.ask("restart", gateway="club-router")  # nothing is entered
    seen: dict[str, Ran] = {}
    for line in ("hooper new --found", *lines):
        for old, new in own.items():
            line = re.sub(rf"\b{re.escape(old)}\b", new, line)
        words = shlex.split(line)[1:]
        seen[words[0]] = ran = town.run(*words)
        assert ran.code in (0, 1), (line, ran)
        if words[0] == "survey":  # what the page of the outer router shows is asked for
            (step,) = next_of(ran.err)
            assert step == "survey --wan outer-box=ADDRESS"
            told = town.run(*shlex.split(step.replace("ADDRESS", "203.0.113.44")))
            assert (told.code, next_of(told.err)) == (0, ["host find"])
        if words[0] == "worksheet":  # the person types what it prints into the outer router's page
            town.run("lab", "type", "-", stdin=town.run("worksheet", "--json").out)
    assert seen["check"].code == 0, seen["check"]
    assert "answered" in seen["check"].out
    assert seen["why"].code == 0
    assert "https://203.0.113.44/" in seen["card"].out
    lab.as_built()


WRONG: dict[str, tuple[tuple[str, ...], int, tuple[str, ...]]] = {
    "no file": (("check",), 3, ("`hooper new`",)),
    "the wrong folder": (("plan",), 3, ("--site ../site.toml",)),
    "a mistyped command": (("wokrsheet",), 2, ("Did you mean `hooper worksheet`?",)),
    "a mistyped option": (("plan", "--chian"), 2, ("Did you mean --chain?",)),
    "a mistyped service": (("why", "flim-page"), 2, ("Did you mean 'film-page'?",)),
    "a mistyped protocol": (("service", "add", "x", "--host", "hub", "--speaks", "rstp"), 2, ("--speaks", "'rtsp'")),
    "no address": (("host", "add", "x", "--address", "10.44.7.256"), 2, ("--address", "write it like")),
    "no duration": (("check", "--deadline", "soon"), 2, ("--deadline", "5s, 2m")),
    "an unknown device": (("host", "tick", "hubb"), 2, ("Did you mean 'hub'?",)),
    "a mistyped tick": (("host", "tick", "hub", "defualt_password_changed"), 2, ("default_password_changed",)),
    "a mistyped code": (("explain", "port-blokced"), 2, ("Did you mean 'port-blocked'?",)),
}


@pytest.mark.parametrize("start", WRONG)
def test_wrong_starts_lead_on(start: str, tmp_path: Path) -> None:
    arguments, code, words = WRONG[start]
    folder = tmp_path / "inner"
    folder.mkdir()
    if start != "no file":
        ((tmp_path if start == "the wrong folder" else folder) / "site.toml").write_text(BOATHOUSE)
    ran = hooper(*arguments, cwd=folder, env={"HOOPER_SITE": "", "HOOPER_LAB": ""})
    assert ran.code == code, ran
    for word in words:
        assert word in ran.err, ran.err
    assert "line 79" not in ran.err


@pytest.mark.real
def test_without_a_network(tmp_path: Path) -> None:
    ran = program("survey", cwd=tmp_path, env={"HOOPER_SITE": "", "HOOPER_LAB": ""}, wrap=("unshare", "-n"))
    assert ran.code == 4, ran
    assert "no network" in ran.err
    assert "→" in ran.err
