"""The files of both sides of a WireGuard tunnel, from the site file and the kept keys.

Both sides are made from the same values, so that they always match. The format is that of wg-quick(8) and wg(8).
"""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import (
    KEEPALIVE_S,
    allowed_networks,
    ends,
    interface_name,
    mtu_of,
    peer_addresses,
    server_addresses,
)
from hooper.planning.nftables import ruleset
from hooper.site.references import detours, far_ends
from hooper.tunnels.common import KeyMissing, Profile, ServerFiles, at, found_at, keys_of, let_in, mark_of, title_of
from hooper.tunnels.server_rules import coming_up, going_down, server_rules, with_ipv6

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.planning.values import Plan
    from hooper.site.model import Site
    from hooper.tunnels.keys import KeyRing

FOLDER = "/etc/wireguard"


@dataclass(frozen=True)
class WireGuardProfile(Profile):
    """keepalive: seconds; 0: none."""

    mtu: int
    keepalive: int


def profile_of(topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> WireGuardProfile:
    """What the file of a peer is to say. public: the lines' addresses, as far as known.

    Raises: NoEndpoint, KeyMissing.
    """
    site, peer = topology.site, topology.site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    where = found_at(topology, key, tunnel.service, public)
    if peer.tunnel in detours(site):  # by its fixed number: the site's own names lead there, and may lag
        fixed = site.lines[topology.lines[tunnel.service]].address
        where = where._replace(host=str(fixed[0])) if fixed else where
    server, own = keys_of(site, key)
    return WireGuardProfile(
        key,
        peer.tunnel,
        at(where),
        own,
        server,
        tuple(map(str, allowed_networks(site, key))),
        mtu_of(topology, tunnel),
        0 if peer.device == "server" and not detours(site).get(peer.tunnel) else KEEPALIVE_S,
        addresses=tuple(f"{one}/{one.max_prefixlen}" for one in peer_addresses(peer)),
        dns=tuple(map(str, tunnel.dns)),
    )


def peer_file(topology: Topology, profile: WireGuardProfile, ring: KeyRing) -> str:
    """The file that a peer's software loads; where its private key is not kept, the peer puts in its own.

    Raises: MachineError.
    """
    private, shared = ring.private(profile.public_key), ring.shared(profile.public_key)
    lines = [
        f"# {profile.peer}: a way into {title_of(topology.site)}. Made by Hooper. For this one device alone.",
        "[Interface]",
        f"PrivateKey = {private.reveal() if private is not None else 'PUT-THE-PRIVATE-KEY-OF-THIS-DEVICE-HERE'}",
        f"Address = {', '.join(profile.addresses)}",
        *([f"DNS = {', '.join(profile.dns)}"] if profile.dns else []),
        f"MTU = {profile.mtu}",
        *carrying(topology.site, profile.peer, profile.tunnel),
        "",
        "[Peer]",
        f"PublicKey = {profile.server}",
        *([f"PresharedKey = {shared.reveal()}"] if shared is not None else []),
        f"AllowedIPs = {', '.join(profile.allowed)}",
        f"Endpoint = {profile.endpoint}",
        *([f"PersistentKeepalive = {profile.keepalive}"] if profile.keepalive else []),
    ]
    return "\n".join(lines) + "\n"


def carrying(site: Site, peer: str, tunnel: str) -> Iterator[str]:
    """Where the peer is the site's own end of a tunnel to a rented machine: what it lets through, and forwarding."""
    if peer in far_ends(site, tunnel):
        yield f"PreUp = nft -f {FOLDER}/{forwards_file(peer)}"
        yield "PostUp = sysctl -q -w net.ipv4.ip_forward=1"


def forwards_file(name: str) -> str:
    """The file with the rules of a rented machine, or of the site's end."""
    return f"{interface_name(name)}-forwards.nft"


# --- the server


def _forwards(topology: Topology, key: str, plan: Plan) -> dict[str, str]:
    """Of a tunnel to a rented machine: what that machine forwards, and what the site's ends do; else nothing."""
    site, outer = topology.site, detours(topology.site).get(key)
    if outer is None:
        return {}
    made = {forwards_file(key): ruleset(site, plan, outer)}
    return made | {forwards_file(peer): ruleset(site, plan, inner) for peer, inner in far_ends(site, key).items()}


def server_mark(topology: Topology, key: str, today: date, plan: Plan | None = None) -> str:
    """What the server's files are known by: it changes when they have to be made and loaded anew."""
    site, tunnel = topology.site, topology.site.tunnels[key]
    lines = _server_lines(topology, key, None, today)
    carried = "".join(_forwards(topology, key, plan).values()) if plan is not None else ""
    return mark_of("".join(lines) + server_rules(site, key, ends(site, key)[0], today) + tunnel.server + carried)


def server_files(
    topology: Topology, key: str, ring: KeyRing, today: date, folder: str = FOLDER, plan: Plan | None = None
) -> ServerFiles:
    """All that the server loads. today: peers whose time is over are left out. folder: where they will stand on it.

    Raises: KeyMissing, MachineError.
    """
    site, (end,) = topology.site, ends(topology.site, key)
    files = {f"{end.name}.conf": "\n".join(_server_lines(topology, key, ring, today, folder)) + "\n"}
    if site.tunnels[key].server == "linux":
        files[f"{end.name}.nft"] = server_rules(site, key, end, today)
    files |= _forwards(topology, key, plan) if plan is not None else {}
    return ServerFiles(files, frozenset({f"{end.name}.conf"}), server_mark(topology, key, today, plan))


def _server_lines(
    topology: Topology, key: str, ring: KeyRing | None, today: date, folder: str = FOLDER
) -> Iterator[str]:
    """The lines of the server's file. ring: None: without the secrets, for the mark."""
    site, tunnel = topology.site, topology.site.tunnels[key]
    (end,) = ends(site, key)
    title = title_of(site)
    yield f"# {key}: the tunnel of {title}. Made by Hooper from its site file: change that, and make it again."
    yield "[Interface]"
    if ring is not None:
        private = ring.private(tunnel.public_key) if tunnel.public_key is not None else None
        if private is None:
            raise KeyMissing(
                f"the private key of {key} is not kept here",
                remedy=f"If it is lost, `{deeds.RENEW_TUNNEL(key)}` makes another; all its peers then need new files.",
            )
        yield f"PrivateKey = {private.reveal()}"
    pairs = zip(server_addresses(tunnel), tunnel.subnets, strict=True)
    addresses = [f"{address}/{subnet.prefixlen}" for address, subnet in pairs]
    linux = tunnel.server == "linux"
    yield f"Address = {', '.join(addresses[:1] if linux else addresses)}"
    if linux:
        yield "Table = off"  # its peers are all in its own networks; a route over IPv6 fails where that is switched off
    yield f"ListenPort = {site.services[tunnel.service].used_ports.first}"
    yield f"MTU = {mtu_of(topology, tunnel)}"
    if linux:
        first, *then = coming_up(site, key, end, today, folder)
        yield f"PreUp = {first}"
        if key in detours(site):
            yield f"PreUp = nft -f {shlex.quote(f'{folder}/{forwards_file(key)}')}"
        yield from (f"PostUp = {with_ipv6('%i', address)}" for address in addresses[1:])
        yield from (f"PostUp = {command}" for command in then)
        yield f"PostDown = {going_down(end)}"
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
