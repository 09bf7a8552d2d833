"""hooper new"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, run_async, sub_app
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.planning.starting import Start, StartBox

app = sub_app("Start a site file: by questions, by options, or from what is found here.")


@command(app, "new", site=True, secrets=False, deadline=5.0, dry_run="Print the file instead of writing it.")
def new(
    session: Session,
    found: bool = False,
    title: str | None = None,
    gateway: list[str] | None = None,
    wan: list[str] | None = None,
    pool: list[str] | None = None,
    by_hand: list[str] | None = None,
    provider: list[str] | None = None,
    line: str = "line",
    address: str = "dynamic",
    blocked: list[str] | None = None,
    stun: list[str] | None = None,
    resolver: list[str] | None = None,
    name: str = "",
    host: list[str] | None = None,
) -> int:
    """Start a site file. Without --gateway and --found it asks, in a sensible order, with defaults in brackets."""
    from hooper.planning.starting import Start
    from hooper.usecases.moving import new_id

    path = session.site_path
    if path.exists() and not session.dry_run:
        raise UsageError(f"{path} exists, and is not overwritten", remedy="Name another file, or change that one.")
    drops, servers, resolvers = tuple(blocked or ()), tuple(stun or ()), tuple(resolver or ())
    hosts = tuple(_pairs("--host", host))
    start = Start(title or "", (), line, address, drops, servers, resolvers, name, hosts, new_id(title))
    if gateway:
        start = replace(start, boxes=_boxes(gateway, wan, pool, by_hand or [], provider or []))
    elif found:
        seen = _found(session, title or "")
        start = replace(start, boxes=seen.boxes, resolvers=start.resolvers or seen.resolvers)
    elif session.json:
        raise UsageError("--json asks no questions", remedy="Give --gateway KEY=LAN, or --found.")
    else:
        from hooper.cli.prepare.dialogue import asked
        from hooper.usecases.prepare.starting import look_at_settings

        start = replace(start, seen=run_async(look_at_settings))
        return _keep(session, path, asked(start))
    return _written(session, path, start)


def _written(session: Session, path: Path, start: Start) -> int:
    from hooper.planning.answers import problem
    from hooper.planning.starting import site_text

    if (wrong := problem({}, start)) is not None:
        raise UsageError(f"that makes no site: {wrong}", remedy="Correct what you gave; nothing was written.")
    return _keep(session, path, site_text(start))


def _keep(session: Session, path: Path, text: str) -> int:
    """Write the file, and say what is next."""
    from hooper.files import write_atomically
    from hooper.planning.documents import ChangedKey, EditDocument
    from hooper.site.load import parse_site

    if session.dry_run:
        typer.echo(text, nl=False)
        return 0
    write_atomically(path, text.encode())
    site = parse_site(text.encode(), str(path)).site
    rows = tuple(ChangedKey(f"gateways.{key}", None, str(box.lan)) for key, box in site.gateways.items())
    document = EditDocument(str(path), "made", str(path), rows, (), False)
    exit_code = session.show(document, lambda shown, out: out.print(f"{shown.file} is made."))
    session.ahead()
    return exit_code


def _found(session: Session, title: str) -> Start:
    from hooper.usecases.prepare.starting import look_around

    start = run_async(look_around, title, session.deadline)
    for box in start.boxes:
        session.note(f"found {box.key}: LAN {box.lan}" + (f"; {box.doubt}" if box.doubt else ""))
    return start


def _pairs(option: str, given: list[str] | None) -> list[tuple[str, str]]:
    """KEY=VALUE. Raises: UsageError."""
    out = []
    for text in given or []:
        key, equals, value = text.partition("=")
        if not equals or not key or not value:
            raise UsageError(f"{option} {text!r} is not understood", remedy=f"Write {option} KEY=VALUE.")
        out.append((key, value))
    return out


def _boxes(
    gateway: list[str], wan: list[str] | None, pool: list[str] | None, by_hand: list[str], provider: list[str]
) -> tuple[StartBox, ...]:
    from hooper.planning.starting import StartBox

    lans, wans, pools = dict(_pairs("--gateway", gateway)), dict(_pairs("--wan", wan)), dict(_pairs("--pool", pool))
    for named, keys in (("--wan", wans), ("--pool", pools), ("--by-hand", by_hand), ("--provider", provider)):
        for key in keys:
            if key not in lans:
                raise UsageError(
                    f"{named} names {key!r}, which no --gateway does", remedy=f"There are: {', '.join(lans)}."
                )
    return tuple(
        StartBox(
            key,
            lan,
            wans.get(key, ""),
            pools.get(key, ""),
            "hand" if key in by_hand else "auto",
            "provider" if key in provider else "self",
        )
        for key, lan in lans.items()
    )
