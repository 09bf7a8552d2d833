"""Free addresses and prefixes to propose, and which networks meet. Pure."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv4Network
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.errors import UsageError
from hooper.planning.paths import gateway_of
from hooper.site.tunnel_references import into_of

if TYPE_CHECKING:
    from hooper.site.model import Site

# What routers come with, and what hotels, offices and trains use (RFC 1918 space); a tunnel from there meets itself.
COMMON = tuple(
    IPv4Network(text)
    for text in (
        "192.168.0.0/24",
        "192.168.1.0/24",
        "192.168.2.0/24",
        "192.168.8.0/24",
        "192.168.10.0/24",
        "192.168.100.0/24",
        "192.168.178.0/24",
        "10.0.0.0/16",
        "10.1.0.0/16",
        "10.10.0.0/16",
        "172.16.0.0/16",
    )
)
FIRST_CHOICE = 20  # the last number to begin with: below it routers and their helpers like to sit


def taken(site: Site, gateway: str) -> set[IPv4Address]:
    """The addresses on a gateway's LAN that the file gives to somebody."""
    out = {site.gateways[gateway].lan.ip}
    out.update(host.address for host in site.hosts.values() if gateway_of(site, host) == gateway)
    inner = (other.wan_behind(gateway) for other in site.gateways.values())
    out.update(address for address in inner if address is not None)
    return out


def free_addresses(site: Site, gateway: str, avoid: Iterable[IPv4Address] = ()) -> Iterator[IPv4Address]:
    """Addresses on a gateway's LAN for a device to be set to, the ones to propose first first.

    They lie outside the pool and are nobody's: not the gateway's, a host's, the network's own or its broadcast one.
    Where the pool is not known, they come from the end, which pools leave out most often.
    """
    network, pool = site.gateways[gateway].lan.network, site.gateways[gateway].pool
    used = taken(site, gateway) | set(avoid)
    first, last = int(network.network_address) + 1, int(network.broadcast_address) - 1
    if pool is None:
        order: Iterable[int] = range(last, first - 1, -1)
    else:
        start = min(first + FIRST_CHOICE - 1, last)
        order = (*range(start, last + 1), *range(first, start)) if last - first < 70_000 else range(start, last + 1)
    for number in order:
        address = IPv4Address(number)
        if address not in used and (pool is None or address not in pool):
            yield address


def free_prefix(site: Site, length: int = 24, seed: bytes = b"") -> IPv4Network:
    """A prefix that nothing of this site uses and few others do; the same for the same site and seed."""
    used = [gateway.lan.network for gateway in site.gateways.values()]
    used += [tunnel.subnet for tunnel in site.tunnels.values() if tunnel.subnet is not None]
    granted = [item for tunnel in site.tunnels.values() for item in tunnel.into]
    granted += [item for peer in site.peers.values() for item in peer.into or ()]
    named = (into_of(site, item) for item in granted if item not in ("everything", "lan"))
    used += [network for network in named if isinstance(network, IPv4Network)]
    seed = seed or repr(sorted(map(str, used))).encode()
    number = int.from_bytes(hashlib.sha256(seed).digest()[:4], "big")
    while True:
        number = (number * 1_103_515_245 + 12_345) % 2**31
        prefix = IPv4Network((0x0A << 24 | (number >> 7) % 2**16 << 8, 24)).supernet(new_prefix=min(length, 24))
        if not any(prefix.overlaps(other) for other in (*used, *COMMON)):
            return prefix


def is_common(network: IPv4Network) -> bool:
    """Whether hotels and routers as they come out of the box use this prefix."""
    return any(network.overlaps(other) for other in COMMON)


def network_of(site: Site, given: str | None) -> str:
    """The gateway on whose LAN an address is wanted; None: the innermost. Raises: UsageError."""
    if given is not None:
        return chosen([given], site.gateways, "gateway")[0]
    if not site.gateways:
        raise UsageError("this site has no gateway", remedy="Add a [gateways.*] first.")
    return list(site.gateways)[-1]
