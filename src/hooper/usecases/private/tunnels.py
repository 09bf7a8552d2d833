"""Tunnels: what there is, and making both sides."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from pathlib import Path

from hooper import deeds
from hooper.errors import HooperError, UsageError
from hooper.files import machine_error, make_folder, read_text, write_output
from hooper.planning.access import peers_of
from hooper.planning.documents import EditDocument
from hooper.planning.edits import Edited, again
from hooper.planning.rented import add_rented
from hooper.planning.routes import return_routes
from hooper.planning.tunnel_edits import ANYWHERE, Placing, add_tunnel, change_tunnel, remove_tunnel
from hooper.planning.typed import typed
from hooper.planning.values import Plan
from hooper.site.edit import Value
from hooper.site.model import Site
from hooper.site.references import detours
from hooper.site.tunnel_kinds import TunnelKind, tunnel_kind
from hooper.site.tunnel_tables import Peer
from hooper.store.kept import Made
from hooper.tunnels.common import at, let_in
from hooper.tunnels.documents import MadeDocument, RouteOn, TunnelDocument, TunnelRow, TunnelsDocument
from hooper.tunnels.keys import KeyRing, forget_proposed, proposed
from hooper.tunnels.making import works_of
from hooper.tunnels.sheet import device_steps, peers_fields, shares_secret, to_change
from hooper.usecases.prepare.edits import edit
from hooper.usecases.private.revoking import revocations, shut_out
from hooper.usecases.run import Run
from hooper.words.said import NOTHING, say


def ring_of(run: Run) -> KeyRing:
    """The private keys of the site."""
    return KeyRing(run.kept.tunnels)


def unkept_key(kind: TunnelKind) -> str:
    """A public key as one of a kind looks, for a run that writes nothing: no private one is kept."""
    if kind.key == "fingerprint":
        return f"sha256:{secrets.token_hex(32)}"
    from hooper.wire.wireguard import generate_private, public_of

    return base64.b64encode(public_of(generate_private())).decode()


def edit_with_keys(
    run: Run, change: Edited, made: tuple[str, ...], *, dry_run: bool
) -> tuple[EditDocument, list[HooperError]]:
    """Write an edit that names new keys; where it is not written, they are forgotten. Raises: as `edit`."""
    try:
        return edit(run, lambda file: change, dry_run=dry_run)
    except BaseException:
        if not dry_run:
            forget(run, made)
        raise


def forget(run: Run, publics: tuple[str | None, ...]) -> None:
    """Take private keys away that nobody needs any more. Raises: MachineError."""
    for public in publics:
        if public is not None:
            ring_of(run).forget(public, shared=True)


# --- editing


def add(
    run: Run, key: str, rows: Mapping[str, Value], where: Placing = ANYWHERE, *, dry_run: bool = False
) -> tuple[EditDocument, list[HooperError]]:
    """A new tunnel with its keys.

    rows: as given. where: its packets are to arrive. Raises: UsageError, CannotEdit, SiteFileError, SeveralErrors,
    MachineError.
    """
    # what is wrong is said before a key is made
    again(run.file, add_tunnel(run.file, key, rows, where, {}, b"-").text)
    kind = tunnel_kind(str(rows.get("kind", "wireguard")))
    keys: dict[str, Value] = {}
    if rows.get("made_by", "hooper") == "hooper" and kind.server_key:
        keys["public_key"] = _server_key(run, key, kind, dry_run=dry_run)
    if "probe_key" in kind.fields:
        keys["probe_key"] = unkept_key(kind) if dry_run else ring_of(run).make()
    change = add_tunnel(run.file, key, rows, where, keys, secrets.token_bytes(16))
    return edit_with_keys(run, change, tuple(map(str, keys.values())), dry_run=dry_run)


def add_rented_machine(
    run: Run, key: str, address: IPv4Address, end: str, *, dry_run: bool = False
) -> tuple[EditDocument, list[HooperError]]:
    """A rented machine that stands for the site, with the tunnel to it and both keys.

    address: of the rented machine. end: the host at home that reaches out to it. Raises: UsageError, CannotEdit,
    SiteFileError, SeveralErrors, MachineError.
    """
    add_rented(run.file, key, address, end, {}, b"-")  # what is wrong is said before a key is
    keys: dict[str, Value] = {}
    for name in ("public_key", "probe_key", "peer"):
        shared = name == "peer"
        keys[name] = unkept_key(tunnel_kind("wireguard")) if dry_run else ring_of(run).make(shared=shared)
    seed = secrets.token_bytes(16)
    change = add_rented(run.file, key, address, end, keys, seed)
    return edit_with_keys(run, change, tuple(map(str, keys.values())), dry_run=dry_run)


def _server_key(run: Run, key: str, kind: TunnelKind, *, dry_run: bool) -> str:
    """The public part of a server's new key, which is kept unless nothing is to be written. Raises: MachineError."""
    return unkept_key(kind) if dry_run else works_of(kind.name).new_server_key(ring_of(run), run.site, key, run.at)


