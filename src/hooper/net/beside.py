"""STUN datagrams from a UDP port that another program has, or the kernel's own WireGuard: by a raw socket beside it.

A raw socket sends whole UDP datagrams, from whatever port they say, and is given a copy of each that arrives (raw(7));
a filter in the kernel leaves those that are no STUN of that port where they were meant for. Linux alone has it so.
"""

from __future__ import annotations

import errno
import os
import socket
import struct
import sys
from ipaddress import IPv4Address

import anyio

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.errors import MachineError
from hooper.net.on_socket import OnSocket
from hooper.net.types import Datagram, Endpoint, NoRoute, Rejected
from hooper.wire.stun import MAGIC_COOKIE

SO_ATTACH_FILTER, SO_MARK, IP_PKTINFO = 26, 36, 8  # of Linux
KEPT_SOURCES = 64  # far ends whose datagrams came to another address of ours than the usual one


class NoRaw(MachineError):
    """No port of another program can be used beside it here."""

    code = "no-raw-socket"
    remedy = (
        f"Run it as root, or as the service of `{deeds.KEEPER_UNIT('systemd')}`, which may send from a tunnel's port."
    )


def _only_stun_of(port: int) -> bytes:
    """A filter in the kernel's own language (struct sock_filter, packets from their IPv4 header on): to that port, with
    STUN's cookie (RFC 8489 section 5) where that stands.
    """
    ops = (
        (0xB1, 0, 0, 0),  # x = length of the IPv4 header
        (0x48, 0, 0, 2),  # a = 16 bits at x + 2: the port that it is for
        (0x15, 0, 3, port),
        (0x40, 0, 0, 12),  # a = 32 bits at x + 12: behind 8 bytes of UDP and 4 of STUN
        (0x15, 0, 1, MAGIC_COOKIE),
        (0x06, 0, 0, 0x40000),  # all of it
        (0x06, 0, 0, 0),  # nothing
    )
    return b"".join(struct.pack("HBBI", *op) for op in ops)


def checksum(source: IPv4Address, to: IPv4Address, udp: bytes) -> int:
    """Of a UDP datagram whose own field is zero (RFC 768)."""
    data = source.packed + to.packed + struct.pack("!BBH", 0, socket.IPPROTO_UDP, len(udp)) + udp + bytes(len(udp) % 2)
    total = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF or 0xFFFF


class BesidePort(OnSocket):
    """The port of another program. Who has written to another address of ours is answered from that one."""

    def __init__(self, sock: socket.socket, port: int, interface: str | None) -> None:
        super().__init__(sock)
        self._port, self._interface = port, interface
        self._sources: dict[Endpoint, IPv4Address] = {}

    @property
    def local(self) -> Endpoint:
        return Endpoint(IPv4Address(0), self._port)

    def _source(self, to: IPAddress) -> IPv4Address:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as look:  # asks for the way, and sends nothing
            if (mark := self._sock.getsockopt(socket.SOL_SOCKET, SO_MARK)) != 0:
                look.setsockopt(socket.SOL_SOCKET, SO_MARK, mark)
            if self._interface is not None:
                look.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, self._interface.encode())
            look.connect((str(to), 9))
            return IPv4Address(look.getsockname()[0])

    async def send(self, data: bytes, to: Endpoint) -> None:
        if not isinstance(to.address, IPv4Address):
            raise NoRoute(f"no IPv6 from the port of a tunnel, so not to {to}")
        try:
            known = self._sources.get(to)
            source = known or self._source(to.address)
            head = struct.pack("!HHHH", self._port, to.port, 8 + len(data), 0)
            udp = head[:6] + struct.pack("!H", checksum(source, to.address, head + data)) + data
            info = struct.pack("I4s4s", 0, source.packed, bytes(4))
            where = [(socket.IPPROTO_IP, IP_PKTINFO, info)] if known is not None else []
            self._sock.sendmsg([udp], where, 0, (str(to.address), 0))
        except (BlockingIOError, InterruptedError):
            return  # as one that was lost
        except OSError as exc:
            raise NoRoute(f"no way from this computer to {to}: {os.strerror(exc.errno or 0).lower()}") from None

    async def receive(self) -> Datagram | Rejected:
        while True:
            try:
                packet = self._sock.recv(65535)
            except (BlockingIOError, InterruptedError):
                await anyio.wait_readable(self._sock)
                continue
            except OSError as exc:
                if exc.errno == errno.EBADF:
                    raise anyio.ClosedResourceError from None
                continue
            head = (packet[0] & 15) * 4 if packet else 0
            if len(packet) < head + 8 or head < 20 or packet[head + 2 : head + 4] != self._port.to_bytes(2, "big"):
                continue
            sender = Endpoint(IPv4Address(packet[12:16]), int.from_bytes(packet[head : head + 2], "big"))
            if len(self._sources) >= KEPT_SOURCES:
                self._sources.clear()
            self._sources[sender] = IPv4Address(packet[16:20])
            return Datagram(packet[head + 8 :], sender)


def beside(port: int, mark: int, interface: str | None) -> BesidePort:
    """A socket beside the one that has this port. mark: that its packets carry for the routing; 0: none.

    Raises: NoRaw: this system, or whom this runs as, does not allow it.
    """
    if sys.platform != "linux":
        raise NoRaw(
            "only Linux lets one look at a tunnel's port beside the tunnel", remedy="Have a Linux machine end it."
        )
    try:
        sock = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_UDP)
    except OSError as exc:
        raise _not_allowed(port, exc) from None
    try:
        sock.setblocking(False)
        _attach(sock, _only_stun_of(port))
        if mark:
            sock.setsockopt(socket.SOL_SOCKET, SO_MARK, mark)
        if interface is not None:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    except OSError as exc:
        sock.close()
        raise _not_allowed(port, exc) from None
    return BesidePort(sock, port, interface)


def _not_allowed(port: int, exc: OSError) -> NoRaw:
    return NoRaw(f"the tunnel's port {port} cannot be used beside it: {os.strerror(exc.errno or 0).lower()}")


def _attach(sock: socket.socket, program: bytes) -> None:
    import ctypes

    buffer = ctypes.create_string_buffer(program, len(program))
    sock.setsockopt(socket.SOL_SOCKET, SO_ATTACH_FILTER, struct.pack("HL", len(program) // 8, ctypes.addressof(buffer)))
