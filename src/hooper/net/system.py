"""The door of the operating system: real sockets, on the machine or bound to one of its interfaces."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import os
import socket
import struct
import subprocess
import sys
import threading
from collections.abc import AsyncIterator, Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import ip_address
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import anyio
from anyio.abc import ByteStream, SocketStream

from hooper.addresses import IPAddress
from hooper.clock import Clock, SystemClock
from hooper.errors import MachineError
from hooper.files import read_text
from hooper.net.on_socket import OnSocket, endpoint_of
from hooper.net.surroundings import read_surroundings, watch
from hooper.net.types import (
    Change,
    Datagram,
    Endpoint,
    Family,
    LookupFailed,
    NoRoute,
    Refused,
    Rejected,
    Surroundings,
    Unreachable,
    World,
)
from hooper.places import HERE, Place
from hooper.wire.icmp import SocketError, parse_extended_error

if TYPE_CHECKING:
    from hooper.net.beside import BesidePort

T = TypeVar("T")

# linux/in.h, linux/in6.h, asm/socket.h: Python's socket module does not name them all
IP_RECVERR, IPV6_RECVERR, MSG_ERRQUEUE = 11, 25, 0x2000
SO_BINDTODEVICE = 25
IP_BOUND_IF, IPV6_BOUND_IF = 25, 125  # macOS, netinet/in.h
IP_UNICAST_IF, IPV6_UNICAST_IF = 31, 31  # Windows, ws2ipdef.h
LINUX = sys.platform.startswith("linux")
_NO_WAY = {errno.ENETUNREACH, errno.EADDRNOTAVAIL, errno.ENETDOWN, errno.ENODEV, errno.EPERM}
_FULL = {errno.EMFILE, errno.ENFILE, errno.ENOBUFS, errno.ENOMEM}
FULL_S = 0.1  # seconds until there may be room for another connection
BACKLOG = 1024  # connections that the system completes before they are taken; it may have a lower limit
_NOBODY = {errno.EHOSTUNREACH, errno.EHOSTDOWN, errno.ETIMEDOUT}


@dataclass(frozen=True)
class SystemDoor:
    """The real network. interface: bind everything to it; None: as the system routes."""

    interface: str | None = None
    clock: Clock = field(default_factory=SystemClock)

    @property
    def place(self) -> Place:
        return Place("interface", self.interface) if self.interface else HERE

    @property
    def world(self) -> World:
        return "real"

    async def printed(self, words: Sequence[str], limit: float) -> str | None:
        try:
            with anyio.fail_after(limit):
                done = await anyio.run_process(list(words), check=False, stderr=subprocess.DEVNULL)
        except (OSError, TimeoutError):
            return None
        return done.stdout.decode("utf-8", "replace") if not done.returncode else None

    async def own_file(self, path: Path) -> str | None:
        try:
            return read_text(path)
        except MachineError:
            return None

    @property
    def hears_icmp(self) -> bool:
        return LINUX  # elsewhere a system keeps them to itself, or to administrators

    def through(self, interface: str) -> SystemDoor:
        return SystemDoor(interface, self.clock)

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        sock = self._socket(to.version, socket.SOCK_STREAM, self.interface)
        try:
            if source is not None:
                sock.bind((str(source), 0))
            try:
                problem = sock.connect_ex((str(to), port))
                if problem in (errno.EINPROGRESS, errno.EWOULDBLOCK):
                    await anyio.wait_writable(sock)
                    problem = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            except OSError as exc:
                problem = exc.errno or errno.EIO
            if problem:
                detail = next(iter(_error_queue(sock)), None)
                if detail is not None and detail.by == ip_address(sock.getsockname()[0]):
                    detail = None  # this computer itself gave up asking for the host on its own network
                raise _connect_error(problem, detail, Endpoint(to, port))
            if LINUX:  # an ICMP error in mid-connection is not to end it
                sock.setsockopt(*((socket.SOL_IP, IP_RECVERR) if to.version == 4 else (41, IPV6_RECVERR)), 0)
            return await SocketStream.from_socket(sock)
        except BaseException:
            sock.close()
            raise

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> SystemDatagrams:
        version = local.address.version if local else groups[0].version if groups else 4
        sock = self._socket(version, socket.SOCK_DGRAM, interface or self.interface)
        with _closed_on_trouble(sock, f"a datagram socket on {local or self.place.shown}"):
            if groups:
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                if sys.platform == "darwin":  # there it takes both
                    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
            anywhere = "0.0.0.0" if version == 4 else "::"  # noqa: S104 - any address of ours may send
            for_group = local is not None and local.address.is_multicast
            own = str(local.address) if local and not (for_group and sys.platform == "win32") else anywhere
            sock.bind((own, local.port if local else 0))
            if (
                local is not None and version == 4 and not for_group
            ):  # datagrams to a group leave by the interface with this address
                sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, local.address.packed)
                sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 2)  # UPnP Device Architecture 2.0, 1.3.2
            for group in groups:
                _join(sock, group, interface or self.interface)
            if hop_limit is not None:
                level, option = (socket.SOL_IP, socket.IP_TTL) if version == 4 else (41, socket.IPV6_UNICAST_HOPS)
                sock.setsockopt(level, option, hop_limit)
        return SystemDatagrams(sock)

    async def beside(self, port: int, mark: int = 0) -> BesidePort:
        from hooper.net.beside import beside

        return beside(port, mark, self.interface)

    async def listen(self, local: Endpoint) -> SystemListener:
        sock = self._socket(local.address.version, socket.SOCK_STREAM, self.interface)
        with _closed_on_trouble(sock, f"the port {local}"):
            if sys.platform != "win32":  # there it would allow two listeners on one port
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            sock.bind((str(local.address), local.port))
            sock.listen(BACKLOG)
        return SystemListener(sock)

    async def lookup(self, name: str, family: Family) -> list[IPAddress]:
        wanted = socket.AF_INET if family == "ipv4" else socket.AF_INET6
        try:
            found = await in_daemon_thread(lambda: socket.getaddrinfo(name, None, wanted, socket.SOCK_STREAM))
        except socket.gaierror as exc:
            if exc.errno in (socket.EAI_NONAME, getattr(socket, "EAI_NODATA", socket.EAI_NONAME)):
                return []
            raise LookupFailed(f"the name {name} could not be looked up: {exc.strerror}") from None
        except UnicodeError:
            return []
        return list(dict.fromkeys(ip_address(str(row[4][0]).partition("%")[0]) for row in found))

    async def surroundings(self) -> Surroundings:
        if LINUX:  # elsewhere the system's commands take their time
            return read_surroundings()
        return await in_daemon_thread(read_surroundings)

    def changes(self) -> AsyncIterator[Change]:
        return watch(self.surroundings)

    async def source_towards(self, to: IPAddress) -> IPAddress | None:
        try:
            with contextlib.closing(self._socket(to.version, socket.SOCK_DGRAM, self.interface)) as sock:
                sock.connect((str(to), 9))  # of datagrams: looks up the route, and sends nothing
                return ip_address(sock.getsockname()[0].partition("%")[0])
        except (OSError, MachineError):
            return None

    def _socket(self, version: int, kind: socket.SocketKind, interface: str | None) -> socket.socket:
        # the protocol by its number: by that the event loop knows a TCP socket, and has it wait for no further bytes
        protocol = socket.IPPROTO_TCP if kind == socket.SOCK_STREAM else 0
        sock = socket.socket(socket.AF_INET if version == 4 else socket.AF_INET6, kind, protocol)
        with _closed_on_trouble(sock, f"the interface {interface}" if interface else "a socket"):
            sock.setblocking(False)
            if LINUX:
                sock.setsockopt(*((socket.SOL_IP, IP_RECVERR) if version == 4 else (41, IPV6_RECVERR)), 1)
            if interface:
                _bind_to_interface(sock, version, interface)
        return sock


@contextlib.contextmanager
def _closed_on_trouble(sock: socket.socket, what: str) -> Iterator[None]:
    """Close `sock` where its setting up fails. Raises: MachineError: the system does not allow it."""
    try:
        yield
    except OSError as exc:
        sock.close()
        raise MachineError(
            f"{what} cannot be used: {exc.strerror or exc}",
            code="socket",
            remedy="Choose another port or interface, or run it with the rights it needs.",
        ) from None
    except BaseException:
        sock.close()
        raise


def _bind_to_interface(sock: socket.socket, version: int, interface: str) -> None:
    if LINUX:
        sock.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, interface.encode() + b"\0")
    elif sys.platform == "darwin":
        index = socket.if_nametoindex(interface)
        sock.setsockopt(*((socket.IPPROTO_IP, IP_BOUND_IF) if version == 4 else (41, IPV6_BOUND_IF)), index)
    else:  # Windows wants IPv4's index in network order
        packed = struct.pack("!I" if version == 4 else "=I", socket.if_nametoindex(interface))
        sock.setsockopt(*((socket.IPPROTO_IP, IP_UNICAST_IF) if version == 4 else (41, IPV6_UNICAST_IF)), packed)


def _join(sock: socket.socket, group: IPAddress, interface: str | None) -> None:
    index = socket.if_nametoindex(interface) if interface else 0
    if group.version == 4:
        member = group.packed + bytes(4) + struct.pack("=i", index)  # struct ip_mreqn
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, member)
    else:
        sock.setsockopt(41, socket.IPV6_JOIN_GROUP, group.packed + struct.pack("=I", index))


def _error_queue(sock: socket.socket) -> list[SocketError]:
    """What the kernel kept of the errors of this socket (Linux; elsewhere nothing)."""
    found: list[SocketError] = []
    while LINUX:
        try:
            _, ancillary, _, _ = sock.recvmsg(512, 512, MSG_ERRQUEUE)
        except OSError:
            break
        found += [error for _, _, data in ancillary if (error := parse_extended_error(data))]
    return found


def _connect_error(number: int, detail: SocketError | None, to: Endpoint) -> Refused | Unreachable | NoRoute:
    icmp, by = (detail.icmp, detail.by) if detail else (None, None)
    if icmp is not None:
        said = f"{by} says about {to}: {icmp.name}"
        return Refused(said, icmp=icmp, by=by) if icmp.refuses else Unreachable(said, icmp=icmp, by=by)
    if number in (errno.ECONNREFUSED, errno.ECONNRESET):
        return Refused(f"{to} refuses the connection")
    if number in _NOBODY:
        return Unreachable(f"nobody on this network has the address {to.address}")
    return NoRoute(f"no way from this computer to {to}: {errno_text(number)}")


def errno_text(number: int) -> str:
    """The system's words for an error number, in lower case."""
    return os.strerror(number).lower()