def renew(
    run: Run, key: str, public_key: str | None = None, *, dry_run: bool = False
) -> tuple[EditDocument, list[HooperError]]:
    """Another key for a server: all its peers need new files then.

    public_key: what the server has now, where it made that itself; None: one is made. Raises: UsageError,
    MachineError, as `edit`.
    """
    tunnel = run.site.tunnels[key]
    if tunnel.made_by == "device" and public_key is None:
        return _renew_there(run, key, dry_run=dry_run), []
    made = public_key or _server_key(run, key, tunnel.of, dry_run=dry_run)
    change = change_tunnel(run.file, key, {"public_key": made})
    change = Edited(change.text, "renewed", change.subject, change.changes, change.follows)
    done = edit_with_keys(run, change, (made,), dry_run=dry_run)
    if not dry_run:
        forget(run, (tunnel.public_key,))
    return done


def _renew_there(run: Run, key: str, *, dry_run: bool) -> EditDocument:
    """What a device made by itself is changed there: each place is named. Raises: MachineError."""
    if shares_secret(run.site.tunnels[key]) and not dry_run:
        proposed(ring_of(run), key, (), renew=True)
        with run.keeping() as state:
            if state is not None:
                state.tunnelling.forget(peers_of(run.site, key))  # what they were given is worth nothing any more
    made = f"the new secret: `{deeds.MAKE_TUNNEL(key)}` writes it into a file, for you alone"
    first = (made,) if shares_secret(run.site.tunnels[key]) else ()
    return EditDocument(
        str(run.path), "to be renewed", f"tunnels.{key}", (), (*first, *to_change(run.topology, key)), dry_run
    )


def remove(run: Run, key: str, *, dry_run: bool = False) -> tuple[EditDocument, list[HooperError]]:
    """Without a tunnel, its peers and all their keys. Raises: as `edit`."""
    tunnel, peers = run.site.tunnels[key], peers_of(run.site, key)
    done = edit(run, lambda file: remove_tunnel(file, key), dry_run=dry_run)
    if not dry_run:
        forget_proposed(ring_of(run), key)
        forget(run, (tunnel.public_key, tunnel.probe_key, *(peer.public_key for peer in peers.values())))
        with run.keeping() as state:
            if state is not None:
                state.tunnelling.forget(peers, [key])
                state.ledger.hear(key, ())
    return done


# --- looking


def _endpoint(run: Run, key: str) -> str | None:
    where = typed(run.topology, run.site.tunnels[key].service)
    return at(where) if where is not None else None


def list_tunnels(run: Run) -> tuple[TunnelsDocument, list[HooperError]]:
    """Each tunnel, and whether its server has what it needs."""
    made: dict[str, Made] = {}
    with run.keeping() as state:
        made = state.tunnelling.made() if state is not None else {}
    rows = [_row(run, key, made.get(key)) for key in run.site.tunnels]
    return TunnelsDocument(tuple(rows)), []


def _row(run: Run, key: str, made: Made | None) -> TunnelRow:
    tunnel = run.site.tunnels[key]
    host = run.site.services[tunnel.service].host
    detail = NOTHING
    if tunnel.made_by == "device":
        wanted = tunnel.of.keyed and tunnel.public_key is None
        detail = say("its-public-key-is") if wanted else NOTHING
    elif tunnel.public_key is None:
        detail = say("it-has-no-key-yet", renew_tunnel=deeds.RENEW_TUNNEL(key))
    elif made is None:
        detail = say("its-files-were-not", make_tunnel=deeds.MAKE_TUNNEL(key))
    elif made.mark != works_of(tunnel.kind).server_mark(run.topology, key, run.at.date(), _carried(run, key)):
        detail = say("needs-new-files-since", host=host, make_tunnel=deeds.MAKE_TUNNEL(key))
    return TunnelRow(
        key,
        tunnel.kind,
        tunnel.service,
        _endpoint(run, key),
        str(tunnel.subnet) if tunnel.subnet is not None else None,
        str(tunnel.subnet6) if tunnel.subnet6 is not None else None,
        len(peers_of(run.site, key)),
        tunnel.made_by,
        not detail,
        detail,
    )


def _not_revoked(site: Site, key: str) -> dict[str, Peer]:
    return {name: peer for name, peer in peers_of(site, key).items() if peer.revoked is None}


def show(run: Run, key: str) -> tuple[TunnelDocument, list[HooperError]]:
    """One tunnel, field by field, as pages ask for it."""
    site, tunnel = run.site, run.site.tunnels[key]
    host = site.services[tunnel.service].host
    ours = tunnel.made_by == "hooper"
    shown = let_in(site, key, run.at.date()) if ours else _not_revoked(site, key)
    routes = tuple(
        RouteOn(gateway, route)
        for gateway, there in return_routes(site).items()
        for route in there
        if route.prefix == str(tunnel.subnet)
    )
    making = f"`{deeds.MAKE_TUNNEL(key)}` writes its files."
    works = works_of(tunnel.kind)
    steps = (
        (making, *works.loading(site, key, works.folder_on(tunnel.server), again=False))
        if ours
        else tuple(device_steps(run.topology, key))
    )
    document = TunnelDocument(
        key,
        tunnel.kind,
        host,
        tunnel.made_by,
        _endpoint(run, key),
        tuple(works.server_fields(run.topology, key, {})),
        tuple(peers_fields(run.topology, key, shown, {})),
        routes,
        steps,
    )
    return document, []


