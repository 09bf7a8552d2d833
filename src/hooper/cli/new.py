"""hooper new"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.command import command
from hooper.cli.common import Session, run_async, sub_app
from hooper.cli.options import option
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.planning.starting import Start, StartBox

app = sub_app("Start a site file: by questions, by options, or from what is found here.")


FoundFlag = Annotated[
    bool, option("--found", "Take what can be found here: this network, its router, its WAN address.")
]
TitleOption = Annotated[str | None, option("--title TEXT", "What the place is called.")]
GatewaysOption = Annotated[
    list[str] | None,
    option("--gateway KEY=LAN", "A router, such as box=10.0.0.1/24; outermost first."),
]
WansOption = Annotated[list[str] | None, option("--wan KEY=ADDRESS", "An inner router's address outside.")]
PoolsOption = Annotated[list[str] | None, option("--pool KEY=FIRST-LAST", "What its DHCP hands out.")]
ByHandOption = Annotated[list[str] | None, option("--by-hand KEY", "This router answers no protocol.")]
ProviderOption = Annotated[list[str] | None, option("--provider KEY", "This router is the provider's.")]
LineOption = Annotated[str, option("--line KEY", "The key of the line.")]
AddressOption = Annotated[str, option("--address ADDRESS", "The line's fixed address.")]
BlockedOption = Annotated[list[str] | None, option("--blocked PORTS", 'What the provider drops, such as "tcp 25".')]
StunOption = Annotated[list[str] | None, option("--stun ADDRESS:PORT", "A STUN server that may be asked.")]
ResolverOption = Annotated[list[str] | None, option("--resolver ADDRESS", "A DNS server that may be asked.")]
NameOption = Annotated[str, option("--name NAME", "A DNS name that leads to the line.")]
HostsOption = Annotated[list[str] | None, option("--host KEY=ADDRESS", "A device; can be given again.")]


@command(app, "new", site=True, secrets=False, deadline=5.0, dry_run="Print the file instead of writing it.")
def new(
    session: Session,
    found: FoundFlag = False,
    title: TitleOption = None,
    gateway: GatewaysOption = None,
    wan: WansOption = None,
    pool: PoolsOption = None,
    by_hand: ByHandOption = None,
    provider: ProviderOption = None,
    line: LineOption = "line",
    address: AddressOption = "dynamic",
    blocked: BlockedOption = None,
    stun: StunOption = None,
    resolver: ResolverOption = None,
    name: NameOption = "",
    host: HostsOption = None,
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
        from hooper.cli.asking import asked

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
    code = session.show(document, lambda shown, out: out.print(f"{shown.file} is made."))
    host = next(iter(site.hosts), "camera")
    steps = [] if site.hosts else [f"host add {host}"]
    steps += [] if site.services else [f"service add {host}-page --host {host} --speaks https"]
    session.next("add-a-device-and" if steps else "see-the-rules", *steps, "plan")
    return code


def _found(session: Session, title: str) -> Start:
    from hooper.usecases.starting import look_around

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
