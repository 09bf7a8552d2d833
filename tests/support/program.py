"""The program as a user runs it: its output and its exit code, in this process, or in one of its own."""

from __future__ import annotations

import io
import json
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Awaitable, Callable, Iterator
from contextlib import chdir, contextmanager, nullcontext
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any
from unittest import mock

import anyio
from anyio.from_thread import BlockingPortal, start_blocking_portal
from jsonschema import Draft202012Validator

from hooper import environment
from hooper.cli.main import outcome
from hooper.cli.parts.session import RUNNER
from hooper.lab.serve import leave_files
from hooper.lab.switchboard import Switchboard
from hooper.net.lab_door import LabLink, read_lab_file
from hooper.signs import HANDLER
from support import warm
from support.inner_link import without_sockets
from support.namespaces import inside
from support.virtual import VirtualClock, VirtualLoop

STYLES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]|\r")
ROOT = Path(__file__).parents[2]
BOATHOUSE = files("hooper.lab").joinpath("boathouse.toml").read_text(encoding="utf-8")


@dataclass(frozen=True)
class Ran:
    code: int
    out: str
    err: str

    @property
    def document(self) -> Any:
        return json.loads(self.out)


@dataclass(frozen=True)
class Loop:
    """The event loop of a town in this process. What runs a command in it lets its time pass at once."""

    portal: BlockingPortal

    def run(self, work: Callable[..., Awaitable[Any]], *arguments: Any) -> Any:
        async def at_once() -> Any:
            loop = _virtual()
            loop.impatient.skips += 1
            try:
                return await work(*arguments)
            finally:
                loop.impatient.skips -= 1

        return self.portal.call(at_once)


async def _running() -> VirtualLoop:
    return _virtual()


def _virtual() -> VirtualLoop:
    import asyncio

    loop = asyncio.get_running_loop()
    assert isinstance(loop, VirtualLoop)
    return loop


_LOOPS: dict[str, Loop] = {}  # of the towns in this process, by the file that HOOPER_LAB names


def hooper(
    *arguments: str,
    env: dict[str, str] | None = None,
    stdin: str = "",
    cwd: Path | None = None,
    place: str | None = None,
    columns: int | None = None,
    encoding: str = "utf-8",
    styled: bool = False,
) -> Ran:
    """Run hooper in this process: in a town of this process, time passes at once where everybody waits.

    place: a network namespace to run it in. columns: its output is a terminal of that width, whose styles are left out
    here. encoding: of both outputs. styled: with the styles.
    """
    out, err = _Captured(encoding, columns, styled=styled), _Captured(encoding, columns)
    if columns is not None:
        env = {"COLUMNS": str(columns), "TERM": "xterm-256color", **(env or {})}
    where = (env or {}).get("HOOPER_LAB", os.environ.get("HOOPER_LAB", ""))
    token = RUNNER.set(_LOOPS[where].run) if where in _LOOPS else None
    given = io.TextIOWrapper(io.BytesIO(stdin.encode()), encoding="utf-8")
    streams = mock.patch.multiple(sys, stdin=given, stdout=out, stderr=err)
    there = inside(place) if place is not None else nullcontext()
    try:
        with (
            _variables(env or {}),
            chdir(cwd) if cwd is not None else nullcontext(),
            there,
            streams,
        ):
            code = outcome(list(arguments))
    finally:
        if token is not None:
            RUNNER.reset(token)
    return _ran(code, out.text, err.text)


@contextmanager
def _variables(env: dict[str, str]) -> Iterator[None]:
    """These set meanwhile; what a command itself takes out of the environment is back afterwards."""
    before = {name: os.environ.get(name) for name in (*env, environment.LAB)}
    os.environ.update(env)
    try:
        yield
    finally:
        for name, value in before.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value


class _Captured(io.TextIOWrapper):
    """A stream as a pipe has it, or a terminal of so many columns."""

    def __init__(self, encoding: str = "utf-8", columns: int | None = None, *, styled: bool = False) -> None:
        super().__init__(io.BytesIO(), encoding=encoding, errors=HANDLER, write_through=True)
        self.columns, self.styled = columns, styled

    def isatty(self) -> bool:
        return self.columns is not None

    @property
    def text(self) -> str:
        assert isinstance(self.buffer, io.BytesIO)
        text = self.buffer.getvalue().decode(self.encoding)
        return text if self.columns is None or self.styled else STYLES.sub("", re.sub(r"[^\n]*\r\x1b\[2K", "", text))


def _ran(code: int, out: str, err: str) -> Ran:
    assert "Traceback" not in err, err
    assert "Traceback" not in out, out
    return Ran(code, out, err)


def program(
    *arguments: str,
    env: dict[str, str] | None = None,
    stdin: str = "",
    cwd: Path | None = None,
    wrap: tuple[str, ...] = (),
    timeout: float = 60,
) -> Ran:
    """Run hooper as a program of its own. wrap: a command to run it inside of, such as ip netns exec."""
    done = warm.run(arguments, wrap=wrap, stdin=stdin, cwd=cwd, timeout=timeout, env={**os.environ, **(env or {})})
    return _ran(done.returncode, done.stdout, done.stderr)


