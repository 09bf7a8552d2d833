"""Proof at the other end of a tunnel, on the peer's own computer."""

from __future__ import annotations

from dataclasses import dataclass

from hooper.check.tunnel_proof import Proven, TunnelDown, prove
from hooper.check.wish import Wish
from hooper.clock import rfc3339
from hooper.errors import HooperError
from hooper.net.whereabouts import connected_surroundings
from hooper.planning.access import peer_at
from hooper.usecases.private.peers import known_public
from hooper.usecases.prove.probing import probe_keys
from hooper.usecases.run import Run


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
