"""Whom to ask about a name of the site file: what it says itself, else what this computer and the zone have."""

from __future__ import annotations

from hooper.net.dns import QUESTION_S, ZoneServers, authority_of
from hooper.net.types import Door, Endpoint
from hooper.site.model import Site


async def resolvers_of(door: Door, site: Site) -> list[Endpoint]:
    """The resolvers that [measure] names, else this computer's own."""
    named = [Endpoint(address, port) for address, port in site.measure.resolvers]
    return named or [Endpoint(address, 53) for address in (await door.surroundings()).resolvers]


async def authority_for(door: Door, site: Site, name: str, updated_by: str, deadline: float) -> ZoneServers:
    """The servers of a name: the one that its updater names and those that it tells of, else those of its zone.

    deadline: as `authority_of`.
    """
    updater = site.updaters.get(updated_by)
    if updater is None or updater.server is None:
        return await authority_of(door, await resolvers_of(door, site), name, min(deadline, QUESTION_S))
    first = Endpoint(*updater.server)
    others = await authority_of(door, [first], name, min(deadline, QUESTION_S))
    more = others.servers if others.authoritative else ()
    return ZoneServers(others.zone or name, (first, *(server for server in more if server != first)))
