"""How the NAT on the way behaves: mapping, filtering, hairpin (RFC 5780, RFC 4787), and which ports it gives out."""

from __future__ import annotations

import random
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from itertools import pairwise

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError, MachineError, WireError
from hooper.line.facts import Dependence, NatBehaviour
from hooper.net.exchange import exchange_by, moments
from hooper.net.stun import new_transaction
from hooper.net.types import Datagram, Datagrams, Door, Endpoint, NoRoute
from hooper.wire import stun

ROUNDS, PATIENCE = (0.0, 0.3, 0.8), 1.5  # seconds; silence is an answer here, so it is waited for
SAMPLES = 6  # outside ports that are looked at
FEWEST_BITS = 4  # of a port that are always the same, before it is no chance: a sixteenth of all ports or less


async def nat_behaviour(door: Door, server: Endpoint, answer: stun.Message, named: Sequence[Endpoint]) -> NatBehaviour:
    """All tests side by side.

    Args: server, answer: a server that answered, and its answer. named: the servers that may be asked: what the
    server's other address offers is taken up only if that is one of them.
    """
    found: dict[str, NatBehaviour] = {}
    other = other_place(server, answer)

    async def mapping() -> None:
        found["mapping"] = await _mapping(door, server, other, named)

    async def filtering() -> None:
        found["filtering"] = NatBehaviour(filtering=await filtering_by(door, server)) if other else NatBehaviour()

    async def hairpin() -> None:
        found["hairpin"] = NatBehaviour(hairpin=await _hairpin(door, server))

    async def ports() -> None:
        samples = await _sampled(door, server)
        kept = all(inside == outside for inside, outside in samples) if samples else None
        found["ports"] = NatBehaviour(ports_kept=kept, own_ports=common_ports(samples))

    async with anyio.create_task_group() as tasks:
        for test in (mapping, filtering, hairpin, ports):
            tasks.start_soon(test)
    notes = [found["mapping"].note]
    if other is None:
        notes.append(f"{server} has no other address to answer from, so filtering cannot be told")
    works, filters = found["hairpin"].hairpin, found["filtering"].filtering
    if works is False and filters != "endpoint-independent":
        works = None  # the filter may have dropped the test, and let forwarded ports through
        notes.append("whether hairpin works cannot be told so: try a forwarded port from inside")
    return replace(
        found["ports"],
        mapping=found["mapping"].mapping,
        filtering=filters,
        hairpin=works,
        note="; ".join(filter(None, notes)),
    )


def other_place(server: Endpoint, answer: stun.Message) -> Endpoint | None:
    """The server's other address and port; None: it has none that is of use."""
    try:
        other = answer.other_address()
    except WireError:
        return None
    if other is None or other[0] == server.address or other[1] == server.port or other[0].version != 4:
        return None  # some name themselves
    return Endpoint(*other)


async def _mapping(door: Door, server: Endpoint, other: Endpoint | None, named: Sequence[Endpoint]) -> NatBehaviour:
    """RFC 5780 section 4.3: what one socket looks like from up to three places, asked in the standard's order."""
    addresses = {endpoint.address for endpoint in named}
    if other is not None and other.address in addresses:
        second, third = Endpoint(other.address, server.port), other
    else:
        elsewhere = next(
            (endpoint for endpoint in named if endpoint.address != server.address and endpoint.address.version == 4),
            None,
        )
        if elsewhere is None:
            hint = f", such as its other one, {other.address}:{server.port}" if other is not None else ""
            return NatBehaviour(note=f"mapping needs a second STUN address in [measure]{hint}")
        second, third = elsewhere, None
    async with await door.datagrams() as socket:
        first_seen = await bound_by(socket, server)
        second_seen = await bound_by(socket, second)
        if first_seen is None or second_seen is None:
            return NatBehaviour(note=f"{second if first_seen else server} did not answer, so mapping cannot be told")
        if first_seen == second_seen:
            return NatBehaviour(mapping="endpoint-independent")
        third_seen = await bound_by(socket, third) if third is not None else None
    if third_seen is None:
        return NatBehaviour(note="mapping depends on the far end; on what of it cannot be told")
    return NatBehaviour(mapping="address-dependent" if second_seen == third_seen else "address-and-port-dependent")


async def filtering_by(door: Door, server: Endpoint) -> Dependence:
    """RFC 5780 section 4.4, each test with a socket of its own: one that was used before has let answers in."""
    came: dict[str, bool] = {}

    async def test(name: str, *, address: bool) -> None:
        wish = stun.change_request(address=address, port=True)
        async with await door.datagrams() as socket:
            came[name] = await bound_by(socket, server, wish) is not None

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(lambda: test("address", address=True))
        tasks.start_soon(lambda: test("port", address=False))
    if came["address"]:
        return "endpoint-independent"
    return "address-dependent" if came["port"] else "address-and-port-dependent"


