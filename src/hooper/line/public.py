"""The public address of a line: one order of sources for all who ask.

Given on the command line; measured now; told by a person, with its age; written in the site file; last what a name has.
What is written is a claim: where something that was looked at contradicts it, both are told.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import anyio

from hooper.addresses import IPAddress, classify, parse_address
from hooper.errors import HooperError
from hooper.gateways.telling import wan_told
from hooper.line.hops import Hops, trace
from hooper.line.lookup import name_looked_up
from hooper.net.standing import connected_surroundings, standing
from hooper.net.stun import STUN_DEADLINE, mapped_by
from hooper.net.types import Door, Endpoint
from hooper.planning.looks.line import address_differs
from hooper.planning.values import Finding
from hooper.site.model import Site
from hooper.site.references import chains_to, names_of_line
from hooper.sourced import Sourced, SourcedAddress

HOPS_PATIENCE = 0.8  # seconds for the hops that decide between a router's word and what is seen outside
WRITTEN, GIVEN = "site file", "given on the command line"


class Given(NamedTuple):
    """What is known before anything is asked. given: by line, from the command line. told: as the store keeps it."""

    given: Mapping[str, IPAddress] = {}
    told: Mapping[str, Sourced[str]] = {}


@dataclass(frozen=True)
class Candidates:
    """What each source has for one line; None: nothing. written: all addresses of the site file. tried: in words, what
    was asked in vain.
    """

    given: SourcedAddress | None = None
    router: SourcedAddress | None = None
    stun: SourcedAddress | None = None
    told: SourcedAddress | None = None
    written: tuple[IPAddress, ...] = ()
    named: SourcedAddress | None = None
    tried: tuple[str, ...] = ()


@dataclass(frozen=True)
class PublicAddress:
    """The public address of a line. differs: pairs that contradict each other, the claim first.

    stun_silent: STUN servers were asked, and none answered.
    """

    line: str
    address: SourcedAddress
    differs: tuple[tuple[SourcedAddress, SourcedAddress], ...] = ()
    stun_silent: bool = False

    def findings(self) -> Iterator[Finding]:
        """What is wrong with what is written or said about it."""
        for claim, seen in self.differs:
            yield address_differs(self.line, claim, seen)


def choose(line: str, found: Candidates, *, by_hops: IPAddress | None = None) -> PublicAddress:
    """The address of a line by the order of sources. Pure.

    by_hops: of the router's and the outside's address the one that is as near as the outermost gateway; None: the hops
    do not tell. A router that says something else than what is seen outside is believed only by the hops: it may
    have been told to say so.
    """
    router, stun = found.router, found.stun
    measured = router or stun
    differs: list[tuple[SourcedAddress, SourcedAddress]] = []
    if router is not None and stun is not None and router.value != stun.value:
        measured = router if by_hops is not None and by_hops == router.value else stun
        differs.append((router, stun))
    written: tuple[SourcedAddress, ...] = tuple(Sourced(one, WRITTEN, how="written") for one in found.written)
    seen = found.given or measured or found.told
    if seen is not None and written:
        if seen.value not in found.written:
            differs.append((written[0], seen))
        elif found.given is None:  # the line has several, and what goes out shows one of them
            confirmed = f"{WRITTEN}; {seen.source} has {'it too' if seen.value == written[0].value else seen.value}"
            return PublicAddress(line, replace(written[0], source=confirmed, how=seen.how, at=seen.at), tuple(differs))
    nothing: SourcedAddress = Sourced(None, "; ".join(found.tried) or "no STUN server is named in [measure]")
    chosen = seen or (written[0] if written else None) or found.named or nothing
    return PublicAddress(line, chosen, tuple(differs))


def told_for(site: Site, line: str, told: Mapping[str, Sourced[str]]) -> SourcedAddress | None:
    """What a person told of a line's address: itself, or as WAN address of its outermost gateway."""
    outermost = [key for key, gateway in site.gateways.items() if line in gateway.line]
    for key in (f"public:{line}", *(f"wan:{gateway}" for gateway in outermost if len(outermost) == 1)):
        said = told.get(key)
        address = parse_address(said.value) if said is not None else None
        if said is not None and address is not None and classify(address).reachable:
            source = said.source if key.startswith("public:") else f"told as WAN address of {key.removeprefix('wan:')}"
            return Sourced(address, source, said.at, "told")
    return None


