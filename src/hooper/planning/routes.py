"""The routes that LAN hosts need to answer into a tunnel's network. Pure."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.planning.paths import gateway_of
from hooper.planning.values import StaticRoute

if TYPE_CHECKING:
    from hooper.site.model import Site


def return_routes(site: Site) -> dict[str, list[StaticRoute]]:
    """By gateway: the way back into each tunnel that ends on a host of its LAN.

    Where the tunnel ends on a gateway itself, nothing is needed: it is the hosts' way out anyway.
    """
    out: dict[str, list[StaticRoute]] = {}
    for _, tunnel in sorted(site.tunnels.items()):
        host = site.hosts[tunnel.host]
        gateway = gateway_of(site, host)
        if host.address != site.gateways[gateway].lan.ip:
            out.setdefault(gateway, []).append(StaticRoute(str(tunnel.subnet), str(host.address)))
    return out
