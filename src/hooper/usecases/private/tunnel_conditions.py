"""How tunnels and their peers stand over time."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime
from typing import TypeVar

from hooper.addresses import IPAddress, parse_address
from hooper.check.browser_visit import VisitGround, judge_visit
from hooper.clock import read_moment
from hooper.errors import HooperError
from hooper.evidence.observations import service_subject, split_key
from hooper.places import HERE, Place
from hooper.planning.looks.tunnel import SOON
from hooper.planning.server_lists import TELLING
from hooper.store.kept import Condition
from hooper.tunnels.documents import HandedDocument, PeerRow, SeenDocument, TunnelRow
from hooper.tunnels.seen import source_of
from hooper.usecases.private.peers import HandRequest, hand, known_public, list_peers
from hooper.usecases.private.revoking import of_revocations
from hooper.usecases.private.tunnel_seen import seen
from hooper.usecases.private.tunnels import list_tunnels
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import how_all_stands, keep_conditions
from hooper.words.said import say, together


async def watch_tunnels(run: Run) -> list[HooperError]:
    """Look at what was made and handed, and at what the servers tell that can be asked; keep how it stands."""
    trouble: list[HooperError] = []
    here = run.site.site.here
    for key, tunnel in run.site.tunnels.items():
        own = here is not None and run.site.services[tunnel.service].host == here
        if tunnel.kind in TELLING and (own or tunnel.seen_by) and run.state is not None:
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
    keep_conditions(run, [_loaded(document), *tunnels_now(run)])
    for at, came in _from_outside(run, document):
        keep_conditions(run, [came], at)
    return document, []


def _from_outside(run: Run, document: SeenDocument) -> Iterator[tuple[datetime, Condition]]:
    """The peers that came in from outside, each a look at the server's service from another network, and when it was.

    Whom the server saw by an address of home, or of the line itself, proves nothing to those outside.
    """
    service, public = run.site.tunnels[document.tunnel].service, _own_addresses(run)
    for row in document.peers:
        if row.peer not in run.site.peers or not row.ok or row.last_handshake is None or row.from_ is None:
            continue
        source = source_of(row.from_)
        if source is not None and public and judge_visit(VisitGround(run.site, public, source), source)[0] == "outside":
            at = min(read_moment(row.last_handshake), run.at)  # its clock may be ahead
            subject, place = service_subject(service), str(Place("peer", row.peer))
            detail = say("came-in-by-its-tunnel", peer=row.peer, source=source)
            yield at, Condition("service", service, place, "answers", "well", detail, basis=run.basis(subject))


def _own_addresses(run: Run) -> set[IPAddress]:
    """All addresses that a line may have by now: who is led back in by the router comes by one of them."""
    told = (said.value for key, said in run.told().items() if split_key(key)[1] == "wan")
    written = (address for line in run.site.lines.values() for address in line.address)
    return {*known_public(run).values(), *written, *(parse_address(one) for one in told if one)}


def came_in(run: Run) -> dict[str, datetime]:
    """The peers that came in from outside with the file that they have now, and when. Raises: StateError."""
    peers, _ = list_peers(run)
    handed = {row.peer: read_moment(row.handed) for row in peers.peers if row.handed is not None}
    found: dict[str, datetime] = {}
    for one in how_all_stands(run):
        what = one.condition
        place = Place.read(what.aspect) if what.kind == "service" and what.level == "well" else HERE
        if place.kind == "peer" and place.name in run.site.peers:
            tunnel = run.site.tunnels[run.site.peers[place.name].tunnel]
            since = handed.get(place.name) if tunnel.made_by == "hooper" else one.at
            if tunnel.service == what.subject and since is not None and since <= one.at:
                found[place.name] = one.at
    return found


def tunnels_now(run: Run) -> list[Condition]:
    """How tunnels and peers stand by what was made, handed, revoked and seen so far. Raises: StateError."""
    tunnels, _ = list_tunnels(run)
    peers, _ = list_peers(run)
    own = (one for row in peers.peers for one in _peer(run, row))
    return [*map(_tunnel, tunnels.tunnels), *own, *of_revocations(run)]


def keep_tunnels(run: Run) -> None:
    """Keep how tunnels and peers stand."""
    keep_conditions(run, tunnels_now(run))


async def hand_over(run: Run, request: HandRequest) -> tuple[HandedDocument, list[HooperError]]:
    """Give a device its profile; that it has it is kept. Raises: as `hand`."""
    document, trouble = await hand(run, request)
    if run.state is not None and not request.dry_run:
        keep_tunnels(run)
    return document, trouble


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
