"""What to enter on the page of a device that makes a tunnel by itself, field by field, in such pages' words.

Secrets are put in by whoever has them; without them, a field says where they stand.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import ends, into_for, peer_addresses
from hooper.planning.typed import Typed, typed
from hooper.tunnels.common import user_of
from hooper.tunnels.documents import Field, PeerFields
from hooper.tunnels.making import works_of

if TYPE_CHECKING:
    from hooper.planning.topology import Topology
    from hooper.site.tunnel_tables import Peer, Tunnel

Secrets = Mapping[str, str]


def is_typed_in(tunnel: Tunnel) -> bool:
    """Whether what a peer of a device's own tunnel has is typed on both sides: a user, a password, a secret."""
    return tunnel.made_by == "device" and tunnel.of.typed_in


def shares_secret(tunnel: Tunnel) -> bool:
    """Whether all peers of a device's own tunnel share a secret that is typed on both sides."""
    return is_typed_in(tunnel) and tunnel.of.one_secret


# --- peers


def peers_fields(topology: Topology, key: str, peers: Mapping[str, Peer], secrets: Secrets) -> Iterator[PeerFields]:
    """What the server's page is told of each peer."""
    tunnel = topology.site.tunnels[key]
    for name, peer in peers.items():
        yield PeerFields(name, tuple(_peer(topology, tunnel, name, peer, secrets)))
    if tunnel.probe_key is not None:
        none = f"none; where the page wants one, {tunnel.network[-2]}/32, which nobody has"
        fields = (Field("public key", tunnel.probe_key), Field("allowed addresses (allowed IPs)", none))
        yield PeerFields("the probe, for checks", fields)


def _peer(topology: Topology, tunnel: Tunnel, key: str, peer: Peer, secrets: Secrets) -> Iterator[Field]:
    site = topology.site
    if tunnel.of.keyed:
        yield Field("public key", peer.public_key or "as the page makes it: write it down here")
        addresses = ", ".join(f"{one}/{one.max_prefixlen}" for one in peer_addresses(peer))
        yield Field("allowed addresses (allowed IPs)", addresses)
        yield Field("endpoint", "leave empty: the peer is the one that calls")
        yield Field("persistent keepalive", "leave empty")
        return
    yield Field("whose", f"{peer.person or 'not said'}, {peer.device}")
    if tunnel.made_by == "device":
        yield Field("user name", user_of(peer, key))
        yield Field("password", secrets.get(key, "a long one by chance, of its own"))
        if peer.address is not None:
            yield Field("fixed address", str(peer.address))
    else:
        yield from works_of(tunnel.kind).peer_fields(topology, tunnel, key, peer)
    yield Field("may reach", ", ".join(into_for(site, peer)))


# --- steps


def device_steps(topology: Topology, key: str) -> Iterator[str]:
    """What to do on the device, in order: its password first."""
    site, tunnel = topology.site, topology.site.tunnels[key]
    host = site.services[tunnel.service].host
    device = site.devices[host]
    if not device.ready.default_password_changed:
        yield f"First: change the default password of {host}. Then `{deeds.TICK(host, 'default_password_changed')}`."
    yield f"On the page of {host} for {tunnel.of.page}: enter the fields above, then one peer after the other."
    where = typed(topology, tunnel.service)
    if tunnel.of.server_key:
        yield from _exported(where)
    if is_typed_in(tunnel) and not shares_secret(tunnel) and not device.ready.relay_off:
        yield (
            f"Switch the relay of its maker off on {host}, so that nobody comes past the plan; then"
            f" `{deeds.TICK(host, 'relay_off')}`."
        )
    if tunnel.one_secret or shares_secret(tunnel):
        yield (
            "All its peers share one secret: who loses a device takes it from all. To keep one out, it has to change on"
            f" each: `{deeds.RENEW_TUNNEL(key)}` lists them."
        )
    for end in ends(site, key):
        if site.services[end.service].reach != "public":
            yield f"Make {end.service} public, so that its rule is planned: `{deeds.MAKE_PUBLIC(end.service)}`."


def _exported(where: Typed | None) -> Iterator[str]:
    if where is not None:
        yield (
            f"Where it makes the peers' files itself: have it write {where.host} and port {where.port} into them, or"
            f" they lead to its inner address. Export them, and look at each with `{deeds.CHECK_PROFILE}`."
        )
    else:
        yield f"Where it makes the peers' files itself: export them, and look at each with `{deeds.CHECK_PROFILE}`."


def to_change(topology: Topology, key: str) -> Iterator[str]:
    """All places where another secret of a tunnel has to be entered, in the order in which that works.

    A secret that is typed on both sides is changed on the server last, while those far away can still be reached
    through it; one that the server's page makes begins there.
    """
    site, tunnel = topology.site, topology.site.tunnels[key]
    host = site.services[tunnel.service].host
    peers = [(name, peer) for name, peer in site.peers.items() if peer.tunnel == key]
    far = ("router", "server")  # at other places, where perhaps nobody is
    ordered = sorted(peers, key=lambda one: one[1].device not in far)
    typed_here = shares_secret(tunnel)
    if is_typed_in(tunnel) and not typed_here:
        yield f"on {host}, first: another password for each of its users, one after the other"
    elif not typed_here:
        yield f"on {host}, first: make the new key or secret on its page, and export the files anew"
    for name, peer in ordered:
        whose = f"{peer.person}'s {peer.device} ({name})" if peer.person else f"the {peer.device} ({name})"
        what = "its new password" if is_typed_in(tunnel) else "its new file"
        what = "the new shared secret" if typed_here else what
        while_up = ", while the tunnel still is there" if typed_here and peer.device in far else ""
        yield f"on {whose}: {what}{while_up}"
    if typed_here:
        yield f"on {host}, last: the new shared secret; who has the old one is cut off from then on"
    elif tunnel.of.keyed:
        yield f"its new public key, here: `{deeds.CHANGE_TUNNEL_KEY(key)}`"
