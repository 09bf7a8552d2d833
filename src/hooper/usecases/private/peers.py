"""Peers: the devices that use a tunnel, and what they are handed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.clock import rfc3339
from hooper.errors import HooperError, RefusedForSafety, UsageError
from hooper.files import STDIO, write_output
from hooper.planning.access import allowed_networks, enforced, handing, into_for
from hooper.planning.documents import EditDocument
from hooper.planning.edits import Edited, again, change
from hooper.planning.looks.tunnel import SOON, key_wanted, needs_no_key
from hooper.planning.tunnel_edits import add_peer, remove_peer, renew_peer, revoke_peer
from hooper.secret import Secret
from hooper.site.edit import Value
from hooper.site.load import SiteFile
from hooper.site.model import Site
from hooper.site.tunnel_tables import Peer
from hooper.store.kept import Handed, Heard, Revoked
from hooper.tunnels import steps as words
from hooper.tunnels.common import KeyMissing, NoEndpoint, Profile
from hooper.tunnels.documents import HandedDocument, PeerRow, PeersDocument
from hooper.tunnels.keys import forget_proposed
from hooper.tunnels.making import works_of
from hooper.tunnels.sheet import is_typed_in
from hooper.usecases.prepare.edits import edit
from hooper.usecases.private.revoking import let_in_again, note_revoked, revocations, still_in
from hooper.usecases.private.tunnels import edit_with_keys, forget, ring_of, unkept_key
from hooper.usecases.run import Run
from hooper.words.said import NOTHING, Said, say


def list_peers(run: Run) -> tuple[PeersDocument, list[HooperError]]:
    """Each peer: what it reaches, whether it has its file, when it was seen last."""
    handed: dict[str, Handed] = {}
    heard: dict[str, Heard] = {}
    with run.keeping() as state:
        if state is not None:
            handed, heard = state.tunnelling.handed(), state.ledger.heard()
            tidy(run, handed)
    taken = revocations(run)
    rows = (_row(run, key, handed.get(key), heard, taken.get(key)) for key in run.site.peers)
    return PeersDocument(tuple(rows)), []


def known_public(run: Run) -> dict[str, IPAddress]:
    """The lines' addresses as they were measured last. Raises: StateError."""
    if run.state is None:
        return {}
    seen = run.state.ledger.addresses(run.at)
    return {line: said.value for line, said in seen.items() if said.value is not None}


def _row(run: Run, key: str, handed: Handed | None, heard: Mapping[str, Heard], taken: Revoked | None) -> PeerRow:
    site, peer = run.site, run.site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    own = is_typed_in(tunnel) or (handed is not None and handed.public_key == peer.public_key)
    given = handed if own else None
    detail = NOTHING
    if taken is not None:
        detail = still_in(run.site, taken) if taken.out is None else NOTHING
    elif peer.until is not None and peer.until < run.at.date():
        detail = say("its-time-was-over", until=peer.until, revoke=deeds.REVOKE(key))
    elif is_typed_in(tunnel):
        detail = _to_hand(run, key, handed)
    elif peer.public_key is None and not needs_no_key(tunnel):
        detail = say("it-has-no-key-here", wanted=key_wanted(tunnel, key))
    elif tunnel.made_by == "hooper":
        detail = _certificate(run, key) or _to_hand(run, key, given)
    seen = heard.get(peer.public_key or "")
    return PeerRow(
        key,
        peer.tunnel,
        peer.person,
        peer.device,
        str(peer.address) if peer.address is not None else None,
        into_for(site, peer),
        enforced(tunnel),
        rfc3339(given.at) if given is not None else None,
        rfc3339(seen.handshake) if seen is not None and seen.handshake is not None else None,
        peer.until.isoformat() if peer.until is not None else None,
        taken.at.date().isoformat() if taken is not None else None,
        rfc3339(taken.out) if taken is not None and taken.out is not None else None,
        not detail,
        detail,
    )


