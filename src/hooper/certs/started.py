"""An order that has not come to its end."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Started:
    """An order that is under way. url: None while the authority has not given one."""

    directory: str
    url: str | None
    names: tuple[str, ...]
