"""The door into the lab: streams by SOCKS5, everything else by the town's own link."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import ip_address, ip_interface, ip_network
from pathlib import Path
from typing import Any, Self

import anyio
from anyio.abc import ByteStream
from anyio.streams.buffered import BufferedByteStream

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.clock import Awake, SystemClock
from hooper.environment import named_lab
from hooper.errors import CounterpartError, LabGone, MachineError, NeedsAPerson, UsageError, WireError
from hooper.files import read_whole
from hooper.net.proxy import close_quietly, read_reply
from hooper.net.surroundings import compared
from hooper.net.types import (
    Change,
    Datagram,
    Door,
    Endpoint,
    Family,
    Interface,
    Neighbour,
    NoRoute,
    Refused,
    Rejected,
    Route,
    Surroundings,
    Unreachable,
    World,
)
from hooper.places import HERE, Place
from hooper.secret import keep_out_of_output
from hooper.wire import lab_link as town
from hooper.wire import socks5
from hooper.wire.icmp import Icmp

LOOKED_AGAIN = 0.5  # seconds between looks for changes
MOVED_S = 1.0  # seconds by which the town's clock may seem to be another only because an answer took its time
ENTRANCE = 5.0  # seconds for the lab itself to answer on the loopback; its town may take longer
SOCKS_ICMP = {  # how the town tells ICMP errors through SOCKS; the sender stands in the bound address
    socks5.HOST_UNREACHABLE: Icmp(3, 1),
    socks5.NET_UNREACHABLE: Icmp(3, 0),
    socks5.NOT_ALLOWED: Icmp(3, 13),
}


@dataclass(frozen=True, slots=True)
class LabAddress:
    """Where a running lab listens. folder: the one its private file stands in."""

    port: int
    token: str
    folder: Path


def read_lab_file(path: Path) -> LabAddress:
    """Read the file that HOOPER_LAB names. Raises: MachineError: it leads nowhere."""
    remedy = f"Start a lab with `{deeds.RUN_LAB}` and take the HOOPER_LAB that it prints, or unset HOOPER_LAB."
    try:
        value = town.parse_line(read_whole(path, 64 * 1024))
        port, token = value["port"], value["token"]
        if not (type(port) is int and 0 < port < 65536 and isinstance(token, str) and 0 < len(token) < 256):
            raise WireError("lab file", 0, "no port and token")
    except OSError as exc:
        raise MachineError(
            f"HOOPER_LAB names {path}, which cannot be read: {exc.strerror}", code="lab-file", remedy=remedy
        ) from None
    except (WireError, KeyError, ValueError):
        raise MachineError(f"HOOPER_LAB names {path}, which is no lab's file", code="lab-file", remedy=remedy) from None
    keep_out_of_output(token)
    return LabAddress(port, token, path.parent)


def lab_from_environment() -> LabAddress | None:
    """The lab that HOOPER_LAB names; None: it is not set."""
    named = named_lab()
    return read_lab_file(named) if named is not None else None


class LabLink:
    """The connection to a lab, for doors and for the commands that run the town."""

    def __init__(self, address: LabAddress) -> None:
        self.address = address

    async def stream(self) -> BufferedByteStream:
        try:
            with anyio.fail_after(ENTRANCE):
                return BufferedByteStream(await anyio.connect_tcp("127.0.0.1", self.address.port))
        except (OSError, TimeoutError):
            raise LabGone("the lab does not run any more: nobody listens on its port") from None

    @asynccontextmanager
    async def opened(
        self, do: str, place: str, **more: Any
    ) -> AsyncIterator[tuple[BufferedByteStream, dict[str, Any]]]:
        """Say one verb; gives the stream, for what follows, and the answer."""
        stream = await self.stream()
        try:
            yield stream, await self.say(stream, do, place, more)
        finally:
            await close_quietly(stream)

    async def ask(self, do: str, place: str = "here", **more: Any) -> dict[str, Any]:
        """Say one verb and take its answer. Raises: LabGone; another HooperError: the lab refuses, with its reason."""
        async with self.opened(do, place, **more) as (_, answer):
            return answer

    async def say(self, stream: BufferedByteStream, do: str, place: str, more: dict[str, Any]) -> dict[str, Any]:
        """Say one verb on an open stream and take its answer. Raises: as `ask`."""
        try:
            await stream.send(town.serialize_line({"token": self.address.token, "place": place, "do": do, **more}))
            with anyio.fail_after(None if do in ("sleep", "accept") else ENTRANCE):
                answer = town.parse_line(await stream.receive_until(b"\n", town.LINE_LIMIT))
        except (anyio.EndOfStream, anyio.IncompleteRead, anyio.BrokenResourceError, anyio.DelimiterNotFound, WireError):
            raise LabGone("what listens on the lab's port is not this lab") from None
        except TimeoutError:
            raise LabGone("the lab does not answer") from None
        if "error" in answer:
            error = answer["error"]
            kinds = (CounterpartError, UsageError, MachineError, NeedsAPerson)
            kind = next((kind for kind in kinds if kind.exit_code == error["exit_code"]), CounterpartError)
            raise kind(str(error["message"]), code=str(error["code"]), remedy=str(error["remedy"]))
        return answer


class LabClock:
    """The town's clock: as it said that it was, and what has passed since."""

    def __init__(self, link: LabLink, now: datetime) -> None:
        self._link = link
        self._set(now)

    def _set(self, now: datetime) -> None:
        self._said, self._then = now, self.monotonic()

    def follow(self, now: datetime) -> None:
        """The town's clock may have been moved meanwhile."""
        if abs((now - self.now()).total_seconds()) > MOVED_S:
            self._set(now)

    def now(self) -> datetime:
        return self._said + timedelta(seconds=self.monotonic() - self._then)

    def monotonic(self) -> float:
        return SystemClock().monotonic()

    async def sleep(self, seconds: float) -> None:
        await SystemClock().sleep(seconds)

    async def sleep_until(self, moment: datetime) -> None:
        answer = await self._link.ask("sleep", until=moment.timestamp())
        self._set(datetime.fromisoformat(answer["now"]))


