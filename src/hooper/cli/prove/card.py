"""hooper card"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import command
from hooper.cli.parts.from_where import parse_public
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import UsageError
from hooper.files import STDIO, write_output

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.card import CardDocument

app = sub_app("What to type away from home, with a QR code.")


@command(app, "card", site=True, state=True, mask=True)
def card(
    session: Session,
    service: str,
    public: list[str] | None = None,
    no_code: bool = False,
    out: Path | None = None,
    force: bool = False,
) -> int:
    """What to type away from home to use a service, the warnings to expect, and those at which to stop.

    Name and port come from the site file, a certificate's fingerprint from the last look from inside. Where no name
    leads there, the public address is asked for, as `hooper check` does.
    """
    from hooper.usecases.prove.card import card as make

    if out not in (None, STDIO) and out.suffix not in (".svg", ".png"):
        raise UsageError(f"--out {out}: the picture is an .svg or a .png", remedy="Name the file so.")
    if force and out is None:
        raise UsageError("--force has no effect here", remedy="It goes with --out FILE.")
    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    given = parse_public(public or [], file.site)
    done = session.look(lambda run: make(run, key, given), file)
    code = session.show(done.document, lambda shown, out: _render(shown, out, code=not no_code), errors=done.trouble)
    if done.document.level != "well":
        known = "is not proven yet" if done.document.level == "unknown" else "did not work at the last look"
        session.note(f"Before you hand it on: {key} {known}. {done.document.would_decide}")
    if out is not None:
        if done.document.kind == "endpoint":
            raise UsageError(f"{key} has no QR code: no app can do anything with a bare address", remedy="Type it.")
        from hooper.report.qr import picture

        write_output(out, picture(done.document.type, out.suffix or ".svg"), keep=(session.site_path,), force=force)
        if out != STDIO:
            session.note(f"The QR code is in {out}.")
    return code


def _render(document: CardDocument, out: Screen, *, code: bool) -> None:
    from rich.text import Text

    from hooper.cli.parts.codes import draw_code
    from hooper.cli.parts.render import heading, indented

    heading(out, f"{document.service}: away from home")
    out.print()
    out.print(Text.assemble("   Type  ", (document.type, "bold")))
    out.print(f"   into  {document.into}")
    if document.kind in ("address", "endpoint") and document.ports:
        over = {"udp": "UDP", "both": "TCP and UDP"}.get(document.transport, "TCP")
        ports = f"ports {document.ports}" if "-" in document.ports else f"port {document.ports}"
        out.print(f"         (address {document.address}, {ports}, {over})")
    if document.address_source is not None:
        indented(out, f"There is no name: the address is as now known ({document.address_source}).", left=9)
    if document.expect:
        out.print()
        heading(out, "What to expect")
        for line in document.expect:
            indented(out, line, mark="- ", left=3)
    if document.stop:
        out.print()
        heading(out, "Stop if you see")
        for line in document.stop:
            indented(out, line, mark="! ", left=3, style="wrong")
    if code and document.kind != "endpoint":  # a bare address is no profile, and no app can do anything with it
        out.print()
        draw_code(document.type, out)