def _certificate(run: Run, key: str) -> Said:
    """Why a peer needs another certificate: the one it has has ended, or does so within two weeks."""
    works = works_of(run.site.tunnels[run.site.peers[key].tunnel].kind)
    end = works.certificate_ends(ring_of(run), run.site, key) if run.state is not None else None
    if end is None or end - run.at > SOON:
        return NOTHING
    return say(
        "its-certificate-ended" if end < run.at else "its-certificate-ends", end=end, renew_peer=deeds.RENEW_PEER(key)
    )


def _to_hand(run: Run, key: str, given: Handed | None) -> Said:
    """Why a peer needs a file: it has none, or the one it has is not what it should be any more."""
    if given is None:
        return say("it-has-no-file", handing=handing(run.site, key))
    try:
        works = works_of(run.site.tunnels[run.site.peers[key].tunnel].kind)
        now = works.profile_of(run.topology, key, known_public(run))
    except NoEndpoint:  # its address was asked for when it was handed
        return NOTHING
    except KeyMissing as exc:
        return exc.told
    if now.mark == given.mark:
        return NOTHING
    if now.endpoint != given.endpoint:
        return say(
            "its-file-leads-to-and",
            endpoint=given.endpoint,
            now_endpoint=now.endpoint,
            renew_peer=deeds.RENEW_PEER(key),
        )
    return say("its-file-is-not", renew_peer=deeds.RENEW_PEER(key))


def tidy(run: Run, handed: Mapping[str, Handed]) -> None:
    """Forget the private keys of peers that have their file: a run may have been killed before it did."""
    for key, given in handed.items():
        if not given.kept and key in run.site.peers and run.site.peers[key].public_key == given.public_key:
            ring_of(run).forget(given.public_key)


# --- editing


def add(
    run: Run, key: str, given: Mapping[str, Value], *, dry_run: bool = False
) -> tuple[EditDocument, list[HooperError]]:
    """A new peer; with a key of our making, unless it brings its own. Raises: UsageError, MachineError, as `edit`."""
    rows, made = dict(given), tuple[str, ...]()
    site_after = again(run.file, add_peer(run.file, key, rows).text).site  # before a key is made
    tunnel = str(rows["tunnel"])
    _brings_its_own(run, tunnel, rows.get("public_key"))
    if "public_key" not in rows and run.site.tunnels[tunnel].made_by == "hooper":
        until = site_after.peers[key].until
        made = (_peer_key(run, key, tunnel, until, dry_run=dry_run),)
        rows["public_key"] = made[0]
    return edit_with_keys(run, add_peer(run.file, key, rows), made, dry_run=dry_run)


def _peer_key(run: Run, key: str, tunnel: str, until: date | None, *, dry_run: bool) -> str:
    """The public part of a peer's new key, which is kept unless nothing is to be written.

    Raises: KeyMissing, MachineError.
    """
    if dry_run:
        return unkept_key(run.site.tunnels[tunnel].of)
    return works_of(run.site.tunnels[tunnel].kind).new_peer_key(ring_of(run), run.site, key, tunnel, until, run.at)


def _brings_its_own(run: Run, tunnel: str, public: object) -> None:
    """Whether a peer may come with a key of its own. Raises: UsageError."""
    entry = run.site.tunnels[tunnel]
    if public is not None and entry.of.certified and entry.made_by == "hooper":
        raise UsageError(
            f"the certificates of {tunnel} are made here, with their keys",
            remedy=f"Leave {deeds.PUBLIC_KEY} out: the key is made, handed over, and forgotten here.",
        )


