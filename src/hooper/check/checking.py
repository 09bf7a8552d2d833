"""A check: where from, at which addresses, all probes side by side, inside and outside compared."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import anyio

from hooper.check.addressing import Addressed, addressed, public_address_unknown
from hooper.check.comparing import Comparing
from hooper.check.likeness import likened
from hooper.check.probes import probe
from hooper.check.results import Seen, Unfit
from hooper.check.targets import inner_of, inner_targets, outer_targets, tunnel_targets
from hooper.check.typed_names import by_name
from hooper.check.view import view_of
from hooper.check.wish import Outcome, Wish
from hooper.clock import time_left
from hooper.net.limits import allow_connections
from hooper.net.nat64 import Nat64Door
from hooper.planning.access import hidden_by
from hooper.planning.typed import six_for
from hooper.words.said import say

if TYPE_CHECKING:
    from hooper.check.comparing import InsideMemory
    from hooper.check.targets import Target
    from hooper.check.view import View
    from hooper.net.types import Door

PROBED_FOR = 0.2  # seconds at least, however late it is
AT_ONCE = 500  # probes at the same time; more would fill the tables of small routers


async def check_services(
    here: Door, wish: Wish, outside: Door | None = None, memory: InsideMemory | None = None
) -> Outcome:
    """Each service at its public address, from `outside`, compared with what is seen of it from `here`; at its inner
    address where `outside` is a tunnel of the site, or None: that proves nothing about outside.

    Raises: NoNetwork; UsageError: no such interface here, or nothing tells the public address.
    """
    started = here.clock.monotonic()
    view = await view_of(here, outside, wish)
    found = await addressed(here, view, wish)
    if found.round is not None:
        words = say("unfit-looks-round", name=view.door.place.shown, shown=found.shown, same=found.round)
        view = replace(view, place=replace(view.place, line=found.round), unfit=Unfit("asker-inside", words))
    outcome = Outcome(view.place, view.proves_outside, unfit=view.unfit, tunnel_from=view.other_tunnel)
    outcome.by_tunnel = view.within is not None
    ways = _outside if view.outside else _inside if view.within is None else _through_tunnel
    targets = [wish.keyed(target) for target in ways(view, wish, found, outcome)]
    inner = inner_of(targets, view.sight, proves=view.proves_outside)
    looks = targets if view.unfit is None else ()
    jobs = [*((view.door, one) for one in looks if one.address is not None), *((here, one) for one in inner)]
    work = Comparing(view, wish, found, outcome, memory)
    async with anyio.create_task_group() as tasks:
        if inner and wish.tables is not None:  # devices of one make may have one key, so a kept one does not do
            tasks.start_soon(work.read, wish.tables)
        probed = await probe_all(jobs, time_left(here.clock, started, wish.deadline, PROBED_FOR), wish.heard)
    work.now, work.near = here.clock.now(), (await here.surroundings()).neighbours if view.sight else ()
    outcome.results = work.results(targets, inner, probed)
    if view.outside:
        left, showing = time_left(here.clock, started, wish.deadline), memory.showing if memory is not None else _nobody
        seen = outcome.inside if inner else {}
        outcome.results = await likened(here, wish.topology, outcome.results, seen, showing, left)
    return outcome


def _nobody(fingerprint: str) -> tuple[str, ...]:
    return ()


def _inside(view: View, wish: Wish, found: Addressed, outcome: Outcome) -> list[Target]:
    """What is looked at from inside, and what of it cannot be seen from this computer."""
    targets = list(inner_targets(wish.topology, wish.services))
    hidden = {target.gateway for target in targets} - {*view.sight}
    if view.at is None:
        outcome.remarks.append(say("this-machine-is-on-none-of"))
    elif hidden:
        outcome.remarks.append(say("this-machine-is-on-the", at=view.at, hidden=sorted(hidden)))
    return targets


def _through_tunnel(view: View, wish: Wish, found: Addressed, outcome: Outcome) -> list[Target]:
    """What is looked at at its inner address, through the tunnel that this computer is a peer of.

    The probe is bound to the tunnel's interface, and apps are not: they may look for it among their neighbours.
    """
    assert view.within is not None
    peer = view.within.peer
    whose = say("its-peer", peer=peer) if peer is not None else say("none-of-its-peers")
    outcome.remarks.append(say("is-the-tunnel-and", name=view.place.name, tunnel=view.within.tunnel, whose=whose))
    if view.home is not None:
        outcome.remarks.append(say("this-machine-is-on-the-lan", at=view.home))
    targets, outcome.skipped = tunnel_targets(wish.topology, wish.services, peer)
    if peer is None or view.home is not None:
        return targets
    near = view.around.networks()
    out = []
    for target in targets:
        reached = target.address if target.expected == "reachable" else None
        hidden = hidden_by(wish.site, peer, reached, near) if reached is not None else None
        wrong = ("network-overlap", say("network-overlaps", hidden=hidden)) if hidden is not None else None
        out.append(replace(target, wrong=wrong))
    return out


def _outside(view: View, wish: Wish, found: Addressed, outcome: Outcome) -> list[Target]:
    """What is looked at as people reach it: at every address that the name on the card leads to."""
    if view.unfit is not None:  # nothing is, since it would prove nothing
        targets, outcome.skipped = outer_targets(wish.topology, wish.services, found.values, None)
        return targets
    outcome.public = found.public
    outcome.findings = [finding for one in found.public.values() for finding in one.findings()]
    if isinstance(view.door, Nat64Door):
        outcome.remarks.append(say("has-ipv6-alone-ipv4", shown=view.door.place.shown, prefix=view.door.prefix))
    targets, outcome.skipped = outer_targets(
        wish.topology, wish.services, found.values, found.shown, wish.doors, six=view.six
    )
    targets = [target.unless_four(view.without4) for target in targets if wish.takes(target)]
    given = sorted({one.line for one in targets if one.server_name and one.line in wish.known.given})
    if given and not wish.by_number:
        outcome.remarks.append(say("tried-by-the-number", given=given))
    out: list[Target] = []
    for target in targets:
        typed = target.expected == "reachable" and target.line not in wish.known.given and not target.beyond
        typed = typed and not wish.by_number
        out += by_name(target, found.names, six_for(wish.topology, target.service)) if typed else (target,)
    missing = sorted({target.line for target in out if target.address is None and not target.beyond})
    outcome.errors += [public_address_unknown(wish.site, missing)] if missing else []
    return out


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
