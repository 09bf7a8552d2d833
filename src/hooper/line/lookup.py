"""What a DNS name has, as anybody at this machine would see it: by the resolvers of [measure], else by its own."""

from __future__ import annotations

import anyio

from hooper.errors import HooperError
from hooper.net.types import Door, Endpoint
from hooper.site.model import Site
from hooper.sourced import Sourced, SourcedAddress


async def name_looked_up(here: Door, site: Site, name: str, deadline: float) -> SourcedAddress:
    """A name's IPv4 address. deadline: seconds for each resolver. Never raises for the network."""
    from hooper.net.dns import addresses_by

    for address, port in site.measure.resolvers:
        server = Endpoint(address, port)
        with anyio.move_on_after(deadline):
            try:
                addresses = await addresses_by(here, server, name, deadline)
            except HooperError:
                continue
            source = f"resolver {server if port != 53 else address}"
            return Sourced(addresses[0] if addresses else None, source, absent=not addresses)
    return await by_this_machine(here, name, deadline)


async def by_this_machine(here: Door, name: str, deadline: float) -> SourcedAddress:
    """As any program here would look it up, which may know more ways than the list of resolvers."""
    with anyio.move_on_after(deadline):
        try:
            addresses = await here.lookup(name, "ipv4")
        except HooperError as exc:
            return Sourced(None, exc.message)
        return Sourced(addresses[0] if addresses else None, "this machine's resolver", absent=not addresses)
    return Sourced(None, "no resolver answered")
