"""Who is on this computer's own network: its table of neighbours, a gentle sweep, names and open ports."""

from __future__ import annotations

from collections import Counter
from collections.abc import Awaitable, Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import islice
from typing import Literal, NamedTuple

import anyio

from hooper import deeds
from hooper.addresses import IPAddress, classify
from hooper.clock import Clock
from hooper.errors import HooperError, RefusedForSafety, WireError
from hooper.net.presence import DISCARD, PATIENCE, those_there
from hooper.net.types import Datagrams, Door, Endpoint, Interface, NoRoute, Rejected, Surroundings
from hooper.net.whereabouts import connected_surroundings, standing
from hooper.site.model import Site
from hooper.site.protocols import SPEECHES
from hooper.words.said import Said

PACE = 0.008  # seconds between two datagrams of a sweep
SETTLE = 1.2  # seconds that answers may take after the last one
MOST = 1024  # addresses of a sweep: a home or a small office has no more
TOLD_EVERY = 0.2  # seconds
AT_ONCE = 64  # connections at the same time
KNOCK = 0.8  # seconds for a connection on one's own network
RESOLVER_PATIENCE = 1.5  # seconds
OTHER_PAGES = {81: "http", 5000: "http", 8000: "http", 8008: "http", 8080: "http", 8081: "http", 8888: "http",
               5001: "https", 8443: "https"}  # fmt: skip
USUAL = (
    {631, 445, 9100}
    | {*OTHER_PAGES}
    | {s.port for s in SPEECHES.values() if s.port is not None and s.transport == "tcp"}
)


class Offer(NamedTuple):
    """What a device offers. speaks: the protocol, as a service has it. port: TCP."""

    speaks: str
    port: int


@dataclass(frozen=True, slots=True)
class FoundHost:
    """A device.

    host: its key in the site file. state: as planned; moved (its MAC is planned at another address); taken (another
    device is planned here); new (the file does not have it); gateway; self. in_pool: whether DHCP may give its address
    to somebody else; null where the pool is not known. name: what the device calls itself; null where it tells none.
    open_ports: the TCP ports that answered. kind: what it probably is; null: that cannot be told. kind_title: in words.
    says: from what it says so. offers: what answered as one of the protocols of a service.
    """

    address: str
    mac: str | None
    name: str | None
    host: str | None
    state: Literal["planned", "moved", "taken", "new", "gateway", "self"]
    in_pool: bool | None
    open_ports: tuple[int, ...]
    meaning: str
    kind: str | None = None
    kind_title: str = ""
    says: tuple[Said, ...] = ()
    offers: tuple[Offer, ...] = ()


@dataclass(frozen=True, slots=True)
class ForeignHost:
    """A device on this network that has an address of another one, as from its factory.

    name: what it calls itself; null: nothing. by: the protocols by which it was heard. kind: what it probably is; null:
    that cannot be told. kind_title: in words. says: from what it says so. steps: how to reach it from this computer,
    and how to take that back.
    """

    address: str
    name: str | None
    by: tuple[str, ...]
    kind: str | None
    kind_title: str
    says: tuple[Said, ...]
    steps: tuple[Said, ...]


@dataclass(frozen=True, slots=True)
class FindDocument:
    """`hooper host find`.

    swept: every address was tried, not only the neighbours that this computer knows already. silent: planned on this
    network, and not found. outstanding: what the time did not suffice for. interface: this computer's interface on that
    network. foreign: devices that were heard here and have addresses of other networks.
    """

    network: str
    interface: str
    gateway: str | None
    swept: bool
    hosts: tuple[FoundHost, ...]
    silent: tuple[str, ...]
    outstanding: tuple[str, ...]
    foreign: tuple[ForeignHost, ...] = ()


@dataclass(frozen=True)
class OwnNetwork:
    """This computer's own network. door: by its interface. own: this computer's address there. at: whose LAN it is."""

    door: Door
    interface: Interface
    own: IPv4Interface
    at: str | None


async def own_network(here: Door, site: Site) -> OwnNetwork:
    """Raises: NoNetwork; RefusedForSafety: the only network is a tunnel's."""
    around = await connected_surroundings(here)
    name, at, own = standing(site, around)
    if name is None:
        way = await here.source_towards(IPv4Address("192.0.2.1"))  # of the default route; nothing is sent (RFC 5737)
        holder = around.holder(way) if way is not None else None
        if holder is None or holder.tunnel:
            raise RefusedForSafety(
                "this computer's way out is no network of its own, so there is nobody to look for",
                remedy="Run it on a computer that is on the LAN.",
            )
        name, own = holder.name, holder.ipv4
    interface = around.interface(name)
    assert interface is not None
    four = next(a for a in interface.addresses if isinstance(a, IPv4Interface) and a.ip == own)
    return OwnNetwork(here.through(name), interface, four, at)


