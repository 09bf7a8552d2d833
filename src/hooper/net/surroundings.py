"""Interfaces, routes, resolvers and neighbours of this computer, and when they change."""

from __future__ import annotations

import contextlib
import socket
import struct
import subprocess
import sys
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, IPv6Network, ip_address
from pathlib import Path
from typing import Literal

import anyio

from hooper.addresses import IPAddress
from hooper.errors import WireError
from hooper.net import macos, windows
from hooper.net.awake import awake
from hooper.net.types import Change, Interface, Neighbour, Route, Surroundings
from hooper.wire import rtnetlink

_UP, _REJECT, _LOCAL = 0x0001, 0x0200, 0x80000000  # RTF_*, linux/route.h and ipv6_route.h
_PROC = Path("/proc/thread-self/net")  # a thread can be in another network namespace than its process
_SYSCTL = Path("/proc/sys/net/ipv4/conf")
# systemd's own resolver on the loopback asks the ones that stand in its own file
_STUB, _RESOLVERS, _BEHIND_STUB = "127.0.0.53", Path("/etc/resolv.conf"), Path("/run/systemd/resolve/resolv.conf")
ASKED_S = 2.0  # seconds for a command of the system
LOOKED_AGAIN_S = 5.0  # seconds between looks where the system does not tell of changes


def read_surroundings() -> Surroundings:
    """As this computer has it now. Where the system does not tell its routes, `routes` is None."""
    return replace(_of_system(), awake=awake())


def _of_system() -> Surroundings:
    system: str = sys.platform
    if system.startswith("linux"):
        return _of_linux()
    if system == "darwin":
        return of_macos({name: _said(command) for name, command in macos.COMMANDS.items()}, tuple(_interfaces()))
    if system == "win32":
        return of_windows(_said(windows.COMMAND), tuple(_interfaces()))
    return Surroundings(tuple(_interfaces()), None, read_resolvers(_RESOLVERS))


def _of_linux() -> Surroundings:
    routes: list[Route] | None = None
    with contextlib.suppress(OSError):
        routes = list(parse_routes((_PROC / "route").read_text().splitlines()))
        with contextlib.suppress(FileNotFoundError):  # without IPv6
            routes += parse_routes6((_PROC / "ipv6_route").read_text().splitlines())
    told = _ask_kernel(rtnetlink.GET_LINKS) + _ask_kernel(rtnetlink.GET_NEIGHBOURS)
    tunnels = {_name(link.index) for messages in told for link in messages.links if link.tunnel}
    neighbours = tuple(
        Neighbour(neighbour.address, neighbour.mac, name, neighbour.silent_s)
        for messages in told
        for neighbour in messages.neighbours
        if (name := _name(neighbour.index)) is not None and not neighbour.address.is_multicast
    )
    resolvers = read_resolvers(_RESOLVERS)
    if [str(resolver) for resolver in resolvers] == [_STUB]:
        resolvers = read_resolvers(_BEHIND_STUB) or resolvers
    passing: dict[str, frozenset[IPv6Address]] = {}
    with contextlib.suppress(OSError):
        passing = parse_passing((_PROC / "if_inet6").read_text().splitlines())
    interfaces = tuple(
        replace(interface, tunnel=interface.name in tunnels, passing=passing.get(interface.name, frozenset()))
        for interface in _interfaces()
    )
    return Surroundings(interfaces, tuple(routes) if routes is not None else None, resolvers, neighbours)


def _ask_kernel(kind: int) -> list[rtnetlink.Messages]:
    """A whole table of the kernel; empty where it does not give it."""
    found: list[rtnetlink.Messages] = []
    with contextlib.suppress(OSError, WireError), _netlink(0) as sock:
        sock.settimeout(1.0)
        sock.send(rtnetlink.serialize_dump(kind))
        while not found or not (found[-1].done or found[-1].failed):
            found.append(rtnetlink.parse(sock.recv(256 * 1024)))
    return found


def _netlink(groups: int) -> socket.socket:
    assert sys.platform.startswith("linux")
    sock = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, socket.NETLINK_ROUTE)
    sock.bind((0, groups))
    return sock


def _name(index: int) -> str | None:
    try:
        return socket.if_indextoname(index)
    except OSError:
        return None


def of_macos(said: Mapping[str, str], interfaces: tuple[Interface, ...]) -> Surroundings:
    """said: the output of each of `macos.COMMANDS`, empty where it failed."""
    routes = [*macos.parse_routes(said["routes4"]), *macos.parse_routes(said["routes6"])]
    neighbours = [*macos.parse_neighbours(said["neighbours4"]), *macos.parse_neighbours(said["neighbours6"])]
    known = tuple(
        replace(interface, tunnel=macos.TUNNELS.match(interface.name) is not None) for interface in interfaces
    )
    resolvers = tuple(macos.parse_resolvers(said["resolvers"]))
    return Surroundings(known, tuple(routes) or None, resolvers, tuple(neighbours))


def of_windows(said: str, interfaces: tuple[Interface, ...]) -> Surroundings:
    """said: the output of `windows.COMMAND`, empty where it failed."""
    try:
        got = windows.parse(said.encode())
    except WireError:
        return Surroundings(interfaces, None, ())
    known = tuple(replace(interface, tunnel=interface.name in got.tunnels) for interface in interfaces)
    return Surroundings(known, got.routes or None, got.resolvers, got.neighbours)


def _said(command: tuple[str, ...]) -> str:
    """What a command of the system prints; empty where there is none, or it takes too long."""
    try:
        done = subprocess.run(command, capture_output=True, timeout=ASKED_S, stdin=subprocess.DEVNULL)  # noqa: S603
    except (OSError, subprocess.SubprocessError):
        return ""
    return done.stdout.decode("utf-8", "replace")


