"""How tunnels and their peers stand over time."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TypeVar

from hooper.errors import HooperError
from hooper.planning.looks.tunnel import SOON
from hooper.store.kept import Condition
from hooper.tunnels.documents import PeerRow, SeenDocument, TunnelRow
from hooper.usecases.private.peers import list_peers
from hooper.usecases.private.revoking import of_revocations
from hooper.usecases.private.tunnel_seen import SEEN, seen
from hooper.usecases.private.tunnels import list_tunnels
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import keep_conditions
from hooper.words.said import say, together


async def watch_tunnels(run: Run) -> list[HooperError]:
    """Look at what was made and handed, and at what the servers tell that can be asked; keep how it stands."""
    trouble: list[HooperError] = []
    here = run.site.site.here
    for key, tunnel in run.site.tunnels.items():
        own = here is not None and run.site.services[tunnel.service].host == here
        if tunnel.kind in SEEN and (own or tunnel.seen_by) and run.state is not None:
            try:
                await look_at_server(run, key)
            except HooperError as exc:
                trouble.append(exc.about(key))
    keep_tunnels(run)
    return trouble


async def look_at_server(run: Run, key: str, dump: str | None = None) -> tuple[SeenDocument, list[HooperError]]:
    """What the server saw of each peer, by its own command where the site file names one; it is kept.

    dump: what the server's software told; None: it is asked. Raises: as `seen`.
    """
    document = await seen(run, key, dump)
    keep_conditions(run, [_loaded(document), *of_revocations(run)])
    return document, []


def tunnels_now(run: Run) -> list[Condition]:
    """How tunnels and peers stand by what was made, handed, revoked and seen so far. Raises: StateError."""
    tunnels, _ = list_tunnels(run)
    peers, _ = list_peers(run)
    own = (one for row in peers.peers for one in _peer(run, row))
    return [*map(_tunnel, tunnels.tunnels), *own, *of_revocations(run)]


def keep_tunnels(run: Run) -> None:
    """Keep how tunnels and peers stand."""
    keep_conditions(run, tunnels_now(run))


D = TypeVar("D")
Work = Callable[[Run], tuple[D, list[HooperError]]]


def and_kept(work: Work[D], *, dry_run: bool = False) -> Work[D]:
    """A use case that changes tunnels or peers; how they stand from then on is kept at once."""

    def done(run: Run) -> tuple[D, list[HooperError]]:
        document, trouble = work(run)
        if run.state is not None and not dry_run:
            keep_tunnels(run)
        return document, trouble

    return done


def _loaded(document: SeenDocument) -> Condition:
    """Whether a server has what was made for it."""
    strange = [row.peer or row.public_key for row in document.peers if not row.ok and row.revoked]
    found = [say("server-has-other-key")] if document.server_key is False else []
    if document.missing:
        found.append(say("server-does-not-know", peers=document.missing))
    if strange:
        found.append(say("server-still-lets-in", peers=strange))
    if found:
        detail = together(found)
        return Condition("tunnel", document.tunnel, "loaded", "other-files", "wrong", detail, "tunnel-files-old")
    return Condition("tunnel", document.tunnel, "loaded", "as-made", "well", say("seen-at-server"))


def _tunnel(row: TunnelRow) -> Condition:
    if row.ok:
        return Condition(
            "tunnel", row.tunnel, "", "as-made", "well", say("peers-at", peers=row.peers, endpoint=row.endpoint)
        )
    return Condition("tunnel", row.tunnel, "", "files-wanted", "wrong", row.detail, "tunnel-files-old")


def _peer(run: Run, row: PeerRow) -> Iterator[Condition]:
    entry = run.site.peers[row.peer]
    today = run.at.date()
    if entry.revoked is not None:
        yield Condition("peer", row.peer, "", "revoked", "fact", say("on-date", day=entry.revoked))
    elif entry.until is not None and entry.until < today:
        yield Condition("peer", row.peer, "", "over", "wrong", row.detail, "peer-ended")
    elif not row.ok and row.handed is not None:
        yield Condition("peer", row.peer, "", "file-old", "wrong", row.detail, "profile-outdated")
    elif not row.ok:
        yield Condition("peer", row.peer, "", "no-file", "fact", row.detail)
    elif entry.until is not None and entry.until - today <= SOON:
        yield Condition(
            "peer", row.peer, "", "ends-soon", "wrong", say("its-last-day", day=entry.until), "peer-ends-soon"
        )
    else:
        yield Condition("peer", row.peer, "", "has-its-file", "well", say("since-day", day=(row.handed or "")[:10]))
    if row.last_seen is not None:
        yield Condition("peer", row.peer, "seen", row.last_seen, "fact", say("its-last-handshake"), steady=True)