def renew(
    run: Run, key: str, public_key: str | None = None, *, dry_run: bool = False
) -> tuple[EditDocument, list[HooperError]]:
    """Another key for a peer; the old one is forgotten.

    public_key: the peer's own new one; None: it is made here. Raises: UsageError, MachineError, as `edit`.
    """
    entry, made, public = run.site.peers[key], tuple[str, ...](), public_key
    tunnel = run.site.tunnels[entry.tunnel]
    if public is None and tunnel.made_by == "device" and entry.revoked is not None:
        return _let_in_by_device(run, key, dry_run=dry_run)
    if public is None and tunnel.made_by == "device":
        host = run.site.services[tunnel.service].host
        raise UsageError(
            f"the keys of this tunnel are made by {host}",
            remedy=f"Renew it on its page, then `{deeds.WRITE_KEY(key)}`.",
        )
    _brings_its_own(run, entry.tunnel, public)
    if public is None:
        made = (_peer_key(run, key, entry.tunnel, entry.until, dry_run=dry_run),)
        public = made[0]
    done = edit_with_keys(run, renew_peer(run.file, key, public), made, dry_run=dry_run)
    if not dry_run and entry.public_key != public:
        _forgotten(run, key, entry.public_key)
    if not dry_run:
        let_in_again(run, key)
    return done


def _let_in_by_device(run: Run, key: str, *, dry_run: bool) -> tuple[EditDocument, list[HooperError]]:
    """A peer that was revoked may come in again; what it needs is made on the device."""
    done = edit(run, lambda file: change(file, "peers", key, {}, ("revoked",)), dry_run=dry_run)
    if not dry_run:
        let_in_again(run, key)
    return done


def revoke(run: Run, key: str, *, dry_run: bool = False) -> tuple[EditDocument, list[HooperError]]:
    """A peer whose key is worth nothing any more. Raises: UsageError, as `edit`."""
    return _taken(run, key, lambda file: revoke_peer(file, key, run.at.date()), dry_run=dry_run)


def remove(run: Run, key: str, *, dry_run: bool = False) -> tuple[EditDocument, list[HooperError]]:
    """Without a peer. Raises: as `edit`."""
    return _taken(run, key, lambda file: remove_peer(file, key), dry_run=dry_run)


def _taken(
    run: Run, key: str, edited: Callable[[SiteFile], Edited], *, dry_run: bool
) -> tuple[EditDocument, list[HooperError]]:
    """An edit by which a key is worth nothing any more, and the key forgotten."""
    entry = run.site.peers[key]
    done = edit(run, edited, dry_run=dry_run)
    if not dry_run:
        forget_proposed(ring_of(run), entry.tunnel, key)
        note_revoked(run, key, entry)
        _forgotten(run, key, entry.public_key)
    return done


def _forgotten(run: Run, key: str, public: str | None) -> None:
    forget(run, (public,))
    with run.keeping() as state:
        if state is not None:
            state.tunnelling.forget([key])


# --- handing over


@dataclass(frozen=True)
class HandRequest:
    """out: the files to write, each as its name ends: .conf, .png, .svg or .html. draw: shows the code; false: it
    cannot. keep_key: the private key stays here too. public: addresses by line that were given. dry_run: write nothing.
    """

    key: str
    out: tuple[Path, ...] = ()
    draw: Callable[[str], bool] | None = None
    keep_key: bool = False
    force: bool = False
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    page: Callable[[Profile, bytes, HandedDocument, words.Ways], bytes] | None = None
    dry_run: bool = False


