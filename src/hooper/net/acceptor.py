"""The one acceptor for all that listens: whoever comes, and however many, one connection ends and nothing else.

Connections are bounded in all before one is taken from the system, and for each address once it is known. To make room,
the oldest that has said nothing goes first, so that who comes to speak is served beside any number of idle strangers.
"""

from __future__ import annotations

import math
import sys
from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress
from typing import Any, Never

import anyio
from anyio.abc import ByteStream

from hooper.net.types import Endpoint, Listener

AT_ONCE, OF_EACH = 128, 64  # connections; of one address
FIRST_S = 3.0  # seconds for a first byte
GRACE_S = 0.25  # seconds in which nobody is called silent
LAST_S = 1.0  # seconds for a stream to close


class Guest(ByteStream):
    """A connection that came in, with its first bytes."""

    def __init__(self, stream: ByteStream, peer: Endpoint) -> None:
        self._stream, self._first, self.peer = stream, b"", peer
        self.scope = anyio.CancelScope()
        self.spoke = self.stays = False  # stays: it has shown that it may, and is not bounded any more
        self.came, self.ended = anyio.current_time(), anyio.Event()

    async def begin(self, seconds: float) -> bool:
        """Wait for its first bytes; whether any came."""
        with anyio.move_on_after(seconds):
            self._first = await self._stream.receive()
        self.spoke = bool(self._first)
        return self.spoke

    async def receive(self, max_bytes: int = 65536) -> bytes:
        if self._first:
            data, self._first = self._first[:max_bytes], self._first[max_bytes:]
            return data
        return await self._stream.receive(max_bytes)

    async def send(self, item: bytes) -> None:
        await self._stream.send(item)

    async def send_eof(self) -> None:
        await self._stream.send_eof()

    async def aclose(self) -> None:
        with anyio.CancelScope(shield=True), anyio.move_on_after(LAST_S), suppress(Exception):
            await anyio.aclose_forcefully(self._stream)

    @property
    def extra_attributes(self) -> Mapping[Any, Callable[[], Any]]:
        return self._stream.extra_attributes


async def accept_all(
    listener: Listener,
    served: Callable[[Guest], Awaitable[None]],
    *,
    at_once: int = AT_ONCE,
    of_each: int = OF_EACH,
    silent: Callable[[Endpoint], None] | None = None,
) -> Never:
    """Serve whoever comes, until it is cancelled. `served` sets the deadline of what it does.

    Args: silent: told of who came and said nothing. Raises: what the listener raises, such as LabGone.
    """
    most = min(at_once, _affordable())
    guests: dict[int, Guest] = {}  # oldest first

    async def one(guest: Guest) -> None:
        try:
            with guest.scope:
                if await guest.begin(FIRST_S):
                    await served(guest)
                elif silent is not None:
                    silent(guest.peer)
        except Exception:  # whatever a stranger brings about, it ends that one connection
            return
        finally:
            await guest.aclose()
            guests.pop(id(guest), None)
            guest.ended.set()

    async with anyio.create_task_group() as tasks:
        while True:
            while _bounded(guests) >= most:
                await _make_room(list(guests.values()))
            guest = Guest(*await listener.accept())
            guests[id(guest)] = guest
            tasks.start_soon(one, guest)
            same = [other for other in guests.values() if other.peer.address == guest.peer.address and not other.stays]
            if len(same) > of_each:
                await _make_room(same)
    raise AssertionError


def _bounded(guests: Mapping[int, Guest]) -> int:
    return sum(not guest.stays for guest in guests.values())


async def _make_room(guests: list[Guest]) -> None:
    """End the oldest that had time to say something and did not, else the oldest."""
    bounded = [guest for guest in guests if not guest.stays]
    late = anyio.current_time() - GRACE_S
    oldest = next((guest for guest in bounded if not guest.spoke and guest.came < late), bounded[0])
    oldest.scope.cancel()
    await oldest.ended.wait()


def _affordable() -> int:
    """How many connections leave this process enough descriptors for everything else."""
    if sys.platform == "win32":
        return AT_ONCE * 8
    import resource

    soft = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
    return max(8, soft // 4) if 0 < soft < math.inf else AT_ONCE * 8
