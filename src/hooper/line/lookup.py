"""What a DNS name has, as anybody at this machine would see it: by the resolvers of [measure], else by its own."""

from __future__ import annotations

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.net.types import Door, Endpoint, Family
from hooper.site.model import Site
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.said import Said, quoted, say


async def name_looked_up(here: Door, site: Site, name: str, deadline: float) -> SourcedAddress:
    """A name's IPv4 address. deadline: seconds for each resolver. Never raises for the network."""
    return first_of(*await addresses_of(here, site, name, deadline))


def first_of(found: tuple[IPAddress, ...] | None, source: Said) -> SourcedAddress:
    """The first of the addresses of a name, with who says so."""
    return Sourced(found[0] if found else None, source, absent=found == ())


async def addresses_of(
    here: Door, site: Site, name: str, deadline: float, family: Family = "ipv4"
) -> tuple[tuple[IPAddress, ...] | None, Said]:
    """All addresses of a name of one family, and who says so; None: nobody does, and why. deadline: as for one."""
    from hooper.net.dns import addresses_by

    for address, port in site.measure.resolvers:
        server = Endpoint(address, port)
        with anyio.move_on_after(deadline):
            try:
                found = await addresses_by(here, server, name, deadline, family)
            except HooperError:
                continue
            return tuple(found), say("resolver", server=server if port != 53 else address)
    return await by_this_machine(here, name, deadline, family)


async def by_this_machine(
    here: Door, name: str, deadline: float, family: Family = "ipv4"
) -> tuple[tuple[IPAddress, ...] | None, Said]:
    """As any program here would look it up, which may know more ways than the list of resolvers."""
    with anyio.move_on_after(deadline):
        try:
            addresses = await here.lookup(name, family)
        except HooperError as exc:
            return None, quoted(exc.message)
        return tuple(addresses), say("this-machines-resolver-itself")
    return None, say("no-resolver-answered")
