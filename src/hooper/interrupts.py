"""A signal that ends a command, and whether one has come: what a library wraps it up in keeps its name alone."""

from __future__ import annotations

from typing import Any, NoReturn

_came = False


def interrupt(number: int, frame: Any) -> NoReturn:
    """A signal's handler. Raises: KeyboardInterrupt."""
    global _came
    _came = True
    raise KeyboardInterrupt


def came() -> bool:
    """Whether this process was told to end."""
    return _came