@cache
def _schema(name: str) -> Draft202012Validator:
    place = (
        ROOT / "src/hooper/site/site.schema.json"
        if name == "site"
        else ROOT / "docs" / "schemas" / f"{name}.schema.json"
    )
    schema = json.loads(place.read_text(encoding="utf-8"))
    Draft202012Validator.check_schema(schema)
    return Draft202012Validator(schema)


def valid(name: str, document: Any) -> Any:
    """`document`, once it has matched the shipped schema of that name."""
    _schema(name).validate(document)
    return document


@dataclass(frozen=True)
class Lab:
    """A running lab, from another terminal's point of view."""

    env: dict[str, str]
    folder: Path

    def run(self, *arguments: str, stdin: str = "", **more: str) -> Ran:
        return hooper(*arguments, env={**self.env, **more}, stdin=stdin)

    def start(self, *arguments: str, stdin: str = "", **more: str) -> Ran:
        """As `run`, in a process of its own."""
        return program(*arguments, env={**self.env, **more}, stdin=stdin)

    def enter_sheets(self) -> Ran:
        return self.run("lab", "type", "-", "--json", stdin=self.run("worksheet", "--json").out)

    def ask(self, do: str, **more: Any) -> Any:
        """Say one verb to the lab: what prepares a test needs no command."""
        link = LabLink(read_lab_file(Path(self.env["HOOPER_LAB"])))

        async def say() -> Any:
            return await link.ask(do, **more)

        return self.within(say)

    def within(self, work: Callable[[], Awaitable[Any]]) -> Any:
        """Do something in its town, at its time."""
        where = self.env["HOOPER_LAB"]
        with _variables(self.env):
            return _LOOPS[where].run(work) if where in _LOOPS else anyio.run(work)

    def town_time(self) -> datetime:
        """What time it is in a town of this process."""

        async def now() -> Any:
            return self.board.town.now()  # type: ignore[attr-defined]

        found: datetime = self.within(now)
        return found

    def with_site_in(self, folder: Path, **more: str) -> Lab:
        """The same town, with a copy of its site file and its secrets that a test may change."""
        for name in ("site.toml", "town-ca.pem"):
            (folder / name).write_bytes((self.folder / name).read_bytes())
        (folder / "secrets").mkdir(mode=0o700)
        for path in (self.folder / "secrets").iterdir():
            (folder / "secrets" / path.name).write_bytes(path.read_bytes())
            (folder / "secrets" / path.name).chmod(0o600)
        return Lab({**self.env, "HOOPER_SITE": str(folder / "site.toml"), **more}, folder)

    def as_built(self) -> None:
        """Nothing broken, and both sheets entered."""
        self.ask("mend")
        self.ask("type", sheets=_sheets())

    def private(self) -> Any:
        return json.loads(Path(self.env["HOOPER_LAB"]).read_text())


@cache
def _sheets() -> Any:
    """The boathouse's sheets, which are the same in every lab."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.toml"
        path.write_text(BOATHOUSE, encoding="utf-8")
        return hooper("worksheet", "--json", "--site", str(path)).document["sheets"]


def _environment(folder: Path) -> dict[str, str]:
    return {"HOOPER_LAB": str(folder / "lab.json"), "HOOPER_SITE": str(folder / "site.toml")}


@dataclass(frozen=True)
class LabHere(Lab):
    """One in this process."""

    board: Switchboard


@contextmanager
def town_here(folder: Path, *, hairpin: bool = False) -> Iterator[LabHere]:
    """A lab in this process, in a thread of its own, whose time passes at once while a command runs in it."""
    with start_blocking_portal("asyncio", {"loop_factory": VirtualLoop}) as portal:

        async def make() -> Switchboard:
            _virtual().impatient.skips = 0  # nobody asks: what others wait for takes its time
            return Switchboard(hairpin=hairpin, clock=VirtualClock())

        board = portal.call(make)
        served, port = portal.start_task(board.serve)
        leave_files(folder, board)
        environment = _environment(folder)
        _LOOPS[environment["HOOPER_LAB"]] = Loop(portal)
        try:
            with without_sockets(port, portal.call(_running), board):
                yield LabHere(environment, folder, board)
        finally:
            del _LOOPS[environment["HOOPER_LAB"]]
            served.cancel()


@dataclass(frozen=True)
class LabProcess(Lab):
    """One that is a process of its own."""

    process: subprocess.Popen[str]


@contextmanager
def start_lab(folder: Path, *options: str) -> Iterator[LabProcess]:
    """A lab in a process of its own."""
    process = warm.start(
        ["lab", "run", "--json", "--while-stdin-open", "--out", str(folder), *options],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdin is not None
    assert process.stdout is not None
    try:
        first = json.loads(process.stdout.readline())
        yield LabProcess(valid("lab-run", first)["env"], folder, process)
    finally:
        process.stdin.close()
        process.wait(10)
        process.stdout.close()
