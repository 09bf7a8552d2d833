"""What the names that people type lead to, as seen outside and at their own servers, and what is wrong with that."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import ip_address
from typing import TYPE_CHECKING

import anyio

from hooper.addresses import IPAddress
from hooper.check.named import NameSeen
from hooper.line.lookup import addresses_of
from hooper.names.authority import authority_for, published
from hooper.net.types import Door
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from hooper.site.model import Site

PATIENCE = 2.0  # seconds for one name, whoever is asked


async def names_seen(
    here: Door, outside: Door, site: Site, names: Iterable[str], deadline: float
) -> dict[str, NameSeen]:
    """Each name, asked from the place outside where that carries datagrams. deadline: seconds for all of it."""
    seen: dict[str, NameSeen] = {}
    door = outside if outside.place.kind == "interface" else here

    async def look(name: str) -> None:
        found: dict[str, tuple[IPAddress, ...]] = {}
        sources: list[Said] = []

        async def by_resolver() -> None:
            addresses, source = await addresses_of(door, site, name, min(deadline, PATIENCE))
            sources.append(source)
            if addresses is not None:
                found["resolved"] = addresses

        async def six_by_resolver() -> None:
            addresses, _ = await addresses_of(door, site, name, min(deadline, PATIENCE), "ipv6")
            if addresses is not None:
                found.setdefault("six", addresses)

        async def by_own_servers() -> None:
            kept_by = site.names[name].updated_by if name in site.names else ""
            where = await authority_for(door, site, name, kept_by, min(deadline, PATIENCE))
            if not where.authoritative:
                return
            for kind, key in (("A", "own"), ("AAAA", "six")):
                told = await published(door, where, name, kind, min(deadline, PATIENCE))
                if told.values is not None:
                    found[key] = tuple(ip_address(value) for value in told.values)

        with anyio.move_on_after(deadline):
            async with anyio.create_task_group() as tasks:
                for ask in (by_resolver, six_by_resolver, by_own_servers):
                    tasks.start_soon(ask)
        source = sources[0] if sources else say("no-resolver-answered")
        seen[name] = NameSeen(name, found.get("resolved"), source, found.get("own"), found.get("six"))

    async with anyio.create_task_group() as tasks:
        for name in set(names):
            tasks.start_soon(look, name)
    return seen
