"""What is longer than the screen, through the person's pager."""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING

from hooper.store.preferences import preferences

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen


def paged(screen: Screen, draw: Callable[[], None]) -> None:
    """Draw on the screen; where that is longer than it and a pager is named, the pager shows it."""
    wanted = preferences().pager
    command = os.environ.get("PAGER", "") if wanted is None else wanted
    if not command.strip() or not sys.stdin.isatty():
        draw()
        return
    with screen.capture() as captured:
        draw()
    text = captured.get()
    if text.count("\n") < shutil.get_terminal_size().lines or not _shown_by(command, text):
        screen.file.write(text)


def _shown_by(command: str, text: str) -> bool:
    """Whether the pager ran; one that is left before the end has done its work."""
    sys.stdout.flush()
    try:
        process = subprocess.Popen(  # noqa: S603 - the person's own
            shlex.split(command), stdin=subprocess.PIPE, env={"LESS": "FRX", **os.environ}
        )
    except (OSError, ValueError):  # there is no such program, or that is no command
        return False
    with contextlib.suppress(BrokenPipeError):
        process.communicate(text.encode(sys.stdout.encoding or "utf-8", "backslashreplace"))
    return True
