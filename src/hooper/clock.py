"""Time as it is handed to everything that needs it; nothing below reads the system's clock by itself."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Protocol

AHEAD = timedelta(seconds=5)


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
    """The clock of this machine."""

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


def local(moment: datetime | str, form: str = "%Y-%m-%d %H:%M") -> str:
    """A moment as people read it, by the wall clock here. What is kept and what programs read is UTC (`rfc3339`).

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
