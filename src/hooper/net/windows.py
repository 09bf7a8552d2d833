"""What Windows says of its networks: PowerShell's objects as JSON, which is the same in every language, read."""

from __future__ import annotations

import json
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from ipaddress import ip_address, ip_network
from typing import Any

from hooper.addresses import IPAddress
from hooper.errors import WireError
from hooper.net.types import Neighbour, Route

_QUESTION = (
    "$ErrorActionPreference='SilentlyContinue'; @{"
    "adapters=@(Get-NetAdapter -IncludeHidden | Select-Object Name,InterfaceType);"
    "routes=@(Get-NetRoute | Select-Object DestinationPrefix,NextHop,InterfaceAlias,RouteMetric,InterfaceMetric);"
    "neighbours=@(Get-NetNeighbor | Select-Object IPAddress,LinkLayerAddress,InterfaceAlias,State);"
    "resolvers=@(Get-DnsClientServerAddress | Select-Object InterfaceAlias,ServerAddresses)"
    "} | ConvertTo-Json -Depth 4 -Compress"
)
COMMAND = ("powershell.exe", "-NoProfile", "-NonInteractive", "-Command", _QUESTION)
# IANAifType: 131 tunnel, 53 virtual (as WireGuard's), 23 PPP (the VPNs that come with Windows)
_TUNNELS = {131, 53, 23}
# MSFT_NetNeighbor State, by number or by name
_KNOWN = {2, 3, 4, 5, 6, "Probe", "Delay", "Stale", "Reachable", "Permanent"}


@dataclass(frozen=True)
class SystemSaid:
    """tunnels: the names of interfaces that are tunnels."""

    tunnels: frozenset[str]
    routes: tuple[Route, ...]
    neighbours: tuple[Neighbour, ...]
    resolvers: tuple[IPAddress, ...]


def parse(data: bytes) -> SystemSaid:
    """Read the answer to COMMAND. Raises: WireError: it is not what was asked for."""
    try:
        whole = json.loads(data.decode("utf-8-sig", "replace"))
    except (ValueError, RecursionError):
        raise WireError("PowerShell", 0, "not JSON") from None
    if not isinstance(whole, dict):
        raise WireError("PowerShell", 0, "not a JSON object")
    adapters = _rows(whole.get("adapters"))
    return SystemSaid(
        frozenset(str(row.get("Name")) for row in adapters if row.get("InterfaceType") in _TUNNELS),
        tuple(_routes(_rows(whole.get("routes")))),
        tuple(_neighbours(_rows(whole.get("neighbours")))),
        tuple(dict.fromkeys(_resolvers(_rows(whole.get("resolvers"))))),
    )


def _rows(value: Any) -> list[dict[str, Any]]:
    """PowerShell writes a list of one as that one."""
    rows = value if isinstance(value, list) else [value]
    return [row for row in rows if isinstance(row, dict)]


def _number(value: Any) -> int:
    return value if isinstance(value, int) else 0


def _routes(rows: Iterable[dict[str, Any]]) -> Iterable[Route]:
    for row in rows:
        with suppress(ValueError):
            network = ip_network(str(row.get("DestinationPrefix")))
            way = ip_address(str(row.get("NextHop")).partition("%")[0])
            metric = _number(row.get("RouteMetric")) + _number(row.get("InterfaceMetric"))
            yield Route(network, way if int(way) else None, str(row.get("InterfaceAlias")), metric)


def _neighbours(rows: Iterable[dict[str, Any]]) -> Iterable[Neighbour]:
    for row in rows:
        mac, state = str(row.get("LinkLayerAddress") or "").lower().replace("-", ":"), row.get("State")
        if not isinstance(state, int | str) or state not in _KNOWN or len(mac) != 17 or mac == "00:00:00:00:00:00":
            continue
        with suppress(ValueError):
            address = ip_address(str(row.get("IPAddress")).partition("%")[0])
            if not address.is_multicast and mac != "ff:ff:ff:ff:ff:ff":
                yield Neighbour(address, mac, str(row.get("InterfaceAlias")))


def _resolvers(rows: Iterable[dict[str, Any]]) -> Iterable[IPAddress]:
    for row in rows:
        given = row.get("ServerAddresses") or []
        for written in given if isinstance(given, list) else [given]:
            with suppress(ValueError):
                address = ip_address(str(written).partition("%")[0])
                if not str(address).startswith("fec0:"):  # what Windows fills in where it has none
                    yield address