class SystemDatagrams(OnSocket):
    """UDP on a non-blocking socket: the only way to hear of ICMP errors without privileges."""

    def __init__(self, sock: socket.socket) -> None:
        super().__init__(sock)
        self._sending = anyio.Lock()

    async def send(self, data: bytes, to: Endpoint) -> None:
        async with self._sending:
            for _ in range(8):  # an error that an earlier datagram left behind is reported to this one: then again
                try:
                    self._sock.sendto(data, (str(to.address), to.port))
                    return
                except (BlockingIOError, InterruptedError):
                    await anyio.wait_writable(self._sock)
                except OSError as exc:
                    if exc.errno in _NO_WAY or exc.errno == errno.EMSGSIZE:
                        raise NoRoute(f"no way from this computer to {to}: {errno_text(exc.errno or 0)}") from None
            raise NoRoute(f"nothing can be sent to {to}")

    async def receive(self) -> Datagram | Rejected:
        while True:
            if (rejected := self._rejected()) is not None:
                return rejected
            try:
                data, name = self._sock.recvfrom(65535)
                return Datagram(data, endpoint_of(name))
            except (BlockingIOError, InterruptedError):
                await anyio.wait_readable(self._sock)
            except OSError as exc:
                if exc.errno == errno.EBADF:
                    raise anyio.ClosedResourceError from None
                if sys.platform == "win32" and exc.errno == errno.WSAECONNRESET:
                    from hooper.wire.icmp import Icmp

                    return Rejected(Icmp(3, 3), None, None)

    def _rejected(self) -> Rejected | None:
        if not LINUX:
            return None
        try:
            _, ancillary, _, name = self._sock.recvmsg(2048, 512, MSG_ERRQUEUE)
        except OSError:
            return None
        for _, _, data in ancillary:
            error = parse_extended_error(data)
            if error is not None and error.icmp is not None:
                to = endpoint_of(name) if name else None
                return Rejected(error.icmp, error.by, to)
        return None


