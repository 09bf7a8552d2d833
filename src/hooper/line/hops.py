"""The routers that reveal themselves on the way: datagrams that may make few hops only, and who says so."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.line.facts import Hops
from hooper.net.exchange import moments
from hooper.net.types import Datagrams, Door, Endpoint, NoRoute, Rejected, Unreachable

FIRST_PORT = 33434  # where the trade sends such datagrams: nothing listens there
FARTHEST = 8  # hops; more routers than that stand behind no provider's door
ROUNDS, PATIENCE = (0.0, 0.3), 0.8  # seconds
CONFIRMED_WITHIN, TRIES = 0.4, 3  # seconds, and how often
TIME_EXCEEDED, UNREACHABLE, NO_WAY = 11, 3, (0, 6)  # ICMP types, and codes of the second, RFC 792 and RFC 1122


def without_way(problem: HooperError) -> IPAddress | None:
    """The router that says that it has no way there. It says so once in a while only: what asks first hears of it."""
    icmp = problem.icmp if isinstance(problem, Unreachable) else None
    refused = icmp is not None and icmp.type == UNREACHABLE and icmp.code in NO_WAY
    return problem.by if refused and isinstance(problem, Unreachable) else None


async def trace(door: Door, to: IPAddress, patience: float = PATIENCE) -> Hops | None:
    """Who reveals itself on the way to `to`; None: this system does not tell of ICMP errors.

    Needs no privileges: one socket for each number of hops (RFC 792 time exceeded, RFC 8200 for IPv6 is not asked).
    patience: seconds for all hops together.
    """
    if not door.hears_icmp or to.version != 4:
        return None
    said = await _at_hops(door, [(to, limit) for limit in range(1, FARTHEST + 1)], patience)
    seen: list[IPAddress | None] = [None] * FARTHEST
    arrived, no_way = None, None
    for (_, limit), one in sorted(said.items(), key=lambda item: item[0][1]):
        if one.icmp.type == TIME_EXCEEDED:
            seen[limit - 1] = one.by
        elif one.icmp.type == UNREACHABLE and one.by == to:
            arrived = arrived or limit
        elif one.icmp.type == UNREACHABLE and one.icmp.code in NO_WAY:
            no_way = no_way or one.by
    return Hops(to, tuple(seen), arrived, no_way)


async def confirm(door: Door, to_self: Hops, outward: Hops) -> tuple[Hops, bool]:
    """Look again at the hop by which NATs are counted: routers say these things a few times a second only, so that one
    that keeps silent may just have said enough. Returns the way to oneself, and whether the count can be trusted.
    """
    for _ in range(TRIES):
        limit = next((n for n, one in enumerate(outward.seen, 1) if one is not None and n > to_self.last), None)
        if limit is None or to_self.arrived is not None:
            return to_self, to_self.arrived is not None
        said = await _at_hops(door, [(to_self.to, limit), (outward.to, limit)], CONFIRMED_WITHIN)
        again = said.get((to_self.to, limit))
        if again is not None and again.icmp.type == TIME_EXCEEDED:
            seen = (*to_self.seen[: limit - 1], again.by, *to_self.seen[limit:])
            to_self = replace(to_self, seen=seen)
        elif (outward.to, limit) in said:
            return to_self, True
        elif again is None:
            return to_self, False
    return to_self, False


async def holds(door: Door, to_self: Hops, outward: Hops | None) -> bool:
    """Whether the NATs can still be counted by hops that were read before: one look at the hops that decide."""
    last = to_self.arrived or to_self.last
    further = outward.seen[last:] if outward is not None else ()
    beyond = next((number for number, one in enumerate(further, last + 1) if one is not None), None)
    expected: dict[tuple[IPAddress, int], IPAddress | None] = {}
    if last:
        expected[to_self.to, last] = to_self.to if to_self.arrived is not None else to_self.seen[last - 1]
    if outward is not None and beyond is not None:
        expected[outward.to, beyond] = outward.seen[beyond - 1]
        if to_self.arrived is None:
            expected[to_self.to, beyond] = None  # the last NAT is passed before, or swallows it
    said = await _at_hops(door, list(expected), CONFIRMED_WITHIN)
    return bool(expected) and all((said[key].by if key in said else None) == by for key, by in expected.items())


async def _at_hops(
    door: Door, wanted: Sequence[tuple[IPAddress, int]], patience: float
) -> dict[tuple[IPAddress, int], Rejected]:
    """What comes back of datagrams to each address that may make that many hops. patience: seconds."""
    found: dict[tuple[IPAddress, int], Rejected] = {}

    async def one(to: IPAddress, limit: int) -> None:
        try:
            async with await door.datagrams(hop_limit=limit) as socket:
                said = await _rejected(socket, Endpoint(to, FIRST_PORT + limit))
        except HooperError:
            return
        if said is not None:
            found[to, limit] = said

    with anyio.move_on_after(patience):
        async with anyio.create_task_group() as tasks:
            for to, limit in wanted:
                tasks.start_soon(one, to, limit)
    return found


async def _rejected(socket: Datagrams, target: Endpoint) -> Rejected | None:
    """Send to `target` until an ICMP error comes, however long that takes; None: nothing left this computer."""
    found: list[Rejected] = []

    async def listen(scope: anyio.CancelScope) -> None:
        while not found:
            came = await socket.receive()
            if isinstance(came, Rejected) and came.to in (None, target):
                found.append(came)
        scope.cancel()

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(listen, tasks.cancel_scope)
        async for _ in moments(ROUNDS):
            try:
                await socket.send(b"hooper", target)
            except NoRoute:
                tasks.cancel_scope.cancel()
    return found[0] if found else None
