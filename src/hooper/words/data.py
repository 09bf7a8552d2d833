"""The files of words, read when they are needed. Pure."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any


@cache
def data(name: str) -> dict[str, Any]:
    """What stands in NAME.json of this folder."""
    found: dict[str, Any] = json.loads(Path(__file__).with_name(f"{name}.json").read_bytes())
    return found
