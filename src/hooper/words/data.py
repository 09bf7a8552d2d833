"""The files of words, read when they are needed. Pure."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any


def text(name: str) -> str:
    """What stands in a file of this folder."""
    return Path(__file__).with_name(name).read_text(encoding="utf-8")


@cache
def data(name: str) -> dict[str, Any]:
    """What stands in NAME.json of this folder."""
    found: dict[str, Any] = json.loads(text(f"{name}.json"))
    return found
