"""What can be found of a new site from here: this computer's network, its router, and what that says of itself."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Address, IPv6Interface

from hooper.addresses import classify
from hooper.errors import HooperError, NoNetwork
from hooper.gateways.find import find_routers
from hooper.net.types import Door
from hooper.net.whereabouts import connected_surroundings
from hooper.planning.starting import Start, StartBox, site_text
from hooper.site.load import parse_site


async def seen_here(door: Door) -> StartBox | None:
    """The router next to this computer, by this computer's own settings. Asks nobody; None: it has none."""
    around = await connected_surroundings(door)
    gateway = around.default_gateway()
    if not isinstance(gateway, IPv4Address):
        return None
    interface = next((one for one in around.interfaces if any(gateway in a.network for a in one.addresses)), None)
    if interface is None:
        return None
    lan = next(one.network for one in interface.addresses if gateway in one.network)
    stays = (one for one in interface.addresses if isinstance(one, IPv6Interface) and one.ip not in interface.passing)
    prefix = next((one.network for one in stays if classify(one.ip).reachable and one.network.prefixlen <= 64), None)
    return StartBox("own-router", f"{gateway}/{lan.prefixlen}", prefix6=str(prefix or ""))


async def found_here(door: Door, title: str, deadline: float) -> Start:
    """The boxes that can be told from here, outermost first, and the resolvers of this computer.

    Asks this computer and its default gateway, nobody else. deadline: seconds. What is only likely carries its doubt.
    Raises: NoNetwork: there is no default gateway.
    """
    own = await seen_here(door)
    if own is None:
        raise NoNetwork("this computer has no default gateway on a network of its own, so nothing can be found")
    around = await connected_surroundings(door)
    resolvers = tuple(
        str(resolver) for resolver in around.resolvers if resolver.version == 4 and classify(resolver).reachable
    )
    start = Start(title, (own,), resolvers=resolvers)
    try:
        site = parse_site(site_text(start).encode(), "found").site
        found = await find_routers(door, site, ["own-router"], deadline)
        wan = await found.routers["own-router"].external_address() if found.routers else None
    except HooperError:
        wan = None
    if wan is None:
        silent = replace(own, control="hand", doubt="it answered no protocol")
        return Start(title, (silent,), resolvers=resolvers)
    if isinstance(wan, IPv4Address) and not classify(wan).reachable:
        first = IPv4Address(int(wan) & ~0xFF | 1)
        outer = StartBox(
            "outer-box",
            f"{first}/24",
            control="hand",
            managed_by="provider",
            doubt=f"a guess, since the next router has the WAN address {wan}: read it on its page",
        )
        return Start(title, (outer, replace(own, wan=str(wan))), resolvers=resolvers)
    return start
