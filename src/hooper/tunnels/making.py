"""The files of tunnels of all kinds: one answer to what both sides are given."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import TYPE_CHECKING

from hooper.tunnels import ipsec_files, openvpn_files, ssh_files, wireguard_files
from hooper.tunnels.authority import TunnelAuthority, make_authority
from hooper.tunnels.common import KeyMissing, Profile, ServerFiles
from hooper.tunnels.ipsec_files import IpsecProfile
from hooper.tunnels.openvpn_files import OpenVpnProfile
from hooper.tunnels.ssh_files import SshProfile
from hooper.tunnels.wireguard_files import WireGuardProfile

if TYPE_CHECKING:
    from datetime import date

    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.planning.values import Plan
    from hooper.site.model import Site
    from hooper.tunnels.keys import KeyRing

FOLDERS = {"wireguard": wireguard_files.FOLDER, "openvpn": openvpn_files.FOLDER, "ssh": ssh_files.FOLDER}


def profile_of(topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
    """What the file of a peer is to say. public: the lines' addresses, as far as known.

    Raises: NoEndpoint, KeyMissing.
    """
    kind = topology.site.tunnels[topology.site.peers[key].tunnel].kind
    if kind == "ipsec":
        return ipsec_files.profile_of(topology, key, public)
    if kind == "ssh":
        return ssh_files.profile_of(topology, key, public)
    if kind == "openvpn":
        return openvpn_files.profile_of(topology, key, public)
    return wireguard_files.profile_of(topology, key, public)


def peer_files(topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
    """The files that a peer's software loads, by name: of all kinds but SSH it is one.

    Raises: KeyMissing, MachineError.
    """
    if isinstance(profile, SshProfile):
        return ssh_files.peer_files(topology, profile, ring)
    if isinstance(profile, IpsecProfile):
        return ipsec_files.peer_files(topology, profile, ring)
    if isinstance(profile, OpenVpnProfile):
        authority = TunnelAuthority(ring, profile.server, profile.tunnel)
        text = openvpn_files.peer_file(topology, profile, authority, today)
    else:
        assert isinstance(profile, WireGuardProfile)
        text = wireguard_files.peer_file(topology, profile, ring)
    return {f"{profile.peer}{profile.ending}": text}


def as_one(profile: Profile, files: dict[str, str]) -> bytes:
    """What a peer is given, as one file."""
    if isinstance(profile, SshProfile):
        return ssh_files.archive(files)
    (text,) = files.values()
    return text.encode()


def server_mark(topology: Topology, key: str, today: date, plan: Plan | None) -> str:
    """What the server's files are known by: it changes when they have to be made and loaded anew."""
    makers = {"openvpn": openvpn_files.server_mark, "ssh": ssh_files.server_mark}
    kind = topology.site.tunnels[key].kind
    if kind in makers:
        return makers[kind](topology, key, today)
    return wireguard_files.server_mark(topology, key, today, plan)


def server_files(
    topology: Topology, key: str, ring: KeyRing, now: datetime, folder: str, plan: Plan | None = None
) -> ServerFiles:
    """All that the server loads. now: peers whose time is over are left out. folder: where they will stand on it.

    plan: for a tunnel to a rented machine, which forwards by it.

    Raises: KeyMissing, MachineError.
    """
    tunnel, today = topology.site.tunnels[key], now.date()
    if tunnel.kind == "openvpn":
        authority = TunnelAuthority(ring, tunnel.public_key or "sha256:-", key)
        return openvpn_files.server_files(topology, key, authority, now, today, folder)
    if tunnel.kind == "ssh":
        return ssh_files.server_files(topology, key, today, folder)
    return wireguard_files.server_files(topology, key, ring, today, folder, plan)


# --- keys


def certificate_ends(ring: KeyRing, site: Site, key: str) -> datetime | None:
    """When the certificate of a peer ends; None: it has none of our making. Raises: MachineError: it is damaged."""
    peer = site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    if tunnel.kind != "openvpn" or tunnel.made_by != "hooper" or peer.public_key is None or tunnel.public_key is None:
        return None
    try:
        found = TunnelAuthority(ring, tunnel.public_key, peer.tunnel).certificate_of(peer.public_key)
    except KeyMissing:
        return None
    return found.not_valid_after_utc if found is not None else None


def new_server_key(ring: KeyRing, site: Site, key: str, kind: str, now: datetime) -> str:
    """A server's key of our making, kept; returns its public one, as the site file has it. Raises: MachineError."""
    if kind == "openvpn":
        return make_authority(ring, key, site.site.title or "home", now)
    return ring.make()


def new_peer_key(ring: KeyRing, site: Site, peer: str, tunnel: str, until: date | None, now: datetime) -> str:
    """A peer's key of our making, kept; returns its public one. Raises: KeyMissing, MachineError."""
    entry = site.tunnels[tunnel]
    if entry.kind == "openvpn":
        return TunnelAuthority(ring, entry.public_key or "sha256:-", tunnel).issue(peer, until, now)
    if entry.kind == "ssh":
        return ring.make_ssh()
    return ring.make(shared=True)
