"""Whose way in was taken, and whether the server knows: that stays open until it is said or seen to be so."""

from __future__ import annotations

from datetime import UTC, datetime, time

from hooper import deeds
from hooper.clock import rfc3339
from hooper.errors import HooperError, UsageError
from hooper.planning.documents import EditDocument
from hooper.site.model import Site
from hooper.site.tunnel_tables import Peer
from hooper.store.kept import Condition, KnownBy, Revoked
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import keep_conditions
from hooper.words.said import NOTHING, Said, say


def revocations(run: Run) -> dict[str, Revoked]:
    """By peer, whose way in was taken: those of the site file, and those that were removed from it."""
    kept: dict[str, Revoked] = {}
    with run.keeping() as state:
        kept = state.tunnelling.revoked() if state is not None else {}
    found = {key: one for key, one in kept.items() if key not in run.site.peers and one.tunnel in run.site.tunnels}
    for key, peer in run.site.peers.items():
        if peer.revoked is not None:
            day = datetime.combine(peer.revoked, time(12), UTC)
            mine = kept.get(key)
            found[key] = mine if mine is not None else Revoked(key, peer.tunnel, "", day)
    return found


def still_in(site: Site, taken: Revoked) -> Said:
    """That a peer may still come in, and what ends that."""
    tunnel = site.tunnels[taken.tunnel]
    host, out = site.services[tunnel.service].host, deeds.SHUT_OUT(taken.peer)
    if tunnel.made_by == "hooper":
        make = deeds.MAKE_TUNNEL(taken.tunnel)
        return say("revoked-until-loaded", at=taken.at, host=host, make_tunnel=make, shut_out=out)
    return say("revoked-until-taken", at=taken.at, host=host, shut_out=out)


def note_revoked(run: Run, key: str, peer: Peer) -> None:
    """Remember that a way in was taken, with the key that had it."""
    with run.keeping() as state:
        if state is not None:
            known = state.tunnelling.revoked().get(key)
            if known is None or peer.public_key is not None:
                known = Revoked(key, peer.tunnel, peer.public_key or "", run.at)
            state.tunnelling.revoke(known)


def let_in_again(run: Run, key: str) -> None:
    """A peer that was revoked has a new way in."""
    with run.keeping() as state:
        if state is not None:
            state.tunnelling.let_in(key)
            state.history.forget([("peer", key, "out")])


def shut_out(run: Run, peers: list[str], how: KnownBy) -> None:
    """The server lets these in no more. how: by what that is known."""
    taken = revocations(run)
    with run.keeping() as state:
        if state is not None:
            state.tunnelling.revoke(*(taken[key]._replace(out=run.at, how=how) for key in peers))


def of_revocations(run: Run) -> list[Condition]:
    """How these stand."""
    return [
        Condition("peer", key, "out", "still-let-in", "wrong", still_in(run.site, one), "peer-still-in")
        if one.out is None
        else Condition("peer", key, "out", "shut-out", "well", _known(one, one.out))
        for key, one in revocations(run).items()
    ]


def _known(one: Revoked, out: datetime) -> Said:
    return say("how-and-day", how=say(f"how.{one.how}") if one.how else NOTHING, day=rfc3339(out)[:10])


def say_done(run: Run, key: str, *, dry_run: bool = False) -> tuple[EditDocument, list[HooperError]]:
    """A person says that a server lets a peer in no more.

    key: of a peer that was revoked, or removed. Raises: UsageError: it was not revoked.
    """
    taken = revocations(run)
    if key not in taken:
        there = f"these were: {', '.join(taken)}" if taken else "nobody was"
        raise UsageError(f"{key} was not revoked; {there}", remedy=f"`{deeds.REVOKE(key)}` does that.")
    if not dry_run:
        shut_out(run, [key], "said")
        keep_conditions(run, of_revocations(run))
    document = EditDocument(str(run.path), "noted as shut out", f"peers.{key}", (), (), dry_run, ())
    return document, []
