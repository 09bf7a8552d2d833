"""A check: where from, which public address, all probes side by side, inside and outside compared."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import anyio

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.check.certificates import Judge
from hooper.check.comparing import InsideMemory, as_inside, as_result, compared, inside_of
from hooper.check.keys import StandInKey, TunnelKeys
from hooper.check.likeness import another_of_ours, routers_likeness
from hooper.check.named import MISSING, NameSeen, by_name
from hooper.check.naming import names_seen
from hooper.check.probes import probe
from hooper.check.results import Evidence, From, InsideSeen, Result, Seen, Unfit
from hooper.check.sameness import redirected
from hooper.check.standpoint import WithinTunnel, at_home, has_ipv6, six_alone, useless_interface, within_tunnel
from hooper.check.targets import Target, inner_targets, outer_targets, tunnel_targets
from hooper.clock import time_left
from hooper.errors import CounterpartError, HooperError, UsageError
from hooper.line.public import public_addresses
from hooper.line.sources import Given, PublicAddress
from hooper.net.limits import allow_connections
from hooper.net.nat64 import Nat64Door, nat64_prefix
from hooper.net.standing import connected_surroundings, standing
from hooper.net.stun import STUN_DEADLINE, mapped_by
from hooper.net.types import Door, Endpoint, Surroundings
from hooper.places import HERE, Place
from hooper.planning.access import hidden_by
from hooper.planning.topology import Topology
from hooper.planning.typed import name_for, six_for
from hooper.planning.unfolded import SideDoor
from hooper.planning.values import Finding
from hooper.site.references import chain_of, seen_from
from hooper.sourced import Shown, Sourced, SourcedAddress
from hooper.words.said import Said, quoted, say

if TYPE_CHECKING:
    from hooper.site.model import Site

BEFORE = 0.35  # of the deadline, at most, for what has to be known before anything is probed
PROBED_FOR = 0.2  # seconds at least, however late it is
PREFIX_S = 1.5  # seconds for how IPv4 is reached from a place that has IPv6 alone
AT_ONCE = 500  # probes at the same time; more would fill the tables of small routers


@dataclass(frozen=True)
class Wish:
    """What is to be checked.

    known: what is known of the lines before anything is asked. public: addresses that were found already, by line.
    deadline: seconds for all of it. base: the site file's folder. transports: only these are probed. by_number: names
    are not tried. doors: where the rules of one service lead to another. heard: is told how far it is, with each
    probe that ends. keys: by service, for the handshakes of tunnels. origin: this machine itself is outside, there.
    """

    topology: Topology
    services: Sequence[str]
    deadline: float
    known: Given = field(default_factory=Given)
    public: Mapping[str, PublicAddress] = field(default_factory=dict)
    base: Path = Path()
    transports: tuple[str, ...] = ()
    by_number: bool = False
    doors: tuple[SideDoor, ...] = ()
    heard: Callable[[str], None] = lambda text: None
    keys: Mapping[str, TunnelKeys] = field(default_factory=dict)
    origin: Place | None = None

    @property
    def site(self) -> Site:
        return self.topology.site

    def keyed(self, target: Target) -> Target:
        """A target with the keys that its handshake takes."""
        return replace(target, keys=self.keys.get(target.service))

    @cached_property
    def judge(self) -> Judge:
        return Judge(self.site, self.base)


@dataclass
class Outcome:
    """The document of a check, what of the inside is worth keeping, services not probed, trouble, remarks.

    unfit: why nothing can be proven from this place; None: it can.
    """

    place: Place
    proves_outside: bool
    results: list[Result] = field(default_factory=list)
    inside: dict[tuple[str, str, int], InsideSeen] = field(default_factory=dict)
    skipped: dict[str, Said] = field(default_factory=dict)
    errors: list[HooperError] = field(default_factory=list)
    remarks: list[Said] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    public: dict[str, PublicAddress] = field(default_factory=dict)
    unfit: Unfit | None = None

    @property
    def origin(self) -> From:
        """As documents say where it was looked from."""
        families = {result.family for result in self.results if result.target_address is not None}
        family = families.pop() if len(families) == 1 else None
        return From.of(replace(self.place, family=family), proves_outside=self.proves_outside)


async def check_here(here: Door, wish: Wish) -> Outcome:
    """Each service at its inner address. Proves nothing about outside. Raises: NoNetwork."""
    started = here.clock.monotonic()
    around = await connected_surroundings(here)
    at = standing(wish.site, around).gateway
    lines = wish.site.gateways[chain_of(wish.site, at)[0]].line if at is not None else ()
    outcome = Outcome(replace(HERE, line=next(iter(lines), None)), False)
    targets = [wish.keyed(target) for target in inner_targets(wish.topology, wish.services)]
    hidden = {target.gateway for target in targets} - {*seen_from(wish.site, at)}
    if at is None:
        remark = say("this-machine-is-on-none-of")
        outcome.remarks.append(remark)
    elif hidden:
        remark = say("this-machine-is-on-the", at=at, hidden=sorted(hidden))
        outcome.remarks.append(remark)
    left = time_left(here.clock, started, wish.deadline, PROBED_FOR)
    seen = await probe_all([(here, target) for target in targets], left, wish.heard)
    _judge_all(wish, targets, seen, here.clock.now())
    for target, one in zip(targets, seen, strict=True):
        outcome.results.append(as_result(target, one, Evidence()))
        outcome.inside[target.service, target.transport, target.port] = as_inside(one, here.clock.now())
    return outcome


async def check_outside(here: Door, outside: Door, wish: Wish, memory: InsideMemory | None) -> Outcome:
    """Each service at its public address, from `outside`, compared with what is seen of it from `here`.

    Raises: NoNetwork; UsageError: no such interface here, or nothing tells the public address.
    """
    started = here.clock.monotonic()
    around = await connected_surroundings(here)
    within = within_tunnel(wish.site, outside, around) if wish.origin is None else None
    if within is not None:
        return await _check_tunnel(here, outside, wish, within, around)
    origin = wish.origin or outside.place
    sight = seen_from(wish.site, standing(wish.site, around).gateway) if wish.origin is None else ()
    unfit = useless_interface(wish.site, outside, around)
    if unfit is not None:
        return unproven(wish, origin, unfit, here.clock.now())
    outside, without4 = await _towards_four(outside, around, wish)
    names: dict[str, NameSeen] = {}

    async def look_names() -> None:
        names.update(await _names(here, outside, wish))

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(look_names)
        public, place = await _addresses(here, outside, wish)
    shown = place.value if place is not None else None
    same = next((line for line, found in public.items() if shown is not None and found.address.value == shown), None)
    if same is not None:
        unfit = Unfit("asker-inside", say("unfit-looks-round", name=outside.place.shown, shown=shown, same=same))
        return unproven(wish, replace(origin, line=same), unfit, here.clock.now(), public, place)
    outcome = Outcome(origin, True, public=public)
    outcome.findings = [found for one in public.values() for found in one.findings()]
    six = _tries_six(around, outside)
    targets, outcome.skipped = outer_targets(wish.topology, wish.services, _values(public), shown, wish.doors, six=six)
    if isinstance(outside, Nat64Door):
        outcome.remarks.append(say("has-ipv6-alone-ipv4", shown=outside.place.shown, prefix=outside.prefix))
    tried = [_without4(target, without4) for target in targets if _is_wished(wish, target)]
    targets = [wish.keyed(target) for target in _named(wish, tried, names, outcome)]
    reachable = [target for target in targets if target.address is not None]
    inner = _inner_of(reachable, sight)
    jobs = [(outside, target) for target in reachable] + [(here, target) for target in inner]
    seen = await probe_all(jobs, time_left(here.clock, started, wish.deadline, PROBED_FOR), wish.heard)
    now = here.clock.now()
    _judge_all(wish, reachable, seen, now)
    for target, one in zip(inner, seen[len(reachable) :], strict=True):
        outcome.inside[target.service, target.transport, target.port] = as_inside(one, now)
    outer_seen = iter(seen)
    for target in targets:
        evidence = _where(target, public, place, now)
        if target.address is None:
            outcome.results.append(as_result(target, _nowhere(target), evidence))
            continue
        inside, one = inside_of(target, outcome.inside, memory), next(outer_seen)
        result = compared(target, one, evidence, inside, visible=target.gateway in sight)
        outcome.results.append(_likened(wish, target, one, result, outcome, memory))
    if sight:
        left = time_left(here.clock, started, wish.deadline)
        outcome.results = await routers_likeness(here, wish.topology, outcome.results, left)
    missing = sorted({target.line for target in targets if target.address is None and not target.beyond})
    outcome.errors += [public_address_unknown(wish.site, missing)] if missing else []
    return outcome


async def _towards_four(outside: Door, around: Surroundings, wish: Wish) -> tuple[Door, Said | None]:
    """The place to look from, by which IPv4 is reached too where it has IPv6 alone, and why it is not reached."""
    alone = six_alone(outside, around)
    if alone is None:
        return outside, None
    prefix = await nat64_prefix(outside, around.resolvers, min(PREFIX_S, wish.deadline * BEFORE))
    if prefix is None:
        return outside, say("no-nat64", place=alone)
    return Nat64Door(outside, prefix), None


def _without4(target: Target, why: Said | None) -> Target:
    """A target as a place without IPv4 has it. why: it is without; None: it has it."""
    if why is None or (target.address is not None and target.address.version == 6):
        return target
    return replace(target, address=None, beyond=why)


def _is_wished(wish: Wish, target: Target) -> bool:
    """Whether a target is to be looked at: of others than the first service, only those of some transports may be."""
    return not wish.transports or target.transport in wish.transports or target.service == wish.services[0]


def _tries_six(around: Surroundings, outside: Door) -> bool:
    """Whether IPv6 is tried from there: by this machine itself, where it has it; not by a proxy."""
    interface = outside.place.name if outside.place.kind == "interface" else None
    return outside.place.kind != "proxy" and has_ipv6(around, interface)


def _nowhere(target: Target) -> Seen:
    """What is said of a target whose address is not known."""
    unknown = say("public-unknown")
    return Seen(verdict="unproven", detail=target.beyond or unknown)


def _likened(
    wish: Wish, target: Target, seen: Seen, result: Result, outcome: Outcome, memory: InsideMemory | None
) -> Result:
    """A stranger's answer with whom it looks like, where that is another host of ours."""
    if result.verdict != "mismatched":
        return result
    known = memory.fingerprints() if memory is not None else {}
    like = another_of_ours(wish.topology, target, seen, outcome.inside, known)
    return result if like is None else replace(result, detail=result.detail + like.words, looks_like=like.who)


