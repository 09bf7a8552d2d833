"""What the servers of tunnels saw of their peers."""

from __future__ import annotations

from pathlib import Path

from hooper import deeds
from hooper.clock import rfc3339
from hooper.errors import MachineError, UsageError
from hooper.planning.access import peers_of
from hooper.planning.server_lists import OWN_LIST, TELLING, list_command, status_files
from hooper.site.tunnel_tables import Peer
from hooper.store.kept import Heard, Revoked
from hooper.tunnels.common import let_in
from hooper.tunnels.documents import SeenDocument, SeenRow
from hooper.tunnels.openvpn_authority import peer_name
from hooper.tunnels.seen import ClientSeen, PeerSeen, read_dump, read_status
from hooper.usecases.private.revoking import revocations, shut_out
from hooper.usecases.run import Run
from hooper.words.said import NOTHING, say

SEEN_LIMIT_S, OWN_LIMIT_S, SEEN_BYTES = 30.0, 10.0, 1024 * 1024


async def seen(run: Run, key: str, dump: str | None = None) -> SeenDocument:
    """What the server saw of each peer; it is kept.

    dump: what the server's software told; None: it is asked. Raises: MachineError: it is no dump, or no server tells
    anything; CommandFailed, UsageError, StateError.
    """
    tunnel = run.site.tunnels[key]
    if tunnel.kind not in TELLING:
        host = run.site.services[tunnel.service].host
        message = f"a server of {tunnel.kind} keeps no list of whom it saw"
        raise UsageError(message, remedy=f"Look into the log of {host}.")
    dump = dump if dump is not None else await _asked(run, key)
    read = _seen_by_openvpn if tunnel.kind == "openvpn" else _seen_by_wireguard
    return read(run, key, dump)


async def _asked(run: Run, key: str) -> str:
    """What the server tells: by the command that the site file names, else by its software on this computer."""
    tunnel = run.site.tunnels[key]
    if tunnel.seen_by:
        from hooper.names.handing import run_command

        return await run_command(tunnel.seen_by, run.base, {"HOOPER_TUNNEL": key}, SEEN_LIMIT_S, most=SEEN_BYTES)
    if tunnel.kind == "openvpn":
        paths = status_files(run.site, key)
        there = [text for path in paths if (text := await run.here.own_file(Path(path))) is not None]
        if there:
            return "\n".join(there)
        remedy = f"Bring {paths[0]} of the server, and give that file."
        raise MachineError("no OpenVPN server tells anything on this computer", code="no-dump", remedy=remedy)
    told = await run.here.printed(OWN_LIST, OWN_LIMIT_S)
    if told:
        return told
    remedy = f"On the server, as root: {list_command(run.site, key)} > FILE; then give that file."
    raise MachineError("no WireGuard server tells anything on this computer", code="no-dump", remedy=remedy)


def _seen_by_wireguard(run: Run, key: str, dump: str) -> SeenDocument:
    site = run.site
    tunnel = site.tunnels[key]
    interfaces = read_dump(dump)
    known = {peer.public_key for peer in peers_of(site, key).values()} - {None}
    mine = [one for one in interfaces if tunnel.public_key is not None and one.public_key == tunnel.public_key]
    if not mine:  # a server with another key, or one that does not tell it: by the peers that it has
        mine = [one for one in interfaces if known & {peer.public_key for peer in one.peers}]
    if not mine:
        there = ", ".join(f"{one.interface or 'it'} with the key {one.public_key}" for one in interfaces) or "none"
        raise UsageError(
            f"no interface in it is the server of {key}: there are {there}",
            remedy=f"Bring the dump of {site.services[tunnel.service].host}; after `{deeds.RENEW_TUNNEL(key)}` load its"
            " new files first.",
        )
    interface = mine[0]
    by_key = {peer.public_key: name for name, peer in peers_of(site, key).items() if peer.public_key is not None}
    taken = {one.public_key: one for one in revocations(run).values() if one.tunnel == key and one.public_key}
    rows = [
        _seen_row(
            by_key.get(peer.public_key), peer, taken.get(peer.public_key), probe=peer.public_key == tunnel.probe_key
        )
        for peer in interface.peers
    ]
    there_now = {peer.public_key for peer in interface.peers}
    missing = tuple(name for name, peer in let_in(site, key, run.at.date()).items() if peer.public_key not in there_now)
    with run.keeping() as state:
        if state is not None:
            told = [
                Heard(p.public_key, key, interface.public_key, p.handshake, p.came_from, p.received, p.sent, run.at)
                for p in interface.peers
            ]
            state.ledger.hear(key, told)
    gone = [one.peer for public, one in taken.items() if public not in there_now and one.out is None]
    shut_out(run, gone, "seen")
    right = interface.public_key == tunnel.public_key if interface.public_key and tunnel.public_key else None
    return SeenDocument(key, right, tuple(rows), missing)