async def find_hosts(
    here: Door,
    site: Site,
    ground: OwnNetwork,
    deadline: float,
    *,
    sweep: bool,
    ports: bool,
    heard: Callable[[str], None] = lambda text: None,
) -> FindDocument:
    """The devices on this computer's network.

    Args: sweep: try every address of its prefix. ports: try the usual ports of those that are there. deadline: seconds.
    heard: is told how far it is.
    Raises: RefusedForSafety: the prefix is too large for a sweep.
    """
    network = ground.own.network
    if sweep and network.num_addresses > MOST:
        raise RefusedForSafety(
            f"{network} has {network.num_addresses} addresses, more than are tried one by one",
            remedy=f"Leave {deeds.SWEEP} out: what this computer has spoken with is shown all the same.",
        )
    outstanding: list[str] = []
    clock, started = here.clock, here.clock.monotonic()
    end = clock.monotonic() + deadline
    alive: set[IPAddress] = set()

    if sweep:

        def trying() -> Awaitable[None]:
            return _sweep(ground.door, network.hosts(), alive, end)

        def so_far() -> str:
            return f"trying every address of {network}: {len(alive)} have answered"

        await _told(clock, heard, so_far, lambda: _within(clock, end, "the sweep", outstanding, trying))
    around = await here.surroundings()
    macs = _macs(around, ground.interface.name, network)
    if sweep:
        macs = await _without_left(ground.door, macs, started, end)
    macs[ground.own.ip] = ground.interface.mac or ""
    addresses = sorted({*macs, *(address for address in alive if isinstance(address, IPv4Address))})
    names: dict[IPv4Address, str] = {}
    opened: dict[IPv4Address, list[int]] = {address: [] for address in addresses}
    async with anyio.create_task_group() as tasks:
        tasks.start_soon(_within, clock, end, "names", outstanding, lambda: _names(here, around, addresses, names))
        if ports:
            others = [address for address in addresses if address != ground.own.ip]
            tasks.start_soon(
                _within, clock, end, "ports", outstanding, lambda: _knock(ground.door, site, others, opened)
            )
    rows = [
        _row(site, ground, macs, address, macs.get(address) or None, names.get(address), tuple(sorted(opened[address])))
        for address in addresses
    ]
    planned = _planned(site, ground.at)
    silent = tuple(key for key, address in planned.items() if key not in {row.host for row in rows} and sweep)
    return FindDocument(str(network), ground.interface.name, ground.at, sweep, tuple(rows), silent, tuple(outstanding))


async def silent_addresses(
    here: Door, site: Site, gateway: str, candidates: Iterable[IPv4Address], count: int
) -> tuple[list[IPv4Address], list[IPv4Address]] | None:
    """The first `count` of `candidates` on the LAN of `gateway` at which nobody is, and those at which somebody is.

    None: this computer is not on that LAN, so that it cannot tell.
    Raises: NoNetwork.
    """
    around = await connected_surroundings(here)
    name, at, _ = standing(site, around)
    if name is None or at != gateway:
        return None
    network, door = site.gateways[gateway].lan.network, here.through(name)
    silent: list[IPv4Address] = []
    answered: list[IPv4Address] = []
    source = iter(candidates)
    while len(silent) < count:
        tried = list(islice(source, min(2 * count, 64)))
        if not tried:
            break
        alive: set[IPAddress] = set()
        await _sweep(door, tried, alive, door.clock.monotonic() + SETTLE + len(tried) * PACE + 1)
        known = {*_macs(await here.surroundings(), name, network), *alive}
        answered += [address for address in tried if address in known]
        silent += [address for address in tried if address not in known]
    return silent[:count], answered


async def _told(
    clock: Clock, heard: Callable[[str], None], words: Callable[[], str], work: Callable[[], Awaitable[None]]
) -> None:
    """Do it, and tell every now and then how far it is."""

    async def tell() -> None:
        while True:
            heard(words())
            await clock.sleep(TOLD_EVERY)

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(tell)
        await work()
        tasks.cancel_scope.cancel()


async def _within(
    clock: Clock, end: float, label: str, outstanding: list[str], work: Callable[[], Awaitable[None]]
) -> None:
    with anyio.move_on_after(max(end - clock.monotonic(), 0)) as scope:
        await work()
    if scope.cancelled_caught:
        outstanding.append(label)


async def _sweep(door: Door, addresses: Iterable[IPv4Address], alive: set[IPAddress], end: float) -> None:
    """One datagram to each, one after the other; who rejects it is there, and the system's table knows the others."""

    async def listen(socket: Datagrams) -> None:
        while True:
            came = await socket.receive()
            if isinstance(came, Rejected) and came.to is not None and came.by == came.to.address:
                alive.add(came.to.address)

    async with await door.datagrams() as socket, anyio.create_task_group() as tasks:
        tasks.start_soon(listen, socket)
        for address in addresses:
            try:
                await socket.send(b"", Endpoint(address, DISCARD))
            except NoRoute:
                continue
            await door.clock.sleep(PACE)
        await door.clock.sleep(min(SETTLE, max(end - door.clock.monotonic() - 0.1, 0)))
        tasks.cancel_scope.cancel()


