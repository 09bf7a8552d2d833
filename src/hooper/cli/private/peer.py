"""hooper peer ..."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from hooper.chosen import chosen
from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.editing import finish
from hooper.cli.parts.entity import add_verbs
from hooper.cli.parts.from_where import parse_public
from hooper.cli.parts.session import Session, console, sub_app
from hooper.cli.parts.tables import typed
from hooper.cli.private.tunnel import edited, first_tunnel
from hooper.clock import DAY, local
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.files import STDIO

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.documents import EditDocument
    from hooper.site.model import Site
    from hooper.tunnels.documents import HandedDocument, PeersDocument

app = sub_app("The devices that use a tunnel: add, hand over, renew, revoke.", group=True)
add_verbs(app, "peers", "show", "rename")

SHOWN = (".png", ".svg", ".html")  # endings of a code, and of a page with it


@command(app, "peer list", site=True, state=True, mask=True)
def list_all(session: Session) -> int:
    """Each peer: whose it is, what it reaches and where that is kept, whether it has its file, when it was seen."""
    from hooper.usecases.private.peers import list_peers

    file = session.read_site()
    done = session.do(lambda run: list_peers(run), file, look=True)
    code = session.show(done.document, _render_list, errors=done.trouble)
    if not (done.document.peers or session.ahead("tunnel", "peer")):
        session.next("first-make-a-tunnel", first_tunnel(file.site))
    return worst([code, 0 if all(row.ok for row in done.document.peers) else EXIT_NEEDS_A_PERSON])


@command(app, "peer add", site=True, state=True, dry_run=EDIT_DRY_RUN, keys="peer")
def add(session: Session, keys: dict[str, Any], peer: str) -> int:
    """Add a device to a tunnel. It gets a free address and a key, and reaches what its tunnel says, or --into."""
    from hooper.usecases.private.peers import add as do_add

    file = session.read_site()
    if "tunnel" not in keys:
        if len(file.site.tunnels) != 1:
            there = ", ".join(file.site.tunnels) or "none; `hooper tunnel add` makes one"
            raise UsageError("--tunnel is missing", remedy=f"There are: {there}.")
        keys = {"tunnel": next(iter(file.site.tunnels)), **keys}
    chosen([keys["tunnel"]], file.site.tunnels, "tunnel")
    rows = typed("peers", keys)
    code = edited(session, lambda run: do_add(run, peer, rows, dry_run=session.dry_run), file)
    session.ahead("tunnel", "peer")
    return code


@command(app, "peer change", site=True, state=True, dry_run=EDIT_DRY_RUN, keys="peer")
def change(session: Session, keys: dict[str, Any], peer: str, clear: list[str] | None = None) -> int:
    """Change a peer, and say whether its server and its device need new files."""
    from hooper.planning.tunnel_edits import change_peer

    file = session.read_site()
    (key,) = chosen([peer], file.site.peers, "peer")
    if not keys and not clear:
        raise UsageError("nothing to change was given", remedy="Give an option such as --into lan.")
    if "public_key" in keys:
        raise UsageError("a key is not changed but renewed", remedy=f"hooper peer renew {key} --public-key KEY")
    rows = typed("peers", keys)
    return finish(session, file, lambda file: change_peer(file, key, rows, clear or ()))


@command(app, "peer hand", site=True, state=True, mask=True, dry_run=EDIT_DRY_RUN)
def hand(
    session: Session,
    peer: str,
    out: list[Path] | None = None,
    keep_key: bool = False,
    public: list[str] | None = None,
    force: bool = False,
) -> int:
    """Give a device its profile: as a QR code here for a phone, as files with --out. Its private key is then forgotten.

    Whoever has the code or the file can come in: give it to this person alone.
    """
    from hooper.cli.parts.codes import can_draw, draw_code
    from hooper.report.handover import as_page
    from hooper.usecases.private.peers import HandRequest
    from hooper.usecases.private.tunnel_conditions import hand_over

    file = session.read_site()
    (key,) = chosen([peer], file.site.peers, "peer")
    _check_handing(session, file.site, key, out or [], force=force)
    codes: list[str] = []  # drawn last, so that it stands before the person's eyes

    def draw(text: str) -> bool:
        codes.append(text)
        return can_draw(text, console(plain=session.plain))

    title = file.site.site.title or "this site"
    request = HandRequest(
        key,
        tuple(out or ()),
        draw if not out else None,
        keep_key,
        force,
        parse_public(public or [], file.site),
        lambda *told: as_page(told[0], told[1], told[2], title, told[3], lab=session.world == "lab"),
        session.dry_run,
    )
    document = (done := session.look(lambda run: hand_over(run, request), file)).document
    if not out and not document.shown and not session.dry_run:
        remedy = f"Widen the window, or give --out {key}.html and open it in a browser."
        if document.key == "its own":
            remedy = f"It has a private key of its own, and no code can hold that: give --out {key}.conf."
        raise UsageError("the QR code cannot be drawn on this terminal", remedy=remedy)
    code = session.show(document, _render_handed, errors=done.trouble)
    session.not_written()
    if document.shown:
        console(plain=session.plain).print()
        draw_code(codes[0], console(plain=session.plain))
    if session.world == "lab" and out and any(path.suffix == ".conf" for path in out):
        conf = next(path for path in out if path.suffix == ".conf")
        session.next("in-the-lab", ("lab", "load", str(conf), "--on", "phone"))
    return code


def _check_handing(session: Session, site: Site, key: str, out: list[Path], *, force: bool) -> None:
    """Whether it can be handed so. Raises: UsageError."""
    from hooper.planning.access import by_code
    from hooper.site.tunnel_kinds import OWN

    ending = site.tunnels[site.peers[key].tunnel].of.ending
    if force and not out:
        raise UsageError("--force has no effect here", remedy="It goes with --out FILE.")
    endings = dict.fromkeys((*(kind.ending for kind in OWN.values()), ending, *SHOWN))
    for path in out:
        if path != STDIO and path.suffix not in endings:
            raise UsageError(f"--out {path}: its name ends in {', '.join(endings)}", remedy="Name the file so.")
    if out:
        return
    if not by_code(site, key):
        what = f"{key} is a {site.peers[key].device}" if ending == ".conf" else "it is no profile that an app scans"
        raise UsageError(f"{what}: a file is handed over", remedy=f"Give --out {key}{ending}.")
    if session.json or session.masked:
        raise UsageError("a QR code is drawn on a terminal alone", remedy=f"Give --out {key}.html.")


@command(app, "peer renew", site=True, state=True, dry_run=EDIT_DRY_RUN)
def renew(session: Session, peer: str, public_key: str | None = None) -> int:
    """Give a device another key; the old one is worth nothing once the server has its new files."""
    from hooper.usecases.private.peers import renew as do_renew

    file = session.read_site()
    (key,) = chosen([peer], file.site.peers, "peer")
    code = edited(session, lambda run: do_renew(run, key, public_key, dry_run=session.dry_run), file)
    session.ahead("tunnel", "peer")
    return code


@command(app, "peer revoke", site=True, state=True, dry_run=EDIT_DRY_RUN)
def revoke(session: Session, peer: str, done: bool = False) -> int:
    """Take a device's key away, as when it is lost, and say what has to change where. Its entry stays.

    It counts as coming in until its server is known to have its new files: seen by `tunnel seen`, or said with --done.
    """
    from hooper.usecases.private.peers import revoke as do_revoke

    file = session.read_site()
    if done:
        from hooper.usecases.private.revoking import say_done

        said = session.do(lambda run: say_done(run, peer, dry_run=session.dry_run), file, state=True)

        def shown(document: EditDocument, out: Screen) -> None:
            out.print(
                f"{peer}: as you say, its server lets it in no more{' (not written)' if document.dry_run else ''}."
            )

        return session.show(said.document, shown, errors=said.trouble)
    (key,) = chosen([peer], file.site.peers, "peer")
    code = edited(session, lambda run: do_revoke(run, key, dry_run=session.dry_run), file)
    _shut_out(session, file.site, key)
    return code


def _shut_out(session: Session, site: Site, key: str) -> None:
    """What keeps a peer out that was taken away."""
    tunnel = site.peers[key].tunnel
    entry = site.tunnels[tunnel]
    if entry.made_by == "hooper":
        making = f"tunnel make {tunnel}{' --load' if entry.load_by else ''}"
        session.next("the-server-lets", making)
        if not entry.load_by:
            session.then("once-they-are-loaded", f"peer revoke {key} --done")
    else:
        session.next("once-it-is", f"peer revoke {key} --done")


@command(app, "peer remove", site=True, state=True, dry_run=EDIT_DRY_RUN)
def remove(session: Session, peer: str) -> int:
    """Remove a device with its key, and say what has to change where."""
    from hooper.usecases.private.peers import remove as do_remove

    file = session.read_site()
    (key,) = chosen([peer], file.site.peers, "peer")
    code = edited(session, lambda run: do_remove(run, key, dry_run=session.dry_run), file)
    _shut_out(session, file.site, key)
    return code


def _render_list(document: PeersDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import indented, table

    if not document.peers:
        out.print("There are no peers yet.")
        return
    columns = ("", "peer", "whose", "address", "reaches", "kept to it", "has its file", "last seen", "until")
    drawn = table(*columns, prose=("reaches", "whose"))
    for row in document.peers:
        mark = Text("✓", style="well") if row.ok else Text("✗", style="wrong")
        whose = f"{row.person}, {row.device}" if row.person else row.device
        kept = "by the server" if row.enforced == "server" else "by nobody"
        drawn.add_row(mark, row.peer, whose, row.address or "-", ", ".join(row.into), kept,
                      local(row.handed, DAY) if row.handed else "-",
                      local(row.last_seen) if row.last_seen else "-",
                      f"revoked {row.revoked}" if row.revoked else row.until or "-")  # fmt: skip
    out.print(drawn)
    for row in document.peers:
        if row.detail:
            indented(out, f"{row.peer}: {row.detail}.", left=0)


def _render_handed(document: HandedDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented

    heading(out, f"{document.peer}: for {document.device}, and nobody else")
    for path in document.files:
        out.print(f"   {path}")
    out.print(f"   leads to {document.endpoint}, and takes {', '.join(document.allowed)}")
    key = {
        "forgotten": "Its private key is forgotten here: what was lost is renewed, not handed again.",
        "kept": "Its private key is kept here too.",
        "its own": "Its private key has never been here.",
        "none": "What it types is kept here, until its way in is taken from it.",
    }[document.key]
    indented(out, key, left=3)
    for title, lines, mark in (
        ("On the device", document.steps, "[ ] "),
        ("What to expect", document.expect, "- "),
        ("Stop if", document.stop, "! "),
        ("Left to do, by hand", document.tell, "[ ] "),
    ):
        out.print()
        heading(out, title)
        for line in lines:
            indented(out, line, mark=mark, left=3, style="wrong" if mark == "! " else "")
