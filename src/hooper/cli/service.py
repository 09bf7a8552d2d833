"""hooper service ..."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from hooper.cli.command import EDIT_DRY_RUN, command
from hooper.cli.common import (
    Session,
    sub_app,
)
from hooper.cli.editing import ClearOption, finish, port_value, rows_of
from hooper.errors import UsageError
from hooper.site.words import chosen

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.planning.documents import ServiceListDocument

app = sub_app("What the devices offer: list, add, change, remove.", group=True)

ServiceArgument = Annotated[str, typer.Argument(metavar="SERVICE", help="A service's key.")]
HostOption = Annotated[str | None, typer.Option("--host", metavar="HOST", help="The device that offers it.")]
SpeaksOption = Annotated[
    str | None, typer.Option("--speaks", metavar="WHAT", help="Its protocol, which brings transport and port.")
]
TransportOption = Annotated[
    str | None, typer.Option("--transport", metavar="WHAT", help="tcp, udp, both, or an IP protocol's number.")
]
PortOption = Annotated[str | None, typer.Option("--port", metavar="PORT", help="On the device: a port or a range.")]
ReachOption = Annotated[str | None, typer.Option("--reach", metavar="WHO", help="public, tunnel or lan.")]
OutsidePortOption = Annotated[
    str | None, typer.Option("--outside-port", metavar="PORT", help="On the public address; else one is chosen.")
]
OutsideAddressOption = Annotated[
    str | None, typer.Option("--outside-address", metavar="ADDRESS", help="Which of the line's fixed addresses.")
]
SourceOption = Annotated[
    list[str] | None, typer.Option("--source", metavar="NETWORK", help="Only from there; can be given again.")
]
LineOption = Annotated[str | None, typer.Option("--line", metavar="LINE", help="By which line it comes in.")]
FamilyOption = Annotated[str | None, typer.Option("--family", metavar="WHICH", help="ipv4, ipv6 or both.")]
NameOption = Annotated[str | None, typer.Option("--name", metavar="NAME", help="The DNS name that people use.")]
PathOption = Annotated[str | None, typer.Option("--path", metavar="PATH", help="Of its page, such as /film.")]
ExpectOption = Annotated[str | None, typer.Option("--expect", metavar="TEXT", help="A text on its first page.")]


@command(app, "service list", site=True, mask=True)
def list_all(session: Session) -> int:
    """All services of the site file: where they are, how far they reach, by which port."""
    from hooper.usecases.lists import list_services as look

    return session.show(session.do(look, None, session.read_site()).document, _render)


@command(app, "service add", site=True, dry_run=EDIT_DRY_RUN)
def add(
    session: Session,
    service: Annotated[str, typer.Argument(metavar="SERVICE", help="The key that it is to have.")],
    host: HostOption = None,
    speaks: SpeaksOption = None,
    transport: TransportOption = None,
    port: PortOption = None,
    reach: ReachOption = None,
    outside_port: OutsidePortOption = None,
    outside_address: OutsideAddressOption = None,
    source: SourceOption = None,
    line: LineOption = None,
    family: FamilyOption = None,
    name: NameOption = None,
    path: PathOption = None,
    expect: ExpectOption = None,
) -> int:
    """Add a service. A public one gets its outside port chosen and written down, so that it never moves."""
    from hooper.planning.edits import add_service

    file = session.read_site()
    if host is None:
        raise UsageError("--host is missing", remedy=f"Give one of: {', '.join(file.site.hosts) or 'none; add one'}.")
    chosen([host], file.site.hosts, "host")
    rows = _rows(
        port,
        outside_port,
        transport,
        source,
        host=host,
        speaks=speaks,
        reach=reach,
        outside_address=outside_address,
        line=line,
        family=family,
        name=name,
        path=path,
        expect=expect,
    )
    code = finish(session, file, lambda file: add_service(file, service, rows))
    session.note("\nNext: `hooper plan` for the rules and what is wrong or risky.")
    return code


@command(app, "service change", site=True, dry_run=EDIT_DRY_RUN)
def change(
    session: Session,
    service: ServiceArgument,
    host: HostOption = None,
    speaks: SpeaksOption = None,
    transport: TransportOption = None,
    port: PortOption = None,
    reach: ReachOption = None,
    outside_port: OutsidePortOption = None,
    outside_address: OutsideAddressOption = None,
    source: SourceOption = None,
    line: LineOption = None,
    family: FamilyOption = None,
    name: NameOption = None,
    path: PathOption = None,
    expect: ExpectOption = None,
    clear: ClearOption = None,
) -> int:
    """Change a service."""
    from hooper.planning.edits import change_service

    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    rows = _rows(
        port,
        outside_port,
        transport,
        source,
        host=host,
        speaks=speaks,
        reach=reach,
        outside_address=outside_address,
        line=line,
        family=family,
        name=name,
        path=path,
        expect=expect,
    )
    if not rows and not clear:
        raise UsageError("nothing to change was given", remedy="Give an option such as --reach tunnel.")
    code = finish(session, file, lambda file: change_service(file, key, rows, clear or ()))
    session.note("\nNext: `hooper plan`; `hooper worksheet --changed` says what to change on the routers.")
    return code


@command(app, "service remove", site=True, dry_run=EDIT_DRY_RUN)
def remove(
    session: Session,
    service: ServiceArgument,
) -> int:
    """Remove a service, and say which rules now stand for nothing. Its comments in the file stay."""
    from hooper.planning.edits import remove_service

    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    return finish(session, file, lambda file: remove_service(file, key))


def _rows(
    port: str | None, outside_port: str | None, transport: str | None, source: list[str] | None, **plain: str | None
) -> dict[str, Any]:
    """The options that were given, as keys of the site file. plain: those that are written as they were typed."""
    number = int(transport) if transport is not None and transport.isascii() and transport.isdigit() else transport
    ports = {"port": port_value("--port", port), "outside_port": port_value("--outside-port", outside_port)}
    return rows_of(**plain, transport=number, **ports, sources=source or None)


def _render(document: ServiceListDocument, out: Console) -> None:
    from hooper.cli.render import table
    from hooper.ports import ports_text

    if not document.services:
        out.print("There are no services yet: `hooper service add KEY --host HOST --speaks WHAT`.")
        return
    drawn = table("service", "host", "speaks", "port", "reach", "outside", "only from")
    drawn.columns[0].no_wrap = True
    for row in document.services:
        ports = f"{row.transport} {ports_text(row.ports)}" if row.ports else f"IP protocol {row.transport}"
        outside = ports_text(row.outside_ports) if row.outside_ports else "-"
        drawn.add_row(row.service, row.host, row.speaks, ports, row.reach, outside, ", ".join(row.sources) or "-")
    out.print(drawn)
