"""Time as it is handed to everything that needs it: nothing below reads the system clock by itself. And durations as
people write and read them: 5, 5s, 2m, 1h, 3d, 1w.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import NamedTuple, Protocol

AHEAD = timedelta(seconds=5)


class Awake(NamedTuple):
    """up_s: seconds since a computer was started. slept_s: of them, asleep."""

    up_s: float
    slept_s: float


class Clock(Protocol):
    """One source of time. The lab has its own, which can be moved."""

    def now(self) -> datetime:
        """The time of day, in UTC."""
        ...

    def monotonic(self) -> float:
        """Seconds since some moment; never goes back. Only while an event loop runs, whose time it is."""
        ...

    async def sleep(self, seconds: float) -> None:
        """Return once so many seconds have passed."""
        ...

    async def sleep_until(self, moment: datetime) -> None:
        """Return once now() has reached `moment`; at once if it has already."""
        ...


class SystemClock:
    """The clock of this computer."""

    def now(self) -> datetime:
        return datetime.now(UTC)

    def monotonic(self) -> float:
        import anyio

        return anyio.current_time()

    async def sleep(self, seconds: float) -> None:
        import anyio

        await anyio.sleep(seconds)

    async def sleep_until(self, moment: datetime) -> None:
        import anyio

        while (left := (moment - self.now()).total_seconds()) > 0:  # noqa: ASYNC110 - there is no event to wait for
            await anyio.sleep(min(left, 60.0))  # in short naps: the system's clock may be set meanwhile


def time_left(clock: Clock, started: float, deadline: float, least: float = 1.0) -> float:
    """Seconds of `deadline` that are left since `started` (monotonic), and `least` of them in any case."""
    return max(least, deadline - (clock.monotonic() - started))


def rfc3339(moment: datetime) -> str:
    """`moment` in UTC to the second (RFC 3339 section 5.6), such as 2026-05-01T09:30:00Z."""
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


DAY = "%Y-%m-%d"


def local(moment: datetime | str, form: str = "%Y-%m-%d %H:%M %Z") -> str:
    """A moment as people read it, by the wall clock here, with its zone. What is kept and what programs read is UTC
    (`rfc3339`).

    Raises: ValueError: it is none.
    """
    return (read_moment(moment) if isinstance(moment, str) else moment).astimezone().strftime(form)


def later(moment: datetime, now: datetime) -> bool:
    """Whether something is dated later than now, by more than two clocks may differ: then its date is not known."""
    return moment - now > AHEAD


def read_moment(text: str) -> datetime:
    """A moment as `rfc3339` writes it. Raises: ValueError, TypeError: it is none."""
    moment = datetime.fromisoformat(text)
    if moment.tzinfo is None:
        raise ValueError(f"no time zone: {text!r}")
    return moment


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