def _macs(around: Surroundings, interface: str, network: IPv4Network) -> dict[IPv4Address, str]:
    return {
        neighbour.address: neighbour.mac
        for neighbour in around.neighbours
        if isinstance(neighbour.address, IPv4Address)
        and neighbour.address in network
        and neighbour.interface == interface
    }


async def _names(
    here: Door, around: Surroundings, addresses: Sequence[IPv4Address], names: dict[IPv4Address, str]
) -> None:
    """What this computer's own resolvers call them; those outside would learn of them, and are not asked."""
    inside = [server for server in around.resolvers if classify(server).key in ("private", "loopback", "link-local")]

    async def one(resolver: IPAddress, address: IPv4Address) -> None:
        from hooper.net.dns import records

        try:
            found = await records(here, Endpoint(resolver, 53), address.reverse_pointer, "PTR", RESOLVER_PATIENCE)
        except (HooperError, WireError):
            return
        if found:
            names.setdefault(address, found[0].rstrip("."))

    async with anyio.create_task_group() as tasks:
        for resolver in inside[:2]:
            for address in addresses:
                tasks.start_soon(one, resolver, address)


async def _knock(
    door: Door, site: Site, addresses: Sequence[IPv4Address], opened: dict[IPv4Address, list[int]]
) -> None:
    """Which of the usual ports, and of those in the site file, accept a connection. It is closed at once."""
    from hooper.net.proxy import close_quietly

    known = {
        service.used_ports.first for service in site.services.values() if service.used_transport in ("tcp", "both")
    }

    limit = anyio.CapacityLimiter(AT_ONCE)

    async def one(address: IPv4Address, port: int) -> None:
        async with limit:
            with anyio.move_on_after(KNOCK):
                try:
                    stream = await door.connect(address, port)
                except HooperError:
                    return
                opened[address].append(port)
                await close_quietly(stream)

    async with anyio.create_task_group() as tasks:
        for port in sorted(USUAL | known):
            for address in addresses:
                tasks.start_soon(one, address, port)


async def _without_left(door: Door, macs: dict[IPv4Address, str], since: float, end: float) -> dict[IPv4Address, str]:
    """Without the addresses that a device has left: its MAC stands at several, and shows itself at others only.

    since, end: by the clock of the door.
    """
    held = Counter(macs.values())
    doubtful = [address for address, mac in macs.items() if held[mac] > 1]
    if not doubtful:
        return macs
    there = await those_there(door, doubtful, since, min(PATIENCE, end - door.clock.monotonic()))
    elsewhere = {macs[address] for address in there if isinstance(address, IPv4Address)}
    return {address: mac for address, mac in macs.items() if address in there or mac not in elsewhere}


def _planned(site: Site, at: str | None) -> dict[str, IPv4Address]:
    if at is None:
        return {}
    network = site.gateways[at].lan.network
    return {key: host.address for key, host in site.hosts.items() if host.address in network}


def _row(
    site: Site,
    ground: OwnNetwork,
    macs: dict[IPv4Address, str],
    address: IPv4Address,
    mac: str | None,
    name: str | None,
    open_ports: tuple[int, ...],
) -> FoundHost:
    pool = site.gateways[ground.at].pool if ground.at is not None else None
    in_pool = address in pool if pool is not None else None
    row = FoundHost(str(address), mac, name, None, "new", in_pool, open_ports, "not in the site file")
    if address == ground.own.ip:
        return replace(row, state="self", meaning="this computer", host=site.site.here)
    gateway = next((key for key, one in site.gateways.items() if one.lan.ip == address), None)
    gateway = gateway or next((key for key, one in site.gateways.items() if address in one.wan), None)
    if gateway is not None:
        return replace(row, state="gateway", host=gateway, meaning="a router")
    planned = _planned(site, ground.at)
    there = next((key for key, planned_at in planned.items() if planned_at == address), None)
    owner = next((key for key in planned if mac is not None and site.hosts[key].mac == mac), None)
    if owner is not None and owner != there and macs.get(planned[owner]) == mac:
        return replace(row, host=owner, meaning=f"a second address of {owner}, which is at {planned[owner]} too")
    if owner is not None and owner != there:
        return replace(row, state="moved", host=owner, meaning=f"{owner} has moved here from {planned[owner]}")
    if there is None:
        return row
    wanted = site.hosts[there].mac
    if wanted is not None and mac is not None and wanted != mac:
        return replace(row, state="taken", host=there, meaning=f"another device: {there} has the MAC {wanted}")
    meaning = "as planned"
    if in_pool and site.hosts[there].address_from != "reservation":
        meaning = "as planned, but in the pool: it can lose this address"
    return replace(row, state="planned", host=there, meaning=meaning)
