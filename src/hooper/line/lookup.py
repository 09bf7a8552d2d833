"""What a DNS name has, as anybody at this computer would see it, and what each resolver answers by itself: those of
[measure], and this computer's own.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import anyio

from hooper.addresses import IPAddress, classify
from hooper.errors import HooperError, WireError
from hooper.line.facts import ResolverSaid
from hooper.line.ground import Ground, side_by_side
from hooper.net.types import Door, Endpoint, Family
from hooper.site.model import Site
from hooper.site.references import names_of_line
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


RESOLVER_PATIENCE = 2.0  # seconds
RESOLVERS_ASKED = 6


@dataclass
class Resolving:
    """resolvers: what became of asking each. looked_up: the names as the system itself looks them up."""

    ground: Ground
    resolvers: dict[tuple[IPAddress, int], ResolverSaid] = field(default_factory=dict)
    looked_up: dict[str, SourcedAddress] = field(default_factory=dict)

    async def ask(self) -> None:
        names = names_of_line(self.ground.site, self.ground.line)
        wanted = dict.fromkeys(self.ground.site.measure.resolvers, "site")
        for address in self.ground.around.resolvers[:RESOLVERS_ASKED]:
            wanted.setdefault((address, 53), "machine")

        async def one(key: tuple[IPAddress, int]) -> None:
            self.resolvers[key] = await self._resolver(*key, wanted[key], names)

        await side_by_side(one, wanted)
        self.resolvers = {key: self.resolvers[key] for key in wanted}
        if not any(said.state == "answers" for said in self.resolvers.values()):
            await side_by_side(self._look_up, names)

    async def _look_up(self, name: str) -> None:
        """By the system itself, which may know more ways than its list of resolvers."""
        found = await by_this_machine(self.ground.here, name, self.ground.left(RESOLVER_PATIENCE))
        self.looked_up[name] = first_of(*found)

    async def _resolver(self, address: IPAddress, port: int, told_by: str, names: list[str]) -> ResolverSaid:
        from hooper.net.dns import addresses_by, records

        said = ResolverSaid(address, port, "site" if told_by == "site" else "machine", "unusable")
        kind = classify(address)
        if not kind.reachable and kind.key not in ("private", "carrier", "loopback", "link-local"):
            return said
        server, answers = Endpoint(address, port), {}
        try:
            for name in names:
                answers[name] = tuple(
                    await addresses_by(self.ground.here, server, name, self.ground.left(RESOLVER_PATIENCE))
                )
            if not names:
                await records(self.ground.here, server, ".", "NS", self.ground.left(RESOLVER_PATIENCE))
        except WireError:
            return replace(said, state="failing")
        except HooperError:
            return replace(said, state="silent")
        return replace(said, state="answers", answers=answers)

    def names(self) -> dict[str, SourcedAddress]:
        """Each name's address by the first resolver that answers, those of the site file first."""
        answering = [said for said in self.resolvers.values() if said.state == "answers"]
        out: dict[str, SourcedAddress] = {}
        for name, entry in self.ground.site.names.items():
            if entry.line != self.ground.line or "*" in name:
                continue
            said = next((server for server in answering if name in server.answers), None)
            if said is None:
                out[name] = self.looked_up.get(name, Sourced(None, say("no-resolver-answered")))
                continue
            found = [address for address in said.answers[name] if address.version == 4]
            whose = "resolver" if said.told_by == "site" else "own-resolver"
            server = Endpoint(said.address, said.port) if said.port != 53 else said.address
            source = say(whose, server=server)
            out[name] = Sourced(found[0] if found else None, source, absent=not found)
        return out
