"""Who announces itself on this computer's own network, and as what: UPnP and multicast DNS, by asking everyone and
by listening. That is heard of devices too that have addresses of another network, such as a factory's.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from ipaddress import IPv4Address, ip_address

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError, WireError
from hooper.net.types import Datagram, Datagrams, Door, Endpoint, NoRoute
from hooper.wire import mdns, ssdp
from hooper.words.data import data

ROUNDS = (0.1, 0.8)  # seconds until each asking; datagrams get lost
MOST, MOST_OF_ONE = 512, 16  # devices, and what is kept of one: what is more is noise, or somebody's joke
EVERYTHING = "ssdp:all"  # UPnP Device Architecture 2.0 section 1.3.2
ANY_PORT = 0


@dataclass
class Announced:
    """What one device announces. kinds: without their wrapping. locations: of its descriptions. names: its own."""

    kinds: dict[str, None] = field(default_factory=dict)
    locations: dict[str, None] = field(default_factory=dict)
    names: dict[str, None] = field(default_factory=dict)
    by: dict[str, None] = field(default_factory=dict)  # the protocols that it was heard by


Heard = dict[IPAddress, Announced]


async def announced(door: Door, own: IPv4Address, patience: float) -> Heard:
    """Ask everyone on a network what they are, and listen. By the address of the sender.

    Args: door: bound to the interface that has the address `own`. patience: seconds.
    """
    heard: Heard = {}
    asked = (
        (Endpoint(own, ANY_PORT), (), _searched),
        (_group(ssdp.GROUP, ssdp.PORT), (ssdp.GROUP,), _searched),
        (Endpoint(own, ANY_PORT), (), _resolved),
        (_group(mdns.GROUP, mdns.PORT), (mdns.GROUP,), _resolved),
    )
    with anyio.move_on_after(patience):
        async with anyio.create_task_group() as tasks:
            for local, groups, read in asked:
                tasks.start_soon(_one, door, local, [IPv4Address(group) for group in groups], read, heard)
    heard.pop(own, None)
    return heard


def _group(address: str, port: int) -> Endpoint:
    return Endpoint(ip_address(address), port)


Read = Callable[[bytes], tuple[Iterable[str], Iterable[str], Iterable[str]]]


async def _one(door: Door, local: Endpoint, groups: list[IPv4Address], read: Read, heard: Heard) -> None:
    try:
        socket = await door.datagrams(local=local, groups=groups)
    except HooperError:  # some other program has the port for itself
        return
    async with socket, anyio.create_task_group() as tasks:
        if not groups or read is _resolved:  # a device of another network answers only who asks from the group's port
            tasks.start_soon(_ask, door, socket, read, bool(groups))
        while True:
            came = await socket.receive()
            if isinstance(came, Datagram):
                _keep(came, read, heard)


async def _ask(door: Door, socket: Datagrams, read: Read, by_group: bool) -> None:
    to, question = (
        (_group(ssdp.GROUP, ssdp.PORT), ssdp.serialize_search(EVERYTHING, ssdp.GROUP, wait_s=1))
        if read is _searched
        else (_group(mdns.GROUP, mdns.PORT), mdns.serialize_questions(_asked_for(), 0 if by_group else 1))
    )
    for wait in ROUNDS:
        await door.clock.sleep(wait)
        try:
            await socket.send(question, to)
        except NoRoute:
            return


def _asked_for() -> list[str]:
    """What is asked for by multicast DNS: which kinds there are, and those that tell what a device is."""
    known = dict.fromkeys(word for row in data("kinds").values() for word in row.get("announced", ()))
    usual = ("_http._tcp", "_device-info._tcp", "_workstation._tcp", "_smb._tcp", "_ssh._tcp")
    return [mdns.EVERY_KIND, *(f"{kind}.local." for kind in (*usual, *known) if kind.startswith("_"))]


def _keep(came: Datagram, read: Read, heard: Heard) -> None:
    try:
        kinds, locations, names = read(came.data)
    except WireError:
        return
    if came.sender.address not in heard and len(heard) >= MOST:
        return
    one = heard.setdefault(came.sender.address, Announced())
    one.by["UPnP" if read is _searched else "mDNS"] = None
    for kept, new in ((one.kinds, kinds), (one.locations, locations), (one.names, names)):
        for text in new:
            if len(kept) < MOST_OF_ONE:
                kept[text[:120]] = None


def _searched(message: bytes) -> tuple[Iterable[str], Iterable[str], Iterable[str]]:
    """Kinds, locations and names of an answer to a search, or of a notice."""
    try:
        answer: ssdp.SearchAnswer | ssdp.Notice = ssdp.parse_answer(message)
    except WireError:
        answer = ssdp.parse_notice(message)
    return [unwrapped(answer.target)], [answer.location] if answer.location else [], []


def unwrapped(kind: str) -> str:
    """A type of UPnP without its wrapping: of urn:schemas-upnp-org:device:MediaServer:1 MediaServer."""
    found = re.fullmatch(r"urn:[^:]+:(?:device|service):([^:]+):[0-9]+", kind)
    return found[1] if found else kind


def _resolved(message: bytes) -> tuple[Iterable[str], Iterable[str], Iterable[str]]:
    """Kinds and names of an answer by multicast DNS."""
    told = mdns.parse_answer(message)
    return told.kinds, [], [*([told.host] if told.host else []), *told.instances]
