"""What can be found of a new site from here: this computer's network, its router, and what that says of itself."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Interface

from hooper.addresses import classify
from hooper.errors import HooperError, NoNetwork
from hooper.gateways.find import find_routers
from hooper.net.types import Door
from hooper.net.whereabouts import connected_surroundings
from hooper.planning.starting import Start, StartBox, site_text
from hooper.site.load import parse_site


async def found_here(door: Door, title: str, deadline: float) -> Start:
    """The boxes that can be told from here, outermost first, and the resolvers of this computer.

    Asks this computer and its default gateway, nobody else. deadline: seconds. What is only likely carries its doubt.
    Raises: NoNetwork: there is no default gateway.
    """
    around = await connected_surroundings(door)
    gateway = around.default_gateway()
    lan = next(
        (
            address.network
            for interface in around.interfaces
            for address in interface.addresses
            if isinstance(address, IPv4Interface) and isinstance(gateway, IPv4Address) and gateway in address.network
        ),
        None,
    )
    if not isinstance(gateway, IPv4Address) or lan is None:
        raise NoNetwork("this computer has no default gateway on a network of its own, so nothing can be found")
    own = StartBox("own-router", f"{gateway}/{lan.prefixlen}")
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
        return Start(
            title, (StartBox(own.key, own.lan, control="hand", doubt="it answered no protocol"),), resolvers=resolvers
        )
    if isinstance(wan, IPv4Address) and not classify(wan).reachable:
        first = IPv4Address(int(wan) & ~0xFF | 1)
        outer = StartBox(
            "outer-box",
            f"{first}/24",
            control="hand",
            managed_by="provider",
            doubt=f"a guess, since the next router has the WAN address {wan}: read it on its page",
        )
        return Start(title, (outer, StartBox(own.key, own.lan, wan=str(wan))), resolvers=resolvers)
    return start
