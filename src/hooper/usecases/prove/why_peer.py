"""Why a peer does not reach a service: its own tunnel looked through, its server diagnosed, the service looked at."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import anyio

from hooper.check.checking import check_services
from hooper.check.probes import probe
from hooper.check.results import Result, Seen
from hooper.check.targets import Target
from hooper.check.tunnel_proof import at_local_port
from hooper.check.view import within_tunnel
from hooper.check.wish import Wish
from hooper.clock import time_left
from hooper.errors import HooperError, NeedsAPerson
from hooper.net.types import Door, Surroundings
from hooper.net.whereabouts import at_home, connected_surroundings
from hooper.planning.access import peer_addresses, server_addresses
from hooper.planning.local_ports import by_ssh
from hooper.site.references import detours
from hooper.store.kept import Handed, Heard, Made, Stood
from hooper.tunnels.making import works_of
from hooper.usecases.origins import open_place
from hooper.usecases.private.tunnels import ring_of
from hooper.usecases.prove.gathering import HEARD_FOR, WhyRequest, gathered
from hooper.usecases.run import Run
from hooper.why.case import WhyDocument
from hooper.why.diagnosis import diagnose
from hooper.why.facts import ServiceFacts
from hooper.why.tunnel import PeerFacts, diagnose_peer

if TYPE_CHECKING:
    from hooper.site.tunnel_tables import Tunnel

NOBODYS_PORT = 1  # of the server, in the tunnel: whatever it says of that comes out of the tunnel


async def why_peer(run: Run, request: WhyRequest, peer: str) -> tuple[WhyDocument, list[HooperError]]:
    """Diagnose the way of one peer to one service. Raises: as `why`."""
    tunnel = run.site.tunnels[run.site.peers[peer].tunnel]
    ssh = by_ssh(run.site, peer)
    started = run.here.clock.monotonic()
    around = await connected_surroundings(run.here)
    outside: Door | None = None
    trouble: list[HooperError] = []
    if request.origin is not None:
        outside = await open_place(run, request.origin, request.deadline)
    within = within_tunnel(run.site, outside, around) if outside is not None else None
    inner = outside if within is not None and within.peer == peer else None
    away = at_home(run.site, around) is None
    gate_from = run.here if inner is not None and away else None if inner is not None else outside
    left = time_left(run.here.clock, started, request.deadline)
    told: dict[str, ServiceFacts] = {}
    through: list[Result] = []
    server = Seen()

    async def gate() -> None:
        asked = replace(request, service=tunnel.service, origin=None, deadline=left)
        told["gate"], found = await gathered(run, asked, gate_from)
        trouble.extend(found)

    async def target() -> None:
        told["target"], found = await gathered(run, replace(request, origin=None, deadline=left))
        trouble.extend(found)

    async def inside(door: Door) -> None:
        wish = Wish(run.topology, [request.service], left, base=run.base)
        through.extend((await check_services(run.here, wish, door)).results)

    async def at_port() -> None:
        through.extend(await at_local_port(run.here, run.topology, peer, request.service, left))

    async def at_server(door: Door) -> None:
        nonlocal server
        server = await probe(door, nobodys(tunnel), left)

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(gate)
        tasks.start_soon(target)
        if ssh and away:
            tasks.start_soon(at_port)
        if inner is not None:
            tasks.start_soon(inside, inner)
            tasks.start_soon(at_server, inner)
    facts = _facts(run, peer, told, around)
    if inner is not None or through:
        facts = replace(facts, through=next(iter(through), None), server=server if inner is not None else None)
    if not away and _has_tunnel(run, peer, around):
        facts = replace(facts, home=at_home(run.site, around))
    if inner is None or not away:  # at home the networks are the same, and nothing is wrong with that
        facts = replace(facts, around=())
    trouble = [problem for problem in trouble if problem.code != "public-address-unknown"]
    return diagnose_peer(run.topology, run.plan, facts), trouble


def nobodys(tunnel: Tunnel) -> Target:
    """A port of the server within the tunnel at which nothing listens: an answer of any kind says that it is on."""
    return Target.alone(server_addresses(tunnel)[0], NOBODYS_PORT)


def _has_tunnel(run: Run, peer: str, around: Surroundings) -> bool:
    """Whether this computer is the peer, with its tunnel on."""
    own = set(peer_addresses(run.site.peers[peer]))
    return any(one.up and one.ipv4 in own for one in around.interfaces)


def _facts(run: Run, peer: str, told: dict[str, ServiceFacts], around: Surroundings) -> PeerFacts:
    """What is kept of the peer, beside what was looked at."""
    entry = run.site.peers[peer]
    works = works_of(run.site.tunnels[entry.tunnel].kind)
    handed: dict[str, Handed] = {}
    heard: dict[str, Heard] = {}
    made: dict[str, Made] = {}
    with run.keeping() as state:
        if state is not None:
            handed, heard, made = state.tunnelling.handed(), state.ledger.heard(), state.tunnelling.made()
    met: Stood | None = None
    if run.site.tunnels[entry.tunnel].meet is not None and run.state is not None:
        stood = run.state.history.conditions()
        met = next((one for one in stood if one.condition[:3] == ("peer", peer, "way")), None)
    mark = endpoint = None
    try:
        now = works.profile_of(run.topology, peer)
        mark, endpoint = now.mark, now.endpoint
    except NeedsAPerson:  # no name, or no key: then the steps say so
        pass
    ours = run.site.tunnels[entry.tunnel].made_by == "hooper"
    current = made.get(entry.tunnel)
    plan = run.plan if entry.tunnel in detours(run.site) else None
    mark_now = works.server_mark(run.topology, entry.tunnel, run.at.date(), plan)
    up_to_date = current is not None and current.mark == mark_now
    since = max([run.at - HEARD_FOR, *([current.at] if current is not None else [])])  # before that it was another file
    lately = [one for one in heard.values() if one.tunnel == entry.tunnel and one.at >= since]
    own = heard.get(entry.public_key or peer)
    ends = works.certificate_ends(ring_of(run), run.site, peer) if run.state is not None else None
    gate: WhyDocument = diagnose(run.topology, run.plan, told["gate"])
    return PeerFacts(
        peer,
        gate,
        told["target"],
        run.at,
        handed.get(peer),
        mark,
        endpoint,
        up_to_date if ours else None,
        own,
        bool(lately) and own is None and run.site.tunnels[entry.tunnel].of.keyed,
        certificate_ends=ends,
        around=tuple(around.networks()),
        ticked=frozenset(told["target"].ticked),
        met=met,
    )
