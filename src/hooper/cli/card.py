"""hooper card"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.command import command
from hooper.cli.common import Session, sub_app
from hooper.cli.looking import PublicOption, parse_public
from hooper.site.words import chosen

if TYPE_CHECKING:
    from hooper.cli.screen import Screen
    from hooper.planning.card import CardDocument

app = sub_app("What to type away from home, with a QR code.")


@command(app, "card", site=True, state=True, mask=True)
def card(
    session: Session,
    service: Annotated[str, typer.Argument(help="A public service.")],
    public: PublicOption = None,
    no_code: Annotated[bool, typer.Option("--no-code", help="Without the QR code.")] = False,
) -> int:
    """What to type away from home to use a service, the warnings to expect, and those at which to stop.

    Name and port come from the site file, a certificate's fingerprint from the last look from inside. Where no name
    leads there, the public address is asked for, as `hooper check` does.
    """
    from hooper.usecases.card import CardRequest
    from hooper.usecases.card import card as make

    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    request = CardRequest(key, parse_public(public or [], file.site))
    done = session.look(make, request, file)
    return session.show(done.document, lambda shown, out: _render(shown, out, code=not no_code), errors=done.trouble)


def _render(document: CardDocument, out: Screen, *, code: bool) -> None:
    from rich.text import Text

    from hooper.cli.render import heading, indented

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
            indented(out, line, mark="! ", left=3, style="red")
    if code and document.kind != "endpoint":  # a bare address is no profile, and no app can do anything with it
        out.print()
        for row in qr_rows(document.type):
            drawn = Text(style="#000000 on #ffffff")
            for block in row:
                # fonts draw a full block with a gap around it; the background has none
                solid = block == "█" and out.color_system is not None
                drawn.append(" " if solid else block, style="on #000000" if solid else "")
            out.print(drawn)


def qr_rows(text: str) -> list[str]:
    """A QR code (ISO/IEC 18004) in half blocks, two modules a character, with its quiet zone; dark on light."""
    import segno

    modules = [list(row) for row in segno.make(text, micro=False).matrix_iter(border=4)]
    if len(modules) % 2:
        modules.append([0] * len(modules[0]))
    blocks = {(0, 0): " ", (1, 0): "▀", (0, 1): "▄", (1, 1): "█"}
    return [
        "".join(blocks[bool(top), bool(bottom)] for top, bottom in zip(upper, lower, strict=True))
        for upper, lower in zip(modules[::2], modules[1::2], strict=True)
    ]
