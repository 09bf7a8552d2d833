"""What the names that people type lead to, as seen outside and at their own servers, and what is wrong with that."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from ipaddress import ip_address
from typing import TYPE_CHECKING

import anyio

from hooper.addresses import IPAddress, classify
from hooper.check.targets import Target
from hooper.line.lookup import addresses_of
from hooper.names.authority import authority_for, published
from hooper.net.types import Door

if TYPE_CHECKING:
    from hooper.site.model import Site

MISSING, STALE, OTHERS = "name-missing", "name-stale", "name-has-others"
PROBLEMS = (MISSING, STALE, OTHERS)
PATIENCE = 2.0  # seconds for one name, whoever is asked


@dataclass(frozen=True)
class NameSeen:
    """What a name has: by resolvers, and at its zone's own servers; None: nobody said. source: which resolver."""

    name: str
    resolved: tuple[IPAddress, ...] | None
    source: str
    own: tuple[IPAddress, ...] | None

    @property
    def addresses(self) -> tuple[IPAddress, ...] | None:
        """Where people get to. A resolver at home may say something of its own about one's own names."""
        if self.resolved is not None and all(classify(address).reachable for address in self.resolved):
            return self.resolved
        return self.own


async def names_seen(
    here: Door, outside: Door, site: Site, names: Iterable[str], deadline: float
) -> dict[str, NameSeen]:
    """Each name, asked from the place outside where that carries datagrams. deadline: seconds for all of it."""
    seen: dict[str, NameSeen] = {}
    door = outside if outside.place.kind == "interface" else here

    async def look(name: str) -> None:
        found: dict[str, tuple[IPAddress, ...]] = {}
        sources: list[str] = []

        async def by_resolver() -> None:
            addresses, source = await addresses_of(door, site, name, min(deadline, PATIENCE))
            sources.append(source)
            if addresses is not None:
                found["resolved"] = addresses

        async def by_own_servers() -> None:
            kept_by = site.names[name].updated_by if name in site.names else ""
            where = await authority_for(door, site, name, kept_by, min(deadline, PATIENCE))
            if where.authoritative:
                told = await published(door, where, name, "A", min(deadline, PATIENCE))
                if told.values is not None:
                    found["own"] = tuple(ip_address(value) for value in told.values)

        with anyio.move_on_after(deadline):
            async with anyio.create_task_group() as tasks:
                tasks.start_soon(by_resolver)
                tasks.start_soon(by_own_servers)
        source = sources[0] if sources else "no resolver answered"
        seen[name] = NameSeen(name, found.get("resolved"), source, found.get("own"))

    async with anyio.create_task_group() as tasks:
        for name in set(names):
            tasks.start_soon(look, name)
    return seen


def by_name(target: Target, seen: Mapping[str, NameSeen]) -> Iterator[Target]:
    """A target at every address that its name leads to, with what is wrong with that."""
    name = seen.get(target.server_name or "")
    if name is None or name.addresses is None:
        yield target
    elif not name.addresses:
        words = f"{name.name} has no address ({name.source}): who types it gets nowhere"
        yield replace(target, name=name.name, wrong=(MISSING, words))
    else:
        for address in name.addresses:
            yield replace(target, name=name.name, address=address, wrong=_wrong(target.address, address, name))


def _wrong(right: IPAddress | None, address: IPAddress, seen: NameSeen) -> tuple[str, str] | None:
    """What is wrong with one address of a name. right: the line's; None: not known, so that nothing can be said."""
    if right is None:
        return None
    if address == right:
        if seen.own is not None and right not in seen.own:
            kept = ", ".join(map(str, seen.own)) or "no address"
            return STALE, f"{seen.name} leads here still, but its own servers have {kept}"
        return None
    if seen.addresses is not None and right in seen.addresses:
        return OTHERS, f"{seen.name} leads to {address} too, which is not this line's {right}"
    late = "; its own servers have that, so resolvers follow soon" if seen.own == (right,) else ""
    return STALE, f"{seen.name} leads to {address} ({seen.source}), the line has {right}{late}"
