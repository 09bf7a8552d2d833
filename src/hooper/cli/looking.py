"""What the commands share that look at the network: --from, what the user tells, opening the doors and the state."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Annotated
from urllib.parse import urlsplit

import typer

from hooper.cli.common import Session, choose
from hooper.errors import HooperError, StateError, UsageError
from hooper.secret import Secret, SecretRef

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.addresses import IPAddress
    from hooper.comparison import Comparison
    from hooper.net.types import Door
    from hooper.site.load import SiteFile
    from hooper.site.model import Site
    from hooper.store.state import State

FromOption = Annotated[
    str | None, typer.Option("--from", metavar="PLACE", help="here, interface:NAME, or socks5://[USER@]HOST:PORT.")
]
ProxyPasswordOption = Annotated[
    str | None, typer.Option("--proxy-password", metavar="REF", help="The proxy's password: env:NAME or file:PATH.")
]
PublicOption = Annotated[
    list[str] | None,
    typer.Option("--public", metavar="ADDRESS", help="The public address, or LINE=ADDRESS; else it is found."),
]
WanOption = Annotated[
    list[str] | None,
    typer.Option("--wan", metavar="GATEWAY=ADDRESS", help="The WAN address that stands on a router's status page."),
]
DeadlineOption = Annotated[
    float, typer.Option("--deadline", metavar="SECONDS", help="For each probe; all run side by side.")
]


@dataclass(frozen=True)
class Origin:
    """What --from says."""

    kind: str  # here, interface, proxy
    name: str = ""
    port: int = 0
    user: str | None = None


def parse_origin(text: str, proxy_password: str | None) -> Origin:
    """Read --from. Raises: UsageError; a password in it is never repeated."""
    origin = _origin(text)
    if proxy_password is not None and origin.user is None:
        raise UsageError("--proxy-password needs a user in the proxy's URL", remedy="Write socks5://USER@HOST:PORT.")
    return origin


def _origin(text: str) -> Origin:
    if text == "here":
        return Origin("here")
    kind, colon, rest = text.partition(":")
    if kind == "interface" and colon and rest and len(rest) < 64:
        return Origin("interface", rest)
    if text.startswith("socks5://"):
        try:
            url = urlsplit(text)
            if url.password is not None:
                raise UsageError(
                    "a password in the arguments can be read by everyone on this machine",
                    remedy="Leave it out of the URL and give --proxy-password env:NAME or file:PATH.",
                )
            if url.hostname and url.path in ("", "/") and not url.query and not url.fragment:
                return Origin("proxy", url.hostname, url.port or 1080, url.username)
        except ValueError:
            pass
        raise UsageError("--from: not a SOCKS5 URL", remedy="Write it like socks5://198.51.100.7:1080.")
    raise UsageError(
        f"--from {text!r} is not understood",
        remedy="Give here, interface:NAME (such as interface:usb0), or socks5://HOST:PORT.",
    )


def read_address(option: str, text: str) -> IPAddress:
    """An IPv4 address that a router or host could have. Raises: UsageError."""
    from hooper.addresses import classify, parse_address

    try:
        address = parse_address(text)
    except ValueError:
        raise UsageError(f"{option}: {text!r} is not an address", remedy="Give one such as 203.0.113.44.") from None
    if address.version != 4 or classify(address).key in ("multicast", "broadcast", "loopback"):
        raise UsageError(f"{option} {address}: no IPv4 address that it could have")
    return address


def parse_public(given: list[str], site: Site) -> dict[str, IPAddress]:
    """Read --public ADDRESS or LINE=ADDRESS. Raises: UsageError."""
    out: dict[str, IPAddress] = {}
    for text in given:
        line, equals, written = text.rpartition("=")
        address = read_address("--public", written)
        if int(address) == 0:
            raise UsageError("--public 0.0.0.0 is no address", remedy="Leave it out where it is not known.")
        if equals:
            (line,) = choose([line], site.lines, "line")
        elif len(site.lines) == 1:
            line = next(iter(site.lines))
        else:
            raise UsageError(
                f"--public {text}: this site has several lines or none",
                remedy="Write LINE=ADDRESS with one of: " + (", ".join(site.lines) or "none; add a [lines.*]") + ".",
            )
        out[line] = address
    return out


def parse_pairs(option: str, given: list[str], site: Site) -> dict[str, str]:
    """Read GATEWAY=VALUE. Raises: UsageError."""
    out: dict[str, str] = {}
    for text in given:
        key, equals, value = text.partition("=")
        if not equals or not value:
            raise UsageError(f"{option} {text!r} is not understood", remedy=f"Write {option} GATEWAY=VALUE.")
        choose([key], site.gateways, "gateway")
        out[key] = value
    return out


def parse_wan(given: list[str], site: Site) -> dict[str, str]:
    """Read --wan GATEWAY=ADDRESS into what the store keeps. Raises: UsageError."""
    pairs = parse_pairs("--wan", given, site)
    return {f"wan:{key}": str(read_address(f"--wan {key}", value)) for key, value in pairs.items()}


@dataclass
class Looking:
    """The doors and the state of one run. state: None where it cannot be used, the reason stands in `trouble`."""

    here: Door
    state: State | None
    trouble: list[HooperError] = field(default_factory=list)


@asynccontextmanager
async def looking(session: Session, file: SiteFile, state: Path | None) -> AsyncIterator[Looking]:
    """Open the door and the state; the session's time becomes the door's. Raises: LabGone, MachineError."""
    from hooper.net.lab import lab_from_environment
    from hooper.net.opening import open_door
    from hooper.store.state import State, state_folder, store_name

    opened = Looking(await open_door(lab_from_environment()), None)
    session.at = opened.here.clock.now()
    try:
        try:
            opened.state = State(state_folder(state) / store_name(file))
            session.detail(f"state in {opened.state.path}")
        except StateError as exc:
            opened.trouble.append(exc)
        yield opened
    finally:
        if opened.state is not None:
            opened.state.close()


async def open_outside(here: Door, origin: Origin, proxy_password: str | None, file: SiteFile, deadline: float) -> Door:
    """The door that --from names. Raises: UsageError, MachineError, ProxyFailed."""
    if origin.kind == "interface":
        return here.through(origin.name)
    import anyio

    from hooper.addresses import parse_address
    from hooper.net.proxy import ProxyDoor, ProxyFailed, close_quietly
    from hooper.net.types import Endpoint

    try:
        address = parse_address(origin.name)
    except ValueError:
        found = await here.lookup(origin.name, "ipv4")
        if not found:
            raise ProxyFailed(f"the proxy's name {origin.name} has no address") from None
        address = found[0]
    password = _read_secret(proxy_password, file) if proxy_password is not None else None
    if origin.user is not None and password is None:
        raise UsageError("the proxy's user needs a password", remedy="Give --proxy-password env:NAME or file:PATH.")
    door = ProxyDoor(here, Endpoint(address, origin.port), origin.user, password)
    try:
        with anyio.fail_after(max(deadline, 3.0)):
            await close_quietly(await door.greet())
    except TimeoutError:
        raise ProxyFailed(f"the proxy {door.proxy} does not answer") from None
    return door


def _read_secret(text: str, file: SiteFile) -> Secret:
    try:
        reference = SecretRef.parse(text)
    except ValueError as exc:
        raise UsageError(f"--proxy-password: {exc}", remedy="Write env:NAME or file:PATH.") from None
    return reference.read(Path(file.name).parent)


def numbers(comparisons: tuple[Comparison, ...], out: Console) -> None:
    """The numbers that people compare, one pair after the other, each with its line of meaning."""
    from rich.table import Table
    from rich.text import Text

    from hooper.cli.render import indented

    sides = [side for row in comparisons for side in (row.left, row.right)]
    value = max((len(side.value or "?") for side in sides), default=0)
    what = min(max((len(side.what) for side in sides), default=0), max(out.width - value - 28, 16))
    for row in comparisons:
        mark, style = {True: ("=", "green"), False: ("≠", "bold red"), None: ("?", "orange3")}[row.equal]
        pair = Table.grid(padding=(0, 2, 0, 0))
        for width in (3, what, value, None):
            pair.add_column(width=width, overflow="fold")
        for sign, side in ((" ", row.left), (mark, row.right)):
            shown = Text(side.value or "?", style="bold")
            pair.add_row(Text(f"  {sign}", style=style), side.what, shown, Text(side.source, style="dim"))
        out.print(pair)
        indented(out, row.meaning, left=5, style=style.removeprefix("bold "))
