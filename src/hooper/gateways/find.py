"""Finding the routers of a site: search by multicast on the site's own network, and ask each router by its address."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import cast

import anyio

from hooper import deeds
from hooper.added import added
from hooper.addresses import IPAddress
from hooper.clock import Clock
from hooper.errors import CounterpartError, HooperError, NoAnswer, WireError
from hooper.gateways.driver import Driver
from hooper.gateways.igd import Igd
from hooper.net.exchange import moments
from hooper.net.plain_http import Url, ask
from hooper.net.types import Datagram, Datagrams, Door, Endpoint, NoRoute
from hooper.net.whereabouts import connected_surroundings, standing
from hooper.site.fields import CONTROLS
from hooper.site.model import Site
from hooper.site.references import in_sight
from hooper.store.entries import LiveRule
from hooper.wire import ssdp, upnp

ROUNDS = (0.0, 0.6, 1.2)  # seconds; datagrams get lost (UPnP Device Architecture 2.0 section 1.3.2)
BETWEEN_TARGETS = 0.03  # seconds, in which a closed port is heard of
ANSWERS_KEPT, LOCATIONS_TRIED = 256, 8  # what is more is noise, or somebody's joke
GRACE = 0.3  # seconds for further answers once every router has answered
SERVICES = 8  # of one description; a router has a connection or two
BRANCHES = ("WANIPConnection:2", "WANIPConnection:1", "WANPPPConnection:2", "WANPPPConnection:1")


class RouterMute(NoAnswer):
    """A router answers no search."""

    code = "router-mute"
    remedy = (
        "Switch UPnP on in its pages, or look whether this computer's firewall or a guest network drops the answers;"
        f' else write control = "hand" and use `{deeds.SHEET}`.'
    )


class NotAtTheSite(CounterpartError):
    """This computer is not on the site's network."""

    code = "not-at-the-site"
    remedy = "Do this from a computer on the site's own network."


@dataclass(frozen=True)
class Neighbourhood:
    """What a search gave: the routers of the site that answer, why others do not, and strangers' addresses."""

    at: str
    own: IPAddress
    routers: dict[str, Driver]
    trouble: dict[str, HooperError]
    strangers: tuple[IPAddress, ...]


async def find_routers(here: Door, site: Site, wanted: Sequence[str], deadline: float) -> Neighbourhood:
    """Search for the routers `wanted`, as far as they are on the way out from here. deadline: seconds.

    Raises: NoNetwork; NotAtTheSite.
    """
    interface, at, own = standing(site, await connected_surroundings(here))
    if interface is None or at is None or not isinstance(own, IPv4Address):
        raise NotAtTheSite("this computer is on none of the site's networks, so it can drive none of its routers")
    sight = in_sight(site, at)
    addresses = {key: site.gateways[key].lan.ip for key in wanted if key in sight}
    trouble: dict[str, HooperError] = {
        key: NotAtTheSite(f"{key} is not on the way out from here: this computer is on the LAN of {at}")
        for key in wanted
        if key not in sight
    }
    by_others = {key: address for key, address in addresses.items() if site.gateways[key].control not in CONTROLS}
    searched = {key: address for key, address in addresses.items() if key not in by_others}
    search = await search_routers(here.through(interface), own, searched, deadline)
    for key in by_others:
        try:
            search.routers[key] = await _added_driver(here.through(interface), site, key, deadline)
        except HooperError as exc:
            trouble[key] = exc
    known = {gateway.lan.ip for gateway in site.gateways.values()}
    strangers = tuple(answer for answer in search.heard if answer not in known)
    return Neighbourhood(at, own, search.routers, {**trouble, **search.trouble}, strangers)


ASKED = {"external_address": object, "connected": bool, "table": object, "add": LiveRule, "renew": LiveRule}


async def _added_driver(door: Door, site: Site, key: str, deadline: float) -> Driver:
    """The driver that another package adds for a gateway. deadline: seconds, until it has found it.

    Raises: AddedWrong; NoAnswer; whatever it says in words of ours.
    """
    gateway = site.gateways[key]
    part = added("hooper.drivers", gateway.control)
    try:
        with anyio.fail_after(deadline):
            made = await part(door, site, key, deadline)
    except TimeoutError:
        raise NoAnswer(f"{key} ({gateway.lan.ip}) was not found by {gateway.control} within {deadline:g} s") from None
    has = ("protocol", "device", "where", "longest_s", "cannot", "entries", *ASKED, "delete")
    return cast(Driver, part.giving(made, has, **ASKED))


@dataclass(frozen=True)
class Search:
    """What a search gave: the routers that can be used, why others cannot, and all addresses that were heard."""

    routers: dict[str, Driver]
    trouble: dict[str, HooperError]
    heard: tuple[IPAddress, ...]


