"""One run at a time: waiting for what another run of Hooper holds."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from hooper.clock import Clock
from hooper.errors import MachineError
from hooper.files import Lock

PATIENCE = 30.0  # seconds
LOOK_EVERY = 0.05  # seconds


class Busy(MachineError):
    """Another run of Hooper holds what this one needs."""

    code = "busy"
    remedy = "Wait until it has ended, then run the command again."


@asynccontextmanager
async def alone(lock: Lock, clock: Clock, what: str, patience: float = PATIENCE) -> AsyncIterator[None]:
    """The only run that does this. what: in words, as in "is changing the router". patience: seconds. Raises: Busy."""
    end = clock.monotonic() + patience
    while not lock.take():
        if clock.monotonic() >= end:
            raise Busy(f"another run {what}, for more than {patience:g} s now")
        await clock.sleep(LOOK_EVERY)
    try:
        yield
    finally:
        lock.free()
