"""The fields of the page of a device that makes a tunnel by itself, in such pages' words, by kind. Pure.

Secrets are put in by whoever has them; without them, a field says where they stand.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import interface_name, mtu_of, peer_addresses, server_addresses
from hooper.planning.local_ports import forwards_of
from hooper.planning.tunnel_edits import LOGIN
from hooper.planning.typed import typed
from hooper.tunnels.documents import Field

if TYPE_CHECKING:
    from hooper.planning.topology import Topology
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer

SHARED = "shared"  # the name of the secret that all have; those of peers go by their keys
Secrets = Mapping[str, str]


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
    yield Field("ports", "UDP 500 and 4500, which cannot be changed; UDP 1701 stays closed: it goes inside IPsec")
    if tunnel.l2tp:
        yield Field("login inside L2TP", "MS-CHAPv2; never PAP or CHAP")


def of_maker(topology: Topology, key: str) -> Iterator[Field]:
    tunnel = topology.site.tunnels[key]
    service, where = topology.site.services[tunnel.service], typed(topology, tunnel.service)
    outside = f", port {where.port}" if where is not None else ""
    yield Field("listening port", f"{service.used_transport.upper()} {service.used_ports}, and no other from outside")
    yield Field("address that clients are told", f"{_outside(topology, key)}{outside}")
    yield Field("users", "one for each peer below, with a password of its own; none of them an administrator")
    yield Field("administrator's password", "one that no user has; its page from the LAN alone")
    yield Field("guests, users without a password", "none")
    yield Field("relay, cloud or rendezvous of its maker", "off: peers come by the address above")
    yield Field("encryption", "TLS 1.2 or newer; clients check the certificate")
    yield Field("clients may reach", _scope(tunnel.into))


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


def peer_of_openvpn(key: str, peer: Peer) -> Iterator[Field]:
    """What a server of OpenVPN knows of a peer."""
    yield Field("key of its certificate", peer.public_key or f"none: `{deeds.RENEW_PEER(key)}` makes one")
    yield Field("address", ", ".join(map(str, peer_addresses(peer))))


def peer_of_ssh(site: Site, key: str, peer: Peer) -> Iterator[Field]:
    """What a server of SSH knows of a peer."""
    yield Field("public key", peer.public_key or f"none: `{deeds.RENEW_PEER(key)}` makes one")
    yield Field("ports on its device", ", ".join(f"{one.local} ({one.service})" for one in forwards_of(site, key)))
