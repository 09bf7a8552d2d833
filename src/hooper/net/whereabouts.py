"""Where this computer stands: on which of the site's networks, if on any."""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import NamedTuple

from hooper.addresses import IPAddress
from hooper.errors import NoNetwork
from hooper.net.types import Door, Surroundings
from hooper.site.model import Site


class Standing(NamedTuple):
    """By which interface this computer is on the LAN of a gateway, and its own address there; None: it is on none."""

    interface: str | None
    gateway: str | None
    address: IPv4Address | None


async def connected_surroundings(here: Door) -> Surroundings:
    """What this computer knows of its networks. Raises: NoNetwork: it is on none."""
    around = await here.surroundings()
    if not around.connected:
        raise NoNetwork("this computer has no network: no interface is up and has an address")
    return around


def standing(site: Site, around: Surroundings) -> Standing:
    """Where this computer is. A tunnel's end is no place on the site's networks."""
    for interface in around.interfaces:
        address = interface.ipv4 if not interface.tunnel else None
        for key, gateway in site.gateways.items():
            if address is not None and interface.up and address in gateway.lan.network:
                return Standing(interface.name, key, address)
    return Standing(None, None, None)


def other_router(site: Site, around: Surroundings) -> IPAddress | None:
    """The router by which this computer goes out from a network of the site, where it is none of the site's: what it
    measures then tells nothing of the site's lines.
    """
    place = standing(site, around)
    router = around.default_gateway(place.interface) if place.gateway is not None else None
    return router if place.gateway is not None and router != site.gateways[place.gateway].lan.ip else None


def at_home(site: Site, around: Surroundings) -> str | None:
    """The gateway whose LAN this computer is on; None: on none, or on one that has its addresses and another router."""
    return standing(site, around).gateway if other_router(site, around) is None else None