async def _hairpin(door: Door, server: Endpoint) -> bool | None:
    """RFC 5780 section 4.5: whether one socket reaches another at its outside address. None: not known.

    Both send to the other, so that a filter has seen them; one arrival is enough.
    """
    async with await door.datagrams() as one, await door.datagrams() as two:
        outside_one, outside_two = await bound_by(one, server), await bound_by(two, server)
        if outside_one is None or outside_two is None:
            return None
        mark = new_transaction()
        message = stun.Message(stun.BINDING_REQUEST, mark).serialize()
        arrived: list[bool] = []

        async def listen(socket: Datagrams, scope: anyio.CancelScope) -> None:
            while not arrived:
                came = await socket.receive()
                if isinstance(came, Datagram) and mark in came.data:
                    arrived.append(True)
            scope.cancel()

        with anyio.move_on_after(PATIENCE):
            async with anyio.create_task_group() as tasks:
                tasks.start_soon(listen, one, tasks.cancel_scope)
                tasks.start_soon(listen, two, tasks.cancel_scope)
                async for _ in moments(ROUNDS):
                    with suppress(NoRoute):
                        await one.send(message, outside_two)
                        await two.send(message, outside_one)
    return bool(arrived)


async def _sampled(door: Door, server: Endpoint) -> list[tuple[int, int]]:
    """Inside and outside ports of a few sockets, in the order of asking."""
    inside_ports = spread_ports()
    found: list[tuple[int, int, int]] = []

    async def one(number: int) -> None:
        port = inside_ports[number]
        own = await door.source_towards(server.address)
        if own is None:
            return
        try:
            async with await door.datagrams(local=Endpoint(own, port)) as socket:
                if (seen := await bound_by(socket, server)) is not None:
                    found.append((number, port, seen.port))
        except MachineError:
            return  # somebody else on this computer has the port

    async with anyio.create_task_group() as tasks:
        for number in range(SAMPLES):
            tasks.start_soon(one, number)
    return [(inside, outside) for _, inside, outside in sorted(found)]


async def bound_by(socket: Datagrams, server: Endpoint, *attributes: tuple[int, bytes]) -> Endpoint | None:
    """What the socket looks like from `server`, wherever that answers from; None: no answer came."""
    transaction = new_transaction()

    def mapped(came: Datagram) -> tuple[IPAddress, int] | None:
        try:
            message = stun.Message.parse(came.data)
            fits = message.transaction_id == transaction and message.kind == stun.BINDING_SUCCESS
            return message.mapped_address() if fits else None
        except WireError:
            return None

    request = stun.Message(stun.BINDING_REQUEST, transaction, attributes).serialize()
    try:
        came = await exchange_by(
            socket, server, request, schedule=ROUNDS, deadline=PATIENCE, matches=lambda came: mapped(came) is not None
        )
    except HooperError:
        return None
    seen = mapped(came)
    return Endpoint(*seen) if seen is not None else None


def spread_ports() -> list[int]:
    """Ports far apart, none of whose bits is the same in all, nor in all but one, whose answer may be lost: else what
    outside ports have in common could be by chance what these have.
    """
    step = (65536 - 1024) // SAMPLES
    while True:
        ports = [1024 + number * step + random.randrange(step) for number in range(SAMPLES)]  # noqa: S311 - no secret
        if all(2 <= sum(port >> bit & 1 for port in ports) <= SAMPLES - 2 for bit in range(16)):
            return ports


def _alike(ports: Sequence[int], bit: int) -> bool:
    return all((port ^ ports[0]) >> bit & 1 == 0 for port in ports)


def common_ports(samples: Sequence[tuple[int, int]]) -> str | None:
    """What the outside ports of `samples` have in common that the inside ones do not, where it is too much for chance.

    Lines that share an IPv4 address have a part of its ports, told by bits in their middle or at their front (RFC 7597
    section 5.1). A NAT that counts its ports up has some in common too, but those follow each other.
    Args: samples: inside and outside ports, in the order of asking.
    """
    outside = sorted({port for _, port in samples})
    if len(outside) < SAMPLES - 1 or max(after - before for before, after in pairwise(outside)) <= 4:
        return None  # too few, or counted up
    inside = [port for port, _ in samples]
    same = [_alike(outside, bit) and not _alike(inside, bit) for bit in range(16)]
    run, best = 0, (0, 0)
    for bit, fixed in enumerate(same):
        run = run + 1 if fixed else 0
        best = max(best, (run, bit))
    length, top = best
    if length < FEWEST_BITS:
        return None
    low = top - length + 1
    if top == 15:
        first = outside[0] >> low << low
        return f"{first}-{first + (1 << low) - 1}"
    return f"those whose bits {low} to {top} are {outside[0] >> low & (1 << length) - 1:0{length}b}"
