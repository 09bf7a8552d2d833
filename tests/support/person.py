"""A person at a terminal who is led by the guide."""

from __future__ import annotations

import os
import pty
import re
import select
import time
from pathlib import Path

from support import warm
from support.program import ROOT


class Person:
    """`hooper guide` in a real terminal, in a folder. lab: its file. wrap: a command to run it inside of."""

    def __init__(self, folder: Path, *, lab: str | None = None, columns: int = 80, wrap: tuple[str, ...] = (),
                 more: tuple[str, ...] = ()) -> None:  # fmt: skip
        self.seen, self.at, self.answers = "", 0, 0
        env = {key: value for key, value in os.environ.items() if key not in ("HOOPER_LAB", "HOOPER_SITE")}
        env |= {"COLUMNS": str(columns), "TERM": "xterm-256color", "LC_ALL": "C.UTF-8",
                "XDG_STATE_HOME": str(folder / "state"), "PYTHONPATH": str(ROOT / "src")}  # fmt: skip
        if lab is not None:
            env["HOOPER_LAB"] = lab
        self.fd, own = pty.openpty()
        try:
            self.process = warm.start(["guide", *more], wrap=wrap, cwd=folder, env=env, stdin=own, stdout=own,
                                      stderr=own, start_new_session=True)  # fmt: skip
        finally:
            os.close(own)

    @property
    def plain(self) -> str:
        """All that was shown, as one line."""
        return re.sub(r"\s+", " ", re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", self.seen))

    def until(self, words: str, patience: float = 60) -> str:
        """What is shown until these words come, after those that were waited for before."""
        end = time.monotonic() + patience
        while (found := self.plain.find(words, self.at)) < 0:
            assert time.monotonic() < end, f"{words!r} did not come: {self.plain[self.at :][-3000:]}"
            if select.select([self.fd], [], [], 0.2)[0]:
                try:
                    self.seen += os.read(self.fd, 65536).decode(errors="replace")
                except OSError:
                    return self.plain[self.at :]
        start, self.at = self.at, found + len(words)
        return self.plain[start : self.at]

    def type(self, text: str) -> None:
        os.write(self.fd, text.encode())

    def answer(self, words: str, typed: str) -> None:
        """Wait for a question, and answer it."""
        self.until(words)
        self.type(f"{typed}\n")
        self.answers += 1

    def ended(self) -> int:
        """The exit code, once the terminal is closed."""
        self.until("\0 never")
        return self.process.wait()
