"""hooper tunnel ..."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Any

from hooper.chosen import chosen
from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.editing import of_options, render
from hooper.cli.parts.entity import add_verbs
from hooper.cli.parts.session import Done, Session, sub_app
from hooper.cli.parts.tables import typed
from hooper.clock import local
from hooper.errors import EXIT_NEEDS_A_PERSON, HooperError, SeveralErrors, SiteFileError, UsageError, worst

if TYPE_CHECKING:
    from collections.abc import Callable

    from hooper.cli.parts.render import Screen
    from hooper.planning.documents import EditDocument
    from hooper.site.load import SiteFile
    from hooper.site.model import Site
    from hooper.tunnels.documents import MadeDocument, SeenDocument, TunnelDocument, TunnelsDocument
    from hooper.usecases.prove.tunnel_proof import ProofsDocument
    from hooper.usecases.run import Run

app = sub_app("Private access: both sides of a tunnel, and what its server saw.", group=True)
add_verbs(app, "tunnels", "rename")

DUMP_LIMIT = 1024 * 1024  # characters


def edited(session: Session, work: Callable[[Run], tuple[EditDocument, list[HooperError]]], file: SiteFile) -> int:
    """Write an edit that has keys of tunnels with it, and show it."""
    from hooper.usecases.private.tunnel_conditions import and_kept

    try:
        done: Done[EditDocument] = session.do(and_kept(work, dry_run=session.dry_run), file, state=True)
    except (SiteFileError, SeveralErrors) as exc:  # the file was sound: what was given is not
        raise of_options(exc) from None
    return session.show(done.document, render, errors=done.trouble)


@command(app, "tunnel list", site=True, state=True, mask=True)
def list_all(session: Session) -> int:
    """Each tunnel: where its peers find it, how many there are, and whether its server has what it needs."""
    from hooper.usecases.private.tunnels import list_tunnels

    file = session.read_site()
    done = session.do(lambda run: list_tunnels(run), file, look=True)
    code = session.show(done.document, _render_list, errors=done.trouble)
    if not done.document.tunnels:
        session.next("make-one-as", first_tunnel(file.site))
    else:
        session.ahead("tunnel", "peer")
    return worst([code, 0 if all(row.ok for row in done.document.tunnels) else EXIT_NEEDS_A_PERSON])


@command(app, "tunnel add", site=True, state=True, dry_run=EDIT_DRY_RUN, keys="tunnel")
def add(
    session: Session,
    keys: dict[str, Any],
    tunnel: str,
    host: str | None = None,
    kind: str = "wireguard",
    second_port: int | None = None,
) -> int:
    """Add a tunnel. Its network, its keys and, with --host, its service and port are chosen."""
    from hooper.planning.tunnel_edits import Placing
    from hooper.site.tunnel_kinds import tunnel_kind, tunnel_kinds
    from hooper.usecases.private.tunnels import add as do_add

    chosen([kind], tunnel_kinds(), "kind of tunnel")
    of = tunnel_kind(kind)
    file = session.read_site()
    if host is not None and "service" in keys:
        raise UsageError("--host and --service exclude each other", remedy="Name the service, or where to make one.")
    if host is not None:
        chosen([host], file.site.devices, "host")
    if "service" in keys:
        chosen([keys["service"]], file.site.services, "service")
    if second_port is not None and (not of.halves or "also" in keys):
        raise UsageError("--second-port is for OpenVPN, and makes the service that --also would name",
                         remedy="Leave one of them out.")  # fmt: skip
    rows = {"kind": kind, **typed("tunnels", keys)}
    if of.seen_key and "public_key" not in rows:
        rows |= _host_key(session, file, host, keys.get("service"))
    code = edited(
        session, lambda run: do_add(run, tunnel, rows, Placing(host, second_port), dry_run=session.dry_run), file
    )
    if rows.get("made_by", "hooper" if of.servers else "device") == "device":
        session.next("see-what-to-enter", f"tunnel show {tunnel}")
    else:
        session.ahead("tunnel", "peer")
    return code


@command(app, "tunnel rent", site=True, state=True, dry_run=EDIT_DRY_RUN)
def rent(session: Session, tunnel: str, address: str | None = None, host: str | None = None) -> int:
    """Put a machine that you rent in front of the site, where its line has no public address.

    It becomes the outermost gateway, and a tunnel outward its network: rules, sources, names, check and why go by it.
    """
    from ipaddress import IPv4Address

    from hooper.usecases.private.tunnels import add_rented_machine

    file = session.read_site()
    if address is None or host is None:
        raise UsageError(f"--{'address' if address is None else 'host'} is missing",
                         remedy="Give the machine's public address, and the host at home.")  # fmt: skip
    try:
        where = IPv4Address(address)
    except ValueError:
        raise UsageError(f"{address!r} is no IPv4 address", remedy="Give the machine's public one.") from None
    code = edited(session, lambda run: add_rented_machine(run, tunnel, where, host, dry_run=session.dry_run), file)
    session.ahead("tunnel", "peer")
    return code


def _host_key(session: Session, file: SiteFile, host: str | None, service: str | None) -> dict[str, str]:
    """The host key of an SSH server, as it is seen from here; empty: it is not, which is said."""
    from hooper.usecases.prepare.hosts import host_key

    site = file.site
    if service is None and host is None:
        fitting = [key for key, one in site.services.items() if one.speaks == "ssh"]
        service = fitting[0] if len(fitting) == 1 else None
    entry = site.services.get(service) if service is not None else None
    name = entry.host if entry is not None else host
    if name is None:
        return {}
    port = entry.used_ports.first if entry is not None else 22
    try:
        found = session.look(lambda run: host_key(run, site.devices[name].address, port), file)
    except HooperError as exc:
        session.note(f"Its host key is not known yet: {exc.message}.")
        return {}
    return {"public_key": found.document.public_key}


def first_tunnel(site: Site) -> str:
    """The command that adds one, where there is none yet."""
    speaks = any(service.speaks == "wireguard" for service in site.services.values())
    host = next(iter(site.hosts), "HOST")
    return f"tunnel add home{'' if speaks else f' --host {host}'}"


@command(app, "tunnel show", site=True, state=True, mask=True)
def show(session: Session, tunnel: str) -> int:
    """One tunnel field by field, as the pages of servers ask for it; no private key is shown."""
    from hooper.usecases.private.tunnels import show as do_show

    file = session.read_site()
    (key,) = chosen([tunnel], file.site.tunnels, "tunnel")
    done = session.do(lambda run: do_show(run, key), file, look=True)
    return session.show(done.document, _render_one, errors=done.trouble)


@command(app, "tunnel change", site=True, state=True, dry_run=EDIT_DRY_RUN, keys="tunnel")
def change(session: Session, keys: dict[str, Any], tunnel: str, clear: list[str] | None = None) -> int:
    """Change a tunnel, and say which server and which devices need new files."""
    from hooper.cli.parts.editing import finish
    from hooper.planning.tunnel_edits import change_tunnel

    file = session.read_site()
    (key,) = chosen([tunnel], file.site.tunnels, "tunnel")
    if not keys and not clear:
        raise UsageError("nothing to change was given", remedy="Give an option such as --way-back nat.")
    return finish(session, file, lambda file: change_tunnel(file, key, typed("tunnels", keys), clear or ()))


@command(app, "tunnel renew", site=True, state=True, dry_run=EDIT_DRY_RUN)
def renew(session: Session, tunnel: str) -> int:
    """Give the server another key: all its peers then need new files, and each is named.

    Of an SSH server, its host key is looked at anew.
    """
    from hooper.usecases.private.tunnels import renew as do_renew

    file = session.read_site()
    (key,) = chosen([tunnel], file.site.tunnels, "tunnel")
    entry, public = file.site.tunnels[key], None
    if entry.of.seen_key:
        from hooper.usecases.prepare.hosts import host_key

        service = file.site.services[entry.service]
        address, port = file.site.devices[service.host].address, service.used_ports.first
        public = session.look(lambda run: host_key(run, address, port), file).document.public_key
    return edited(session, lambda run: do_renew(run, key, public, dry_run=session.dry_run), file)


@command(app, "tunnel remove", site=True, state=True, dry_run=EDIT_DRY_RUN)
def remove(session: Session, tunnel: str) -> int:
    """Remove a tunnel with its peers and keys, and say what to take away where, so that nothing of it stays."""
    from hooper.usecases.private.tunnels import remove as do_remove

    file = session.read_site()
    (key,) = chosen([tunnel], file.site.tunnels, "tunnel")
    return edited(session, lambda run: do_remove(run, key, dry_run=session.dry_run), file)


@command(app, "tunnel make", site=True, state=True, dry_run=EDIT_DRY_RUN)
def make(
    session: Session,
    tunnel: str,
    out: Path | None = None,
    folder: str | None = None,
    force: bool = False,
    load: bool = False,
) -> int:
    """Write the files that the server loads: its key and peers, and the rules that keep each to what it may reach.

    For a tunnel that a device makes by itself: a sheet for its page, with secrets that are proposed.
    """
    from hooper.cli.parts.spelling import spelled
    from hooper.usecases.private.tunnel_conditions import and_kept
    from hooper.usecases.private.tunnels import MakeRequest
    from hooper.usecases.private.tunnels import make as do_make

    file = session.read_site()
    (key,) = chosen([tunnel], file.site.tunnels, "tunnel")
    request = MakeRequest(key, out or Path(f"{key}-server"), folder, force, spelled, session.dry_run)
    if load and not session.dry_run:
        from hooper.usecases.private.tunnels import load as do_load

        session.note(f"To load them, this runs: {shlex.join(file.site.tunnels[key].load_by)}")
        loaded = session.look(lambda run: do_load(run, request), file)
        return session.show(loaded.document, _render_made, errors=loaded.trouble)
    done = session.do(and_kept(lambda run: do_make(run, request)), file, state=True)
    code = session.show(done.document, _render_made, errors=done.trouble)
    session.not_written()
    if file.site.tunnels[key].made_by == "device":
        session.ahead("rule", "sheet", "proof")
        return code
    if lab := session.world == "lab":
        session.next("in-the-lab-load", ("lab", "load", done.document.files[0]))
    session.ahead("peer", "rule", "sheet", "entry", "proof", then=lab)
    return code


@command(app, "tunnel seen", site=True, state=True, mask=True)
def seen(session: Session, tunnel: str, dump: Path | None = None) -> int:
    """What the server saw: who came when and from where, whom it does not know, who never came.

    FILE is what `wg show all dump` printed on the server, or OpenVPN's status file. Without it, the tunnel's `seen_by`
    fetches that; else it is asked for here, which is right on the server itself. No key is shown or kept.
    """
    from hooper.files import read_text
    from hooper.usecases.private.tunnel_conditions import look_at_server as look

    file = session.read_site()
    (key,) = chosen([tunnel], file.site.tunnels, "tunnel")
    told = None if dump is None else read_text(dump)
    done = session.look(lambda run: look(run, key, told), file)
    document = done.document
    code = session.show(document, _render_seen, errors=done.trouble)
    session.ahead("tunnel", "peer", "entry")
    well = document.server_key is not False and not document.missing and all(row.ok for row in document.peers)
    return worst([code, 0 if well else EXIT_NEEDS_A_PERSON])


def _render_seen(document: SeenDocument, out: Screen) -> None:
    from rich.filesize import decimal
    from rich.text import Text

    from hooper.cli.parts.render import indented, table

    if document.server_key is False:
        indented(out, f"The server has another key than {document.tunnel} in the site file.", mark="! ", left=0)
    drawn = table("", "peer", "last handshake", "from", "received", "sent", right=("received", "sent"))
    for row in document.peers:
        mark = Text("✓", style="well") if row.ok else Text("✗", style="wrong")
        last = local(row.last_handshake) if row.last_handshake else "never"
        drawn.add_row(mark, row.peer or row.public_key, last, row.from_ or "-", decimal(row.received),
                      decimal(row.sent))  # fmt: skip
    out.print(drawn)
    for row in document.peers:
        if row.detail:
            indented(out, f"{row.peer or row.public_key}: {row.detail}.", left=0)
    if document.missing:
        indented(out, f"The server does not know: {', '.join(document.missing)}.", mark="! ", left=0)


@command(app, "tunnel prove", site=True, state=True, mask=True, deadline=5.0)
def prove(session: Session, peer: str | None = None) -> int:
    """Prove a tunnel at its other end: on the peer's own computer, away from home, with the tunnel on.

    The public address with and without it, the way that packets take, its DNS server, each service that is permitted
    and one that is not, the largest packet. At home it is refused: that would prove nothing.
    """
    from hooper.usecases.prove.tunnel_proof import prove_peer

    file = session.read_site()
    if peer is not None:
        chosen([peer], file.site.peers, "peer")
    done = session.look(lambda run: prove_peer(run, peer, session.deadline), file)
    code = session.show(done.document, _render_proofs, errors=done.trouble)
    bad = [proof for proof in done.document.proofs if proof.ok is False]
    if bad:
        service = next((one.service for one in bad if one.service is not None), None)
        name = service or file.site.tunnels[done.document.tunnel].service
        session.next("see-which-link", f"why {name} --peer {done.document.peer} --from interface")
    return worst([code, EXIT_NEEDS_A_PERSON if bad else 0])


def _render_proofs(document: ProofsDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import heading, indented

    heading(out, f"{document.peer}: proof at this end of the tunnel {document.tunnel}")
    marks = {True: ("✓", "well"), False: ("✗", "wrong"), None: ("?", "doubtful")}
    for proof in document.proofs:
        mark, style = marks[proof.ok]
        seen = [word for word in (proof.before, proof.after) if word is not None]
        out.print(Text.assemble(" ", (mark, style), f" {proof.what}", ": " if seen else "", " → ".join(seen)))
        indented(out, proof.detail, left=5)


def _render_list(document: TunnelsDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import indented, table

    if not document.tunnels:
        out.print("There are no tunnels yet.")
        return
    drawn = table("", "tunnel", "by", "service", "peers find it at", "their network", "peers", right=("peers",))
    for row in document.tunnels:
        mark = Text("✓", style="well") if row.ok else Text("✗", style="wrong")
        network = "\n".join(text for text in (row.subnet, row.subnet6) if text is not None)
        made = row.kind if row.made_by == "hooper" else f"{row.kind}, by the device"
        drawn.add_row(mark, row.tunnel, made, row.service, row.endpoint or "?", network, str(row.peers))
    out.print(drawn)
    for row in document.tunnels:
        if row.detail:
            indented(out, f"{row.tunnel}: {row.detail}.", left=0)
        if row.endpoint is None:
            indented(out, f"{row.tunnel}: its line has no name, and no fixed address: it is asked for at a hand-over.",
                     left=0)  # fmt: skip


def _render_one(document: TunnelDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented

    heading(out, f"{document.tunnel}: {document.kind} on {document.host}")
    rows = [*document.server, *(one for peer in document.peers for one in peer.fields)]
    wide = max(31, *(len(one.field) for one in rows)) + 2
    for one in document.server:
        indented(out, one.value, mark=f"{one.field:<{wide}}", left=3)
    indented(out, document.endpoint or "not known", mark=f"{'peers find it at':<{wide}}", left=3)
    for peer in document.peers:
        out.print()
        heading(out, f"Peer: {peer.peer}")
        out.about = peer.peer
        for one in peer.fields:
            indented(out, one.value, mark=f"{one.field:<{wide}}", left=3)
    if document.routes:
        out.print()
        heading(out, "The way back")
        for route in document.routes:
            words = f"on {route.gateway}: {route.route.prefix} by {route.route.via}"
            indented(out, words, mark="[ ] ", left=3)
    out.print()
    heading(out, f"On {document.host}")
    for step in document.steps:
        indented(out, step, mark="[ ] ", left=3)


def _render_made(document: MadeDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented

    heading(out, f"{document.tunnel}: the files for {document.host}")
    for path in document.files:
        out.print(f"   {path}")
    out.print()
    heading(out, "Then")
    for step in document.steps:
        indented(out, step, mark="[ ] ", left=3)