class LabDoor:
    """A place in the town."""

    def __init__(self, link: LabLink, clock: LabClock, spot: str = "here", interface: str | None = None) -> None:
        self.link, self.clock, self.spot, self.interface = link, clock, spot, interface

    @classmethod
    async def open(cls, address: LabAddress, spot: str = "here") -> LabDoor:
        """Raises: LabGone; CounterpartError: the town has no such place."""
        link = LabLink(address)
        hello = await link.ask("hello", spot)
        return cls(link, LabClock(link, datetime.fromisoformat(hello["now"])), spot)

    @property
    def place(self) -> Place:
        return Place("interface", self.interface) if self.interface else HERE

    @property
    def world(self) -> World:
        return "lab"

    async def printed(self, words: Sequence[str], limit: float) -> str | None:
        del limit  # the town answers at once
        found = (await self.link.ask("printed", self.spot, words=list(words)))["text"]
        return str(found) if found is not None else None

    async def own_file(self, path: Path) -> str | None:
        del path  # the town's machines keep none
        return None

    @property
    def hears_icmp(self) -> bool:
        return True

    def through(self, interface: str) -> LabDoor:
        return LabDoor(self.link, self.clock, self.spot, interface)

    @property
    def _spot(self) -> str:
        return f"{self.spot}:{self.interface}" if self.interface else self.spot

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        stream = await self.link.stream()
        user = self._spot if source is None else f"{self._spot}@{source}"
        try:
            await stream.send(
                socks5.serialize_greeting(login=True)
                + socks5.serialize_login(user, self.link.address.token)
                + socks5.serialize_request(to, port)
            )
            try:
                if await stream.receive_exactly(4) != bytes([5, socks5.LOGIN, socks5.LOGIN_VERSION, 0]):
                    raise LabGone("what listens on the lab's port is not this lab")
                reply = await read_reply(stream)
            except (anyio.EndOfStream, anyio.IncompleteRead, anyio.BrokenResourceError):
                raise LabGone("the lab ended while it was asked") from None
        except BaseException:
            await close_quietly(stream)
            raise
        if reply.code == socks5.GRANTED:
            return stream
        await close_quietly(stream)
        target = Endpoint(to, port)
        by = reply.bound if not isinstance(reply.bound, str) and int(reply.bound) else None
        icmp = SOCKS_ICMP.get(reply.code)
        if reply.code == socks5.REFUSED:
            raise Refused(f"{target} refuses the connection")
        if reply.code == socks5.TTL_EXPIRED:
            raise NoRoute(f"no way from here to {target}")
        if icmp is None or by is None:
            raise Unreachable(f"nobody on this network has the address {to}")
        said = f"{by} says about {target}: {icmp.name}"
        raise Refused(said, icmp=icmp, by=by) if icmp.refuses else Unreachable(said, icmp=icmp, by=by)

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> LabDatagrams:
        door = self.through(interface) if interface else self
        joined = [str(group) for group in groups]
        stream, answer = await door.keep("datagrams", local=_written(local), hops=hop_limit, groups=joined)
        return LabDatagrams(stream, _endpoint(answer["local"]))

    async def beside(self, port: int, mark: int = 0) -> LabDatagrams:
        stream, answer = await self.keep("datagrams", beside=port)
        return LabDatagrams(stream, _endpoint(answer["local"]))

    async def listen(self, local: Endpoint) -> LabListener:
        stream, answer = await self.keep("listen", local=_written(local))
        return LabListener(self, stream, _endpoint(answer["local"]))

    async def keep(self, do: str, **more: Any) -> tuple[BufferedByteStream, dict[str, Any]]:
        """Say a verb and keep its stream."""
        stream = await self.link.stream()
        try:
            return stream, await self.link.say(stream, do, self._spot, more)
        except BaseException:
            await close_quietly(stream)
            raise

    async def lookup(self, name: str, family: Family) -> list[IPAddress]:
        answer = await self.link.ask("lookup", self._spot, name=name, family=family)
        return [ip_address(text) for text in answer["addresses"]]

    async def surroundings(self) -> Surroundings:
        answer = await self.link.ask("surroundings", self._spot)
        self.clock.follow(datetime.fromisoformat(answer["now"]))
        return surroundings_of(answer)

    def changes(self) -> AsyncIterator[Change]:
        return compared(self.surroundings, LOOKED_AGAIN)

    async def source_towards(self, to: IPAddress) -> IPAddress | None:
        answer = await self.link.ask("source", self._spot, to=str(to))
        return ip_address(answer["source"]) if answer["source"] else None