def _inner_of(targets: Sequence[Target], sight: Collection[str]) -> list[Target]:
    """What of them is seen from inside too, to be compared."""
    compared = [
        target
        for target in targets
        if target.expected == "reachable" and target.gateway in sight and not isinstance(target.keys, StandInKey)
    ]
    return list({_id(target): _inside_target(target) for target in compared}.values())


async def _check_tunnel(here: Door, outside: Door, wish: Wish, within: WithinTunnel, around: Surroundings) -> Outcome:
    """Each service at its inner address, through the tunnel that this machine is a peer of."""
    started = here.clock.monotonic()
    name = outside.place.name
    at = at_home(wish.site, around)
    outcome = Outcome(outside.place, at is None)
    whose = say("its-peer", peer=within.peer) if within.peer is not None else say("none-of-its-peers")
    outcome.remarks.append(say("is-the-tunnel-and", name=name, tunnel=within.tunnel, whose=whose))
    if at is not None:
        outcome.remarks.append(say("this-machine-is-on-the-lan", at=at))
    found, outcome.skipped = tunnel_targets(wish.topology, wish.services, within.peer)
    targets = [_not_hidden(wish, within.peer, target, around) if at is None else target for target in found]
    left = time_left(here.clock, started, wish.deadline, PROBED_FOR)
    seen = await probe_all([(outside, target) for target in targets], left, wish.heard)
    _judge_all(wish, targets, seen, here.clock.now())
    for target, one in zip(targets, seen, strict=True):
        if target.expected == "unreachable" and one.verdict not in ("silent", "refused", "unproven"):
            one.detail += say("not-for-peer", peer=within.peer)
        outcome.results.append(as_result(target, one, Evidence()))
    return outcome


