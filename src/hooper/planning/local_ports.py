"""The ports on a peer's own device by which it reaches services through SSH. Pure."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from hooper.planning.access import grants, into_for
from hooper.planning.free_ports import transports

if TYPE_CHECKING:
    from ipaddress import IPv4Address

    from hooper.site.model import Site

FIRST, SPAN = 10_000, 20_000  # below those that systems give out by themselves (RFC 6056 section 2.1)
DYNAMIC = 1080  # of a proxy for all (RFC 1928)


class LocalForward(NamedTuple):
    """A port on the device that leads to a service. address, port: of the service, as its server reaches it."""

    local: int
    service: str
    address: IPv4Address
    port: int


def local_port(site: Site, service: str) -> int:
    """The port of a service on the devices of peers: 10000 and its own, and no two services of a site the same.

    A device may use several tunnels of a site at once.
    """
    return _chosen(site)[service]


def dynamic_port(site: Site) -> int:
    """The port of the proxy on a device that may reach everything."""
    return _free(FIRST + DYNAMIC, set(_chosen(site).values()))


def _chosen(site: Site) -> dict[str, int]:
    chosen: dict[str, int] = {}
    taken: set[int] = set()
    for key, entry in site.services.items():
        if entry.has_ports and "tcp" in transports(entry.used_transport):
            chosen[key] = _free(FIRST + entry.used_ports.first % SPAN, taken)
            taken.add(chosen[key])
    return chosen


def _free(wanted: int, taken: set[int]) -> int:
    while wanted in taken:
        wanted = FIRST + (wanted + 1 - FIRST) % (FIRST + SPAN)
    return wanted


def forwards_of(site: Site, key: str) -> tuple[LocalForward, ...]:
    """What a peer reaches by SSH, service by service. key: of the peer; one that reaches everything has a proxy."""
    peer = site.peers[key]
    tunnel, granted = site.tunnels[peer.tunnel], grants(site, key)
    everything = into_for(site, peer) == ("everything",)
    return tuple(
        LocalForward(port, name, address, entry.used_ports.first)
        for name, port in _chosen(site).items()
        if (entry := site.services[name]) is not None and name != tunnel.service
        for address in (site.devices[entry.host].address,)
        if not everything and any(one.takes(address, "tcp", entry.used_ports.first) for one in granted)
    )


def by_ssh(site: Site, key: str) -> bool:
    """Whether a peer comes by SSH."""
    return not site.tunnels[site.peers[key].tunnel].of.whole
