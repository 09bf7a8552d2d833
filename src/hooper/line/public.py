"""Finding the public address of lines: all sources asked side by side, one answer by their order."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.gateways.asking import wan_told
from hooper.line.echo import echoed
from hooper.line.facts import Hops
from hooper.line.hops import trace, without_way
from hooper.line.lookup import name_looked_up
from hooper.line.sources import Given, PublicAddress, candidates, choose, lines_from
from hooper.net.stun import STUN_DEADLINE, mapped_by
from hooper.net.types import Door, Endpoint, Surroundings
from hooper.net.whereabouts import connected_surroundings, other_router, standing
from hooper.site.model import Site
from hooper.site.references import chains_to, names_of_line
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.said import Said, say

ECHO_S = 3.0  # seconds for an address echo
HOPS_PATIENCE = 0.8  # seconds for the hops that decide between a router's word and what is seen outside


@dataclass
class _Search:
    """One look for the address of each line. deadline: seconds for all of it."""

    here: Door
    site: Site
    known: Given
    deadline: float
    stun: SourcedAddress | None = None
    stun_asked: bool = False
    echo: SourcedAddress | None = None
    echo_silent: list[Said] = field(default_factory=list)
    no_way: IPAddress | None = None
    other_router: IPAddress | None = None
    routers: dict[str, SourcedAddress | None] = field(default_factory=dict)
    named: dict[str, SourcedAddress] = field(default_factory=dict)

    async def run(self, lines: tuple[str, ...], *, names: bool) -> dict[str, PublicAddress]:
        self.around = await connected_surroundings(self.here)
        place = standing(self.site, self.around)
        self.at, interface = place.gateway, place.interface
        self.other_router = other_router(self.site, self.around)
        self.at = self.at if self.other_router is None else None
        open_lines = [line for line in lines if line not in self.known.given]
        near = [line for line in open_lines if line in lines_from(self.site, self.at)]
        self.door = self.here.through(interface) if interface is not None else self.here
        async with anyio.create_task_group() as tasks:
            if near:
                tasks.start_soon(self._ask_stun)
                tasks.start_soon(self._ask_echo)
            for line in near:
                tasks.start_soon(self._ask_router, line)
        found = {line: await self._chosen(line) for line in lines}
        unknown = [line for line in lines if (names or self._by_name(line)) and found[line].address.value is None]
        async with anyio.create_task_group() as tasks:
            for line in unknown:
                tasks.start_soon(self._ask_names, line)
        return {**found, **{line: await self._chosen(line) for line in unknown}}

    async def _ask_stun(self) -> None:
        servers = [Endpoint(address, port) for address, port in self.site.measure.stun]
        if servers:
            self.stun_asked = True
            mapped = await mapped_by(self.door, servers, min(self.deadline, STUN_DEADLINE), heard=self._refused)
            if mapped is not None:
                self.stun = Sourced(mapped[0], say("stun-server", server=mapped[1]))

    async def _ask_echo(self) -> None:
        if self.site.measure.echo:
            found, self.echo_silent = await echoed(self.door, self.site, min(self.deadline, ECHO_S))
            self.echo = next(iter(found), None)

    def _refused(self, problem: HooperError) -> None:
        self.no_way = self.no_way or without_way(problem)

    async def _ask_router(self, line: str) -> None:
        chain = next(chain for chain in chains_to(self.site, self.at or "") if chain.line == line)
        self.routers[line] = await wan_told(
            self.here, self.site, chain.gateways[0], self.deadline, by_hand=not self.site.measure.stun
        )

    def _by_name(self, line: str) -> bool:
        """Whether a name of the line tells something new: one that another keeps, where the site file asks for that."""
        entry = self.site.lines.get(line)
        kept = [self.site.names[name].updated_by for name in names_of_line(self.site, line)]
        asked = entry is not None and "sources" in entry.model_fields_set and "name" in entry.sources
        return asked and any(by in ("router", "device") for by in kept)

    async def _ask_names(self, line: str) -> None:
        for name in names_of_line(self.site, line):
            found = await name_looked_up(self.here, self.site, name, min(self.deadline, STUN_DEADLINE))
            if found.value is not None:
                self.named[line] = Sourced(found.value, say("the-name", name=name), how="named")
                return

    def _tried(self, line: str) -> tuple[Said, ...]:
        if self.other_router is not None:
            return (say("this-machine-goes-by-another", router=self.other_router),)
        if self.at is None:
            return (say("this-machine-is-not-at"),)
        if line not in lines_from(self.site, self.at):
            return (say("this-machine-is-not-behind", line=line),)
        tried = [say("no-stun-server-answered") if self.stun_asked else say("no-stun-server-is")]
        tried += self.echo_silent
        if line in self.routers and self.routers[line] is not None:
            tried.append(say("its-router-tells-no"))
        return tuple(tried)

    async def _chosen(self, line: str) -> PublicAddress:
        found = candidates(
            self.site,
            line,
            self.known,
            self.at,
            router=self.routers.get(line),
            stun=self.stun,
            echo=self.echo,
            interface=on_interface(self.around, self.site, line),
            named=self.named.get(line),
            tried=self._tried(line),
        )
        near = None
        outside = found.outside
        if found.router is not None and outside is not None and found.router.value != outside.value:
            near = await self._nearer(line, found.router, outside)
        silent = self.stun_asked and self.stun is None
        return replace(choose(line, found, by_hops=near), stun_silent=silent, no_way=self.no_way)

    async def _nearer(self, line: str, *candidates: SourcedAddress) -> IPAddress | None:
        """Which of the addresses is as near as the outermost gateway; None: the hops do not tell, or name both."""
        length = next(len(chain.gateways) for chain in chains_to(self.site, self.at or "") if chain.line == line)
        hops: list[Hops] = []

        async def look(address: IPAddress) -> None:
            try:
                way = await trace(self.door, address, min(HOPS_PATIENCE, self.deadline))
            except HooperError:
                return
            if way is not None:
                hops.append(way)

        async with anyio.create_task_group() as tasks:
            for candidate in candidates:
                if candidate.value is not None:
                    tasks.start_soon(look, candidate.value)
        near = [way.to for way in hops if way.arrived is not None and way.arrived <= length]
        return near[0] if len(near) == 1 else None


def on_interface(around: Surroundings, site: Site, line: str) -> SourcedAddress | None:
    """The address that an interface of this computer has, where the site file says that it is the line's."""
    entry = site.lines.get(line)
    interface = around.interface(entry.interface) if entry is not None and entry.interface is not None else None
    if interface is None or interface.ipv4 is None:
        return None
    return Sourced(interface.ipv4, say("interface", name=interface.name))


async def public_addresses(
    here: Door, site: Site, lines: tuple[str, ...], known: Given, deadline: float, *, names: bool = False
) -> dict[str, PublicAddress]:
    """The public address of each of `lines`, all asked side by side.

    Args: deadline: seconds for all of it. names: where nothing else tells it, take what a name of the line has.
    Raises: NoNetwork.
    """
    return await _Search(here, site, known, deadline).run(lines, names=names)
