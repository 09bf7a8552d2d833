"""A place that has IPv6 alone, such as many phones' networks: IPv4 is reached there through a NAT64 (RFC 6146)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, IPv6Network

import anyio
from anyio.abc import ByteStream

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.net.passing import PassingDatagrams, PassingDoor
from hooper.net.types import Datagram, Datagrams, Door, Endpoint, Rejected
from hooper.wire.nat64 import ASKED_FOR, embedded, extracted, prefix_in

ANYWHERE = Endpoint(IPv6Address(0), 0)


async def nat64_prefix(door: Door, resolvers: Sequence[IPAddress], deadline: float) -> IPv6Network | None:
    """The prefix by which this place reaches IPv4 (RFC 7050); None: its resolvers tell none.

    resolvers: that the machine is told of. deadline: seconds for all of it. Never raises for the network.
    """
    from hooper.net.dns import addresses_by

    async def asked(resolver: IPAddress | None) -> list[IPAddress]:
        if resolver is None:
            return await door.lookup(ASKED_FOR, "ipv6")
        return [*await addresses_by(door, Endpoint(resolver, 53), ASKED_FOR, deadline, "ipv6")]

    found: list[IPv6Network] = []

    async def ask(resolver: IPAddress | None, scope: anyio.CancelScope) -> None:
        try:
            answers = await asked(resolver)
        except HooperError:
            return
        prefix = prefix_in(address for address in answers if isinstance(address, IPv6Address))
        if prefix is not None:
            found.append(prefix)
            scope.cancel()

    with anyio.move_on_after(deadline):
        async with anyio.create_task_group() as tasks:
            for resolver in (*(one for one in resolvers if one.version == 6 and not one.is_loopback), None):
                tasks.start_soon(ask, resolver, tasks.cancel_scope)
    return found[0] if found else None


@dataclass
class Nat64Door(PassingDoor):
    """The door `inner`, by which IPv4 addresses are reached through a NAT64; IPv6 ones as they are."""

    prefix: IPv6Network

    def there(self, address: IPAddress) -> IPAddress:
        return embedded(self.prefix, address) if isinstance(address, IPv4Address) else address

    def back(self, address: IPAddress) -> IPAddress:
        inside = extracted(self.prefix, address) if isinstance(address, IPv6Address) else None
        return inside if inside is not None else address

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        return await self.inner.connect(self.there(to), port, source=source)

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> Datagrams:
        own = local if local is not None and local.address.version == 6 else ANYWHERE
        return _Nat64Datagrams(
            await self.inner.datagrams(local=own, interface=interface, groups=groups, hop_limit=hop_limit), self
        )

    async def source_towards(self, to: IPAddress) -> IPAddress | None:
        return await self.inner.source_towards(self.there(to))

    def through(self, interface: str) -> Door:
        return Nat64Door(self.inner.through(interface), self.prefix)


@dataclass
class _Nat64Datagrams(PassingDatagrams):
    door: Nat64Door

    async def send(self, data: bytes, to: Endpoint) -> None:
        await self.inner.send(data, Endpoint(self.door.there(to.address), to.port))

    async def receive(self) -> Datagram | Rejected:
        came = await self.inner.receive()
        if isinstance(came, Datagram):
            return Datagram(came.data, Endpoint(self.door.back(came.sender.address), came.sender.port))
        to = Endpoint(self.door.back(came.to.address), came.to.port) if came.to is not None else None
        return Rejected(came.icmp, self.door.back(came.by) if came.by is not None else None, to)
