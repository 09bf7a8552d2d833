"""The files of both sides of an OpenVPN tunnel, from the site file and the authority that is kept for it.

Both sides are made from the same values. Options are those of openvpn(8), version 2.4 and later. What a peer may reach
is pushed to it when it connects, and kept by the rules on the server: a change of that needs no new file on the peer.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date, datetime
from html import escape
from ipaddress import IPv4Network, IPv6Network
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import ServerEnd, addresses_at, allowed_networks, ends, into_for, mtu_of
from hooper.tunnels.common import (
    NO_IPV6,
    KeyMissing,
    Profile,
    ServerFiles,
    at,
    found_at,
    keys_of,
    let_in,
    mark_of,
    title_of,
)
from hooper.tunnels.openvpn_authority import TunnelAuthority, peer_name, server_name
from hooper.tunnels.server_rules import coming_up, going_down, server_rules, with_ipv6

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.site.model import Site

FOLDER = "/etc/openvpn/server"
FOLDERS = {  # where a server that runs as a service reads its files
    "linux": FOLDER, "windows": r"C:\Program Files\OpenVPN\config-auto", "macos": "/usr/local/etc/openvpn",
}  # fmt: skip
CIPHERS = "AES-256-GCM:CHACHA20-POLY1305:AES-128-GCM"
# what both sides say about how they encrypt
MODERN = ("tls-version-min 1.2", f"data-ciphers {CIPHERS}", "auth SHA256")


@dataclass(frozen=True)
class OpenVpnProfile(Profile):
    """remotes: where the server is found: host, port, and udp or tcp, in the order in which they are tried."""

    remotes: tuple[tuple[str, int, str], ...]
    mtu: int
    ending = ".ovpn"


def profile_of(topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> OpenVpnProfile:
    """What the file of a peer is to say. public: the lines' addresses, as far as known.

    Raises: NoEndpoint, KeyMissing.
    """
    site, peer = topology.site, topology.site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    found = [(found_at(topology, key, one, public), one) for one in (tunnel.service, tunnel.also) if one is not None]
    server, own = keys_of(site, key)
    return OpenVpnProfile(
        key,
        peer.tunnel,
        at(found[0][0]),
        own,
        server,
        (),  # the server tells it
        tuple((where.host, where.port, site.services[one].used_transport) for where, one in found),
        mtu_of(topology, tunnel),
    )


def peer_file(topology: Topology, profile: OpenVpnProfile, authority: TunnelAuthority, today: date) -> str:
    """The file that a peer's software loads, with all that it needs inside.

    Raises: KeyMissing: its private key is not kept here, or is of another authority; MachineError.
    """
    from cryptography.hazmat.primitives import serialization

    certificate, private = authority.certificate_of(profile.public_key), authority.private_of(profile.public_key)
    if certificate is None or private is None or certificate.not_valid_after_utc.date() < today:
        what = "is not kept here" if certificate is None or private is None else "has ended"
        raise KeyMissing(
            f"the certificate of {profile.peer} with its key {what}, or is of an earlier authority",
            remedy=f"`{deeds.RENEW_PEER(profile.peer)}` makes another.",
        )
    lines = [
        f"# {profile.peer}: a way into {title_of(topology.site)}. Made by Hooper. For this one device alone.",
        "client",
        "dev tun",
        "nobind",
        "persist-tun",
        "resolv-retry infinite",
        "server-poll-timeout 10",
        *(f"remote {host} {port} {transport}" for host, port, transport in profile.remotes),
        "remote-cert-tls server",
        f"verify-x509-name {server_name(profile.tunnel, profile.server)} name",
        *MODERN,
        f"tun-mtu {profile.mtu}",
        "auth-nocache",
        "verb 3",
        *_inline("ca", authority.certificate),
        *_inline("cert", certificate.public_bytes(serialization.Encoding.PEM).decode()),
        *_inline("key", private.reveal()),
        *_inline("tls-crypt", authority.guard.reveal()),
    ]
    return "\n".join(lines) + "\n"


def _inline(what: str, text: str) -> Iterator[str]:
    yield f"<{what}>"
    yield from text.strip().splitlines()
    yield f"</{what}>"


# --- the server


def server_mark(topology: Topology, key: str, today: date) -> str:
    """What the server's files are known by: it changes when they have to be made and loaded anew."""
    site = topology.site
    parts = [*_all_lines(topology, key, FOLDER), *(one.public_key or "" for one in let_in(site, key, today).values())]
    for end in ends(site, key):
        parts += [server_rules(site, key, end, today), *_peers_of(site, key, end, today).values()]
    return mark_of("\n".join(parts))


