"""The devices: those on this computer's own network, addresses that are free there, and what they show that tells them
again.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from itertools import islice

import anyio

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.check.checking import check_services
from hooper.check.greetings import foreign_hosts, greeted
from hooper.check.pictures import page_known
from hooper.check.probes import probe
from hooper.check.targets import Target, inner_targets
from hooper.check.wish import Outcome, Wish
from hooper.errors import CounterpartError, HooperError, NeedsAPerson, NoNetwork, UsageError
from hooper.evidence.observations import Observation, page_aspect, service_subject
from hooper.line.announced import Announced, announced
from hooper.line.neighbours import FindDocument, find_hosts, own_network, silent_addresses
from hooper.net.whereabouts import standing
from hooper.places import HERE
from hooper.planning.documents import SuggestDocument
from hooper.planning.free_addresses import free_addresses, network_of
from hooper.site.references import seen_from
from hooper.store.kept import PageKnown
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.prove.probing import probe_keys
from hooper.usecases.run import Run
from hooper.words.said import Said

LISTENING = 3.0  # seconds that devices may take to announce themselves when everyone is asked


async def find(
    run: Run, deadline: float = 10.0, *, sweep: bool = False, ports: bool = True
) -> tuple[FindDocument, list[HooperError]]:
    """deadline: seconds for all of it. sweep: try every address. ports: try the usual ports of those found. Raises:
    NoNetwork, UsageError, RefusedForSafety.
    """
    network, heard = await own_network(run.here, run.site), dict[IPAddress, Announced]()
    end = run.here.clock.monotonic() + deadline
    found: list[FindDocument] = []

    async def listen() -> None:
        patience = min(LISTENING if sweep else LISTENING / 2, deadline / 2)
        heard.update(await announced(network.door, network.own.ip, patience))

    async def look() -> None:
        how = {"sweep": sweep, "ports": ports}
        found.append(await find_hosts(run.here, run.site, network, deadline, heard=run.progress, **how))

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(listen)
        tasks.start_soon(look)
    (document,) = found
    run.progress(f"asking {len(document.hosts)} devices what they are")
    rows, whole = await greeted(network.door, document.hosts, heard, max(end - run.here.clock.monotonic(), 0.1))
    networks = (await run.here.surroundings()).networks()
    foreign = foreign_hosts(heard, networks, network.interface.name, sys.platform)
    late = document.outstanding if whole else (*document.outstanding, "what they are")
    return replace(document, hosts=rows, foreign=foreign, outstanding=late), []


async def suggest(run: Run, gateway: str | None = None, count: int = 5) -> tuple[SuggestDocument, list[HooperError]]:
    """Free addresses: outside the pool, nobody's in the site file, and silent, where this computer can tell.

    gateway: on whose LAN; None: the innermost. count: how many addresses.
    """
    if not 1 <= count <= 1000:
        raise UsageError(f"{count} addresses: from 1 to 1000")
    key = network_of(run.site, gateway)
    entry, free = run.site.gateways[key], free_addresses(run.site, key)
    try:
        looked = await silent_addresses(run.here, run.site, key, free, count)
    except NoNetwork:
        looked = None
    shown = looked[0] if looked is not None else islice(free_addresses(run.site, key), count)
    return SuggestDocument(
        key,
        str(entry.lan.network),
        str(entry.pool) if entry.pool is not None else None,
        tuple(map(str, shown)),
        looked is not None,
        tuple(map(str, looked[1] if looked is not None else ())),
    ), []


@dataclass(frozen=True, slots=True)
class HostKeyDocument:
    """public_key: as OpenSSH writes it."""

    public_key: str


async def host_key(
    run: Run, address: IPv4Address, port: int, deadline: float = 5.0
) -> tuple[HostKeyDocument, list[HooperError]]:
    """Ask the server for its host key, which it has to prove.

    address, port: of the server, as it is reached at home. deadline: seconds. Raises: CounterpartError: it does not.
    """
    seen = await probe(run.here, Target.alone(address, port, "ssh"), deadline)
    if seen.host_key is None:
        raise CounterpartError(
            f"{address}:{port} shows no host key: {seen.detail}",
            code="no-host-key",
            remedy=f"Look from the same network; or give {deeds.PUBLIC_KEY} with the content of its"
            " /etc/ssh/ssh_host_ed25519_key.pub.",
        )
    return HostKeyDocument(seen.host_key), []


@dataclass(frozen=True, slots=True)
class KnownSign:
    """What one service of the device shows, at its inner address.

    key: of its certificate or host key, "sha256:..."; null: it has none, so that nothing tells it from another of its
    make. before: the one that was kept until now; null: none was. greeting: what it says first, or its server's name.
    page: its title, or null; pictures: of its page, as PATH WIDTHxHEIGHT.
    """

    service: str
    transport: str
    port: int
    key: str | None
    before: str | None
    greeting: str | None
    detail: Said
    page: str | None = None
    pictures: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class KnownDocument:
    """`hooper host know`.

    mac: of what has its address now; null: not seen. planned_mac: of the site file. signs: one row a service and port
    that answered. silent: the services that did not.
    """

    host: str
    address: str
    mac: str | None
    planned_mac: str | None
    signs: tuple[KnownSign, ...]
    silent: tuple[str, ...]


class NothingShown(NeedsAPerson):
    """The device shows nothing by which it could be known."""

    code = "nothing-shown"
    remedy = "Switch it on, and look once more."


async def know(
    run: Run, device: str, deadline: float = 5.0, *, dry_run: bool = False
) -> tuple[KnownDocument, list[HooperError]]:
    """Look at the device inside, and keep what it shows in the place of what was kept of it before.

    device: of the site file. deadline: seconds for all of it. dry_run: look, and keep nothing. Raises: NoNetwork;
    UsageError: it is not seen from here, or has no service; NothingShown; StateError.
    """
    site, host = run.site, run.site.devices[device]
    services = [key for key, entry in site.services.items() if entry.host == device]
    at = standing(site, await run.here.surroundings()).gateway
    if run.topology.gateway(device) not in seen_from(site, at):
        raise UsageError(
            f"{device} is not seen from here: this computer is not on its network",
            remedy="Do this at home, from a computer on the same network.",
        )
    if not services:
        raise UsageError(f"{device} has no service that could be looked at", remedy="Add one.")
    wish = Wish(run.topology, services, deadline, base=run.base, keys=probe_keys(run))
    if not dry_run:
        run.kept.ledger.forget(f"{service_subject(key)}/page@*" for key in services)  # it may have been set up anew
    outcome = await check_services(run.here, wish)
    pages = await _pages(run, services, outcome, deadline)
    details = {(one.service, one.transport, one.port): one.detail for one in outcome.results}
    signs: list[KnownSign] = []
    for key, seen in outcome.inside.items():
        if seen.verdict in ("answered", "connected"):
            kept = run.kept.ledger.inside(*key)
            before = kept.fingerprint if kept is not None else None
            page = pages.get(key, PageKnown(None, ()))
            pictures = tuple(f"{path} {width}x{height}" for path, width, height in page.pictures)
            signs.append(KnownSign(*key, seen.fingerprint, before, seen.greeting, details[key], page.title, pictures))
    if not signs:
        raise NothingShown(f"{device} ({host.address}) answers by none of its services")
    if not dry_run:
        keep_look(run, outcome)
        run.kept.ledger.write(
            Observation(service_subject(key[0]), page_aspect(*key[1:]), [*page], run.at, "measured", str(HERE))
            for key, page in pages.items()
        )
    neighbours = (await run.here.surroundings()).neighbours
    mac = next((one.mac for one in neighbours if one.address == host.address), None)
    silent = tuple(key for key in services if key not in {one.service for one in signs})
    return KnownDocument(device, str(host.address), mac, host.mac, tuple(signs), silent), []


async def _pages(
    run: Run, services: Sequence[str], outcome: Outcome, deadline: float
) -> dict[tuple[str, str, int], PageKnown]:
    """Of each page what tells it again; a title that differs from look to look tells nothing."""
    found: dict[tuple[str, str, int], PageKnown] = {}

    async def one(target: Target) -> None:
        key = (target.service, target.transport, target.inner[1])
        seen, page = outcome.inside.get(key), await page_known(run.here, target, deadline)
        if page is not None:
            steady = seen is not None and seen.page is not None and seen.page.title == page.title
            found[key] = page if steady else page._replace(title=None)

    async with anyio.create_task_group() as tasks:
        for target in inner_targets(run.topology, services):
            if target.speaks in ("http", "https"):
                tasks.start_soon(one, target)
    return found
