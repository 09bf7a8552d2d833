"""What a person enters into the VPN settings of a device for a router's or storage box's own IPsec, in words of such
settings.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from hooper.planning.access import into_for
from hooper.tunnels.common import Profile, at, found_at, mark_of, title_of, user_of
from hooper.tunnels.keys import proposed
from hooper.tunnels.page_fields import SHARED

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.tunnels.keys import KeyRing


@dataclass(frozen=True)
class IpsecProfile(Profile):
    """host: what is entered as server. user: whom it logs in as. l2tp: with L2TP inside. whole: all traffic goes in."""

    host: str
    user: str
    l2tp: bool
    whole: bool
    ending = ".txt"


def profile_of(topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> IpsecProfile:
    """What a peer is to enter. public: the lines' addresses, as far as known. Raises: NoEndpoint."""
    site, peer = topology.site, topology.site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    where, user = found_at(topology, key, tunnel.service, public), user_of(peer, key)
    whole = into_for(site, peer) == ("everything",)
    return IpsecProfile(
        key, peer.tunnel, at(where), mark_of(f"{peer.tunnel}/{user}"), "", (), where.host, user, tunnel.l2tp, whole
    )


def peer_files(topology: Topology, profile: IpsecProfile, ring: KeyRing) -> dict[str, str]:
    """One file with all that is entered. Raises: MachineError."""
    secret = proposed(ring, profile.tunnel, (profile.peer,))
    head = f"# {profile.peer}: a way into {title_of(topology.site)}. Made by Hooper. For this one device alone."
    return {f"{profile.peer}.txt": "\n".join([head, "", *_lines(profile, secret)]) + "\n"}


def _lines(profile: IpsecProfile, secret: Mapping[str, str]) -> Iterator[str]:
    kind = "L2TP/IPsec with a pre-shared key" if profile.l2tp else "IKEv2 (on Android: IKEv2/IPsec MSCHAPv2 or PSK)"
    yield f"type: {kind}"
    yield f"server, address: {profile.host}"
    if not profile.l2tp:
        yield f"remote ID, IPsec identifier of the server: {profile.host}"
        yield "local ID: leave empty"
    yield f"secret, pre-shared key: {secret[SHARED]}"
    yield f"account, user name: {profile.user}"
    yield f"password: {secret[profile.peer]}"
    yield f"send all traffic: {'on' if profile.whole else 'off'}"