def server_files(
    topology: Topology, key: str, authority: TunnelAuthority, now: datetime, today: date, folder: str = FOLDER
) -> ServerFiles:
    """All that the server loads. today: peers whose time is over are left out. folder: where they will stand on it.

    Raises: MachineError.
    """
    site = topology.site
    server = authority.server(now)
    secrets = [
        *_inline("ca", authority.certificate),
        *_inline("cert", server.certificate),
        *_inline("key", server.key.reveal()),
        *_inline("tls-crypt", authority.guard.reveal()),
    ]
    current = {peer.public_key for peer in let_in(site, key, today).values() if peer.public_key is not None}
    files: dict[str, str] = {}
    for end in ends(site, key):
        files[f"{end.name}.conf"] = "\n".join([*_server_lines(topology, key, end, folder), *secrets]) + "\n"
        if site.tunnels[key].server == "linux":
            files[f"{end.name}.nft"] = server_rules(site, key, end, today)
            files[f"{end.name}.sh"] = "\n".join(_script(site, key, end, today, folder)) + "\n"
        elif site.tunnels[key].server == "macos":
            files[f"{end.name}.plist"] = _daemon(end.name, folder)
        files |= _peers_of(site, key, end, today)
    names = tuple(end.name for end in ends(site, key))
    head = f"# {key}: who is not let in any more. Made by Hooper.\n"
    files[f"{names[0]}.crl"] = head + authority.revoked(current, now)
    secret = frozenset(f"{name}.conf" for name in names)
    return ServerFiles(files, secret, server_mark(topology, key, today), tuple(f"{name}-peers" for name in names))


def _all_lines(topology: Topology, key: str, folder: str) -> Iterator[str]:
    for end in ends(topology.site, key):
        yield from _server_lines(topology, key, end, folder)


def _server_lines(topology: Topology, key: str, end: ServerEnd, folder: str) -> Iterator[str]:
    """The lines of a server's file, but for its secrets."""
    site, tunnel = topology.site, topology.site.tunnels[key]
    service, first = site.services[end.service], ends(site, key)[0].name
    six = "6" if site.devices[service.host].address6 is not None else ""
    yield f"# {key}: the tunnel of {title_of(site)}. Made by Hooper from its site file: change that, and make it again."
    yield "mode server"
    yield "tls-server"
    linux = tunnel.server == "linux"
    yield f"dev {end.name if linux else 'tun'}"  # elsewhere the system names it
    yield "dev-type tun"
    yield "topology subnet"
    yield f"proto {'udp' + six if service.used_transport == 'udp' else 'tcp' + six + '-server'}"
    yield f"port {service.used_ports.first}"
    for network in end.subnets:
        if isinstance(network, IPv4Network):
            yield f"ifconfig {network[1]} {network.netmask}"
            yield f'push "route-gateway {network[1]}"'
        elif not linux:
            yield f"ifconfig-ipv6 {network[1]}/{network.prefixlen} {network[2]}"
    yield 'push "topology subnet"'
    yield f"tun-mtu {mtu_of(topology, tunnel)}"
    yield "keepalive 10 60"
    if service.used_transport == "udp":
        yield "explicit-exit-notify 1"
    yield "persist-tun"
    yield f"client-config-dir {_path(tunnel.server, folder, f'{end.name}-peers')}"
    yield "ccd-exclusive"
    yield f"crl-verify {_path(tunnel.server, folder, f'{first}.crl')}"
    yield "remote-cert-tls client"
    yield from MODERN
    yield "dh none"
    if linux:
        yield "script-security 2"
        yield f'up "/bin/sh {folder}/{end.name}.sh"'
        yield f'down "/bin/sh {folder}/{end.name}.sh"'
    yield "verb 3"


