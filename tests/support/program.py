"""The program as a user runs it: a subprocess, its output, its exit code."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import anyio
from jsonschema import Draft202012Validator

from hooper.net.lab import LabLink, read_lab_file

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


def hooper(
    *arguments: str,
    env: dict[str, str] | None = None,
    stdin: str = "",
    cwd: Path | None = None,
    wrap: tuple[str, ...] = (),
    timeout: float = 60,
) -> Ran:
    """Run hooper. wrap: a command to run it inside of, such as ip netns exec."""
    done = subprocess.run(
        [*wrap, sys.executable, "-m", "hooper", *arguments],
        input=stdin,
        capture_output=True,
        text=True,
        encoding="utf-8",
        cwd=cwd,
        timeout=timeout,
        env={**os.environ, **(env or {})},
    )
    assert "Traceback" not in done.stderr, done.stderr
    assert "Traceback" not in done.stdout, done.stdout
    return Ran(done.returncode, done.stdout, done.stderr)


def valid(name: str, document: Any) -> Any:
    """`document`, once it has matched the shipped schema of that name."""
    schema = json.loads((ROOT / "docs" / "schemas" / f"{name}.schema.json").read_text(encoding="utf-8"))
    Draft202012Validator.check_schema(schema)
    Draft202012Validator(schema).validate(document)
    return document


@dataclass(frozen=True)
class Lab:
    """A running lab, from another terminal's point of view."""

    env: dict[str, str]
    folder: Path
    process: subprocess.Popen[str]

    def run(self, *arguments: str, stdin: str = "", **more: str) -> Ran:
        return hooper(*arguments, env={**self.env, **more}, stdin=stdin)

    def enter_sheets(self) -> Ran:
        return self.run("lab", "type", "-", "--json", stdin=self.run("worksheet", "--json").out)

    def ask(self, do: str, **more: Any) -> Any:
        """Say one verb to the lab from this process: what prepares a test needs no program of its own."""
        link = LabLink(read_lab_file(Path(self.env["HOOPER_LAB"])))

        async def say() -> Any:
            return await link.ask(do, **more)

        return anyio.run(say)

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


@contextmanager
def start_lab(folder: Path, *options: str) -> Iterator[Lab]:
    process = subprocess.Popen(
        [sys.executable, "-m", "hooper", "lab", "run", "--json", "--while-stdin-open", "--out", str(folder), *options],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdin is not None
    assert process.stdout is not None
    try:
        first = json.loads(process.stdout.readline())
        yield Lab(valid("lab-run", first)["env"], folder, process)
    finally:
        process.stdin.close()
        process.wait(10)
        process.stdout.close()