async def hand(run: Run, request: HandRequest) -> tuple[HandedDocument, list[HooperError]]:
    """Give a peer its profile. Once it has it, its private key is forgotten here.

    Raises: UsageError, KeyMissing, NoEndpoint, RefusedForSafety, MachineError, StateError.
    """
    from hooper.usecases.prove.card import typed_now

    key, site = request.key, run.site
    peer = site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    if peer.revoked is not None:
        raise RefusedForSafety(
            f"{key} was revoked on {peer.revoked}, so it gets nothing",
            code="peer-revoked",
            remedy=f"`{deeds.RENEW_PEER(key)}` lets it in again; a secret that all share has to be another first.",
        )
    if tunnel.made_by == "device" and not is_typed_in(tunnel):
        raise UsageError(
            f"the files of {peer.tunnel} are made by the device itself",
            remedy=f"Export it there, and look at it with `{deeds.CHECK_PROFILE}`.",
        )
    state = run.kept
    now = await typed_now(run, tunnel.service, request.public)
    works = works_of(tunnel.kind)
    profile = works.profile_of(run.topology, key, now.public)
    fitting = (profile.ending, ".html", *((".png", ".svg") if profile.ending == ".conf" else ()))
    for path in request.out:
        if _form(path, profile) not in fitting:
            remedy = f"Name a file that ends in {' or '.join(fitting)}."
            raise UsageError(f"{path} is none of the forms that this profile has", remedy=remedy)
    ring = ring_of(run)
    handed = state.tunnelling.handed()
    tidy(run, handed)
    entered = is_typed_in(tunnel)  # by hand, so that there is no key
    private = None if entered else ring.private(profile.public_key)
    before = handed.get(key)
    if not entered and private is None and before is not None and before.public_key == profile.public_key:
        raise KeyMissing(
            f"{key} was handed its file on {before.at:%Y-%m-%d}, and its private key is not kept here",
            remedy=f"`{deeds.RENEW_PEER(key)}` makes another one; the old file is then worth nothing.",
        )
    whole = works.as_one(works.peer_files(run.topology, profile, ring, run.at.date()))
    document = _document(run, request, profile, private)
    if request.dry_run:
        return document, list(now.trouble)
    given = [str(path) for path in request.out]
    for path in request.out:
        data = _as(site, path, whole, profile, document, request)
        write_output(path, data, keep=(run.path,), force=request.force, private=True)
    shown = request.draw is not None and private is not None and request.draw(whole.decode())
    if shown or given:
        mark = Handed(profile.public_key, profile.mark, profile.endpoint, request.keep_key, run.at)
        state.tunnelling.hand(key, mark)
        if private is not None and not request.keep_key:
            ring.forget(profile.public_key)
    document = _document(run, request, profile, private, shown=shown)
    return document, list(now.trouble)


def _form(path: Path, profile: Profile) -> str:
    """Which form a file is to have; standard output gets the profile itself."""
    return profile.ending if path == STDIO else path.suffix


def _as(
    site: Site, path: Path, whole: bytes, profile: Profile, document: HandedDocument, request: HandRequest
) -> bytes:
    """The profile as the name of a file wants it."""
    from hooper.report.qr import picture

    form = _form(path, profile)
    if form == ".html":
        assert request.page is not None
        return request.page(profile, whole, document, words.ways(site, profile, document.key == "its own"))
    return whole if form == profile.ending else picture(whole.decode(), form)


def _document(
    run: Run, request: HandRequest, profile: Profile, private: Secret | None, *, shown: bool = False
) -> HandedDocument:
    site, peer = run.site, run.site.peers[request.key]
    files = any(_form(path, profile) == profile.ending for path in request.out)
    own = private is None and not is_typed_in(site.tunnels[peer.tunnel])
    steps = words.steps_on(site, profile, files=files or own)
    if own:
        steps = (words.own_key(profile), *steps)
    return HandedDocument(
        request.key,
        peer.tunnel,
        _device(peer),
        profile.endpoint,
        profile.allowed or tuple(map(str, allowed_networks(site, request.key))),
        tuple(str(path) for path in request.out),
        shown,
        "its own" if own else "none" if private is None else "kept" if request.keep_key else "forgotten",
        steps,
        tuple(words.expectations(run.topology, profile)),
        words.stops(site.tunnels[peer.tunnel]),
        tuple(words.telling(site, request.key, site.tunnels[peer.tunnel])),
    )


def _device(peer: Peer) -> str:
    return f"{peer.person}'s {peer.device}" if peer.person else f"the {peer.device}"
