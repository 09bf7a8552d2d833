"""Durations as people write and read them: 5, 5s, 2m, 1h, 3d, 1w. Pure."""

from __future__ import annotations

import re

UNITS = {"ms": 0.001, "s": 1, "m": 60, "h": 3_600, "d": 86_400, "w": 604_800}
_FORM = re.compile(r"([0-9]{1,9}(?:\.[0-9]{1,6})?)\s*(ms|s|m|h|d|w)?")


def parse_duration(text: str) -> float:
    """Seconds; a number alone is seconds. Raises: ValueError: it is no duration."""
    match = _FORM.fullmatch(text.strip().lower())
    if match is None:
        raise ValueError(f"{text!r} is not a duration")
    return float(match[1]) * UNITS[match[2] or "s"]


def shown_duration(seconds: float) -> str:
    """In the largest unit that is right enough: 90s, 5m, 36h, 7d, 3w."""
    for unit in ("w", "d", "h", "m"):
        whole = seconds / UNITS[unit]
        if whole >= 1 and (whole == int(whole) or whole >= (14 if unit == "w" else 2)):
            return f"{whole:.0f}{unit}"
    return f"{seconds:g}s"