def _path(system: str, folder: str, name: str) -> str:
    """A path as openvpn(8) reads it: quoted, and each backslash twice."""
    if system == "linux":
        return f"{folder}/{name}"
    if system == "macos":
        return f'"{folder}/{name}"'
    whole = f"{folder}\\{name}".replace("\\", "\\\\")
    return f'"{whole}"'


def _daemon(name: str, folder: str) -> str:
    """What starts it on macOS, for launchd.plist(5)."""
    words = "".join(f"<string>{escape(one, quote=False)}</string>" for one in ("openvpn", f"{folder}/{name}.conf"))
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        '<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">\n'
        f'<plist version="1.0"><dict>\n<key>Label</key><string>{escape(name, quote=False)}</string>\n'
        f"<key>ProgramArguments</key><array><string>/usr/bin/env</string>{words}</array>\n"
        "<key>EnvironmentVariables</key><dict><key>PATH</key>"
        "<string>/opt/homebrew/sbin:/usr/local/sbin:/usr/sbin:/usr/bin:/sbin:/bin</string></dict>\n"
        "<key>RunAtLoad</key><true/>\n<key>KeepAlive</key><true/>\n</dict></plist>\n"
    )


def _script(site: Site, key: str, end: ServerEnd, today: date, folder: str) -> Iterator[str]:
    """What the server does when the tunnel comes up and goes down."""
    yield "#!/bin/sh"
    yield f"# {key}: what OpenVPN runs when the tunnel comes up and when it has gone down. Made by Hooper."
    yield "set -e"
    yield 'case "$script_type" in'
    yield "up)"
    yield from (f"    {command}" for command in coming_up(site, key, end, today, folder))
    for network in end.subnets:  # not by ifconfig-ipv6, which ends the server where IPv6 is switched off
        if network.version == 6:
            yield f"    {with_ipv6('$dev', f'{network[1]}/{network.prefixlen}')}"
    yield "    ;;"
    yield f"down) {going_down(end)} ;;"
    yield "esac"


def _peers_of(site: Site, key: str, end: ServerEnd, today: date) -> dict[str, str]:
    """The files for single peers: each has its address, and is told what goes into the tunnel."""
    files = {}
    for name, peer in let_in(site, key, today).items():
        assert peer.public_key is not None
        lines = [f"# {name}. Made by Hooper.", *_told(site, name, end)]
        files[f"{end.name}-peers/{peer_name(name, peer.public_key)}"] = "\n".join(lines) + "\n"
    return files


def _told(site: Site, key: str, end: ServerEnd) -> Iterator[str]:
    peer = site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    everything = into_for(site, peer) == ("everything",)
    six = [network for network in end.subnets if network.version == 6]
    for address in addresses_at(end, tunnel, peer):
        network = next(one for one in end.subnets if one.version == address.version)
        if isinstance(network, IPv4Network):
            yield f"ifconfig-push {address} {network.netmask}"
        else:
            yield f"ifconfig-ipv6-push {address}/{network.prefixlen} {network[1]}"
    if everything:
        yield 'push "redirect-gateway def1 ipv6"'
        if not six:  # else IPv6 would go past the tunnel
            yield f'push "ifconfig-ipv6 {NO_IPV6[2]}/64 {NO_IPV6[1]}"'
            yield 'push "block-ipv6"'
        if tunnel.dns:  # Windows asks all servers that it knows, those outside too
            yield 'push "block-outside-dns"'
    else:
        for allowed in allowed_networks(site, key):
            if isinstance(allowed, IPv4Network) and not allowed.subnet_of(end.subnets[0]):  # type: ignore[arg-type]
                yield f'push "route {allowed.network_address} {allowed.netmask}"'
            elif isinstance(allowed, IPv6Network) and six and not allowed.subnet_of(six[0]):
                yield f'push "route-ipv6 {allowed}"'
    for server in tunnel.dns:
        yield f'push "dhcp-option DNS{"6" if server.version == 6 else ""} {server}"'
