"""What is made with each of our own kinds of tunnel."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import TYPE_CHECKING, cast

from hooper.added import added
from hooper.site import tunnel_kinds
from hooper.tunnels import ipsec_files, loading, maker_files, openvpn_files, ssh_files, wireguard_files
from hooper.tunnels import page_fields as fields
from hooper.tunnels.common import KeyMissing, Profile, ServerFiles
from hooper.tunnels.documents import Field
from hooper.tunnels.ipsec_files import IpsecProfile
from hooper.tunnels.maker_files import MakerProfile
from hooper.tunnels.openvpn_authority import TunnelAuthority, make_authority
from hooper.tunnels.openvpn_files import OpenVpnProfile
from hooper.tunnels.ssh_files import SshProfile
from hooper.tunnels.wireguard_files import WireGuardProfile
from hooper.tunnels.works import Software, Works
from hooper.words.data import data

if TYPE_CHECKING:
    from datetime import date

    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.planning.values import Plan
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer, Tunnel
    from hooper.tunnels.keys import KeyRing


class WireGuardWorks(Works):
    kind, software = tunnel_kinds.OWN["wireguard"], Software(**data("software")["wireguard"])
    folder = wireguard_files.FOLDER

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
        return loading.of_wireguard(site, key, folder, again=again)

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        return fields.of_wireguard(topology, key)


class OpenVpnWorks(Works):
    kind, software = tunnel_kinds.OWN["openvpn"], Software(**data("software")["openvpn"])
    folder = openvpn_files.FOLDER

    def folder_on(self, system: str) -> str:
        return openvpn_files.FOLDERS[system]

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
        return loading.of_openvpn(site, key, folder, again=again)

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
        return fields.of_openvpn(topology, key)

    def peer_fields(self, topology: Topology, tunnel: Tunnel, key: str, peer: Peer) -> Iterator[Field]:
        return fields.peer_of_openvpn(key, peer)


class SshWorks(Works):
    kind, software = tunnel_kinds.OWN["ssh"], Software(**data("software")["ssh"])
    folder = ssh_files.FOLDER

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
        return loading.of_ssh(site, key, folder, again=again)

    def new_peer_key(self, ring: KeyRing, site: Site, peer: str, tunnel: str, until: date | None, now: datetime) -> str:
        return ring.make_ssh()

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        return fields.of_ssh(topology, key)

    def peer_fields(self, topology: Topology, tunnel: Tunnel, key: str, peer: Peer) -> Iterator[Field]:
        return fields.peer_of_ssh(topology.site, key, peer)


class IpsecWorks(Works):
    kind, software = tunnel_kinds.OWN["ipsec"], Software(**data("software")["ipsec"])

    def profile_of(self, topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
        return ipsec_files.profile_of(topology, key, public)

    def peer_files(self, topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
        assert isinstance(profile, IpsecProfile)
        return ipsec_files.peer_files(topology, profile, ring)

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        return fields.of_ipsec(topology, key, secrets)


class MakerWorks(Works):
    kind, software = tunnel_kinds.OWN["maker"], Software(**data("software")["maker"])

    def profile_of(self, topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
        return maker_files.profile_of(topology, key, public)

    def peer_files(self, topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
        assert isinstance(profile, MakerProfile)
        return maker_files.peer_files(topology, profile, ring)

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        return fields.of_maker(topology, key)


def _authority(ring: KeyRing, site: Site, key: str) -> TunnelAuthority:
    """What makes the certificates of a tunnel."""
    return TunnelAuthority(ring, site.tunnels[key].public_key or "sha256:-", key)


OWN: dict[str, Works] = {
    one.kind.name: one for one in (WireGuardWorks(), OpenVpnWorks(), SshWorks(), IpsecWorks(), MakerWorks())
}


def works_of(kind: str) -> Works:
    """What makes a kind of tunnel. Raises: KeyError: there is none such; AddedWrong."""
    found = OWN.get(kind)
    return found if found is not None else cast(Works, added("hooper.tunnels", kind, of=Works))
