"""The one acceptor for all that listens: whoever comes, and however many, one connection ends and nothing else.

Connections are bounded in all before one is taken from the system, and for each address once it is known. Where there
is no room, one of the network and of the address that have the most makes it: the oldest that has said nothing, else
the oldest. So who comes to speak is served beside any number of strangers.
"""

from __future__ import annotations

import math
import sys
from collections import defaultdict
from collections.abc import Awaitable, Callable, Hashable, Mapping
from contextlib import suppress
from typing import TYPE_CHECKING, Any, Never

import anyio
from anyio.abc import ByteStream

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.net.types import Endpoint, Listener

AT_ONCE, OF_EACH = 128, 64  # connections; of one address
FIRST_S = 3.0  # seconds for a first byte
GRACE_S = 0.25  # seconds in which nobody is called silent
LAST_S = 1.0  # seconds for a stream to close


class _Bounded:
    """Guests of whom so many may be there, oldest first; who said nothing yet stands in `silent` too."""

    def __init__(self) -> None:
        self.all: dict[Guest, None] = {}
        self.silent: dict[Guest, None] = {}

    async def make_room(self) -> None:
        """End the oldest that had time to say something and did not, else the oldest."""
        oldest = next(iter(self.silent), None)
        if oldest is None or oldest.came >= anyio.current_time() - GRACE_S:
            oldest = next(iter(self.all))
        oldest.scope.cancel()
        await oldest.ended.wait()


class Guest(ByteStream):
    """A connection that came in, with its first bytes."""

    def __init__(self, stream: ByteStream, peer: Endpoint, *bounds: _Bounded) -> None:
        self._stream, self._first, self.peer, self._bounds = stream, b"", peer, bounds
        self.scope = anyio.CancelScope()
        self.came, self.ended = anyio.current_time(), anyio.Event()
        for bound in bounds:
            bound.all[self] = bound.silent[self] = None

    async def begin(self, seconds: float) -> bool:
        """Wait for its first bytes; whether any came."""
        with anyio.move_on_after(seconds):
            self._first = await self._stream.receive()
        if self._first:
            for bound in self._bounds:
                bound.silent.pop(self, None)
        return bool(self._first)

    def stay(self) -> None:
        """It has shown that it may, and is not bounded any more; or it is gone."""
        for bound in self._bounds:
            bound.all.pop(self, None)
            bound.silent.pop(self, None)

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
    most = min(at_once, affordable())
    everybody = _Bounded()
    networks: defaultdict[Hashable, _Bounded] = defaultdict(_Bounded)
    addresses: defaultdict[Hashable, _Bounded] = defaultdict(_Bounded)

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
            guest.stay()
            for bounds, key in ((networks, _network(guest.peer.address)), (addresses, guest.peer.address)):
                if not bounds[key].all:
                    del bounds[key]
            guest.ended.set()

    async with anyio.create_task_group() as tasks:
        while True:
            while len(everybody.all) >= most:
                crowd = max(networks.values(), key=lambda one: len(one.all))
                same = max((addresses[guest.peer.address] for guest in crowd.all), key=lambda one: len(one.all))
                await (same if len(crowd.all) > 1 else everybody).make_room()
            stream, peer = await listener.accept()
            same = addresses[peer.address]
            tasks.start_soon(one, Guest(stream, peer, everybody, networks[_network(peer.address)], same))
            if len(same.all) > of_each:
                await same.make_room()
    raise AssertionError


def _network(address: IPAddress) -> Hashable:
    """What is mostly one subscriber's or one provider's: 24 bits of an IPv4 address, 48 of an IPv6 address."""
    return address.version, int(address) >> (8 if address.version == 4 else 80)


def affordable() -> int:
    """How many connections leave this process enough descriptors for everything else."""
    if sys.platform == "win32":
        return AT_ONCE * 8
    import resource

    soft = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
    return max(8, soft // 4) if 0 < soft < math.inf else AT_ONCE * 8
