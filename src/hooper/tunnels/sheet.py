"""What to enter on the page of a device that makes a tunnel by itself, field by field, in such pages' words. Pure.

Secrets are put in by whoever has them; without them, a field says where they stand.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import ends, interface_name, into_for, mtu_of, peer_addresses, server_addresses
from hooper.planning.local_ports import forwards_of
from hooper.planning.tunnel_edits import LOGIN
from hooper.planning.typed import Typed, typed
from hooper.tunnels.rows import Field, PeerFields
from hooper.tunnels.works import works_of

if TYPE_CHECKING:
    from hooper.planning.topology import Topology
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer, Tunnel

SHARED = "shared"  # the name of the secret that all have; those of peers go by their keys
Secrets = Mapping[str, str]


def user_of(peer: Peer, key: str) -> str:
    """Whom a peer logs in as on the device."""
    return peer.user or key


def wants_secret(tunnel: Tunnel) -> bool:
    """Whether all peers of a device's own tunnel share a secret that is typed on both sides."""
    return tunnel.made_by == "device" and tunnel.of.one_secret


def _outside(topology: Topology, key: str) -> str:
    where = typed(topology, topology.site.tunnels[key].service)
    return where.host if where is not None else "the name of the line, once it has one"


def of_wireguard(topology: Topology, key: str) -> Iterator[Field]:
    tunnel = topology.site.tunnels[key]
    pairs = zip(server_addresses(tunnel), tunnel.subnets, strict=True)
    yield Field("name of the interface or tunnel", interface_name(key))
    yield Field("address in the tunnel", ", ".join(f"{address}/{subnet.prefixlen}" for address, subnet in pairs))
    yield Field("listening port (UDP)", str(topology.site.services[tunnel.service].used_ports))
    yield Field("MTU", str(mtu_of(topology, tunnel)))
    yield Field("public key", tunnel.public_key or "as its page shows it: write it down here")


def of_openvpn(topology: Topology, key: str) -> Iterator[Field]:
    site, tunnel = topology.site, topology.site.tunnels[key]
    service, where = site.services[tunnel.service], typed(topology, tunnel.service)
    yield Field("mode, device type", "TUN (routing, layer 3); never TAP (bridging): phones cannot do that")
    yield Field("protocol", service.used_transport.upper())
    yield Field("port of the server", str(service.used_ports.first))
    yield Field("public name or DDNS name in exported files", _outside(topology, key))
    yield Field("public port in exported files", str(where.port) if where is not None else "the outside one")
    yield Field("VPN network, mask", f"{tunnel.network.network_address}, {tunnel.network.netmask}")
    yield Field("clients may reach", _scope(tunnel.into))
    yield Field("DNS for clients", ", ".join(map(str, tunnel.dns)) or "leave empty")
    yield Field("data cipher", "AES-256-GCM, with AES-128-GCM as another choice; never Blowfish or DES")
    yield Field("authentication (HMAC)", "SHA-256")
    yield Field("compression", "off")
    yield Field("TLS key for the control channel", "tls-crypt where it can, else tls-auth")
    yield Field("how clients log in", "a certificate for each device; a user and password too, where it can")
    if tunnel.public_key is not None:
        yield Field("authority (CA), fingerprint of its key", tunnel.public_key)
    if tunnel.also is not None:
        also = site.services[tunnel.also]
        yield Field("second server", f"{also.used_transport.upper()}, port {also.used_ports.first}")


def of_ipsec(topology: Topology, key: str, secrets: Secrets) -> Iterator[Field]:
    tunnel = topology.site.tunnels[key]
    first, last = tunnel.network[10], tunnel.network[-2]
    yield Field("kind of server", "L2TP over IPsec" if tunnel.l2tp else "IPsec, IKEv2 (remote access)")
    yield Field("pre-shared key, shared secret", secrets.get(SHARED, _elsewhere(key)))
    yield Field("own identity (local ID)", _outside(topology, key))
    yield Field("peer identity (remote ID)", "any")
    yield Field("addresses for clients, from - to", f"{first} - {last}")
    yield Field("server's address in the tunnel", str(tunnel.network[1]))
    yield Field("DNS for clients", ", ".join(map(str, tunnel.dns)) or "leave empty")
    yield Field("encryption, hash, group", "AES-256, SHA-256, group 14 or higher; never DES, 3DES, MD5, group 2")
    yield Field("NAT traversal (NAT-T)", "on: all that comes from outside comes through NAT")
    yield Field("dead peer detection", "on")
    yield Field("ports", "UDP 500 and 4500, which cannot be changed; UDP 1701 stays shut, it goes inside IPsec")
    if tunnel.l2tp:
        yield Field("login inside L2TP", "MS-CHAPv2; never PAP or CHAP")


def of_ssh(topology: Topology, key: str) -> Iterator[Field]:
    tunnel = topology.site.tunnels[key]
    yield Field("port of the SSH server", str(topology.site.services[tunnel.service].used_ports.first))
    yield Field("login with a password", "off: keys alone")
    yield Field("login as root or admin", "off")
    yield Field("user of the peers", f"{tunnel.login or LOGIN}, without a shell")
    yield Field("TCP forwarding (tunnelling)", "on")
    yield Field("host key", tunnel.public_key or f"not written down yet: `{deeds.RENEW_TUNNEL(key)}` at home")


def _elsewhere(key: str) -> str:
    return f"a long one by chance: it stands in the file that `{deeds.MAKE_TUNNEL(key)}` writes for you alone"


def _scope(into: tuple[str, ...]) -> str:
    if into == ("everything",):
        return "the internet and the LAN"
    return "the LAN only" if into == ("lan",) else f"the LAN only, if it cannot say {', '.join(into)}"


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


def peer_of_openvpn(key: str, peer: Peer) -> Iterator[Field]:
    """What a server of OpenVPN knows of a peer."""
    yield Field("key of its certificate", peer.public_key or f"none: `{deeds.RENEW_PEER(key)}` makes one")
    yield Field("address", ", ".join(map(str, peer_addresses(peer))))


def peer_of_ssh(site: Site, key: str, peer: Peer) -> Iterator[Field]:
    """What a server of SSH knows of a peer."""
    yield Field("public key", peer.public_key or f"none: `{deeds.RENEW_PEER(key)}` makes one")
    yield Field("ports on its device", ", ".join(f"{one.local} ({one.service})" for one in forwards_of(site, key)))


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
    if tunnel.one_secret or wants_secret(tunnel):
        yield (
            "All its peers share one secret: who loses a device takes it from all. To shut one out, it has to change on"
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
    typed_here = wants_secret(tunnel)
    if not typed_here:
        yield f"on {host}, first: make the new key or secret on its page, and export the files anew"
    for name, peer in ordered:
        whose = f"{peer.person}'s {peer.device} ({name})" if peer.person else f"the {peer.device} ({name})"
        what = "the new shared secret" if typed_here else "its new file"
        while_up = ", while the tunnel still is there" if typed_here and peer.device in far else ""
        yield f"on {whose}: {what}{while_up}"
    if typed_here:
        yield f"on {host}, last: the new shared secret; who has the old one is cut off from then on"
    elif tunnel.of.keyed:
        yield f"its new public key, here: `{deeds.CHANGE_TUNNEL_KEY(key)}`"