async def watch(read: Callable[[], Awaitable[Surroundings]]) -> AsyncIterator[Change]:
    """Changes as Linux tells them, at once; on other systems by looking every LOOKED_AGAIN_S seconds."""
    if not sys.platform.startswith("linux"):
        async for change in compared(read, LOOKED_AGAIN_S):
            yield change
        return
    with _netlink(rtnetlink.GROUPS) as sock:
        sock.setblocking(False)
        try:
            while True:
                await anyio.wait_readable(sock)
                for kind in dict.fromkeys(_changed(sock)):
                    yield Change(kind)
        finally:
            anyio.notify_closing(sock)


def _changed(sock: socket.socket) -> Iterator[Literal["link", "address", "route", "unknown"]]:
    """All that waits to be read. Where the kernel had more to tell than it could keep: unknown."""
    while True:
        try:
            yield from rtnetlink.parse(sock.recv(256 * 1024)).changes
        except BlockingIOError:
            return
        except (OSError, WireError):
            yield "unknown"


async def compared(read: Callable[[], Awaitable[Surroundings]], every_s: float) -> AsyncIterator[Change]:
    """Changes by looking again, without the neighbours, who come and go."""
    last = await read()
    while True:
        await anyio.sleep(every_s)
        now = await read()
        if {interface.name: interface.up for interface in now.interfaces} != {
            interface.name: interface.up for interface in last.interfaces
        }:
            yield Change("link")
        elif [interface.addresses for interface in now.interfaces] != [
            interface.addresses for interface in last.interfaces
        ]:
            yield Change("address")
        if now.routes != last.routes:
            yield Change("route")
        last = now


def _interfaces() -> Iterator[Interface]:
    import psutil

    states = psutil.net_if_stats()
    for name, rows in sorted(psutil.net_if_addrs().items()):
        addresses: list[IPv4Interface | IPv6Interface] = []
        mac = None
        for row in rows:
            with contextlib.suppress(ValueError):
                if row.family == socket.AF_INET:
                    addresses.append(IPv4Interface(f"{row.address}/{row.netmask or 32}"))
                elif row.family == socket.AF_INET6:
                    prefix = bin(int(IPv6Address(row.netmask))).count("1") if row.netmask else 128
                    addresses.append(IPv6Interface(f"{row.address.partition('%')[0]}/{prefix}"))
                elif row.family == psutil.AF_LINK:
                    mac = row.address.lower().replace("-", ":")
        state = states.get(name)
        yield Interface(
            name,
            tuple(addresses),
            up=state.isup if state else False,
            mac=mac,
            loopback=any(address.ip.is_loopback for address in addresses) or name == "lo",
            strict_return=_strict_return(name),
        )


def _strict_return(interface: str) -> bool:
    """Whether the kernel checks the way back strictly (RFC 3704): the higher of `all` and the interface counts."""
    values = []
    for name in ("all", interface):
        with contextlib.suppress(OSError, ValueError):
            values.append(int((_SYSCTL / name / "rp_filter").read_text()))
    return max(values, default=0) == 1


def parse_routes(lines: Iterable[str]) -> Iterator[Route]:
    """Read /proc/net/route: numbers in hexadecimal, addresses in the order of the machine."""
    for line in list(lines)[1:]:
        fields = line.split()
        with contextlib.suppress(ValueError, struct.error, IndexError):
            if int(fields[3], 16) & _UP:
                destination, gateway, mask = (IPv4Address(struct.pack("=L", int(fields[n], 16))) for n in (1, 2, 7))
                network = IPv4Network(f"{destination}/{mask}")
                yield Route(network, gateway if int(gateway) else None, fields[0], int(fields[6]))


def parse_routes6(lines: Iterable[str]) -> Iterator[Route]:
    """Read /proc/net/ipv6_route: destination, length, source, length, gateway, metric, two counters, flags, name."""
    for line in lines:
        fields = line.split()
        with contextlib.suppress(ValueError, IndexError):
            flags = int(fields[8], 16)
            if not flags & _UP or flags & (_LOCAL | _REJECT) or fields[9] == "lo":
                continue
            network = IPv6Network((bytes.fromhex(fields[0]), int(fields[1], 16)), strict=False)
            gateway = IPv6Address(bytes.fromhex(fields[4]))
            if not network.is_multicast:
                yield Route(network, gateway if int(gateway) else None, fields[9], int(fields[5], 16))


PASSING = 0x01 | 0x20 | 0x40  # of the kernel's flags of an address: temporary, deprecated, tentative


def parse_passing(lines: Iterable[str]) -> dict[str, frozenset[IPv6Address]]:
    """The IPv6 addresses by interface that will not stay, from /proc/net/if_inet6; damaged lines are passed over."""
    found: dict[str, set[IPv6Address]] = {}
    for line in lines:
        words = line.split()
        with contextlib.suppress(ValueError, IndexError):
            if int(words[4], 16) & PASSING:
                found.setdefault(words[5], set()).add(IPv6Address(int(words[0], 16)))
    return {name: frozenset(addresses) for name, addresses in found.items()}


def read_resolvers(path: Path) -> tuple[IPAddress, ...]:
    """The servers in a resolv.conf, as far as it can be read."""
    found: list[IPAddress] = []
    with contextlib.suppress(OSError):
        for line in path.read_text(errors="replace").splitlines():
            words = line.split()
            if len(words) >= 2 and words[0] == "nameserver":
                with contextlib.suppress(ValueError):
                    found.append(ip_address(words[1].partition("%")[0]))
    return tuple(found)
