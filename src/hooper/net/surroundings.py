"""Interfaces, routes and resolvers of this machine."""

from __future__ import annotations

import contextlib
import socket
import struct
import sys
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, ip_address
from pathlib import Path

from hooper.addresses import IPAddress
from hooper.net.types import Interface, Neighbour, Route, Surroundings

_UP = 0x0001  # RTF_UP, linux/route.h
_COMPLETE = 0x02  # ATF_COM, linux/if_arp.h
_PROC = Path("/proc/thread-self/net")  # a thread can be in another network namespace than its process
_SYSCTL = Path("/proc/sys/net/ipv4/conf")


def read_surroundings() -> Surroundings:
    """As this machine has it now. On systems whose routes cannot be read yet, `routes` is None."""
    routes = None
    if sys.platform.startswith("linux"):
        with contextlib.suppress(OSError):
            routes = tuple(parse_routes((_PROC / "route").read_text().splitlines()))
    neighbours: tuple[Neighbour, ...] = ()
    with contextlib.suppress(OSError):
        neighbours = tuple(parse_neighbours((_PROC / "arp").read_text().splitlines()))
    return Surroundings(tuple(_interfaces()), routes, tuple(_resolvers()), neighbours)


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
        if len(fields) < 8 or not int(fields[3], 16) & _UP:
            continue
        destination, gateway, mask = (IPv4Address(struct.pack("=L", int(fields[n], 16))) for n in (1, 2, 7))
        with contextlib.suppress(ValueError):
            network = IPv4Network(f"{destination}/{mask}")
            yield Route(network, gateway if int(gateway) else None, fields[0], int(fields[6]))


def parse_neighbours(lines: Iterable[str]) -> Iterator[Neighbour]:
    """Read /proc/net/arp; entries that were never answered are left out."""
    for line in list(lines)[1:]:
        fields = line.split()
        if len(fields) >= 6 and int(fields[2], 16) & _COMPLETE:
            with contextlib.suppress(ValueError):
                yield Neighbour(ip_address(fields[0]), fields[3].lower(), fields[5])


def _resolvers() -> Iterator[IPAddress]:
    with contextlib.suppress(OSError):
        for line in Path("/etc/resolv.conf").read_text(errors="replace").splitlines():
            words = line.split()
            if len(words) >= 2 and words[0] == "nameserver":
                with contextlib.suppress(ValueError):
                    yield ip_address(words[1].partition("%")[0])
