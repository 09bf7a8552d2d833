"""Doors in front of another one: what passes through unchanged, written once."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Self

from anyio.abc import ByteStream

from hooper.addresses import IPAddress
from hooper.clock import Clock
from hooper.net.types import (
    Change,
    Datagram,
    Datagrams,
    Door,
    Endpoint,
    Family,
    Listener,
    Rejected,
    Surroundings,
    World,
)
from hooper.places import Place


@dataclass
class PassingDoor:
    """The door `inner`. Who does something of its own has that method itself; `through` is everybody's own."""

    inner: Door

    @property
    def place(self) -> Place:
        return self.inner.place

    @property
    def world(self) -> World:
        return self.inner.world

    @property
    def clock(self) -> Clock:
        return self.inner.clock

    @property
    def hears_icmp(self) -> bool:
        return self.inner.hears_icmp

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        return await self.inner.connect(to, port, source=source)

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> Datagrams:
        return await self.inner.datagrams(local=local, interface=interface, groups=groups, hop_limit=hop_limit)

    async def beside(self, port: int, mark: int = 0) -> Datagrams:
        return await self.inner.beside(port, mark)

    async def listen(self, local: Endpoint) -> Listener:
        return await self.inner.listen(local)

    async def lookup(self, name: str, family: Family) -> list[IPAddress]:
        return await self.inner.lookup(name, family)

    async def surroundings(self) -> Surroundings:
        return await self.inner.surroundings()

    def changes(self) -> AsyncIterator[Change]:
        return self.inner.changes()

    async def source_towards(self, to: IPAddress) -> IPAddress | None:
        return await self.inner.source_towards(to)

    async def printed(self, words: Sequence[str], limit: float) -> str | None:
        return await self.inner.printed(words, limit)

    async def own_file(self, path: Path) -> str | None:
        return await self.inner.own_file(path)


@dataclass
class PassingDatagrams:
    """The socket `inner`."""

    inner: Datagrams

    @property
    def local(self) -> Endpoint:
        return self.inner.local

    async def send(self, data: bytes, to: Endpoint) -> None:
        await self.inner.send(data, to)

    async def receive(self) -> Datagram | Rejected:
        return await self.inner.receive()

    async def aclose(self) -> None:
        await self.inner.aclose()

    async def __aenter__(self) -> Self:
        await self.inner.__aenter__()
        return self

    async def __aexit__(self, *exc: object) -> None:
        await self.inner.__aexit__(*exc)