def lines_from(site: Site, at: str | None) -> tuple[str, ...]:
    """The lines by which a machine on the LAN of `at` gets out; of several it cannot be told which one it was."""
    return tuple(dict.fromkeys(chain.line for chain in chains_to(site, at))) if at is not None else ()


def belongs(site: Site, line: str, at: str | None, address: IPAddress | None) -> bool:
    """Whether an address that was seen outside of a machine at `at` is this line's, as far as that can be told."""
    lines = lines_from(site, at)
    if line not in lines:
        return False
    owner = next((key for key in lines if address in site.lines[key].address), lines[0])
    return len(lines) == 1 or owner == line


@dataclass
class _Search:
    """One look for the address of each line. deadline: seconds for all of it."""

    here: Door
    site: Site
    known: Given
    deadline: float
    stun: SourcedAddress | None = None
    stun_asked: bool = False
    routers: dict[str, SourcedAddress | None] = field(default_factory=dict)
    named: dict[str, SourcedAddress] = field(default_factory=dict)

    async def run(self, lines: tuple[str, ...], *, names: bool) -> dict[str, PublicAddress]:
        place = standing(self.site, await connected_surroundings(self.here))
        self.at, interface = place.gateway, place.interface
        open_lines = [line for line in lines if line not in self.known.given]
        near = [line for line in open_lines if line in lines_from(self.site, self.at)]
        self.door = self.here.through(interface) if interface is not None else self.here
        async with anyio.create_task_group() as tasks:
            if near:
                tasks.start_soon(self._ask_stun)
            for line in near:
                tasks.start_soon(self._ask_router, line)
        found = {line: await self._chosen(line) for line in lines}
        unknown = [line for line in lines if names and found[line].address.value is None]
        async with anyio.create_task_group() as tasks:
            for line in unknown:
                tasks.start_soon(self._ask_names, line)
        return {**found, **{line: await self._chosen(line) for line in unknown}}

    async def _ask_stun(self) -> None:
        servers = [Endpoint(address, port) for address, port in self.site.measure.stun]
        if servers:
            self.stun_asked = True
            mapped = await mapped_by(self.door, servers, min(self.deadline, STUN_DEADLINE))
            if mapped is not None:
                self.stun = Sourced(mapped[0], f"STUN server {mapped[1]}")

    async def _ask_router(self, line: str) -> None:
        chain = next(chain for chain in chains_to(self.site, self.at or "") if chain.line == line)
        self.routers[line] = await wan_told(self.here, self.site, chain.gateways[0], self.deadline)

    async def _ask_names(self, line: str) -> None:
        for name in names_of_line(self.site, line):
            found = await name_looked_up(self.here, self.site, name, min(self.deadline, STUN_DEADLINE))
            if found.value is not None:
                self.named[line] = Sourced(found.value, f"the name {name}", how="named")
                return

    def _tried(self, line: str) -> tuple[str, ...]:
        if self.at is None:
            return ("this machine is not at the site",)
        if line not in lines_from(self.site, self.at):
            return (f"this machine is not behind the line {line}",)
        tried = ["no STUN server answered" if self.stun_asked else "no STUN server is named in [measure]"]
        if line in self.routers and self.routers[line] is not None:
            tried.append("its router tells no public address")
        return tuple(tried)

    async def _chosen(self, line: str) -> PublicAddress:
        said = self.routers.get(line)
        router = said if said is not None and said.value is not None and classify(said.value).reachable else None
        stun = self.stun if self.stun is not None and belongs(self.site, line, self.at, self.stun.value) else None
        given = self.known.given.get(line)
        found = Candidates(
            Sourced(given, GIVEN, how="given") if given is not None else None,
            router,
            stun,
            told_for(self.site, line, self.known.told),
            self.site.lines[line].address if line in self.site.lines else (),
            self.named.get(line),
            self._tried(line),
        )
        near = None
        if router is not None and stun is not None and router.value != stun.value:
            near = await self._nearer(line, router, stun)
        silent = self.stun_asked and self.stun is None
        return replace(choose(line, found, by_hops=near), stun_silent=silent)

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


async def public_addresses(
    here: Door, site: Site, lines: tuple[str, ...], known: Given, deadline: float, *, names: bool = False
) -> dict[str, PublicAddress]:
    """The public address of each of `lines`, all asked side by side.

    Args: deadline: seconds for all of it. names: where nothing else tells it, take what a name of the line has.
    Raises: NoNetwork.
    """
    return await _Search(here, site, known, deadline).run(lines, names=names)
