"""The rules on a tunnel's Linux server, for nft(8), and what it does when the tunnel comes up."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from datetime import date
from typing import TYPE_CHECKING

from hooper.planning.access import Grant, ServerEnd, addresses_at, grants, lan_of, on_gateway, table_name
from hooper.planning.free_ports import transports
from hooper.site.references import is_far_end
from hooper.tunnels.common import let_in

if TYPE_CHECKING:
    from hooper.site.model import Site


def forwards6(site: Site, key: str, today: date) -> bool:
    """Whether any peer is let on over IPv6."""
    return site.tunnels[key].subnet6 is not None and any(
        grant.network.version == 6 for peer in let_in(site, key, today) for grant in grants(site, peer)
    )


def coming_up(site: Site, key: str, end: ServerEnd, today: date, folder: str) -> Iterator[str]:
    """The commands when the tunnel comes up: rules first, so that nothing passes before they are there."""
    yield f"nft -f {shlex.quote(f'{folder}/{end.name}.nft')}"
    yield "sysctl -q -w net.ipv4.ip_forward=1"
    if forwards6(site, key, today):
        # a machine that forwards takes no address from its router any more, unless it is told to (accept_ra = 2)
        yield (
            "[ ! -d /proc/sys/net/ipv6 ] || { for i in /proc/sys/net/ipv6/conf/*/accept_ra; do"
            ' if [ "$(cat $i)" = 1 ]; then echo 2 > $i; fi; done; sysctl -q -w net.ipv6.conf.all.forwarding=1; }'
        )


def with_ipv6(interface: str, address: str) -> str:
    """The command that gives a tunnel's own interface its IPv6 address, also where a machine has IPv6 switched off for
    all others; where its kernel has none, the tunnel comes up without.
    """
    return (
        f"[ ! -d /proc/sys/net/ipv6 ] || {{ sysctl -q -w net.ipv6.conf.{interface}.disable_ipv6=0;"
        f" ip -6 address add {address} dev {interface} || true; }}"
    )


def going_down(end: ServerEnd) -> str:
    """The command when it has gone down."""
    return f"nft delete table inet {table_name(end.name)}"


def server_rules(site: Site, key: str, end: ServerEnd, today: date) -> str:
    """What each peer may reach, and nothing else; with `nat`, the server's own address for theirs."""
    tunnel, name, table = site.tunnels[key], end.name, table_name(end.name)
    lines = [
        f"# {key}: what its peers may reach. Made by Hooper. It replaces its own table and touches no other.",
        f"table inet {table}",
        f"delete table inet {table}",
        f"table inet {table} {{",
        "    chain through {",
        "        type filter hook forward priority filter - 5; policy accept;",
        f'        iifname "{name}" jump peers',
        "    }",
        "    chain inward {",
        "        type filter hook input priority filter - 5; policy accept;",
        f'        iifname "{name}" jump peers',
        "    }",
        "    chain peers {",
        "        ct state related accept",
        "        ct direction reply accept",
    ]
    for peer in let_in(site, key, today):
        lines += [f"        {line}" for line in _peer_rules(site, end, peer)]
    lines += ["        reject with icmpx type admin-prohibited", "    }"]
    masked = []
    for network in end.subnets:
        # addresses from fd00::/8 lead nowhere but here
        answered_by = on_gateway(site, tunnel) and not is_far_end(site, lan_of(site, tunnel))
        wanted = tunnel.way_back == "nat" and not answered_by  # the end of a detour is nobody's gateway but its own
        if wanted if network.version == 4 else forwards6(site, key, today):
            masked.append(f'        {_family(network.version)} saddr {network} oifname != "{name}" masquerade')
    if masked:
        lines += ["    chain outward {", "        type nat hook postrouting priority srcnat; policy accept;"]
        lines += [*masked, "    }"]
    return "\n".join([*lines, "}", ""])


def _family(version: int) -> str:
    return "ip" if version == 4 else "ip6"


def _peer_rules(site: Site, end: ServerEnd, key: str) -> Iterator[str]:
    peer = site.peers[key]
    for address in addresses_at(end, site.tunnels[peer.tunnel], peer):
        family = _family(address.version)
        for grant in grants(site, key):
            if grant.network.version == address.version:
                for allowed in _allowed(grant):
                    yield f'{family} saddr {address} {family} daddr {grant.network} {allowed}accept comment "{key}"'


def _allowed(grant: Grant) -> Iterator[str]:
    """The part of a rule that says which packets, one for each transport."""
    if not grant.transport:
        yield ""
    elif grant.ports is None:
        yield f"meta l4proto {grant.transport} "
    else:
        for transport in transports(grant.transport):
            yield f"{transport} dport {grant.ports} "