async def search_routers(
    door: Door,
    own: IPv4Address,
    addresses: Mapping[str, IPv4Address],
    deadline: float,
    *,
    around: bool = True,
    patience: float = 3.0,
) -> Search:
    """Search for the routers at `addresses`, named by their keys.

    Args: door: bound to the interface with the address `own`. around: ask by multicast too. deadline: seconds for each
    request; patience: for the search before them.
    """
    routers: dict[str, Igd] = {}
    trouble: dict[str, HooperError] = {}
    if not addresses:
        return Search({}, {}, ())
    answers = await _search(door, own, list(addresses.values()), min(deadline, patience), around=around)

    async def one(key: str, address: IPv4Address) -> None:
        locations = list(dict.fromkeys(found.location for sender, found in answers if sender == address))
        try:
            routers[key] = await _describe(door, key, address, locations, deadline)
        except HooperError as exc:
            if not isinstance(exc, RouterMute):
                exc = CounterpartError(
                    f"{key} ({address}) answers the search, but cannot be used: {exc.message}",
                    code="router-unclear",
                    remedy=RouterMute.remedy,
                )
            trouble[key] = exc

    async with anyio.create_task_group() as tasks:
        for key, address in addresses.items():
            tasks.start_soon(one, key, address)
    heard = tuple(dict.fromkeys(sender for sender, _ in answers))
    return Search({key: routers[key] for key in addresses if key in routers}, trouble, heard)


async def _search(
    door: Door, own: IPv4Address, routers: Sequence[IPv4Address], patience: float, *, around: bool
) -> list[tuple[IPAddress, ssdp.SearchAnswer]]:
    """Who answers, with what; ends soon after every router has answered."""
    found: list[tuple[IPAddress, ssdp.SearchAnswer]] = []
    closed: set[IPAddress] = set()

    async def listen(socket: Datagrams, scope: anyio.CancelScope) -> None:
        while True:
            came = await socket.receive()
            if not isinstance(came, Datagram):
                if came.to is not None and came.by == came.to.address:
                    closed.add(came.by)  # it says that nothing listens there: no need to ask again
                continue
            try:
                found.append((came.sender.address, ssdp.parse_answer(came.data)))
            except WireError:
                continue
            if len(found) > ANSWERS_KEPT:
                return
            if set(routers) <= {sender for sender, _ in found}:
                scope.deadline = min(scope.deadline, door.clock.monotonic() + GRACE)

    async with await door.datagrams(local=Endpoint(own, 0)) as socket:
        with anyio.move_on_after(patience):
            async with anyio.create_task_group() as tasks:
                tasks.start_soon(listen, socket, tasks.cancel_scope)
                tasks.cancel_scope.deadline = door.clock.monotonic() + patience
                async for _ in moments(ROUNDS):
                    await _ask_around(door.clock, socket, routers, closed, around=around)
    return found


async def _ask_around(
    clock: Clock, socket: Datagrams, routers: Sequence[IPv4Address], closed: set[IPAddress], *, around: bool
) -> None:
    everyone = ((IPv4Address(ssdp.GROUP), 1),) if around else ()
    for target in ssdp.TARGETS:
        for address, wait in (*everyone, *((router, None) for router in routers if router not in closed)):
            try:
                await socket.send(
                    ssdp.serialize_search(target, str(address), wait_s=wait), Endpoint(address, ssdp.PORT)
                )
            except NoRoute:
                continue
        await clock.sleep(BETWEEN_TARGETS)


async def _describe(door: Door, key: str, address: IPv4Address, locations: Sequence[str], deadline: float) -> Igd:
    """The connection service of a router, by the descriptions that it offers. deadline: seconds for all of them.

    Raises: RouterMute; CounterpartError: what it offers is of no use.
    """
    try:
        with anyio.fail_after(deadline):
            return await _described(door, key, address, locations, deadline)
    except TimeoutError:
        raise NoAnswer(f"{key} ({address}) takes too long to describe itself") from None


async def _described(door: Door, key: str, address: IPv4Address, locations: Sequence[str], deadline: float) -> Igd:
    if not locations:
        raise RouterMute(f"{key} ({address}) answers no search for a router (UPnP IGD)")
    problem: HooperError | None = None
    offered: list[Igd] = []
    for location in locations[:LOCATIONS_TRIED]:
        try:
            url = Url.parse(location)
            if url.address != address:
                raise WireError("location", 0, f"{key} at {address} points to another device, {url.address}")
            described = upnp.parse_description((await ask(door, url, deadline)).body, location)
            offered += _services(door, address, described, deadline)[:SERVICES]
        except HooperError as exc:
            problem = exc
    for branch in BRANCHES:
        fitting = [igd for igd in offered if igd.service.endswith(branch)]
        for igd in fitting:
            if len(offered) == 1 or await _is_up(igd):
                return igd
    if offered:
        return offered[0]
    if problem is not None:
        raise problem
    raise RouterMute(f"{key} ({address}) answers, but offers no connection whose ports could be opened")


async def _is_up(igd: Igd) -> bool:
    try:
        return await igd.connected()
    except HooperError:
        return False


def _events(service: upnp.OfferedService, address: IPv4Address) -> Url | None:
    """Where its events are subscribed to; None: nowhere, or on another machine, which is left alone."""
    try:
        url = Url.parse(service.events)
    except WireError:
        return None
    return url if url.address == address else None


def _services(door: Door, address: IPv4Address, described: upnp.Description, deadline: float) -> list[Igd]:
    """The services by which ports are opened; those that stand on another machine are left alone."""
    out: list[Igd] = []
    for service in described.services:
        if not service.kind.endswith(BRANCHES):
            continue
        try:
            control = Url.parse(service.control)
        except WireError:
            continue
        if control.address == address and not any(old.control == control for old in out):
            out.append(Igd(door, control, service.kind, described.name, deadline, _events(service, address)))
    return out
