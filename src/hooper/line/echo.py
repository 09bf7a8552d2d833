"""What an address echo says: a page that answers with the address that it was asked from."""

from __future__ import annotations

import re

import anyio

from hooper.addresses import IPAddress, parse_address
from hooper.errors import HooperError
from hooper.net.types import Door
from hooper.site.model import Echo, Site
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.said import Said, quoted, say

ADDRESS = re.compile(r"(?<![\d.])((?:\d{1,3}\.){3}\d{1,3})(?![\d.]*\d)")
LOOKED_AT = 20_000  # letters of an answer
MOST = 4  # echoes that are asked


async def echoed(door: Door, site: Site, deadline: float) -> tuple[list[SourcedAddress], list[Said]]:
    """What each echo of [measure] says, in the order of the file, and why others say nothing.

    door: bound to the line's interface. deadline: seconds for all, side by side. Never raises for the network.
    """
    said: dict[str, IPAddress] = {}
    problems: dict[str, Said] = {}

    async def one(echo: Echo) -> None:
        try:
            with anyio.fail_after(deadline):
                address = await _ask(door, echo, deadline)
        except (HooperError, TimeoutError) as exc:
            problems[echo.url] = quoted(exc.message) if isinstance(exc, HooperError) else say("it-does-not-answer")
            return
        if address is None:
            problems[echo.url] = say("no-address-is-found")
        else:
            said[echo.url] = address

    echoes = site.measure.echo[:MOST]
    async with anyio.create_task_group() as tasks:
        for echo in echoes:
            tasks.start_soon(one, echo)
    found: list[SourcedAddress] = [
        Sourced(said[echo.url], say("address-echo", host_of=host_of(echo))) for echo in echoes if echo.url in said
    ]
    return found, [
        say("address-echo-silent", host_of=host_of(echo), problems=problems[echo.url])
        for echo in echoes
        if echo.url in problems
    ]


def host_of(echo: Echo) -> str:
    """The host in its URL; what else stands there may be secret."""
    return echo.url.split("/")[2].rpartition("@")[2]


async def _ask(door: Door, echo: Echo, deadline: float) -> IPAddress | None:
    """Raises: HttpFailed."""
    from hooper.net.http import http

    async with http(door, None, deadline) as client:
        answer = await client.request("GET", echo.url)
    return read_answer(answer.text, echo.pattern) if 200 <= answer.status < 300 else None


def read_answer(text: str, pattern: re.Pattern[str] | None) -> IPAddress | None:
    """The IPv4 address in an answer: what the pattern's first group finds, else the first that looks like one."""
    match = (pattern or ADDRESS).search(text[:LOOKED_AT])
    if match is None:
        return None
    try:
        address = parse_address(match[1] if match.re.groups else match[0])
    except ValueError:
        return None
    return address if address.version == 4 else None
