"""A door into a town of this process without any socket: for what would take too long over the loopback."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from contextlib import suppress
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

import anyio
import anyio.lowlevel
from anyio.abc import ByteStream, TaskGroup

from hooper.addresses import IPAddress
from hooper.lab.pipe import pipe
from hooper.lab.streets import _handled
from hooper.lab.switchboard import Asker, Switchboard
from hooper.lab.things import DatagramSocket, Turned
from hooper.net.lab_door import surroundings_of
from hooper.net.types import (
    Change,
    Datagram,
    Endpoint,
    Family,
    NoRoute,
    Refused,
    Rejected,
    Surroundings,
    Unreachable,
    World,
)
from hooper.places import HERE, Place
from hooper.wire.icmp import Icmp
from support.mortal import Lives, MortalStream


class TownClock:
    """The town's time."""

    def __init__(self, board: Switchboard) -> None:
        self.board = board

    def now(self) -> datetime:
        return self.board.now()

    def monotonic(self) -> float:
        return anyio.current_time()

    async def sleep(self, seconds: float) -> None:
        await anyio.sleep(seconds)

    async def sleep_until(self, moment: datetime) -> None:
        while (left := (moment - self.now()) / timedelta(seconds=1)) > 0:  # noqa: ASYNC110 - there is no event
            await anyio.sleep(left)


class TownDoor:
    """A place in the town. Each connection, sending and receiving is a step that may be the last."""

    hears_icmp = True

    def __init__(
        self, board: Switchboard, tasks: TaskGroup, lives: Lives, name: str = "here", interface: str | None = None
    ) -> None:
        self.board, self.tasks, self.lives, self.name, self.interface = board, tasks, lives, name, interface
        self.clock = TownClock(board)

    @property
    def place(self) -> Place:
        return Place("interface", self.interface) if self.interface else HERE

    @property
    def world(self) -> World:
        return "lab"

    async def printed(self, words: Sequence[str], limit: float) -> str | None:
        return None

    async def own_file(self, path: Path) -> str | None:
        return None

    def through(self, interface: str) -> TownDoor:
        return TownDoor(self.board, self.tasks, self.lives, self.name, interface)

    @property
    def asker(self) -> Asker:
        asker = self.board._asker(f"{self.name}:{self.interface}" if self.interface else self.name)
        assert asker is not None
        return asker

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        del source
        self.lives.step()
        await anyio.lowlevel.checkpoint()
        asker, town = self.asker, self.board.town
        if isinstance(to, IPv6Address):
            raise NoRoute("no IPv6 here")
        result = town.route(asker.node, to, "tcp", port, town.free_port(), asker.interface)
        if isinstance(result, Turned):
            if result.local:
                raise NoRoute(f"no way from here to {to}")
            if result.icmp is None and not result.after:
                await anyio.sleep_forever()
            await anyio.sleep(result.after)
            if result.icmp is None:
                raise Unreachable(f"nobody on this network has the address {to}")
            kind = Refused if result.icmp.refuses else Unreachable
            raise kind(f"{result.by} says: {result.icmp.name}", icmp=result.icmp, by=result.by)
        handler = town.stream_handler(result)
        town.note(asker.name, "tcp", str(Endpoint(to, port)), "delivered" if handler else "refused")
        if handler is None:
            raise Refused(f"{to} refuses the connection")
        near, far = pipe()
        self.tasks.start_soon(_handled, handler, far, result.source)
        return MortalStream(near, self.lives)

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> TownDatagrams:
        asker = (self.through(interface) if interface else self).asker
        shared: dict[tuple[str, int], object] = {} if groups else self.board.town.sockets  # type: ignore[assignment]
        written = [str(local.address), local.port] if local else None
        attachment, port = self.board._own_port(asker, written, shared)
        group = next((group for group in groups if isinstance(group, IPv4Address)), None)
        socket = DatagramSocket(asker.node, attachment, port, _nothing, _nothing, hop_limit, group)
        return TownDatagrams(self.board, asker, socket, self.lives)

    async def beside(self, port: int, mark: int = 0) -> TownDatagrams:
        attachment, own = self.board._own_port(self.asker, ["0.0.0.0", port], self.board.town.beside)
        socket = DatagramSocket(self.asker.node, attachment, own, _nothing, _nothing)
        return TownDatagrams(self.board, self.asker, socket, self.lives)

    async def listen(self, local: Endpoint) -> TownListener:
        _, port = self.board._own_port(self.asker, [str(local.address), local.port], self.board.town.listeners)
        return TownListener(self.board, self.asker.node.key, Endpoint(local.address, port))

    async def lookup(self, name: str, family: Family) -> list[IPAddress]:
        self.lives.step()
        return list(self.board.town.lookup(name)) if family == "ipv4" else []

    async def surroundings(self) -> Surroundings:
        return surroundings_of(self.board.around(self.asker))

    async def changes(self) -> AsyncIterator[Change]:
        await anyio.sleep_forever()
        yield Change("unknown")

    async def source_towards(self, to: IPAddress) -> IPAddress | None:
        way = self.board.town.way_out(self.asker.node, to, self.interface) if isinstance(to, IPv4Address) else None
        return way.address if way is not None else None


