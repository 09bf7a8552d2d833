"""How tunnels and their peers stand over time."""

from __future__ import annotations

from collections.abc import Iterator

from hooper.errors import HooperError
from hooper.planning.looks.tunnel import SOON
from hooper.store.kept import Condition
from hooper.tunnels.rows import PeerRow, TunnelRow
from hooper.usecases.conditions import keep_conditions
from hooper.usecases.peers import PeersRequest, list_peers
from hooper.usecases.run import Run
from hooper.usecases.tunnel_seen import SeenRequest, seen
from hooper.usecases.tunnels import TunnelsRequest, list_tunnels

SEEN = ("wireguard", "openvpn")  # whose servers tell whom they saw


def watch_tunnels(run: Run) -> list[HooperError]:
    """Look at what was made and handed, and at a server that runs on this machine; keep how it stands."""
    trouble: list[HooperError] = []
    here = run.site.site.here
    for key, tunnel in run.site.tunnels.items():
        if (
            here is not None
            and run.site.services[tunnel.service].host == here
            and tunnel.kind in SEEN
            and run.state is not None
        ):
            try:
                seen(run, SeenRequest(key))
            except HooperError as exc:
                trouble.append(exc)
    tunnels, _ = list_tunnels(run, TunnelsRequest())
    peers, _ = list_peers(run, PeersRequest())
    keep_conditions(run, [*map(_tunnel, tunnels.tunnels), *(one for row in peers.peers for one in _peer(run, row))])
    return trouble


def _tunnel(row: TunnelRow) -> Condition:
    if row.ok:
        return Condition("tunnel", row.tunnel, "", "as made", "well", f"{row.peers} peers, found at {row.endpoint}")
    return Condition("tunnel", row.tunnel, "", "files wanted", "wrong", row.detail, "tunnel-files-old")


def _peer(run: Run, row: PeerRow) -> Iterator[Condition]:
    entry = run.site.peers[row.peer]
    today = run.at.date()
    if entry.until is not None and entry.until < today:
        yield Condition("peer", row.peer, "", "over", "wrong", row.detail, "peer-ended")
    elif not row.ok and row.handed is not None:
        yield Condition("peer", row.peer, "", "file old", "wrong", row.detail, "profile-outdated")
    elif not row.ok:
        yield Condition("peer", row.peer, "", "no file", "fact", row.detail)
    elif entry.until is not None and entry.until - today <= SOON:
        yield Condition("peer", row.peer, "", "ends-soon", "wrong", f"its last day is {entry.until}", "peer-ends-soon")
    else:
        yield Condition("peer", row.peer, "", "has its file", "well", f"since {(row.handed or '')[:10]}")
    if row.last_seen is not None:
        yield Condition("peer", row.peer, "seen", row.last_seen, "fact", "its last handshake", steady=True)
