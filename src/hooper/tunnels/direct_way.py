"""The direct way between two ends of a tunnel: where each is found from outside, and which way between them answers."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from statistics import median

import anyio

from hooper.clock import Clock
from hooper.errors import HooperError
from hooper.line.nat import bound_by, filtering_by, other_place
from hooper.net.stun import new_transaction, stun_answer
from hooper.net.types import Datagram, Datagrams, Door, Endpoint
from hooper.wire.meeting_talk import DEPENDENCE, MOST, MeetingKeys, NatKind, answered, read_try, tried

EVERY_S, WITHIN_S, MORE_S = 0.1, 2.5, 1.2  # between two tries of a way; until none is found; and once one is
ANSWERED = 3.0  # seconds for STUN servers


@dataclass(frozen=True, slots=True)
class WayTried:
    """A way to the other end. to: where it leads. by: "direct", or "relay" by way of the machine between both.

    sent, came: tries, and those that were answered. delay_s: there and back, the middle one of them.
    """

    to: Endpoint
    by: str
    sent: int
    came: int
    delay_s: float

    @property
    def loss(self) -> float:
        """The part of all tries that was not answered."""
        return 1 - self.came / self.sent if self.sent else 0.0


async def outside_of(door: Door, socket: Datagrams, servers: Sequence[Endpoint]) -> tuple[list[Endpoint], NatKind]:
    """Where a port is seen by STUN servers, and what kind of NAT that makes (RFC 5780 sections 4.3 and 4.4).

    Args: socket: of that port. servers: of which two with different addresses are asked. Empty: none answered.
    """
    first = servers[0] if servers else None
    second = next((one for one in servers if first is not None and one.address != first.address), None)
    seen: list[Endpoint] = []
    filtering = [""]

    async def mapped() -> None:
        for server in (first, second):
            came = await bound_by(socket, server) if server is not None else None
            seen.extend([came] if came is not None else [])

    async def filtered(by: Endpoint) -> None:
        try:
            other = other_place(by, await stun_answer(door, by, ANSWERED))
        except HooperError:
            return
        if other is not None and other.address in {one.address for one in servers}:
            filtering[0] = await filtering_by(door, by)

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(mapped)
        if first is not None:
            tasks.start_soon(filtered, first)
    mapping = "" if len(seen) < 2 else DEPENDENCE[0] if seen[0] == seen[1] else "dependent"
    return seen, NatKind(mapping, filtering[0])


@dataclass
class Tries:
    """Tries of all ways to the other end, and its own, answered. ways: by where they lead, direct or relay. found: is
    told the first that answers directly, while the others are still tried.
    """

    socket: Datagrams
    keys: MeetingKeys
    clock: Clock
    ways: dict[Endpoint, str]
    found: Callable[[Endpoint], Awaitable[None]] | None = None
    relayed: bool = False  # the other end's tries came by the machine between both
    _out: dict[bytes, tuple[Endpoint, float]] = field(default_factory=dict)
    _sent: dict[Endpoint, list[bytes]] = field(default_factory=dict)
    _took: dict[Endpoint, list[float]] = field(default_factory=dict)
    _found: anyio.Event = field(default_factory=anyio.Event)

    async def run(self) -> list[WayTried]:
        """The ways that answer, the one with the least delay first."""
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(self._hear)
            tasks.start_soon(self._send)
            with anyio.move_on_after(WITHIN_S):
                await self._found.wait()
            direct = next((to for to in self._took if self.ways[to] == "direct"), None)
            if direct is not None and self.found is not None:
                await self.found(direct)
            await self.clock.sleep(MORE_S)
            tasks.cancel_scope.cancel()
        found = [self._measured(to) for to in self._took]
        return sorted(found, key=lambda way: way.delay_s)

    def _measured(self, to: Endpoint) -> WayTried:
        """Of those tries that had time to be answered; what was sent before both NATs were open is not lost."""
        took = self._took[to]
        opened = next(n for n, mark in enumerate(self._sent[to]) if mark not in self._out)
        late = self.clock.monotonic() - max(3 * median(took), 0.3)
        sent = [mark for mark in self._sent[to][opened:] if mark not in self._out or self._out[mark][1] < late]
        return WayTried(to, self.ways[to], len(sent), len(took), median(took))

    async def _send(self) -> None:
        while True:
            for to, by in list(self.ways.items()):
                mark = new_transaction()
                self._out[mark] = to, self.clock.monotonic()
                self._sent.setdefault(to, []).append(mark)
                await self._say(tried(self.keys, mark, by), to)
            await self.clock.sleep(EVERY_S)

    async def _hear(self) -> None:
        while True:
            came = await self.socket.receive()
            found = read_try(self.keys, came.data) if isinstance(came, Datagram) else None
            if found is None or not isinstance(came, Datagram):
                continue
            if not found.answer:
                await self._say(answered(self.keys, found, (came.sender.address, came.sender.port)), came.sender)
                self.relayed = self.relayed or found.by == "relay"
                if found.by == "direct" and len(self.ways) < 2 * MOST:
                    self.ways.setdefault(came.sender, "direct")  # its NAT has given it another port for us
            elif (out := self._out.pop(found.transaction, None)) is not None:
                self._took.setdefault(out[0], []).append(self.clock.monotonic() - out[1])
                if found.by == "direct":
                    self._found.set()

    async def _say(self, data: bytes, to: Endpoint) -> None:
        try:
            await self.socket.send(data, to)
        except HooperError:  # no way there: as one that is lost
            return


def best_of(ways: Sequence[WayTried], by: str) -> WayTried | None:
    """The one with the least delay of a kind; None: none answers."""
    return next((way for way in ways if way.by == by and way.came), None)


def ways_to(spots: Sequence[Endpoint], relay: Endpoint | None) -> Mapping[Endpoint, str]:
    """What is tried. spots: where the other end says that it is."""
    found = dict.fromkeys(spots[:MOST], "direct")
    return {**found, **({relay: "relay"} if relay is not None and relay not in found else {})}
