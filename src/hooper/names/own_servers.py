"""Who has the last word on a name: its zone's own servers, asked directly, since resolvers keep what is old."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import ip_address

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.net.dns import records, zone_of
from hooper.net.types import Door, Endpoint
from hooper.site.model import Site

QUESTION_S = 3.0  # seconds for one question to one server; more does not help
GRACE_S = 0.5  # seconds for further servers once one has answered
SERVERS = 13  # of a zone; more fit into no referral (RFC 1035 section 2.3.4), and are not asked


@dataclass(frozen=True)
class Published:
    """What is published. source: who says so; None in `values`: nobody could be asked."""

    values: tuple[str, ...] | None
    source: str


@dataclass(frozen=True)
class ZoneServers:
    """Where to ask about a name. zone: None where none was found; then `servers` are resolvers."""

    zone: str | None
    servers: tuple[Endpoint, ...]

    @property
    def authoritative(self) -> bool:
        return self.zone is not None


async def resolvers_of(door: Door, site: Site) -> list[Endpoint]:
    """The resolvers that [measure] names, else this machine's own."""
    named = [Endpoint(address, port) for address, port in site.measure.resolvers]
    return named or [Endpoint(address, 53) for address in (await door.surroundings()).resolvers]


async def authority_of(door: Door, resolvers: Sequence[Endpoint], name: str, deadline: float) -> ZoneServers:
    """The servers of the zone that `name` is in. deadline: seconds for each question. Never raises for the network."""
    for resolver in resolvers:
        try:
            found = await zone_of(door, resolver, name, deadline)
            if found is None:
                continue
            zone, primary = found
            names = await records(door, resolver, zone, "NS", deadline) or (primary,)
            servers = await _addresses(door, resolver, names, deadline)
        except HooperError:
            continue
        if servers:
            # one that was named as resolver is asked at the port that was named
            known = {resolver.address: resolver for resolver in resolvers}
            return ZoneServers(zone, tuple(known.get(address, Endpoint(address, 53)) for address in servers))
    return ZoneServers(None, tuple(resolvers))


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


async def _addresses(door: Door, resolver: Endpoint, names: Sequence[str], deadline: float) -> list[IPAddress]:
    """The IPv4 address of each server; one that has none is left out."""
    found: dict[str, list[IPAddress]] = {}

    async def one(name: str) -> None:
        try:
            found[name] = [ip_address(text) for text in await records(door, resolver, name, "A", deadline)]
        except HooperError:
            found[name] = []

    async with anyio.create_task_group() as tasks:
        for name in names[:SERVERS]:
            tasks.start_soon(one, name)
    return list(dict.fromkeys(address for name in names[:SERVERS] for address in found[name][:4]))[:SERVERS]


async def published(door: Door, where: ZoneServers, name: str, kind: str, deadline: float) -> Published:
    """What the first server that answers has for `name`. Never raises for the network."""
    problem = "no server for this name is known"
    with anyio.move_on_after(2 * deadline):  # for all of them; the first that is silent leaves time for another
        for server in where.servers:
            try:
                values = await records(door, server, name, kind, deadline, recursive=not where.authoritative)
            except HooperError as exc:
                problem = exc.message
                continue
            kind_of_server = "authoritative server" if where.authoritative else "resolver"
            return Published(values, f"{kind_of_server} {server.address}")
    return Published(None, problem)


async def all_show(
    door: Door, where: ZoneServers, name: str, kind: str, deadline: float, grace: float = GRACE_S
) -> dict[Endpoint, tuple[str, ...] | None]:
    """What each server has for `name`; None: it does not answer. Never raises for the network.

    deadline: seconds for the first answer; grace: for the others after it.
    """
    shown: dict[Endpoint, tuple[str, ...] | None] = dict.fromkeys(where.servers)

    async def one(server: Endpoint, scope: anyio.CancelScope) -> None:
        try:
            shown[server] = await records(door, server, name, kind, deadline, recursive=not where.authoritative)
        except HooperError:
            return
        scope.deadline = min(scope.deadline, door.clock.monotonic() + grace)

    async with anyio.create_task_group() as tasks:
        tasks.cancel_scope.deadline = door.clock.monotonic() + deadline
        for server in where.servers:
            tasks.start_soon(one, server, tasks.cancel_scope)
    return shown


async def shown_by_all(
    door: Door, where: ZoneServers, name: str, kind: str, value: str, deadline: float
) -> bool | None:
    """Whether every server that answers has `value` for `name`; None: none answers."""
    shown = await all_show(door, where, name, kind, deadline, deadline)
    answers = [value in values for values in shown.values() if values is not None]
    return all(answers) if answers else None
