"""What is made with each of our own kinds of tunnel."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import TYPE_CHECKING

from hooper.site import tunnel_kinds
from hooper.tunnels import ipsec_files, openvpn_files, sheet, ssh_files, wireguard_files, words
from hooper.tunnels.authority import TunnelAuthority, make_authority
from hooper.tunnels.common import KeyMissing, Profile, ServerFiles
from hooper.tunnels.ipsec_files import IpsecProfile
from hooper.tunnels.openvpn_files import OpenVpnProfile
from hooper.tunnels.rows import Field
from hooper.tunnels.ssh_files import SshProfile
from hooper.tunnels.wireguard_files import WireGuardProfile
from hooper.tunnels.works import Software, Works

if TYPE_CHECKING:
    from datetime import date

    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.planning.values import Plan
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer, Tunnel
    from hooper.tunnels.keys import KeyRing


class WireGuardWorks(Works):
    kind = tunnel_kinds.OWN["wireguard"]
    folder = wireguard_files.FOLDER
    software = Software(
        "the app WireGuard",
        "In the app, tap + and choose to import a file; take this one.",
        "Install WireGuard: on Windows and macOS the app, on Linux the package wireguard-tools.",
        "on Linux copy it to /etc/wireguard/{name}.conf and run wg-quick up {name}",
        "On the router's page for WireGuard, as a client: import the file, or enter its lines one by one.",
        "Copy the file to /etc/wireguard/{name}.conf, for root alone; systemctl enable --now wg-quick@{name}: it starts"
        " by itself after a power cut.",
        "It says nothing of itself while nobody uses it. Both sides connected: the app shows a latest handshake.",
        "The app shows no latest handshake within a minute: nothing goes through.",
    )

    def profile_of(self, topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
        return wireguard_files.profile_of(topology, key, public)

    def peer_files(self, topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
        assert isinstance(profile, WireGuardProfile)
        return {f"{profile.peer}{profile.ending}": wireguard_files.peer_file(topology, profile, ring)}

    def server_mark(self, topology: Topology, key: str, today: date, plan: Plan | None) -> str:
        return wireguard_files.server_mark(topology, key, today, plan)

    def server_files(
        self, topology: Topology, key: str, ring: KeyRing, now: datetime, folder: str, plan: Plan | None = None
    ) -> ServerFiles:
        return wireguard_files.server_files(topology, key, ring, now.date(), folder, plan)

    def loading(self, site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
        return words.loading_wireguard(site, key, folder, again=again)

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        return sheet.of_wireguard(topology, key)


class OpenVpnWorks(Works):
    kind = tunnel_kinds.OWN["openvpn"]
    folder = openvpn_files.FOLDER
    software = Software(
        "an app for OpenVPN",
        "Open the file on the phone, and choose the app for OpenVPN; or in the app, choose to import a file.",
        "Install OpenVPN: on Windows and macOS an app for it, on Linux the package openvpn.",
        "on Linux copy it to /etc/openvpn/client/{name}.conf, for root alone, and run systemctl start"
        " openvpn-client@{name}",
        "On the router's page for VPN clients, OpenVPN: import the file.",
        "Copy the file to /etc/openvpn/client/{name}.conf, for root alone; systemctl enable --now"
        " openvpn-client@{name}: it starts by itself after a power cut.",
        "Both sides connected: the app says so within ten seconds, and shows its address in the tunnel.",
        "The app does not say within a minute that it is connected: nothing goes through.",
    )

    def profile_of(self, topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
        return openvpn_files.profile_of(topology, key, public)

    def peer_files(self, topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
        assert isinstance(profile, OpenVpnProfile)
        authority = TunnelAuthority(ring, profile.server, profile.tunnel)
        text = openvpn_files.peer_file(topology, profile, authority, today)
        return {f"{profile.peer}{profile.ending}": text}

    def server_mark(self, topology: Topology, key: str, today: date, plan: Plan | None) -> str:
        return openvpn_files.server_mark(topology, key, today)

    def server_files(
        self, topology: Topology, key: str, ring: KeyRing, now: datetime, folder: str, plan: Plan | None = None
    ) -> ServerFiles:
        authority = _authority(ring, topology.site, key)
        return openvpn_files.server_files(topology, key, authority, now, now.date(), folder)

    def loading(self, site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
        return words.loading_openvpn(site, key, folder, again=again)

    def new_server_key(self, ring: KeyRing, site: Site, key: str, now: datetime) -> str:
        return make_authority(ring, key, site.site.title or "home", now)

    def new_peer_key(self, ring: KeyRing, site: Site, peer: str, tunnel: str, until: date | None, now: datetime) -> str:
        return _authority(ring, site, tunnel).issue(peer, until, now)

    def certificate_ends(self, ring: KeyRing, site: Site, key: str) -> datetime | None:
        peer, tunnel = site.peers[key], site.tunnels[site.peers[key].tunnel]
        if tunnel.made_by != "hooper" or peer.public_key is None or tunnel.public_key is None:
            return None
        try:
            found = _authority(ring, site, peer.tunnel).certificate_of(peer.public_key)
        except KeyMissing:
            return None
        return found.not_valid_after_utc if found is not None else None

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        return sheet.of_openvpn(topology, key)

    def peer_fields(self, topology: Topology, tunnel: Tunnel, key: str, peer: Peer) -> Iterator[Field]:
        return sheet.peer_of_openvpn(key, peer)


class SshWorks(Works):
    kind = tunnel_kinds.OWN["ssh"]
    folder = ssh_files.FOLDER
    software = Software(
        "an app for SSH that can forward ports",
        "",
        "On Windows, macOS and Linux, OpenSSH is there already: `ssh -V` in a terminal says so.",
        "",
        "",
        "",
        "While it works it says nothing at all: leave its window open.",
        "It says that a port cannot be forwarded, that the host key is not known or has changed, or asks for a"
        " password: nothing goes through.",
    )

    def profile_of(self, topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
        return ssh_files.profile_of(topology, key, public)

    def peer_files(self, topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
        assert isinstance(profile, SshProfile)
        return ssh_files.peer_files(topology, profile, ring)

    def as_one(self, files: Mapping[str, str]) -> bytes:
        return ssh_files.archive(files)

    def server_mark(self, topology: Topology, key: str, today: date, plan: Plan | None) -> str:
        return ssh_files.server_mark(topology, key, today)

    def server_files(
        self, topology: Topology, key: str, ring: KeyRing, now: datetime, folder: str, plan: Plan | None = None
    ) -> ServerFiles:
        return ssh_files.server_files(topology, key, now.date(), folder)

    def loading(self, site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
        return words.loading_ssh(site, key, folder, again=again)

    def new_peer_key(self, ring: KeyRing, site: Site, peer: str, tunnel: str, until: date | None, now: datetime) -> str:
        return ring.make_ssh()

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        return sheet.of_ssh(topology, key)

    def peer_fields(self, topology: Topology, tunnel: Tunnel, key: str, peer: Peer) -> Iterator[Field]:
        return sheet.peer_of_ssh(topology.site, key, peer)


class IpsecWorks(Works):
    kind = tunnel_kinds.OWN["ipsec"]
    software = Software(
        "nothing: VPN settings are there already",
        "In the settings, under VPN, add one, and enter each line of the file; delete the file then.",
        "In the settings for networks or VPN, add one; enter each line of the file, and delete it then.",
        "on Linux the packages network-manager-strongswan or network-manager-l2tp bring the settings for it",
        "On the router's page for VPN clients, IPsec: enter each line of the file.",
        "In the settings of its IPsec software: enter each line of the file.",
        "Both sides connected: the settings say so.",
        "It says that the server does not answer, or that the secret or the password is wrong: nothing goes through.",
    )

    def profile_of(self, topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
        return ipsec_files.profile_of(topology, key, public)

    def peer_files(self, topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
        assert isinstance(profile, IpsecProfile)
        return ipsec_files.peer_files(topology, profile, ring)

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        return sheet.of_ipsec(topology, key, secrets)


def _authority(ring: KeyRing, site: Site, key: str) -> TunnelAuthority:
    """What makes the certificates of a tunnel."""
    return TunnelAuthority(ring, site.tunnels[key].public_key or "sha256:-", key)


OWN: dict[str, Works] = {one.kind.name: one for one in (WireGuardWorks(), OpenVpnWorks(), SshWorks(), IpsecWorks())}
