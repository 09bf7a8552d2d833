"""The public address of a line, of all that each source has: one order for all who ask. Pure.

Given on the command line; measured now; surveyed within the hour or told by a person, whichever is newer; written in
the site file; last what a name has. What is written is a claim: where something that was looked at contradicts it, both
are told.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import NamedTuple

from hooper.addresses import IPAddress, classify, parse_address
from hooper.line.surveyed import KeptWay
from hooper.planning.looks.line import address_differs
from hooper.planning.values import Finding
from hooper.site.model import SOURCES, Site
from hooper.site.references import chains_to
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.said import Said, say, together

WRITTEN, GIVEN = say("site-file"), say("given-on-the-command")


class Given(NamedTuple):
    """What is known before anything is asked. given: by line, from the command line. told: as the store keeps it, with
    what a survey measured lately. ways: by line, the hops that it read.
    """

    given: Mapping[str, IPAddress] = {}
    told: Mapping[str, Sourced[str]] = {}
    ways: Mapping[str, KeptWay] = {}


@dataclass(frozen=True)
class Candidates:
    """What each source has for one line; None: nothing. written: all addresses of the site file. tried: in words, what
    was asked in vain. order: who is believed first, of those that were looked at now.
    """

    given: SourcedAddress | None = None
    router: SourcedAddress | None = None
    stun: SourcedAddress | None = None
    echo: SourcedAddress | None = None
    interface: SourcedAddress | None = None
    told: SourcedAddress | None = None
    written: tuple[IPAddress, ...] = ()
    named: SourcedAddress | None = None
    tried: tuple[Said, ...] = ()
    order: tuple[str, ...] = SOURCES

    @property
    def looked_at(self) -> list[SourcedAddress]:
        """What was looked at now, who is believed first in front."""
        found = {"router": self.router, "stun": self.stun, "echo": self.echo, "interface": self.interface}
        ordered = [*self.order, *(key for key in found if key not in self.order)]
        return [one for key in ordered if (one := found.get(key)) is not None]

    @property
    def outside(self) -> SourcedAddress | None:
        """What the world sees, by whom is believed first."""
        return next((one for one in self.looked_at if one in (self.stun, self.echo)), None)


@dataclass(frozen=True)
class PublicAddress:
    """The public address of a line. differs: pairs that contradict each other, the claim first.

    stun_silent: STUN servers were asked, and none answered. no_way: the router that says that it has no way there.
    """

    line: str
    address: SourcedAddress
    differs: tuple[tuple[SourcedAddress, SourcedAddress], ...] = ()
    stun_silent: bool = False
    no_way: IPAddress | None = None

    @property
    def seen(self) -> SourcedAddress:
        """As it was measured, where what is written differs from that."""
        return next((other for _, other in self.differs if other.measured), self.address)

    def findings(self) -> Iterator[Finding]:
        """What is wrong with what is written or said about it."""
        for claim, seen in self.differs:
            yield address_differs(self.line, claim, seen)


def choose(line: str, found: Candidates, *, by_hops: IPAddress | None = None) -> PublicAddress:
    """The address of a line by the order of sources.

    by_hops: of the router's and the outside's address the one that is as near as the outermost gateway; None: the hops
    do not tell. A router that says something else than what is seen outside is believed only by the hops: it may
    have been told to say so.
    """
    router, outside, looked_at = found.router, found.outside, found.looked_at
    measured = next(iter(looked_at), None)
    differs: list[tuple[SourcedAddress, SourcedAddress]] = []
    if router is not None and outside is not None and router.value != outside.value:
        measured = router if by_hops is not None and by_hops == router.value else outside
        differs.append((router, outside))
    for other in looked_at:  # whoever else says something else is told of, too
        if measured is not None and other is not router and other.value not in (measured.value, *_values(differs)):
            differs.append((other, measured))
    written: tuple[SourcedAddress, ...] = tuple(Sourced(address, WRITTEN, how="written") for address in found.written)
    seen = found.given or measured or found.told
    if seen is not None and written:
        if seen.value not in found.written:
            differs.append((written[0], seen))
        elif found.given is None:  # the line has several, and what goes out shows one of them
            confirmed = say(
                "confirmed-by",
                written=WRITTEN,
                source=seen.source,
                what=say("it-too") if seen.value == written[0].value else seen.value,
            )
            return PublicAddress(line, replace(written[0], source=confirmed, how=seen.how, at=seen.at), tuple(differs))
    nothing: SourcedAddress = Sourced(None, together(found.tried) or say("no-stun-server-is"))
    chosen = seen or (written[0] if written else None) or found.named or nothing
    return PublicAddress(line, chosen, tuple(differs))


def _values(differs: Iterable[tuple[SourcedAddress, SourcedAddress]]) -> list[IPAddress | None]:
    return [side.value for pair in differs for side in pair]


def told_for(site: Site, line: str, told: Mapping[str, Sourced[str]]) -> SourcedAddress | None:
    """What a person told of a line's address: itself, or as WAN address of its outermost gateway."""
    outermost = [key for key, gateway in site.gateways.items() if line in gateway.line]
    keys = [
        (f"lines.{line}/public", ""),
        *((f"gateways.{gateway}/wan", gateway) for gateway in outermost if len(outermost) == 1),
    ]
    for key, gateway in keys:
        said = told.get(key)
        address = parse_address(said.value) if said is not None else None
        if said is not None and address is not None and classify(address).reachable:
            source = said.source if not gateway else say("told-as-wan-address", gateway=gateway)
            if said.how == "surveyed":
                source = say("of-a-service", name=gateway, what=said.source)
            return Sourced(address, source, said.at, said.how)
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


def candidates(
    site: Site,
    line: str,
    known: Given,
    at: str | None,
    *,
    router: SourcedAddress | None,
    stun: SourcedAddress | None,
    echo: SourcedAddress | None = None,
    interface: SourcedAddress | None = None,
    named: SourcedAddress | None = None,
    tried: tuple[Said, ...] = (),
) -> Candidates:
    """What each source has for a line: what is no public address, or another line's, counts for nothing.

    at: the gateway on whose LAN this computer is; None: it is on the line itself, or elsewhere.
    """
    given = known.given.get(line)
    all_of_them = [one for one in (router, stun, echo, interface) if one is not None]
    no_way = tuple(say("source-has", source=one.source, why=why) for one in all_of_them if (why := refused(one)))

    def ours(one: SourcedAddress | None) -> SourcedAddress | None:
        seen = one is not None and one.value is not None and (at is None or belongs(site, line, at, one.value))
        return one if seen and refused(one) is None else None

    return Candidates(
        given=Sourced(given, GIVEN, how="given") if given is not None else None,
        router=router if router is not None and router.value is not None and refused(router) is None else None,
        stun=ours(stun),
        echo=ours(echo),
        interface=interface if interface is not None and refused(interface) is None else None,
        told=told_for(site, line, known.told),
        written=site.lines[line].address if line in site.lines else (),
        named=named,
        tried=(*tried, *no_way),
        order=site.lines[line].sources if line in site.lines else SOURCES,
    )


def refused(one: SourcedAddress | None) -> Said | None:
    """Why an address that somebody says is no public address; None: it is one, or nobody says any."""
    if one is None or one.value is None:
        return None
    kind = classify(one.value)
    return None if kind.reachable else say("which-is", sentence=one.value, meaning=kind.meaning, source=kind.source)