class Arrived(ByteStream):
    """A connection that came in. It becomes a stream of the event loop once something is said, which is dear: so it
    costs little to have a thousand who say nothing.
    """

    def __init__(self, sock: socket.socket) -> None:
        self._sock: socket.socket | None = sock
        self._stream: SocketStream | None = None

    async def _begun(self) -> SocketStream:
        if self._stream is None:
            if self._sock is None:
                raise anyio.ClosedResourceError
            sock, self._sock = self._sock, None
            try:
                self._stream = await SocketStream.from_socket(sock)
            except BaseException:
                sock.close()
                raise
        return self._stream

    async def receive(self, max_bytes: int = 65536) -> bytes:
        if self._sock is not None:
            await anyio.wait_readable(self._sock)
        return await (await self._begun()).receive(max_bytes)

    async def send(self, item: bytes) -> None:
        await (await self._begun()).send(item)

    async def send_eof(self) -> None:
        await (await self._begun()).send_eof()

    async def aclose(self) -> None:
        sock, self._sock = self._sock, None
        if sock is not None:
            anyio.notify_closing(sock)
            sock.close()
        if self._stream is not None:
            await self._stream.aclose()

    @property
    def extra_attributes(self) -> Mapping[Any, Callable[[], Any]]:
        return self._stream.extra_attributes if self._stream is not None else {}


