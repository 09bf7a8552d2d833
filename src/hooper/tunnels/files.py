"""The files of both sides of a WireGuard tunnel, and the rules on its server, from the site file and the kept keys.

Both sides are made from the same values, so that they always match. The format is that of wg-quick(8) and wg(8), the
rules are for nft(8).
"""

from __future__ import annotations

import hashlib
import shlex
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.errors import NeedsAPerson
from hooper.planning.access import (
    KEEPALIVE_S,
    Grant,
    allowed_networks,
    endpoint,
    grants,
    interface_name,
    mtu_of,
    on_gateway,
    peer_addresses,
    peers_of,
    server_addresses,
    table_name,
)
from hooper.planning.ports import transports
from hooper.planning.typed import Typed
from hooper.visible import shown

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.secret import Secret
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer
    from hooper.tunnels.keys import KeyRing

SERVER_FOLDER = "/etc/wireguard"


class KeyMissing(NeedsAPerson):
    """A private key is wanted that is not kept here any more, or never was."""

    code = "key-missing"


class NoEndpoint(NeedsAPerson):
    """Neither a name nor an address is known that a peer could find its server by."""

    code = "no-endpoint"
    remedy = f"Add a [names.*] for the line, or give its address: `{deeds.SURVEY}` measures it."


# --- what both sides say, without a secret


@dataclass(frozen=True)
class Profile:
    """What a peer's file says. server: its public key. mark: tells whether a file that was handed still is so."""

    peer: str
    tunnel: str
    addresses: tuple[str, ...]
    dns: tuple[str, ...]
    mtu: int
    server: str
    allowed: tuple[str, ...]
    endpoint: str
    keepalive: int
    public_key: str

    @property
    def mark(self) -> str:
        return _mark(repr(self))


