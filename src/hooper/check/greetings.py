"""What devices on this computer's own network say of themselves, so that a person sees which is which."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address, ip_address
from typing import TYPE_CHECKING

import anyio

from hooper.check.probes import probe
from hooper.check.targets import Target
from hooper.errors import HooperError
from hooper.line.announced import Announced, unwrapped
from hooper.line.foreign import is_foreign, steps_to_reach
from hooper.line.kinds import Greeting, Text, kind_of
from hooper.line.neighbours import OTHER_PAGES, ForeignHost, FoundHost, Offer
from hooper.net.plain_http import Url, ask
from hooper.site.protocols import SPEECHES
from hooper.wire.upnp import parse_description

if TYPE_CHECKING:
    from hooper.addresses import IPAddress, IPNetwork
    from hooper.check.results import Seen
    from hooper.net.types import Door

SPEAKS = OTHER_PAGES | {
    one.port: key
    for key, one in SPEECHES.items()
    if one.told and one.port is not None and one.transport in ("tcp", "both")
}
BY_PORT = {631: "ipp", 9100: "ipp", 1883: "mqtt", 8883: "mqtt", 5060: "sip"}  # only such a device listens there
EACH = 3.0  # seconds for one question
LOCATIONS = 3  # descriptions that are read of one device
NAMELESS = ("localhost", "localdomain", "")
LONGEST = 60  # characters of a text that is shown


@dataclass
class _Said:
    """What one device has said so far; a deadline may end it at any point."""

    announced: dict[str, None] = field(default_factory=dict)
    speaks: dict[str, None] = field(default_factory=dict)
    texts: dict[Text, None] = field(default_factory=dict)
    offers: list[Offer] = field(default_factory=list)

    def text(self, place: str, *texts: str | None) -> None:
        for text in texts:
            said = " ".join((text or "").split())[:LONGEST]
            if said.lower() not in {*NAMELESS, *(other.lower() for of, other in self.texts if of == place)}:
                self.texts[place, said] = None

    @property
    def greeting(self) -> Greeting:
        return Greeting(tuple(self.announced), tuple(self.speaks), tuple(self.texts))


async def greeted(
    door: Door, rows: Sequence[FoundHost], heard: Mapping[IPAddress, Announced], deadline: float
) -> tuple[tuple[FoundHost, ...], bool]:
    """The rows with what each device is, and whether the time sufficed. Asks each at its open ports, one after the
    other: pages' titles, first words, names in certificates. heard: what was announced. deadline: seconds.
    """
    said = {row.address: _own_words(row.name, heard.get(ip_address(row.address))) for row in rows}

    async def one(row: FoundHost) -> None:
        own = said[row.address]
        await _descriptions(door, heard.get(ip_address(row.address)), ip_address(row.address), own)
        for port in row.open_ports:
            if (named := BY_PORT.get(port)) is not None:
                own.speaks[named] = None
            if (speaks := SPEAKS.get(port)) is not None:
                await _asked(door, IPv4Address(row.address), port, speaks, own)

    with anyio.move_on_after(deadline) as scope:
        async with anyio.create_task_group() as tasks:
            for row in rows:
                if row.state not in ("gateway", "self"):
                    tasks.start_soon(one, row)
    return tuple(_row(row, said[row.address]) for row in rows), not scope.cancelled_caught


def _row(row: FoundHost, own: _Said) -> FoundHost:
    kind, title, by = kind_of(own.greeting)
    name = row.name or next((text for place, text in own.texts if place == "named"), None)
    return replace(row, name=name, kind=kind, kind_title=title, says=by, offers=tuple(own.offers))


def foreign_hosts(
    heard: Mapping[IPAddress, Announced], networks: Iterable[IPNetwork], interface: str, system: str
) -> tuple[ForeignHost, ...]:
    """Those that were heard and have an address of no network of this computer. system: as sys.platform has it."""
    known, out = [*networks], []
    for address, one in heard.items():
        if isinstance(address, IPv4Address) and is_foreign(address, known):
            own = _own_words(None, one)
            kind, title, by = kind_of(own.greeting)
            name = next(iter(one.names), None)
            steps = steps_to_reach(address, interface, system)
            out.append(ForeignHost(str(address), name, tuple(one.by), kind, title, by, steps))
    return tuple(sorted(out, key=lambda row: IPv4Address(row.address)))


def _own_words(name: str | None, heard: Announced | None) -> _Said:
    """What is known before it is asked: the resolver's name for it, and what it announces."""
    own = _Said()
    own.text("named", (name or "").partition(".")[0])
    if heard is not None:
        own.announced |= heard.kinds
        own.text("named", *heard.names)
    return own


async def _descriptions(door: Door, heard: Announced | None, address: IPAddress, own: _Said) -> None:
    """What it says of itself by UPnP, as far as it says it at its own address."""
    for location in [*(heard.locations if heard is not None else ())][:LOCATIONS]:
        try:
            url = Url.parse(location)
            if url.address == address:
                told = parse_description((await ask(door, url, EACH)).body, location)
                own.announced |= dict.fromkeys(map(unwrapped, told.kinds))
                own.text("described", told.title, told.name)
        except HooperError:
            continue


async def _asked(door: Door, address: IPv4Address, port: int, speaks: str, own: _Said) -> None:
    seen = await probe(door, Target.alone(address, port, speaks), EACH)
    if "https-needed" in seen.problems:
        speaks = "https"
        seen = await probe(door, Target.alone(address, port, speaks), EACH)
    if seen.verdict != "answered" or "clear-text" in seen.problems:
        return
    own.offers.append(Offer(speaks, port))
    own.speaks[speaks] = None
    if seen.page is not None:
        own.text("page", seen.page.title)
        own.text("server", seen.page.server)
    own.text("certificate", *_certified(seen))


def _certified(seen: Seen) -> list[str]:
    """The names that its certificate is for, but for addresses and those that every device of a make has."""
    if seen.certificate is None:
        return []
    subject = re.search(r"(?:^|,)CN=([^,]+)", seen.certificate.subject)
    names = [*([subject[1]] if subject is not None else []), *seen.certificate.names]
    return [name for name in dict.fromkeys(names) if not re.fullmatch(r"[\d.:a-f]+", name)][:2]