# --- making


@dataclass(frozen=True)
class MakeRequest:
    """out: the folder that receives the files. folder: where they will stand on the server. force: replace files of
    somebody else. worded: puts the interface's own words into a text. dry_run: write nothing.
    """

    key: str
    out: Path
    folder: str | None = None
    force: bool = False
    worded: Callable[[str], str] = str
    dry_run: bool = False


def make(run: Run, request: MakeRequest) -> tuple[MadeDocument, list[HooperError]]:
    """Write the files of a server. Raises: UsageError, KeyMissing, RefusedForSafety, MachineError, StateError."""
    tunnel = run.site.tunnels[request.key]
    state = run.kept
    if tunnel.made_by == "device":
        return _sheet_of(run, request), []
    before = state.tunnelling.made().get(request.key)
    works = works_of(tunnel.kind)
    folder = request.folder or works.folder_on(tunnel.server)
    made = works.server_files(run.topology, request.key, ring_of(run), run.at, folder, _carried(run, request.key))
    host = run.site.services[tunnel.service].host
    steps = tuple(works.loading(run.site, request.key, folder, again=before is not None))
    document = MadeDocument(request.key, host, tuple(str(request.out / name) for name in made.files), steps)
    if request.dry_run:
        return document, []
    make_folder(request.out)
    for name in made.folders:
        make_folder(request.out / name, mode=FOLDER_OF_ROOT)
        _clear(request.out / name, keep={request.out / one for one in made.files})
    for name, text in made.files.items():
        path, secret = request.out / name, name in made.secret
        write_output(path, text.encode(), keep=(run.path,), force=request.force, private=secret, mode=OF_ROOT)
    state.tunnelling.make(request.key, Made(made.mark, run.at))
    return document, []


LOAD_LIMIT_S = 120.0
OF_ROOT, FOLDER_OF_ROOT = 0o644, 0o755  # whatever the umask: root runs what stands there, servers read it as nobody


async def load(run: Run, request: MakeRequest) -> tuple[MadeDocument, list[HooperError]]:
    """Write the files of a server, and have the site file's own command load them there.

    Raises: as `make`; UsageError: it names no command; CommandFailed.
    """
    from hooper.names.handing import run_command

    tunnel = run.site.tunnels[request.key]
    if not tunnel.load_by:
        raise UsageError(
            f"nothing says how the files of {request.key} are loaded",
            remedy=f"Write `load_by` into [tunnels.{request.key}], or load them by hand.",
        )
    document, trouble = make(run, request)
    more = {"HOOPER_TUNNEL": request.key, "HOOPER_FILES": str(request.out.absolute())}
    await run_command(tunnel.load_by, run.base, more, LOAD_LIMIT_S)
    open_ones = [key for key, one in revocations(run).items() if one.tunnel == request.key and one.out is None]
    shut_out(run, open_ones, "loaded")
    return replace(document, steps=()), trouble


def _carried(run: Run, key: str) -> Plan | None:
    """The plan, for a tunnel to a rented machine, whose rules are made by it; None: it carries none."""
    return run.plan if key in detours(run.site) else None


def _sheet_of(run: Run, request: MakeRequest) -> MadeDocument:
    """The sheet for a device's own page, with secrets that are proposed: for who enters them alone.

    Raises: RefusedForSafety, MachineError.
    """
    site, key = run.site, request.key
    tunnel, peers = site.tunnels[key], _not_revoked(site, key)
    secret = proposed(ring_of(run), key, peers, shared=tunnel.of.one_secret)
    lines = [f"# {key}: what to enter on the page of {site.services[tunnel.service].host}. Made by Hooper."]
    lines += [
        "",
        *(f"{one.field}: {one.value}" for one in works_of(tunnel.kind).server_fields(run.topology, key, secret)),
    ]
    for row in peers_fields(run.topology, key, peers, secret):
        lines += ["", f"[{row.peer}]", *(f"{one.field}: {one.value}" for one in row.fields)]
    steps = tuple(device_steps(run.topology, key))
    lines += ["", *(f"[ ] {step}" for step in steps), "[ ] Delete this file once all of it is entered."]
    path = request.out / f"{key}-sheet.txt"
    text = request.worded("\n".join(lines)) + "\n"
    if not request.dry_run:
        make_folder(request.out)
        write_output(path, text.encode(), keep=(run.path,), force=request.force, private=True)
    return MadeDocument(key, site.services[tunnel.service].host, (str(path),), steps)


def _clear(folder: Path, keep: set[Path]) -> None:
    """Take away files of ours for peers that are not let in any more. Raises: MachineError."""
    for path in folder.iterdir():
        if path not in keep and path.is_file() and ". Made by Hooper." in read_text(path).partition("\n")[0]:
            try:
                path.unlink()
            except OSError as exc:
                raise machine_error(exc, f"{path} cannot be taken away") from None
