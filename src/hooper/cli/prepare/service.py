"""hooper service ..."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from hooper.chosen import chosen
from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.editing import finish
from hooper.cli.parts.entity import add_verbs
from hooper.cli.parts.session import Session, sub_app
from hooper.cli.parts.tables import typed
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.documents import ServiceListDocument

app = sub_app("What the devices offer: list, add, change, remove.", group=True)
add_verbs(app, "services", "show", "rename")


@command(app, "service list", site=True, mask=True)
def list_all(session: Session) -> int:
    """All services of the site file: where they are, how far they reach, by which port."""
    from hooper.usecases.prepare.lists import list_services as look

    file = session.read_site()
    document = session.do(look, file).document
    code = session.show(document, _render)
    if not document.services:
        session.ahead()
    return code


@command(app, "service add", site=True, dry_run=EDIT_DRY_RUN, keys="service")
def add(session: Session, keys: dict[str, Any], service: str) -> int:
    """Add a service. A public one gets its outside port chosen and written down, so that it never moves."""
    from hooper.planning.edits import add_service

    file = session.read_site()
    if "host" not in keys:
        raise UsageError("--host is missing", remedy=f"Give one of: {', '.join(file.site.devices) or 'none; add one'}.")
    chosen([keys["host"]], file.site.devices, "host")
    rows = typed("services", keys)
    return finish(session, file, lambda file: add_service(file, service, rows))


@command(app, "service change", site=True, dry_run=EDIT_DRY_RUN, keys="service")
def change(session: Session, keys: dict[str, Any], service: str, clear: list[str] | None = None) -> int:
    """Change a service."""
    from hooper.planning.edits import change_service

    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    rows = typed("services", keys)
    if not rows and not clear:
        raise UsageError("nothing to change was given", remedy="Give an option such as --reach tunnel.")
    return finish(session, file, lambda file: change_service(file, key, rows, clear or ()))


@command(app, "service remove", site=True, dry_run=EDIT_DRY_RUN)
def remove(session: Session, service: str) -> int:
    """Remove a service, and say which rules now have no effect. Its comments in the file stay."""
    from hooper.planning.edits import remove_service

    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    return finish(session, file, lambda file: remove_service(file, key))


@command(app, "service secure", site=True, state=True, mask=True)
def secure(
    session: Session,
    service: list[str] | None = None,
    server: str | None = None,
    listen: int | None = None,
    behind: str | None = None,
    out: Path | None = None,
    force: bool = False,
    reload: bool = False,
) -> int:
    """https, the whole of it: what is typed, what the device and the app have to be told, in their order.

    With --by, the file by which a web server hands several services on behind one port, told apart by their names; that
    server's own test is run first, and where it refuses nothing is changed and nothing is read.
    """
    from hooper.cli.prepare.secured import show_secured

    file = session.read_site()
    if not service:
        raise UsageError(
            "SERVICE is missing", remedy=f"Name one or several: {', '.join(file.site.services) or 'none'}."
        )
    return show_secured(session, file, service, server, listen, behind, out, force=force, reload=reload)


def _render(document: ServiceListDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table
    from hooper.ports import ports_text

    if not document.services:
        out.print("There are no services yet.")
        return
    drawn = table("service", "host", "speaks", "port", "reach", "outside", "only from", prose=("only from",))
    for row in document.services:
        ports = f"{row.transport} {ports_text(row.ports)}" if row.ports else f"IP protocol {row.transport}"
        outside = ports_text(row.outside_ports) if row.outside_ports else "-"
        drawn.add_row(row.service, row.host, row.speaks, ports, row.reach, outside, ", ".join(row.sources) or "-")
    out.print(drawn)
    for row in document.services:
        if row.hands_to is not None:
            out.print(f"{row.service}: {row.host} hands {row.name} on to {row.hands_to}")