def _not_hidden(wish: Wish, peer: str | None, target: Target, around: Surroundings) -> Target:
    """A target, with what is wrong where apps on this machine look for it among its neighbours: the probe is bound to
    the tunnel's interface, and they are not.
    """
    assert target.address is not None
    hidden = hidden_by(wish.site, peer, target.address, around.networks()) if peer is not None else None
    if hidden is None or target.expected == "unreachable":
        return target
    words = say("network-overlaps", hidden=hidden)
    return replace(target, wrong=("network-overlap", words))


async def _names(here: Door, outside: Door, wish: Wish) -> dict[str, NameSeen]:
    """What the names of the services that are to be reached lead to."""
    if wish.by_number:
        return {}
    services = [key for key in wish.services if wish.site.services[key].reach == "public"]
    names = {name_for(wish.topology, key) for key in services if wish.topology.lines[key] not in wish.known.given}
    known = {name for name in names if name is not None}
    return await names_seen(here, outside, wish.site, known, wish.deadline * BEFORE) if known else {}


def _named(wish: Wish, targets: list[Target], seen: Mapping[str, NameSeen], outcome: Outcome) -> list[Target]:
    """The targets as people reach them: at every address that the name on the card leads to."""
    if wish.by_number:
        return targets
    tried = [
        target
        for target in targets
        if target.expected == "reachable" and target.line not in wish.known.given and not target.beyond
    ]
    given = sorted({target.line for target in targets if target.server_name and target.line in wish.known.given})
    if given:
        outcome.remarks.append(say("tried-by-the-number", given=given))
    out: list[Target] = []
    for target in targets:
        out += by_name(target, seen, six_for(wish.topology, target.service)) if target in tried else (target,)
    return out