def _mark(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def at(where: Typed) -> str:
    """An endpoint as the files have it."""
    return f"[{where.host}]:{where.port}" if ":" in where.host else f"{where.host}:{where.port}"


def profile_of(topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
    """What the file of a peer is to say. public: the lines' addresses, as far as known.

    Raises: NoEndpoint, KeyMissing.
    """
    site, peer = topology.site, topology.site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    where = endpoint(topology, tunnel, public)
    if where is None:
        raise NoEndpoint(f"nobody can tell {key} where {tunnel.service} is: its line has no name and no known address")
    if tunnel.public_key is None or peer.public_key is None:
        raise _no_keys(key if peer.public_key is None else peer.tunnel, whose_peer=peer.public_key is None)
    return Profile(
        key,
        peer.tunnel,
        tuple(f"{one}/{one.max_prefixlen}" for one in peer_addresses(peer)),
        tuple(map(str, tunnel.dns)),
        mtu_of(topology, tunnel),
        tunnel.public_key,
        tuple(map(str, allowed_networks(site, key))),
        at(where),
        0 if peer.device == "server" else KEEPALIVE_S,
        peer.public_key,
    )


def _no_keys(key: str, *, whose_peer: bool) -> KeyMissing:
    remedy = (
        f"`{deeds.RENEW_PEER(key)}` makes it." if whose_peer else "Give its `public_key`, as its own page shows it."
    )
    return KeyMissing(f"{key} has no key yet", remedy=remedy)


def peer_file(topology: Topology, profile: Profile, private: Secret | None, shared: Secret | None) -> str:
    """The file that a peer's software loads. private: None: the peer puts in its own."""
    title = topology.site.site.title or "this site"
    lines = [
        f"# {profile.peer}: a way into {shown(title)}. Made by Hooper. For this one device alone.",
        "[Interface]",
        f"PrivateKey = {private.reveal() if private is not None else 'PUT-THE-PRIVATE-KEY-OF-THIS-DEVICE-HERE'}",
        f"Address = {', '.join(profile.addresses)}",
        *([f"DNS = {', '.join(profile.dns)}"] if profile.dns else []),
        f"MTU = {profile.mtu}",
        "",
        "[Peer]",
        f"PublicKey = {profile.server}",
        *([f"PresharedKey = {shared.reveal()}"] if shared is not None else []),
        f"AllowedIPs = {', '.join(profile.allowed)}",
        f"Endpoint = {profile.endpoint}",
        *([f"PersistentKeepalive = {profile.keepalive}"] if profile.keepalive else []),
    ]
    return "\n".join(lines) + "\n"


# --- the server


@dataclass(frozen=True)
class ServerFiles:
    """The files of a server, by name, and the mark of what they say. secret: the names of those that hold keys."""

    files: Mapping[str, str] = field(repr=False)
    secret: frozenset[str]
    mark: str


def server_mark(topology: Topology, key: str, today: date) -> str:
    """What the server's files are known by: it changes when they have to be made and loaded anew."""
    lines = _server_lines(topology, key, None, today)
    return _mark("".join(lines) + server_rules(topology.site, key, today) + topology.site.tunnels[key].server)


def server_files(topology: Topology, key: str, ring: KeyRing, today: date, folder: str = SERVER_FOLDER) -> ServerFiles:
    """All that the server loads. today: peers whose time is over are left out. folder: where they will stand on it.

    Raises: KeyMissing, MachineError.
    """
    tunnel, name = topology.site.tunnels[key], interface_name(key)
    files = {f"{name}.conf": "\n".join(_server_lines(topology, key, ring, today, folder)) + "\n"}
    if tunnel.server == "linux":
        files[f"{name}.nft"] = server_rules(topology.site, key, today)
    return ServerFiles(files, frozenset({f"{name}.conf"}), server_mark(topology, key, today))


def _server_lines(
    topology: Topology, key: str, ring: KeyRing | None, today: date, folder: str = SERVER_FOLDER
) -> Iterator[str]:
    """The lines of the server's file. ring: None: without the secrets, for the mark."""
    site, tunnel = topology.site, topology.site.tunnels[key]
    title = site.site.title or "this site"
    yield f"# {key}: the tunnel of {shown(title)}. Made by Hooper from its site file: change that, and make it again."
    yield "[Interface]"
    if ring is not None:
        private = ring.private(tunnel.public_key) if tunnel.public_key is not None else None
        if private is None:
            raise KeyMissing(
                f"the private key of {key} is not kept here",
                remedy=f"If it is lost, `{deeds.RENEW_TUNNEL(key)}` makes another; all its peers then need new files.",
            )
        yield f"PrivateKey = {private.reveal()}"
    subnets = [one for one in (tunnel.subnet, tunnel.subnet6) if one is not None]
    pairs = zip(server_addresses(tunnel), subnets, strict=True)
    yield f"Address = {', '.join(f'{address}/{subnet.prefixlen}' for address, subnet in pairs)}"
    yield f"ListenPort = {site.services[tunnel.service].used_ports.first}"
    yield f"MTU = {mtu_of(topology, tunnel)}"
    if tunnel.server == "linux":
        yield from _starting(site, key, today, folder)
    for name, peer in let_in(site, key, today).items():
        yield ""
        yield f"# {name}"
        yield "[Peer]"
        yield f"PublicKey = {peer.public_key}"
        shared = ring.shared(peer.public_key) if ring is not None and peer.public_key is not None else None
        if shared is not None:
            yield f"PresharedKey = {shared.reveal()}"
        yield f"AllowedIPs = {', '.join(f'{one}/{one.max_prefixlen}' for one in peer_addresses(peer))}"
    if tunnel.probe_key is not None:
        yield ""
        yield "# It reaches nothing: by its handshake a check tells this server from any other."
        yield "[Peer]"
        yield f"PublicKey = {tunnel.probe_key}"


def let_in(site: Site, key: str, today: date) -> dict[str, Peer]:
    """The peers that the server knows: those that have a key, and whose time is not over."""
    return {
        name: peer
        for name, peer in peers_of(site, key).items()
        if peer.public_key is not None and (peer.until is None or peer.until >= today)
    }


def _forwards6(site: Site, key: str, today: date) -> bool:
    """Whether any peer is let on over IPv6."""
    return site.tunnels[key].subnet6 is not None and any(
        grant.network.version == 6 for peer in let_in(site, key, today) for grant in grants(site, peer)
    )


def _starting(site: Site, key: str, today: date, folder: str) -> Iterator[str]:
    """What a Linux server does when the tunnel comes up: rules first, so that nothing passes before they are there."""
    yield f"PreUp = nft -f {shlex.quote(f'{folder}/{interface_name(key)}.nft')}"
    yield "PostUp = sysctl -q -w net.ipv4.ip_forward=1"
    if _forwards6(site, key, today):
        # a machine that forwards takes no address from its router any more, unless it is told to (accept_ra = 2)
        yield (
            "PostUp = for i in /proc/sys/net/ipv6/conf/*/accept_ra; do"
            ' if [ "$(cat $i)" = 1 ]; then echo 2 > $i; fi; done; sysctl -q -w net.ipv6.conf.all.forwarding=1'
        )
    yield f"PostDown = nft delete table inet {table_name(key)}"


def server_rules(site: Site, key: str, today: date) -> str:
    """The rules on the server: what each peer may reach, and nothing else; with `nat`, its own address for theirs."""
    tunnel, name, table = site.tunnels[key], interface_name(key), table_name(key)
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
        lines += [f"        {line}" for line in _peer_rules(site, peer)]
    lines += ["        reject with icmpx type admin-prohibited", "    }"]
    masked = []
    if tunnel.way_back == "nat" and not on_gateway(site, tunnel):
        masked.append(f'        ip saddr {tunnel.subnet} oifname != "{name}" masquerade')
    if _forwards6(site, key, today):  # addresses from fd00::/8 lead nowhere but here
        masked.append(f'        ip6 saddr {tunnel.subnet6} oifname != "{name}" masquerade')
    if masked:
        lines += ["    chain outward {", "        type nat hook postrouting priority srcnat; policy accept;"]
        lines += [*masked, "    }"]
    return "\n".join([*lines, "}", ""])


def _peer_rules(site: Site, key: str) -> Iterator[str]:
    for address in peer_addresses(site.peers[key]):
        family = "ip" if address.version == 4 else "ip6"
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
