"""Where this machine is, as far as a look from it proves something about outside."""

from __future__ import annotations

from ipaddress import ip_network
from typing import TYPE_CHECKING, NamedTuple

from hooper.check.results import Unfit
from hooper.errors import UsageError
from hooper.net.standing import standing
from hooper.planning.access import peer_at
from hooper.words.said import say

if TYPE_CHECKING:
    from hooper.net.types import Door, Surroundings
    from hooper.site.model import Site


class WithinTunnel(NamedTuple):
    """The tunnel of the site that an interface is; peer: this machine; None: nobody in the file has its address."""

    tunnel: str
    peer: str | None


def within_tunnel(site: Site, outside: Door, around: Surroundings) -> WithinTunnel | None:
    """The tunnel that the interface is which is looked from; None: it is none, or this is its server."""
    interface = around.interface(outside.place.name) if outside.place.kind == "interface" else None
    own = interface.ipv4 if interface is not None else None
    if own is None:
        return None
    found = peer_at(site, own)
    return WithinTunnel(*found) if found is not None else None


def at_home(site: Site, around: Surroundings) -> str | None:
    """The gateway whose LAN this machine is on; None: on none, or on one that has its addresses and another router."""
    place = standing(site, around)
    if place.gateway is None:
        return None
    router = around.default_gateway(place.interface)
    return place.gateway if router in (None, site.gateways[place.gateway].lan.ip) else None


def has_ipv6(around: Surroundings, interface: str | None) -> bool:
    """Whether packets over IPv6 can leave by an interface, and answers find it. None: by any."""
    own = [one for one in around.interfaces if one.up and not one.loopback and interface in (None, one.name)]
    defaults = [route for route in around.routes or () if route.destination.version == 6]
    leads = any(route.destination.prefixlen == 0 and interface in (None, route.interface) for route in defaults)
    return leads and any(one.ipv6 is not None for one in own)


def six_alone(outside: Door, around: Surroundings) -> str | None:
    """The place that is looked from, where it has IPv6 and no IPv4; None: it has both, or that is not known."""
    if outside.place.kind == "proxy":
        return None
    if outside.place.kind == "here":
        alone = around.routes is not None and not around.default_routes() and has_ipv6(around, None)
        return "this machine" if alone else None
    interface = around.interface(outside.place.name)
    alone = interface is not None and interface.ipv4 is None and has_ipv6(around, interface.name)
    return outside.place.name if alone else None


def useless_interface(site: Site, outside: Door, around: Surroundings) -> Unfit | None:
    """Why nothing can be proven through this interface; None: it can."""
    if outside.place.kind != "interface":
        return None
    name = outside.place.name
    interface = around.interface(name)
    if interface is None:
        known = ", ".join(i.name for i in around.interfaces if not i.loopback) or "none"
        raise UsageError(f"this machine has no interface {name!r}", remedy=f"There are: {known}.")
    inside = next((key for key, one in site.gateways.items() if one.prefix6 is not None and interface.ipv6 is not None
                   and interface.ipv6 in ip_network(one.prefix6)), None)  # fmt: skip
    if inside is not None:
        return Unfit("asker-inside", say("unfit-inside-six", name=name, inside=inside))
    if interface.up and interface.ipv4 is None and has_ipv6(around, name):
        return None
    if not interface.up or interface.ipv4 is None:
        return Unfit("asker-no-way", say("unfit-down", name=name))
    if any(interface.ipv4 in gateway.lan.network for gateway in site.gateways.values()):
        return Unfit("asker-inside", say("unfit-inside", name=name))
    if around.has_default_route(name) is False:
        return Unfit("asker-no-way", say("unfit-no-route", name=name))
    preferred = next((route.interface for route in around.default_routes()), name)
    if interface.strict_return and preferred != name:
        words = say("unfit-return-filter", name=name)
        return Unfit("asker-no-way", words)
    return None