def _inside_target(target: Target) -> Target:
    return replace(target, address=target.inner[0], port=target.inner[1], name=None, wrong=None)


async def _addresses(here: Door, outside: Door, wish: Wish) -> tuple[dict[str, PublicAddress], SourcedAddress | None]:
    """The public address of each line, and the one that the place shows; asked side by side."""
    site = wish.site
    servers = [Endpoint(address, port) for address, port in site.measure.stun]
    patience = min(STUN_DEADLINE, wish.deadline * BEFORE)
    public: dict[str, PublicAddress] = {}
    place: list[SourcedAddress] = []

    async def of_lines() -> None:
        lines = tuple(line for line in site.lines if line not in wish.public)
        public.update(await public_addresses(here, site, lines, wish.known, patience, names=True))

    async def of_place() -> None:
        mapped = await mapped_by(outside, servers, patience) if servers else None
        if mapped is not None:
            place.append(Sourced(mapped[0], say("stun-server", server=mapped[1])))

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(of_place)
        tasks.start_soon(of_lines)
    return {**public, **wish.public}, place[0] if place else None


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


async def probe_all(
    jobs: Sequence[tuple[Door, Target]], deadline: float, heard: Callable[[str], None] = lambda text: None
) -> list[Seen]:
    """All probes side by side, their results in the order of the jobs.

    deadline: seconds for all of it; who comes late has what is left. heard: is told of each that ends.
    """
    ended = 0
    allow_connections(min(len(jobs), AT_ONCE))
    start = jobs[0][0].clock.monotonic() if jobs else 0.0
    results: list[Seen] = [Seen() for _ in jobs]
    limit = anyio.CapacityLimiter(AT_ONCE)

    async def one(index: int, door: Door, target: Target) -> None:
        async with limit:
            nonlocal ended
            left = time_left(door.clock, start, deadline, PROBED_FOR)
            seen = results[index] = await probe(door, target, left)
            ended += 1
            from_where = "inside" if door.place.kind == "here" else "outside"
            heard(f"probe {ended} of {len(jobs)}: {target.service}, {from_where}: {seen.verdict}")

    async with anyio.create_task_group() as tasks:
        for index, (door, target) in enumerate(jobs):
            tasks.start_soon(one, index, door, target)
    return results


def _judge_all(wish: Wish, targets: Sequence[Target], seen: Sequence[Seen], now: datetime) -> None:
    """Hold the certificates and redirections that were seen against the plan."""
    for target, one in zip(targets, seen, strict=False):
        if one.verdict != "answered" or isinstance(target.keys, StandInKey):
            continue
        found = (
            []
            if target.wrong is not None and target.wrong[0] != MISSING
            else wish.judge.problems(target.service, target.server_name, one.chain, now)
        )
        if one.certificate is not None and target.speaks == "https":
            said = wish.judge.browsers_warn(target.service, target.server_name or str(target.address), one.chain, now)
            one.certificate = replace(one.certificate, browsers_warn=said)
        if one.page is not None and one.page.location is not None and target.expected == "reachable":
            found += redirected(target, one.page.location)
        for code, words in found:
            one.problems.append(code)
            one.detail += quoted("; ") + words


def _id(target: Target) -> tuple[str, str, int]:
    return target.service, target.transport, target.port


def unproven(
    wish: Wish,
    looked_from: Place,
    unfit: Unfit,
    now: datetime,
    public: Mapping[str, PublicAddress] | None = None,
    place: SourcedAddress | None = None,
) -> Outcome:
    """Nothing is probed, since it would prove nothing: unfit says why."""
    outcome = Outcome(looked_from, False, unfit=unfit)
    targets, outcome.skipped = outer_targets(wish.topology, wish.services, _values(public or {}), None)
    for target in targets:
        evidence = _where(target, public or {}, place, now)
        outcome.results.append(as_result(target, Seen(verdict="unproven", detail=unfit.words), evidence))
    return outcome


def _values(public: Mapping[str, PublicAddress]) -> dict[str, IPAddress]:
    return {line: found.address.value for line, found in public.items() if found.address.value is not None}


def _where(
    target: Target, public: Mapping[str, PublicAddress], place: SourcedAddress | None, now: datetime
) -> Evidence:
    """The addresses that a probe was about."""
    found = public[target.line].address if target.line in public else None
    shown = found.shown(now) if found is not None and found.value is not None else None
    if target.own_address:
        six = target.address is not None and target.address.version == 6
        shown = Shown(str(target.address), say("written-as-address6" if six else "written-as-outside-address"))
    return Evidence(public_address=shown, place_address=place.shown(now) if place is not None else None)