class SystemListener(OnSocket):
    """A listening TCP socket."""

    async def accept(self) -> tuple[ByteStream, Endpoint]:
        while True:
            try:
                sock, name = self._sock.accept()
            except (BlockingIOError, InterruptedError):
                await anyio.wait_readable(self._sock)
                continue
            except OSError as exc:
                if exc.errno == errno.EBADF:
                    raise anyio.ClosedResourceError from None
                if exc.errno in _FULL:
                    await anyio.sleep(FULL_S)
                continue  # what went wrong with that one connection (accept(2)): the next may be well
            sock.setblocking(False)
            peer = endpoint_of(name)  # where one socket takes both families, an IPv4 address comes within an IPv6 one
            return Arrived(sock), Endpoint(getattr(peer.address, "ipv4_mapped", None) or peer.address, peer.port)


async def in_daemon_thread(work: Callable[[], T]) -> T:
    """Run a call that cannot be cancelled, such as getaddrinfo, where it cannot keep the process alive."""
    loop = asyncio.get_running_loop()
    result: asyncio.Future[T] = loop.create_future()

    def settle(value: T | None, problem: BaseException | None) -> None:
        if result.done():
            return
        if problem is not None:
            result.set_exception(problem)
        else:
            result.set_result(value)  # type: ignore[arg-type]

    def run() -> None:
        value, problem = None, None
        try:
            value = work()
        except BaseException as exc:
            problem = exc
        with contextlib.suppress(RuntimeError):  # the loop has ended: nobody waits any more
            loop.call_soon_threadsafe(settle, value, problem)

    threading.Thread(target=run, daemon=True).start()
    return await result
