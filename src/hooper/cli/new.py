"""hooper new"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.command import command
from hooper.cli.common import Session, run_async, site_path, sub_app
from hooper.errors import SeveralErrors, SiteFileError, UsageError, flatten

if TYPE_CHECKING:
    from hooper.planning.starting import Start, StartBox

app = sub_app("Start a site file: by questions, by options, or from what is found here.")


FileArgument = Annotated[Path | None, typer.Argument(metavar="FILE", help="Else HOOPER_SITE, else site.toml here.")]
FoundFlag = Annotated[
    bool, typer.Option("--found", help="Take what can be found here: this network, its router, its WAN address.")
]
TitleOption = Annotated[str | None, typer.Option("--title", metavar="TEXT", help="What the place is called.")]
GatewaysOption = Annotated[
    list[str] | None,
    typer.Option("--gateway", metavar="KEY=LAN", help="A router, such as box=10.0.0.1/24; outermost first."),
]
WansOption = Annotated[
    list[str] | None, typer.Option("--wan", metavar="KEY=ADDRESS", help="An inner router's address outside.")
]
PoolsOption = Annotated[
    list[str] | None, typer.Option("--pool", metavar="KEY=FIRST-LAST", help="What its DHCP hands out.")
]
ByHandOption = Annotated[
    list[str] | None, typer.Option("--by-hand", metavar="KEY", help="This router answers no protocol.")
]
ProviderOption = Annotated[
    list[str] | None, typer.Option("--provider", metavar="KEY", help="This router is the provider's.")
]
LineOption = Annotated[str, typer.Option("--line", metavar="KEY", help="The key of the line.")]
AddressOption = Annotated[str, typer.Option("--address", metavar="ADDRESS", help="The line's fixed address.")]
BlockedOption = Annotated[
    list[str] | None, typer.Option("--blocked", metavar="PORTS", help='What the provider drops, such as "tcp 25".')
]
StunOption = Annotated[
    list[str] | None, typer.Option("--stun", metavar="ADDRESS:PORT", help="A STUN server that may be asked.")
]
ResolverOption = Annotated[
    list[str] | None, typer.Option("--resolver", metavar="ADDRESS", help="A DNS server that may be asked.")
]
NameOption = Annotated[str, typer.Option("--name", metavar="NAME", help="A DNS name that leads to the line.")]
HostsOption = Annotated[
    list[str] | None, typer.Option("--host", metavar="KEY=ADDRESS", help="A device; can be given again.")
]


@command(app, "new", deadline=5.0, dry_run="Print the file instead of writing it.")
def new(
    session: Session,
    file: FileArgument = None,
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

    path = site_path(file)
    if path.exists() and not session.dry_run:
        raise UsageError(f"{path} exists, and is not overwritten", remedy="Name another file, or change that one.")
    drops, servers, resolvers = tuple(blocked or ()), tuple(stun or ()), tuple(resolver or ())
    hosts = tuple(_pairs("--host", host))
    start = Start(title or "", (), line, address, drops, servers, resolvers, name, hosts)
    if gateway:
        start = replace(start, boxes=_boxes(gateway, wan, pool, by_hand or [], provider or []))
    elif found:
        seen = _found(session, title or "")
        start = replace(start, boxes=seen.boxes, resolvers=start.resolvers or seen.resolvers)
    elif session.json:
        raise UsageError("--json asks no questions", remedy="Give --gateway KEY=LAN, or --found.")
    else:
        start = _asked(start)
    return _written(session, path, start)


def _written(session: Session, path: Path, start: Start) -> int:
    from hooper.files import write_atomically
    from hooper.planning.documents import ChangedKey, EditDocument
    from hooper.planning.starting import site_text

    text = site_text(start)
    if (wrong := _wrong(start)) is not None:
        raise UsageError(f"that makes no site: {wrong}", remedy="Correct what you gave; nothing was written.")
    if session.dry_run:
        typer.echo(text, nl=False)
        return 0
    write_atomically(path, text.encode())
    rows = tuple(ChangedKey(f"gateways.{box.key}", None, box.lan) for box in start.boxes)
    document = EditDocument(str(path), "made", str(path), rows, (), False)
    code = session.show(document, lambda shown, out: out.print(f"{shown.file} is made."))
    session.note(
        "\nNext: `hooper host add KEY`, `hooper service add KEY --host HOST --speaks WHAT`, then `hooper plan`."
    )
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
    for option, keys in (("--wan", wans), ("--pool", pools), ("--by-hand", by_hand), ("--provider", provider)):
        for key in keys:
            if key not in lans:
                raise UsageError(
                    f"{option} names {key!r}, which no --gateway does", remedy=f"There are: {', '.join(lans)}."
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


def _ask(question: str, default: str = "") -> str:
    """One answer. Raises: UsageError: there is none any more."""
    try:
        said = typer.prompt(question, default=default, show_default=bool(default), err=True)
    except typer.Abort:
        raise UsageError(
            "the questions were not answered to the end; nothing was written",
            remedy="Answer them, or give --gateway KEY=LAN or --found.",
        ) from None
    return str(said).strip()


def _asked(start: Start) -> Start:
    """The rest by questions, on stderr; what does not fit is asked again. Raises: UsageError."""
    if (wrong := _wrong(start)) is not None:
        raise UsageError(f"that makes no site: {wrong}", remedy="Correct what you gave; nothing was written.")
    start = replace(start, title=start.title or _ask("What is the place called", "Home"))
    count = _ask("How many boxes that route stand between the line and your devices (1 to 5)", "1")
    while count not in ("1", "2", "3", "4", "5"):
        count = _ask("A number from 1 to 5", "1")
    for _ in range(int(count)):
        start = _until_it_fits(start, lambda now: replace(now, boxes=(*now.boxes, _asked_box(now.boxes, int(count)))))
    if start.address == "dynamic":
        question = "The line's fixed public address (Enter: it changes)"
        start = _until_it_fits(start, lambda now: replace(now, address=_ask(question, "dynamic")))
    if not start.blocked:
        drops = 'Ports that the provider drops, such as "tcp 25, tcp 80" (Enter: none known)'
        start = _until_it_fits(start, lambda now: replace(now, blocked=_list(_ask(drops))))
    if not start.stun:
        server = "A STUN server, ADDRESS:PORT; telephone providers name theirs (Enter: none)"
        start = _until_it_fits(start, lambda now: replace(now, stun=_list(_ask(server))))
    if not start.name:
        name = "A DNS name that leads to the line (Enter: none yet)"
        start = _until_it_fits(start, lambda now: replace(now, name=_ask(name)))
    return start


def _until_it_fits(start: Start, ask: Callable[[Start], Start]) -> Start:
    """Ask until what was answered makes a site."""
    while True:
        more = ask(start)
        wrong = _wrong(more)
        if wrong is None:
            return more
        typer.echo(f"   {wrong}", err=True)


def _asked_box(before: tuple[StartBox, ...], count: int) -> StartBox:
    from hooper.planning.starting import StartBox

    first, number = not before, len(before)
    where = "on the line" if first else f"behind {before[-1].key}"
    inner = f"own-router{number if number > 1 else ''}"
    key = _ask(
        f"A short name for the box {where}",
        "provider-box" if first and count > 1 else inner if number else "own-router",
    )
    lan = _ask(f"The LAN address of {key} with the prefix length", "192.168.1.1/24" if first else "10.44.7.1/24")
    wan = "" if first else _ask(f"The address of {key} outside, from its status page (WAN)")
    pool = _ask(f"What the DHCP of {key} hands out, FIRST-LAST (Enter: not known)")
    hand = _ask(f"Does {key} take rules from programs (UPnP, PCP)? yes, no, or ?", "?").lower()
    theirs = _ask(f"Is {key} the provider's box? yes or no", "yes" if first and count > 1 else "no").lower()
    control, managed = "hand" if hand.startswith("n") else "auto", "provider" if theirs.startswith("y") else "self"
    return StartBox(key, lan, wan, pool, control, managed)


def _wrong(start: Start) -> str | None:
    """Why what was given makes no site; None: it does."""
    from hooper.planning.starting import site_text
    from hooper.site.load import parse_site

    try:
        parse_site(site_text(start).encode(), "new")
    except (SiteFileError, SeveralErrors) as exc:  # the mistake is in what was given, not in a file
        return "; ".join(error.message for error in flatten(exc))
    return None


def _list(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in text.split(",") if part.strip())
