"""What the environment names: the lab to work in, and the site file. It is read here alone."""

from __future__ import annotations

import os
from pathlib import Path

LAB, SITE = "HOOPER_LAB", "HOOPER_SITE"


def named_lab() -> Path | None:
    """The lab's private file; None: it is about the real network."""
    named = os.environ.get(LAB)
    return Path(named) if named else None


def named_site() -> Path | None:
    """The site file; None: none is named."""
    named = os.environ.get(SITE)
    return Path(named) if named else None


def leave_lab() -> None:
    """What this process does from here on is not about the lab that was named."""
    os.environ.pop(LAB, None)


def without_names() -> dict[str, str]:
    """The environment for a program that is to name its own."""
    return {key: value for key, value in os.environ.items() if key not in (LAB, SITE)}
