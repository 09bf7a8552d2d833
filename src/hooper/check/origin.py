"""Where a check is made from: here, an interface of this computer, a SOCKS5 proxy."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import anyio

from hooper import deeds
from hooper.addresses import parse_address
from hooper.errors import UsageError
from hooper.net.proxy import ProxyDoor, ProxyFailed, close_quietly
from hooper.net.types import Door, Endpoint
from hooper.places import Place

if TYPE_CHECKING:
    from hooper.site.model import Site

GREETED_WITHIN = 3.0  # seconds, or as long as a probe may take


async def open_origin(here: Door, origin: Place, site: Site, base: Path, deadline: float) -> Door:
    """The door of that place. base: the site file's folder. Raises: UsageError, MachineError, ProxyFailed."""
    if origin.kind == "hotspot":
        raise UsageError(
            "by a phone's hotspot this whole computer goes outside, and cannot be at home meanwhile",
            remedy=f"Look with `{deeds.LOOK_BY_HOTSPOT}`; what it sees is kept for the next 10 minutes.",
        )
    if origin.kind == "interface":
        return here.through(origin.name or await elsewhere(here, site))
    try:
        address = parse_address(origin.name)
    except ValueError:
        found = await here.lookup(origin.name, "ipv4")
        if not found:
            raise ProxyFailed(f"the proxy's name {origin.name} has no address") from None
        address = found[0]
    password = origin.password.read(base) if origin.password is not None else None
    if origin.user is not None and password is None:
        raise UsageError("the proxy's user needs a password", remedy="Give a reference to it: env:NAME or file:PATH.")
    door = ProxyDoor(here, Endpoint(address, origin.port), origin.user, password)
    try:
        with anyio.fail_after(max(deadline, GREETED_WITHIN)):
            await close_quietly(await door.greet())
    except TimeoutError:
        raise ProxyFailed(f"the proxy {door.proxy} does not answer") from None
    return door


async def elsewhere(here: Door, site: Site) -> str:
    """The one interface by which something leaves that is not on the site's own networks. Raises: UsageError."""
    around = await here.surroundings()
    inside = [gateway.lan.network for gateway in site.gateways.values()]
    up = {i.name: i.ipv4 for i in around.interfaces if not i.loopback and i.up and i.ipv4 is not None}
    names = list(up)
    leading = [
        name
        for name, address in up.items()
        if around.has_default_route(name) is not False and not any(address in network for network in inside)
    ]
    if len(leading) == 1:
        return leading[0]
    if not leading:
        raise UsageError(
            f"no interface of this computer leads elsewhere; there are: {', '.join(names) or 'none'}",
            remedy="Join this computer to a phone's mobile data by cable, then try again.",
        )
    raise UsageError(
        f"several interfaces of this computer lead elsewhere: {', '.join(leading)}",
        remedy=f"Name the one that is the phone's mobile data, such as interface:{leading[-1]}.",
    )
