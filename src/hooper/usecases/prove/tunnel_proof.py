"""Proof at the other end of a tunnel, on the peer's own computer."""

from __future__ import annotations

from dataclasses import dataclass
from statistics import median

from hooper.check.probes import probe
from hooper.check.tunnel_proof import Proven, TunnelDown, prove
from hooper.check.wish import Wish
from hooper.clock import rfc3339
from hooper.errors import HooperError
from hooper.net.whereabouts import connected_surroundings
from hooper.planning.access import peer_at
from hooper.planning.server_lists import OWN_LIST
from hooper.tunnels.making import works_of
from hooper.tunnels.seen import end_in
from hooper.usecases.private.peers import known_public
from hooper.usecases.prove.probing import probe_keys
from hooper.usecases.prove.why_peer import nobodys
from hooper.usecases.run import Run
from hooper.words.said import say

COMMAND_S, TRY_S, TRIES = 5.0, 2.0, 5


@dataclass(frozen=True, slots=True)
class ProofsDocument:
    """`hooper tunnel prove`. proofs: one row each. taken: when, RFC 3339."""

    peer: str
    tunnel: str
    taken: str
    proofs: tuple[Proven, ...]


async def prove_peer(run: Run, peer: str | None, deadline: float) -> tuple[ProofsDocument, list[HooperError]]:
    """All that this computer can show of its tunnel.

    peer: None: the one whose tunnel is up here. deadline: seconds for all of it. Raises: SameNetwork, TunnelDown,
    NoNetwork, UsageError.
    """
    peer = peer or await _peer_here(run)
    public = known_public(run)
    tunnel = run.site.tunnels[run.site.peers[peer].tunnel]
    services = tuple(key for key in run.site.services if key not in (tunnel.service, tunnel.also))
    wish = Wish(run.topology, services, deadline, run.given(), base=run.base, heard=run.progress,
                keys=probe_keys(run))  # fmt: skip
    proofs = await prove(run.here, wish, peer, public)
    proofs += [await _way(run, peer)] if tunnel.meet is not None else []
    return ProofsDocument(peer, run.site.peers[peer].tunnel, rfc3339(run.at), tuple(proofs)), []


async def _peer_here(run: Run) -> str:
    """The peer whose address an interface of this computer has. Raises: TunnelDown."""
    for interface in (await connected_surroundings(run.here)).interfaces:
        found = peer_at(run.site, interface.ipv4) if interface.ipv4 is not None and interface.up else None
        if found is not None and found[1] is not None:
            return found[1]
    raise TunnelDown(
        "no interface here is a tunnel of this site", remedy="Switch the tunnel on; for one by SSH, name the peer."
    )


async def _way(run: Run, peer: str) -> Proven:
    """By which way a tunnel goes that looks for the direct one, with the delay and the loss of packets in it."""
    entry = run.site.peers[peer]
    tunnel, name = run.site.tunnels[entry.tunnel], await _name_here(run, peer)
    dump = await run.here.printed(OWN_LIST, COMMAND_S) if name is not None else None
    seen = end_in(dump, name, tunnel.public_key or "") if dump and name is not None else None
    if name is None or seen is None or seen.seen.came_from is None:
        return Proven("way", None, None, None, say("way-not-told"))
    took: list[float] = []
    for _ in range(TRIES):
        start = run.here.clock.monotonic()
        answer = await probe(run.here.through(name), nobodys(tunnel), TRY_S)
        if answer.verdict in ("refused", "answered", "connected") or answer.icmp is not None:
            took.append(run.here.clock.monotonic() - start)
    planned = works_of(tunnel.kind).profile_of(run.topology, peer).endpoint.rpartition(":")[0]
    try:
        known = [str(one) for one in await run.here.lookup(planned, "ipv4")]
    except HooperError:
        known = []
    by = "relay" if seen.seen.came_from.rpartition(":")[0] in (planned, *known) else "direct"
    lost = 1 - len(took) / TRIES
    told = say(f"way-goes.{by}", delay=round(1000 * median(took), 1) if took else "?", lost=round(100 * lost))
    return Proven("way", None, seen.seen.came_from, bool(took), told)


async def _name_here(run: Run, peer: str) -> str | None:
    around = await connected_surroundings(run.here)
    own = run.site.peers[peer].address
    return next((one.name for one in around.interfaces if own is not None and one.ipv4 == own), None)
