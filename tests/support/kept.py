"""A keeper as a process."""

from __future__ import annotations

import json
import os
import queue
import subprocess
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from support import warm

Line = dict[str, Any]


class Kept:
    """A keeper as a process, and the lines that it prints, with the moment at which each came."""

    def __init__(
        self,
        sites: Sequence[Path],
        state: Path,
        *more: str,
        wrap: Sequence[str] = (),
        env: dict[str, str] | None = None,
    ) -> None:
        """wrap: words in front of the command. env: variables beside this process's."""
        given = (*map(str, sites), "--state", str(state), "-q", "--json", *more)
        self.process = warm.start(
            ["keep", *given], wrap=wrap, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            env={**os.environ, **(env or {})},
        )  # fmt: skip
        self.lines: queue.Queue[tuple[float, dict[str, Any]]] = queue.Queue()
        self.seen: list[dict[str, Any]] = []
        self.ended: tuple[int, str] | None = None
        self.reader = threading.Thread(target=self._read, daemon=True)
        self.reader.start()

    def _read(self) -> None:
        assert self.process.stdout is not None
        for text in self.process.stdout:
            self.lines.put((time.monotonic(), json.loads(text)))

    def until(self, wanted: Any, within: float = 20.0) -> tuple[float, dict[str, Any]]:
        """The first line from here on that fits, and when it came."""
        end = time.monotonic() + within
        while True:
            try:
                at, line = self.lines.get(timeout=max(end - time.monotonic(), 0.001))
            except queue.Empty:
                told = "\n".join(map(str, self.seen[-12:]))
                raise AssertionError(f"no such line within {within} s; the last were:\n{told}") from None
            self.seen.append(line)
            if wanted(line):
                return at, line

    def all(self, *wanted: Any) -> None:
        """Until each of these was there, in whatever order."""
        for fits in wanted:
            if not any(map(fits, self.seen)):
                self.until(fits)

    def close(self) -> tuple[int, str]:
        """Its exit code, and what it had to say beside its lines."""
        if self.ended is not None:
            return self.ended
        self.process.terminate()
        code = self.process.wait(20)
        self.reader.join(5)
        assert self.process.stdout is not None
        assert self.process.stderr is not None
        said = self.process.stderr.read()
        self.process.stdout.close()
        self.process.stderr.close()
        self.ended = code, said
        return self.ended


def is_done(task: str) -> Callable[[Line], bool]:
    """A line that says that a task was done."""
    return lambda line: bool(line["said"] == "done" and line["task"] == task)


def changed(kind: str, after: str) -> Callable[[Line], bool]:
    """A line that says that something of a kind is so now."""
    return lambda line: bool(line["change"]) and (line["change"]["kind"], line["change"]["after"]) == (kind, after)
