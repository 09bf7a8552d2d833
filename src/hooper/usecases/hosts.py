"""The devices on this machine's own network, and addresses that are free there."""

from __future__ import annotations

from itertools import islice

from hooper.errors import HooperError, NoNetwork, UsageError
from hooper.line.neighbours import FindDocument, find_hosts, silent_addresses
from hooper.planning.addresses import free_addresses, network_of
from hooper.planning.documents import SuggestDocument
from hooper.usecases.run import Run


async def find(
    run: Run, deadline: float = 10.0, *, sweep: bool = False, ports: bool = True
) -> tuple[FindDocument, list[HooperError]]:
    """deadline: seconds for all of it. sweep: try every address. ports: try the usual ports of those found. Raises:
    NoNetwork, UsageError.
    """
    how = {"sweep": sweep, "ports": ports}
    return await find_hosts(run.here, run.site, deadline, heard=run.progress, **how), []


async def suggest(run: Run, gateway: str | None = None, count: int = 5) -> tuple[SuggestDocument, list[HooperError]]:
    """Free addresses: outside the pool, nobody's in the site file, and silent, where this machine can tell.

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
