"""hooper card"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.common import (
    JsonFlag,
    MaskFlag,
    QuietFlag,
    Session,
    SiteOption,
    StateOption,
    VerboseFlag,
    choose,
    sub_app,
)
from hooper.cli.looking import PublicOption, parse_public
from hooper.errors import NeedsAPerson, StateError, UsageError

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.addresses import IPAddress
    from hooper.planning.card import CardDocument
    from hooper.site.load import SiteFile

app = sub_app("What to type away from home, with a QR code.")


@app.command()
def card(
    service: Annotated[str, typer.Argument(help="A public service.")],
    public: PublicOption = None,
    no_code: Annotated[bool, typer.Option("--no-code", help="Without the QR code.")] = False,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """What to type away from home to use a service, the warnings to expect, and those at which to stop.

    Asks nobody: name and port come from the site file, a certificate's fingerprint from the last look from inside.
    """
    from hooper.planning.card import host_of, line_of, make_card

    session = Session("card", json, quiet, verbose)
    file = session.read_site(site, mask=mask)
    (chosen,) = choose([service], file.site.services, "service")
    if (reach := file.site.services[chosen].reach) != "public":
        how = "through the tunnel" if reach == "tunnel" else "at home"
        raise NeedsAPerson(
            f"{chosen} is not public: it is reached {how} only", code="not-public", remedy="Choose a public service."
        )
    given = parse_public(public or [], file.site)
    remembered, fingerprint = _remembered(session, file, chosen, state)
    host = host_of(file.site, chosen, {**remembered, **given})
    if host is None:
        raise UsageError(
            f"no name and no fixed address is known for the line {line_of(file.site, chosen)}",
            remedy="Add a name ([names.*]), or give --public ADDRESS.",
        )
    document = make_card(file.site, chosen, host, fingerprint)
    raise typer.Exit(session.show(document, lambda shown, out: _render(shown, out, code=not no_code)))


def _remembered(
    session: Session, file: SiteFile, service: str, state: Path | None
) -> tuple[dict[str, IPAddress], str | None]:
    """Public addresses that were told, and the fingerprint that the service showed from inside."""
    from hooper.addresses import parse_address
    from hooper.store.state import State, state_folder, store_name

    entry = file.site.services[service]
    try:
        path = state_folder(state) / store_name(file)
        if not path.exists():
            return {}, None
        with State(path) as store:
            told = store.told()
            inside = store.inside(service, "tcp", entry.used_ports.first)
    except StateError as exc:
        session.note(f"{exc.message}")
        return {}, None
    addresses = {key.removeprefix("public:"): said for key, said in told.items() if key.startswith("public:")}
    return {line: parse_address(said.value) for line, said in addresses.items()}, inside.fingerprint if inside else None


def _render(document: CardDocument, out: Console, *, code: bool) -> None:
    from rich.text import Text

    from hooper.cli.render import heading, indented

    heading(out, f"{document.service}: away from home")
    out.print()
    out.print(Text.assemble("   Type  ", (document.type, "bold")), soft_wrap=True)
    out.print(f"   into  {document.into}", soft_wrap=True)
    if document.kind == "address":
        over = {"udp": "UDP", "both": "TCP and UDP"}.get(document.transport, "TCP")
        out.print(f"         (address {document.address}, port {document.port}, {over})", soft_wrap=True)
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
    if code:
        out.print()
        for row in qr_rows(document.type):
            drawn = Text(style="#000000 on #ffffff")
            for block in row:
                # fonts draw a full block with a gap around it; the background has none
                solid = block == "█" and out.color_system is not None
                drawn.append(" " if solid else block, style="on #000000" if solid else "")
            out.print(drawn, soft_wrap=True)


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