async def _nothing(*_: object) -> None:
    """Until the socket's owner puts in its own."""


class TownDatagrams:
    def __init__(self, board: Switchboard, asker: Asker, socket: DatagramSocket, lives: Lives) -> None:
        self.board, self.asker, self.socket, self.lives = board, asker, socket, lives
        self._send, self._come = anyio.create_memory_object_stream[Datagram | Rejected](1000)

        async def deliver(data: bytes, sender: Endpoint) -> None:
            self._put(Datagram(data, sender))

        async def reject(icmp: Icmp, by: IPv4Address | IPv6Address, to: Endpoint) -> None:
            self._put(Rejected(icmp, by, to))

        socket.deliver, socket.reject = deliver, reject
        if socket.group is None:
            board.town.sockets[asker.node.key, socket.port] = socket
        else:
            board.town.members.append(socket)

    def _put(self, came: Datagram | Rejected) -> None:
        with suppress(anyio.WouldBlock, anyio.BrokenResourceError, anyio.ClosedResourceError):
            self._send.send_nowait(came)

    @property
    def local(self) -> Endpoint:
        return self.socket.local

    async def send(self, data: bytes, to: Endpoint) -> None:
        self.lives.step()
        outcome = await self.board.town.send_datagram(self.socket, data, to, self.asker.interface)
        self.board.town.note(self.asker.name, "udp", str(to), outcome)

    async def receive(self) -> Datagram | Rejected:
        return await self._come.receive()

    async def aclose(self) -> None:
        if self.socket.group is None:
            self.board.town.sockets.pop((self.asker.node.key, self.socket.port), None)
        elif self.socket in self.board.town.members:
            self.board.town.members.remove(self.socket)
        self._send.close()
        self._come.close()

    async def __aenter__(self) -> TownDatagrams:
        return self

    async def __aexit__(self, *exc: object) -> None:
        await self.aclose()


class TownListener:
    def __init__(self, board: Switchboard, key: str, local: Endpoint) -> None:
        self.board, self.key, self.local = board, key, local
        self._send, self._come = anyio.create_memory_object_stream[tuple[ByteStream, Endpoint]](100)

        async def visit(stream: ByteStream, source: Endpoint) -> None:
            await self._send.send((stream, source))
            await anyio.sleep_forever()

        board.town.listeners[key, local.port] = visit

    async def accept(self) -> tuple[ByteStream, Endpoint]:
        return await self._come.receive()

    async def aclose(self) -> None:
        self.board.town.listeners.pop((self.key, self.local.port), None)
        self._send.close()
        self._come.close()

    async def __aenter__(self) -> TownListener:
        return self

    async def __aexit__(self, *exc: object) -> None:
        await self.aclose()
