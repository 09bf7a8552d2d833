"""The routes that answers need to find back into a tunnel's network. Pure."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.planning.access import grants, lan_of, on_gateway, peers_of
from hooper.planning.values import StaticRoute
from hooper.site.references import chain_of

if TYPE_CHECKING:
    from hooper.site.model import Site


def return_routes(site: Site) -> dict[str, list[StaticRoute]]:
    """By gateway: the way back into each tunnel whose peers come with their own addresses.

    The gateway of the server's LAN needs one where the server is not itself that gateway. A gateway further out needs
    one, by the next one in, where peers reach its LAN: the one in between may translate its own LAN's addresses only.
    """
    out: dict[str, list[StaticRoute]] = {}
    for key, tunnel in sorted(site.tunnels.items()):
        if tunnel.way_back == "nat" or tunnel.subnet is None:
            continue
        chain = chain_of(site, lan_of(site, tunnel))
        server = site.devices[site.services[tunnel.service].host].address
        if not on_gateway(site, tunnel):
            out.setdefault(chain[-1], []).append(StaticRoute(str(tunnel.subnet), str(server)))
        reached = [grant.network for peer in peers_of(site, key) for grant in grants(site, peer)]
        for outer, inner in zip(chain[-2::-1], chain[:0:-1], strict=False):
            lan, via = site.gateways[outer].lan.network, site.gateways[inner].wan_behind(outer)
            meets = any(network.version == 4 and network.prefixlen and network.overlaps(lan) for network in reached)
            if meets and via is not None:
                out.setdefault(outer, []).append(StaticRoute(str(tunnel.subnet), str(via)))
    return out