def _seen_by_openvpn(run: Run, key: str, dump: str) -> SeenDocument:
    """Its status names who is connected; of the others, what it told before is still true."""
    site = run.site
    tunnel, peers = site.tunnels[key], peers_of(site, key)
    status = read_status(dump)
    at = status.at or run.at
    server = tunnel.public_key or ""
    rows, told = [], dict[str, Heard]()
    taken = {one.peer: one for one in revocations(run).values() if one.tunnel == key and one.out is None}
    for client in status.clients:
        name = next((peer for peer, entry in peers.items() if _is(peer, entry, client)), None)
        out = next((one for one in taken.values() if _was(one, name, client)), None)
        public = (peers[name].public_key if name is not None else None) or name or client.name
        told[public] = Heard(public, key, server, at, client.came_from, client.received, client.sent, run.at)
        detail = NOTHING if name is not None else say("the-site-file-has-no")
        if out is not None:
            name, detail = out.peer, say("it-was-revoked-on", at=out.at)
        rows.append(
            SeenRow(
                name,
                public,
                rfc3339(at),
                client.came_from,
                client.received,
                client.sent,
                not detail,
                detail,
                out is not None,
            )
        )
    with run.keeping() as state:
        if state is not None:
            before = {one.public_key: one for one in state.ledger.heard().values() if one.tunnel == key}
            for name, peer in peers.items():
                public = peer.public_key or name
                if public not in told:
                    last = before.get(public)
                    when = rfc3339(last.handshake) if last is not None and last.handshake is not None else None
                    detail = say("it-is-not-connected") if when is not None else say("it-has-never-been-seen")
                    rows.append(SeenRow(name, public, when, None, 0, 0, True, detail))
            state.ledger.hear(key, {**before, **told}.values())
    return SeenDocument(key, None, tuple(rows), ())


def _was(taken: Revoked, name: str | None, client: ClientSeen) -> bool:
    """Whether a client is a peer that was revoked."""
    own = taken.public_key and client.name == peer_name(taken.peer, taken.public_key)
    return bool(own) or taken.peer in (name, client.name, client.user)


def _is(key: str, peer: Peer, client: ClientSeen) -> bool:
    """Whether a client is this peer: by the certificate that we made for it, else by its name or user."""
    if peer.public_key is not None and client.name == peer_name(key, peer.public_key):
        return True
    return key in (client.name, client.user) or (peer.user is not None and peer.user in (client.name, client.user))


def _seen_row(name: str | None, peer: PeerSeen, taken: Revoked | None, *, probe: bool) -> SeenRow:
    detail = NOTHING
    if taken is not None:
        detail = say("it-was-revoked-on", at=taken.at)
    elif name is None and not probe:
        detail = say("the-site-file-has-no-such")
    elif peer.handshake is None and not probe:
        detail = say("it-has-never-been")
    return SeenRow(
        "the probe, for checks" if probe else taken.peer if taken is not None else name,
        peer.public_key,
        rfc3339(peer.handshake) if peer.handshake is not None else None,
        peer.came_from,
        peer.received,
        peer.sent,
        taken is None and (name is not None or probe),
        detail,
        taken is not None,
    )
