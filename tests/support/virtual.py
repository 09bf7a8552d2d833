"""An event loop whose time passes at once where everybody only waits."""

from __future__ import annotations

import asyncio
import selectors
import time
from collections.abc import Awaitable, Callable, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any, TypeVar

import anyio

T = TypeVar("T")

SETTLING = 0.001  # seconds in which what was sent on the loopback has arrived


class _Impatient(selectors.BaseSelector):
    """A selector that does not wait for a moment: it lets the loop's time be that moment, unless something arrives."""

    def __init__(self) -> None:
        self.inner = selectors.DefaultSelector()
        self.seconds, self.skips = 0.0, 1
        self.settling = SETTLING

    def select(self, timeout: float | None = None) -> list[tuple[selectors.SelectorKey, int]]:
        if timeout is not None and timeout <= 0:
            return self.inner.select(0)
        if timeout is None or self.skips <= 0:
            start = time.monotonic()
            ready = self.inner.select(timeout)
            self.seconds += time.monotonic() - start if timeout is not None else 0
            return ready
        ready = self.inner.select(self.settling)
        if not ready:
            self.seconds += timeout
        return ready

    def register(self, fileobj: Any, events: int, data: Any = None) -> selectors.SelectorKey:
        return self.inner.register(fileobj, events, data)

    def unregister(self, fileobj: Any) -> selectors.SelectorKey:
        return self.inner.unregister(fileobj)

    def modify(self, fileobj: Any, events: int, data: Any = None) -> selectors.SelectorKey:
        return self.inner.modify(fileobj, events, data)

    def close(self) -> None:
        self.inner.close()

    def get_map(self) -> Mapping[Any, selectors.SelectorKey]:
        return self.inner.get_map()


class VirtualLoop(asyncio.SelectorEventLoop):
    """Computing takes no time in it, waiting takes as long as was asked for, and none of it is spent.

    So no deadline is missed because the machine is busy. What another process or thread does is not waited for:
    `skips` is 0 while such a one is asked, and then waiting is waiting.
    """

    def __init__(self) -> None:
        self.impatient = _Impatient()
        super().__init__(self.impatient)
        self._clock_resolution = 1e-6  # after half a year of seconds, a nanosecond is less than a number can tell

    def time(self) -> float:
        return self.impatient.seconds

    async def shutdown_default_executor(self, *arguments: Any) -> None:
        """At the end threads are waited for, which is another's time: newer Pythons give them 300 seconds."""
        self.impatient.skips = 0
        await super().shutdown_default_executor(*arguments)


class VirtualClock:
    """The time of day that goes with it."""

    def __init__(self) -> None:
        self.start = datetime.now(UTC)

    def now(self) -> datetime:
        return self.start + timedelta(seconds=self.monotonic())

    def monotonic(self) -> float:
        try:
            return anyio.current_time()
        except anyio.NoEventLoopError:
            return 0.0

    async def sleep(self, seconds: float) -> None:
        await anyio.sleep(seconds)

    async def sleep_until(self, moment: datetime) -> None:
        await anyio.sleep(max((moment - self.now()).total_seconds(), 0))


class SocketlessLoop(VirtualLoop):
    """For what uses no socket: nothing is on its way anywhere, so that nothing has to settle."""

    def __init__(self) -> None:
        super().__init__()
        self.impatient.settling = 0.0


def run_virtually(work: Callable[..., Awaitable[T]], *arguments: Any, sockets: bool = True) -> T:
    """As anyio.run, in such a loop. sockets: whether any are used."""
    return anyio.run(work, *arguments, backend_options={"loop_factory": VirtualLoop if sockets else SocketlessLoop})
