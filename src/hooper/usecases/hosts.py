"""The devices on this machine's own network, and addresses that are free there."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import islice

from hooper.errors import HooperError, NoNetwork, UsageError
from hooper.line.neighbours import FindDocument, find_hosts, silent_addresses
from hooper.planning.addresses import free_addresses, network_of
from hooper.planning.documents import SuggestDocument
from hooper.usecases.run import Run


@dataclass(frozen=True)
class FindRequest:
    """deadline: seconds for all of it. sweep: try every address. ports: try the usual ports of those found."""

    deadline: float = 10.0
    sweep: bool = False
    ports: bool = True


async def find(run: Run, request: FindRequest) -> tuple[FindDocument, list[HooperError]]:
    """Raises: NoNetwork, UsageError."""
    how = {"sweep": request.sweep, "ports": request.ports}
    return await find_hosts(run.here, run.site, request.deadline, heard=run.progress, **how), []


@dataclass(frozen=True)
class SuggestRequest:
    """gateway: on whose LAN; None: the innermost. count: how many addresses."""

    gateway: str | None = None
    count: int = 5


async def suggest(run: Run, request: SuggestRequest) -> tuple[SuggestDocument, list[HooperError]]:
    """Free addresses: outside the pool, nobody's in the site file, and silent, where this machine can tell."""
    if not 1 <= request.count <= 1000:
        raise UsageError(f"{request.count} addresses: from 1 to 1000")
    key = network_of(run.site, request.gateway)
    entry, free = run.site.gateways[key], free_addresses(run.site, key)
    try:
        looked = await silent_addresses(run.here, run.site, key, free, request.count)
    except NoNetwork:
        looked = None
    shown = looked[0] if looked is not None else islice(free_addresses(run.site, key), request.count)
    return SuggestDocument(
        key,
        str(entry.lan.network),
        str(entry.pool) if entry.pool is not None else None,
        tuple(map(str, shown)),
        looked is not None,
        tuple(map(str, looked[1] if looked is not None else ())),
    ), []
