"""What a person enters into a maker's own program, for a tunnel server that speaks to that program alone."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from hooper.planning.access import into_for
from hooper.tunnels.common import Profile, at, found_at, mark_of, title_of, user_of
from hooper.tunnels.keys import proposed

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.tunnels.keys import KeyRing


@dataclass(frozen=True)
class MakerProfile(Profile):
    """host, port: what is entered as server. user: whom it logs in as. whole: all traffic goes in."""

    host: str
    port: int
    user: str
    whole: bool
    ending = ".txt"


def profile_of(topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> MakerProfile:
    """What a peer is to enter. public: the lines' addresses, as far as known. Raises: NoEndpoint."""
    site, peer = topology.site, topology.site.peers[key]
    where, user = found_at(topology, key, site.tunnels[peer.tunnel].service, public), user_of(peer, key)
    whole = into_for(site, peer) == ("everything",)
    mark = mark_of(f"{peer.tunnel}/{user}")
    return MakerProfile(key, peer.tunnel, at(where), mark, "", (), where.host, where.port, user, whole)


def peer_files(topology: Topology, profile: MakerProfile, ring: KeyRing) -> dict[str, str]:
    """One file with all that is entered. Raises: MachineError."""
    secret = proposed(ring, profile.tunnel, (profile.peer,), shared=False)
    head = f"# {profile.peer}: a way into {title_of(topology.site)}. Made by Hooper. For this one device alone."
    return {f"{profile.peer}.txt": "\n".join([head, "", *_lines(profile, secret)]) + "\n"}


def _lines(profile: MakerProfile, secret: Mapping[str, str]) -> Iterator[str]:
    yield f"server, address: {profile.host}"
    yield f"port: {profile.port}"
    yield f"account, user name: {profile.user}"
    yield f"password: {secret[profile.peer]}"
    yield "server's certificate: to be checked; where it is a self-made one, note its fingerprint at home"
    yield "relay, proxy or account of the maker: none"
    yield f"send all traffic: {'on' if profile.whole else 'off'}"
