"""A door for what a stranger's file asks for: it leads to public addresses alone, and to so many ports and no more."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from anyio.abc import ByteStream

from hooper.addresses import IPAddress, classify
from hooper.net.passing import PassingDatagrams, PassingDoor
from hooper.net.types import Datagrams, Endpoint, NoRoute

DNS = 53


@dataclass
class BoundedDoor(PassingDoor):
    """most: different ports, each at its address, that are ever gone to. resolvers: this computer's own, wherever."""

    most: int
    resolvers: frozenset[IPAddress] = frozenset()
    gone_to: set[tuple[IPAddress, int]] = field(default_factory=set)

    def refuse(self, to: IPAddress, port: int) -> None:
        """Raises: NoRoute: it is not to go there."""
        if port == DNS and to in self.resolvers:
            return
        if not classify(to).reachable:
            raise NoRoute(f"{to} is no public address, and this look goes to those alone")
        if (to, port) not in self.gone_to and len(self.gone_to) >= self.most:
            raise NoRoute(f"this look goes to {self.most} ports, and no further")
        self.gone_to.add((to, port))

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        self.refuse(to, port)
        return await self.inner.connect(to, port, source=source)

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> Datagrams:
        inner = await self.inner.datagrams(local=local, interface=interface, groups=groups, hop_limit=hop_limit)
        return _BoundedDatagrams(inner, self)

    def through(self, interface: str) -> BoundedDoor:
        return BoundedDoor(self.inner.through(interface), self.most, self.resolvers, self.gone_to)


@dataclass
class _BoundedDatagrams(PassingDatagrams):
    door: BoundedDoor

    async def send(self, data: bytes, to: Endpoint) -> None:
        self.door.refuse(to.address, to.port)
        await self.inner.send(data, to)
