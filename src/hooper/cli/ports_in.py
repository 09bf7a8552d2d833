"""hooper survey --ports"""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.cli.common import Session
from hooper.cli.looking import parse_public
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.screen import Screen
    from hooper.places import Place
    from hooper.usecases.ports_in import PortsInDocument

SIGN = {True: "✓", False: "✗", None: "?"}


def measure_ports(
    session: Session, origin: Place, ports: list[str], public: list[str], *, save: bool, entered: bool
) -> int:
    """Which ports come in, and what is written of it."""
    from hooper.usecases.ports_in import ports_in

    asked = tuple(_port(text) for text in ports)
    file = session.read_site()
    given = parse_public(public, file.site)
    how = {"save": save, "entered": entered, "dry_run": session.dry_run}
    done = session.look(lambda run: ports_in(run, origin, asked, given, session.deadline, **how), file)
    document = done.document
    code = session.show(document, _render, errors=done.trouble)
    for written in document.saved:
        verb = "Would be written" if session.dry_run else "Written"
        session.note(f"{verb} to {session.site_path}: {written.key} = {written.after}")
    if save and not document.saved:
        session.note("Nothing to write: the site file says so already, or it could not be told.")
    elif not save and any(row.let_in is False for row in document.ports):
        session.next("write-down-what", ("survey", "--ports", "--from", str(origin), "--save"))
    return worst([code, 0 if any(row.let_in for row in document.ports) else EXIT_NEEDS_A_PERSON])


def _port(text: str) -> tuple[str, int]:
    kind, _, number = text.strip().partition(" ")
    if kind not in ("tcp", "udp") or not number.isascii() or not number.isdigit() or not 1 <= int(number) <= 65535:
        raise UsageError(f"--port {text!r} is no port", remedy="Write it like 'tcp 443' or 'udp 51820'.")
    return kind, int(number)


def _render(document: PortsInDocument, out: Screen) -> None:
    from hooper.cli.render import heading, indented, table

    let = sum(row.let_in is True for row in document.ports)
    kept = sum(row.let_in is False for row in document.ports)
    told = f"{let} come in, {kept} do not, {len(document.ports) - let - kept} not told"
    heading(out, f"Ports of {document.line}, tried at {document.address} from {document.from_.name}: {told}.")
    drawn = table("", "port", "", prose=("",))
    for row in document.ports:
        drawn.add_row(SIGN[row.let_in], f"{row.transport} {row.port}", row.why)
    out.print(drawn)
    for remark in document.remarks:
        indented(out, remark, left=0)
