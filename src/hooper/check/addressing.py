"""The addresses that are looked at: each line's, the place's own, and what the names that people type lead to."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from ipaddress import ip_address
from typing import TYPE_CHECKING

import anyio

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.check.results import Evidence
from hooper.check.typed_names import NameSeen
from hooper.check.view import BEFORE
from hooper.errors import CounterpartError, HooperError, UsageError
from hooper.line.lookup import addresses_of
from hooper.line.public import public_addresses
from hooper.line.sources import WRITTEN, PublicAddress
from hooper.names.own_servers import authority_for
from hooper.net.dns import published
from hooper.net.stun import STUN_DEADLINE, mapped_by
from hooper.net.types import Door, Endpoint
from hooper.planning.typed import name_for
from hooper.sourced import Shown, Sourced
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from datetime import datetime

    from hooper.check.targets import Target
    from hooper.check.view import View
    from hooper.check.wish import Wish
    from hooper.site.model import Site
    from hooper.sourced import SourcedAddress

PATIENCE = 2.0  # seconds for one name, whoever is asked


@dataclass
class Addressed:
    """public: each line's address. place: the one that the place shows; None: not known. names: what each has."""

    public: dict[str, PublicAddress] = field(default_factory=dict)
    place: SourcedAddress | None = None
    names: dict[str, NameSeen] = field(default_factory=dict)

    @property
    def values(self) -> dict[str, IPAddress]:
        """Each line's address, of those that are known."""
        return {line: found.address.value for line, found in self.public.items() if found.address.value is not None}

    @property
    def shown(self) -> IPAddress | None:
        return self.place.value if self.place is not None else None

    @property
    def round(self) -> str | None:
        """The line by which the place itself goes out, so that nothing is seen from outside; None: by none of them."""
        return next((line for line, value in self.values.items() if value == self.shown), None)

    def about(self, target: Target, now: datetime) -> Evidence:
        """The addresses that a probe was about."""
        found = self.public[target.line].address if target.line in self.public else None
        shown = found.shown(now) if found is not None and found.value is not None else None
        if target.own_address:
            six = target.address is not None and target.address.version == 6
            shown = Shown(str(target.address), say("written-as-address6" if six else "written-as-outside-address"))
        return Evidence(public_address=shown, place_address=self.place.shown(now) if self.place is not None else None)


async def addressed(here: Door, view: View, wish: Wish) -> Addressed:
    """All that has to be known of addresses before anything is probed from there, asked side by side."""
    found, site, known = Addressed(), wish.site, wish.known.given
    if view.unfit is not None or not view.outside:
        return found
    patience = min(STUN_DEADLINE, wish.deadline * BEFORE)
    public = [key for key in wish.services if site.services[key].reach == "public" and not wish.by_number]
    typed = {name_for(wish.topology, key) for key in public if wish.topology.lines[key] not in known}

    async def of_names() -> None:
        names = {name for name in typed if name is not None}
        found.names = await names_seen(here, view.door, site, names, wish.deadline * BEFORE)

    async def of_lines() -> None:
        lines = tuple(line for line in site.lines if line not in wish.public)
        told = await public_addresses(here, site, lines, wish.known, patience, names=True)
        found.public = {**told, **wish.public}
        unknown = [line for line, one in found.public.items() if one.address.value is None]
        if view.sees_site_at is not None and len(site.lines) == len(unknown) == 1:
            seen = Sourced(view.sees_site_at, say("witness-saw", witness=view.place.name))
            found.public[unknown[0]] = PublicAddress(unknown[0], seen)

    async def of_place() -> None:
        servers = [Endpoint(address, port) for address, port in site.measure.stun]
        if view.sees_site_at is not None:  # which carries nothing to anybody but the site
            at: IPAddress | None = getattr(view.door, "at", None)
            found.place = Sourced(at, WRITTEN) if at is not None else None
            return
        mapped = await mapped_by(view.door, servers, patience) if servers else None
        if mapped is not None:
            found.place = Sourced(mapped[0], say("stun-server", server=mapped[1]))

    async with anyio.create_task_group() as tasks:
        for ask in (of_names, of_place, of_lines):
            tasks.start_soon(ask)
    return found


def public_address_unknown(site: Site, lines: Sequence[str]) -> HooperError:
    """Nothing tells the public address of these lines."""
    asked = bool(site.measure.stun) or any(name.line in lines for name in site.names.values())
    message = f"the public address of {', '.join(lines)} is not known"
    if asked:
        return CounterpartError(
            f"{message}: no STUN server and no name gave it",
            code="public-address-unknown",
            remedy=f"Give it with {deeds.PUBLIC_ADDRESS}; the router's page shows it as WAN or internet address.",
        )
    return UsageError(
        f"{message}, and the site file names nothing that could tell it",
        code="public-address-unknown",
        remedy=f"Give {deeds.PUBLIC_ADDRESS}, or name STUN servers in [measure].",
    )


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
        asked = door is outside and source.code == "resolver"
        seen[name] = NameSeen(name, found.get("resolved"), source, found.get("own"), found.get("six"), asked)

    async with anyio.create_task_group() as tasks:
        for name in set(names):
            tasks.start_soon(look, name)
    return seen
