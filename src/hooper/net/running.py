"""Running a command's asynchronous work so that an interrupt always ends it."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Awaitable, Callable
from contextlib import suppress
from typing import Any, TypeVar

import anyio

from hooper import interrupts

T = TypeVar("T")


def ending_signals() -> tuple[signal.Signals, ...]:
    """The signals that end a command, all in the same way; one that was ignored from the start stays so (nohup)."""
    known = [signal.SIGINT, signal.SIGTERM, *([signal.SIGHUP] if hasattr(signal, "SIGHUP") else [])]
    return tuple(number for number in known if signal.getsignal(number) is not signal.SIG_IGN)


async def interruptible(work: Callable[..., Awaitable[T]], arguments: tuple[Any, ...]) -> T:
    """Raises: KeyboardInterrupt: a signal came, and the work has tidied up.

    asyncio cancels the main task once. Where a task group ends with an error at that moment, the interrupt is lost
    with the cancellation. A scope goes on cancelling until the work is left.
    """
    loop, numbers = asyncio.get_running_loop(), ending_signals()
    with anyio.CancelScope() as scope:

        def interrupt() -> None:
            scope.cancel()
            for number in numbers:  # whoever cannot wait for the tidying up says so again
                loop.remove_signal_handler(number)
                signal.signal(number, interrupts.interrupt)

        with suppress(NotImplementedError, ValueError, RuntimeError):  # Windows; not in the main thread
            for number in numbers:
                loop.add_signal_handler(number, interrupt)
        try:
            return await work(*arguments)
        finally:
            with suppress(NotImplementedError, ValueError, RuntimeError):
                for number in numbers:  # the loop's end would leave them as the system has them
                    loop.remove_signal_handler(number)
                    signal.signal(number, interrupts.interrupt)
    raise KeyboardInterrupt