def elsewhere(door: Door, spot: str) -> Door:
    """In the lab, another machine of the town, where its own work is done; in the real world this computer."""
    inner: object = door
    while not isinstance(inner, LabDoor) and hasattr(inner, "inner"):
        inner = inner.inner
    return LabDoor(inner.link, inner.clock, spot) if isinstance(inner, LabDoor) else door


def surroundings_of(answer: Mapping[str, Any]) -> Surroundings:
    """As the town tells them."""
    return Surroundings(
        tuple(
            Interface(
                row["name"], tuple(ip_interface(a) for a in row["addresses"]), mac=row["mac"], tunnel=row["tunnel"]
            )
            for row in answer["interfaces"]
        ),
        tuple(
            Route(
                ip_network(row["destination"]),
                ip_address(row["gateway"]) if row["gateway"] else None,
                row["interface"],
                row["metric"],
            )
            for row in answer["routes"]
        ),
        tuple(ip_address(text) for text in answer["resolvers"]),
        tuple(Neighbour(ip_address(a), mac, interface, silent) for a, mac, interface, silent in answer["neighbours"]),
        Awake(*answer["awake"]),
    )


def _written(endpoint: Endpoint | None) -> list[Any] | None:
    return [str(endpoint.address), endpoint.port] if endpoint else None


def _endpoint(value: Any) -> Endpoint:
    return Endpoint(ip_address(value[0]), value[1])


class _Closing:
    """What ends when its stream to the lab is closed."""

    def __init__(self, stream: BufferedByteStream, local: Endpoint) -> None:
        self._stream, self.local = stream, local

    async def aclose(self) -> None:
        await close_quietly(self._stream)

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *exc: object) -> None:
        await self.aclose()


class LabDatagrams(_Closing):
    """A datagram socket in the town."""

    def __init__(self, stream: BufferedByteStream, local: Endpoint) -> None:
        super().__init__(stream, local)
        self._sending = anyio.Lock()

    async def send(self, data: bytes, to: Endpoint) -> None:
        async with self._sending:
            try:
                await self._stream.send(town.serialize_frame({"to": _written(to)}, data))
            except (anyio.BrokenResourceError, anyio.ClosedResourceError):
                raise LabGone("the lab ended") from None

    async def receive(self) -> Datagram | Rejected:
        try:
            header_size, size = town.parse_lengths(await self._stream.receive_exactly(town.LENGTHS.size))
            header = town.parse_line(await self._stream.receive_exactly(header_size))
            data = await self._stream.receive_exactly(size) if size else b""
        except (anyio.EndOfStream, anyio.IncompleteRead, anyio.BrokenResourceError):
            raise LabGone("the lab ended") from None
        if "icmp" in header:
            kind, code = header["icmp"]
            return Rejected(Icmp(kind, code), ip_address(header["by"]), _endpoint(header["to"]))
        return Datagram(data, _endpoint(header["from"]))


class LabListener(_Closing):
    """A listening port in the town: the lab says who came, and the stream is fetched by dialling back."""

    def __init__(self, door: LabDoor, stream: BufferedByteStream, local: Endpoint) -> None:
        super().__init__(stream, local)
        self._door = door

    async def accept(self) -> tuple[ByteStream, Endpoint]:
        while True:
            try:
                came = town.parse_line(await self._stream.receive_until(b"\n", town.LINE_LIMIT))
            except (anyio.EndOfStream, anyio.IncompleteRead, anyio.BrokenResourceError):
                raise LabGone("the lab ended") from None
            try:
                stream, _ = await self._door.keep("accept", visitor=came["visitor"])
            except UsageError:
                continue  # who came has left already
            return stream, _endpoint(came["from"])
