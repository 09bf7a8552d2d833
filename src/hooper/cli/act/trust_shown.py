"""What `hooper cert trust` shows."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.clock import shown_duration
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.certs.documents import TrustDocument
    from hooper.cli.parts.render import Screen
    from hooper.cli.parts.session import Session


def show_trust(session: Session, authority: str, *, page: bool, hold: float, out: Path | None) -> int:
    """Show how it is trusted; with `page` on the LAN too; the exit code. hold: seconds."""
    from hooper.usecases.act.authorities import how_to_trust, show_page, write_files

    file = session.read_site()
    own = [key for key, one in file.site.authorities.items() if one.kind == "own"]
    if not authority and len(own) != 1:
        raise UsageError("AUTHORITY is missing", remedy="Name one of [authorities]; `authority make` makes your own.")
    (key,) = chosen([authority or own[0]], file.site.authorities, "authority")
    lab = session.world == "lab"
    if out is not None:
        done = session.do(lambda run: how_to_trust(run, key), file)
        for path in write_files(done.run, key, out, lab=lab):
            session.note(f"Written to {path}.")
    if not page:
        done = session.do(lambda run: how_to_trust(run, key), file)
        return session.show(done.document, _render, errors=done.trouble)
    shown: list[str] = []

    def ready(address: str) -> None:
        shown.append(address)
        if not session.json:
            _ready(session, address, hold)

    heard = (lambda text: None) if session.json else session.say
    done = session.look(lambda run: show_page(run, key, hold, ready, heard, lab=lab), file)
    document = replace(done.document, page=shown[0] if shown else None)
    return session.show(document, _render if session.json else _ended, errors=done.trouble)


def _ready(session: Session, address: str, hold: float) -> None:
    from hooper.cli.parts.codes import draw_code
    from hooper.cli.parts.render import heading
    from hooper.cli.parts.session import console

    screen = console(plain=session.plain)
    heading(screen, "On the phone, in the Wi-Fi of this network, open this")
    screen.print()
    screen.print(f"   {address}")
    screen.print()
    draw_code(address, screen)
    screen.print(f"It is shown for {shown_duration(hold)}; Ctrl-C ends it sooner.")
    sys.stdout.flush()


def _ended(document: TrustDocument, out: Screen) -> None:
    out.print(f"{document.fingerprint} is what the phone has to show before you say yes to it.")


def _render(document: TrustDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented
    from hooper.report.trusting import TITLES

    heading(out, f"{document.authority}: {document.subject}, until {document.not_after[:10]}")
    indented(out, document.warning, left=3)
    indented(out, f"{document.fingerprint}: compare it with what a device shows before it says yes", left=3)
    for step in document.steps:
        out.print()
        heading(out, TITLES[step.system])
        for line in step.lines:
            indented(out, line, left=3)
