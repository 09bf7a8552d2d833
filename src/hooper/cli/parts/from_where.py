"""What the commands share that look at the network: --from, what the user tells, the numbers side by side."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.errors import UsageError
from hooper.secret import SecretRef

if TYPE_CHECKING:
    from collections.abc import Iterable

    from hooper.addresses import IPAddress
    from hooper.cli.parts.render import Screen
    from hooper.comparison import Comparison
    from hooper.places import Place
    from hooper.planning.values import Finding
    from hooper.site.model import Site


def parse_origin(text: str, proxy_password: str | None) -> Place:
    """Read --from. Raises: UsageError; a password in it is never repeated."""
    from hooper.places import PlaceWrong
    from hooper.places import parse_place as parse

    try:
        origin = parse(text)
    except PlaceWrong as exc:
        raise UsageError(f"--from: {exc}", remedy=exc.remedy.format("--proxy-password")) from None
    if proxy_password is None:
        if origin.user is not None:
            message = "the proxy's user needs a password"
            raise UsageError(message, remedy="Give --proxy-password env:NAME or file:PATH.")
        return origin
    if origin.user is None:
        raise UsageError("--proxy-password needs a user in the proxy's URL", remedy="Write socks5://USER@HOST:PORT.")
    try:
        return replace(origin, password=SecretRef.parse(proxy_password))
    except ValueError as exc:
        raise UsageError(f"--proxy-password: {exc}", remedy="Write env:NAME or file:PATH.") from None


def read_address(option: str, text: str, remedy: str = "Give one such as 203.0.113.44.") -> IPAddress:
    """An IPv4 address that a router or host could have. Raises: UsageError."""
    from hooper.addresses import classify, parse_address

    try:
        address = parse_address(text)
    except ValueError:
        raise UsageError(f"{option}: {text!r} is not an address", remedy=remedy) from None
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
            (line,) = chosen([line], site.lines, "line")
        elif len(site.lines) == 1:
            line = next(iter(site.lines))
        else:
            raise UsageError(
                f"--public {text}: this site has several lines or none",
                remedy="Write LINE=ADDRESS with one of: " + (", ".join(site.lines) or "none; add a [lines.*]") + ".",
            )
        out[line] = address
    return out


def parse_pairs(option: str, given: list[str], site: Site, *, empty: bool = False) -> dict[str, str]:
    """Read GATEWAY=VALUE. empty: a value may be left out. Raises: UsageError."""
    out: dict[str, str] = {}
    for text in given:
        key, equals, value = text.partition("=")
        if not equals or not (value or empty):
            raise UsageError(f"{option} {text!r} is not understood", remedy=f"Write {option} GATEWAY=VALUE.")
        chosen([key], site.gateways, "gateway")
        out[key] = value
    return out


def parse_wan(given: list[str], site: Site) -> dict[str, str]:
    """Read --wan GATEWAY=ADDRESS into what the store keeps; without an address it is taken back. Raises: UsageError."""
    pairs = parse_pairs("--wan", given, site, empty=True)
    return {
        f"gateways.{key}/wan": str(read_address(f"--wan {key}", value)) if value else "" for key, value in pairs.items()
    }


def numbers(comparisons: tuple[Comparison, ...], out: Screen, *, verbose: bool = True) -> None:
    """The numbers that people compare, one pair after the other, each with its line of meaning.

    verbose: all of them; else those that differ or are not known, and how many are equal.
    """
    from hooper.cli.parts.render import heading, indented, line

    rows = [row for row in comparisons if verbose or row.equal is not True]
    equal = len(comparisons) - len(rows)
    if not comparisons:
        return
    out.print()
    if not rows:
        agree = "1 cross-check agrees" if equal == 1 else f"All {equal} cross-checks agree"
        out.print(f"{agree} (all with --verbose).")
        return
    heading(out, "Cross-checks" + (f" that differ or are not known; {equal} more agree" if equal else ""))
    sides = [side for row in rows for side in (row.left, row.right)]
    value = max(len(side.value or "?") for side in sides)
    what = max(len(str(side.what)) for side in sides)
    for row in rows:
        mark, style = {True: ("=", "well"), False: ("≠", "wrong"), None: ("?", "doubtful")}[row.equal]
        for sign, side in ((" ", row.left), (mark, row.right)):
            number = f"{side.value or '?':<{value}}"
            label = f"{side.what!s:<{what}}  "
            line(out, (f"  {sign}  ", style), label, (number, "bold"), "  ", (side.source, "faint"), hang=9)
        indented(out, row.meaning, left=5, style=style.removeprefix("bold "))


def differing(found: Iterable[Finding], out: Screen) -> None:
    """The findings on what is written or told, where there are any."""
    from hooper.cli.parts.render import findings, heading

    shown = tuple(found)
    if shown:
        out.print()
        heading(out, "Findings")
        findings(out, shown)
