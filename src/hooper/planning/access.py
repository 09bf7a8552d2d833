"""Who reaches what through a tunnel: what each peer is granted, where that is enforced, and the numbers of both sides.

One answer for the files, the findings, the lists and the checks. Pure.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_network
from typing import TYPE_CHECKING, Literal, NamedTuple

from hooper import deeds
from hooper.planning.free_ports import transports
from hooper.planning.paths import gateway_of
from hooper.planning.topology import Topology
from hooper.ports import Ports, single
from hooper.site.model import Host, Service
from hooper.site.tunnel_references import into_of

if TYPE_CHECKING:
    from hooper.addresses import IPAddress, IPNetwork
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer, Tunnel

EVERYTHING4, EVERYTHING6 = IPv4Network("0.0.0.0/0"), IPv6Network("::/0")
LEAST_MTU = 1280  # what IPv6 needs (RFC 8200 section 5)
NAME_LENGTH = 15  # what Linux and wg-quick(8) take for an interface
KEEPALIVE_S = 25  # seconds; NATs forget a silent UDP flow after 30 or more (RFC 4787 section 4.3)


class Grant(NamedTuple):
    """What a peer may reach. transport: tcp, udp, both or an IP protocol's number; empty: all of it. ports: None: all.

    why: the item of `into` that grants it.
    """

    network: IPNetwork
    transport: str
    ports: Ports | None
    why: str

    def takes(self, to: IPAddress, transport: str, port: int) -> bool:
        """Whether it lets a packet through."""
        if to.version != self.network.version or to not in self.network:
            return False
        if not self.transport:
            return True
        return transport in transports(self.transport) and (self.ports is None or self.ports.has(port))


def into_for(site: Site, peer: Peer) -> tuple[str, ...]:
    """What a peer is to reach: as it says itself, else as its tunnel does."""
    return peer.into or site.tunnels[peer.tunnel].into


def lan_of(site: Site, tunnel: Tunnel) -> str:
    """The gateway whose LAN the server stands on."""
    return gateway_of(site, site.devices[site.services[tunnel.service].host])


def on_gateway(site: Site, tunnel: Tunnel) -> bool:
    """Whether it ends on the gateway of its LAN itself, which all devices answer by anyway."""
    gateway = site.gateways[lan_of(site, tunnel)]
    return site.devices[site.services[tunnel.service].host].address == gateway.lan.ip


def grants(site: Site, key: str) -> tuple[Grant, ...]:
    """What a peer may reach, and nothing else. key: of the peer."""
    peer = site.peers[key]
    return grants_in(site, site.tunnels[peer.tunnel], into_for(site, peer))


def grants_in(site: Site, tunnel: Tunnel, into: tuple[str, ...]) -> tuple[Grant, ...]:
    """What somebody may reach through a tunnel."""
    if not tunnel.of.whole:
        return tuple(dict.fromkeys(_by_ssh(site, tunnel, into)))
    if into == ("everything",):
        return Grant(EVERYTHING4, "", None, "everything"), Grant(EVERYTHING6, "", None, "everything")
    found = [grant for item in into for grant in _granted(site, tunnel, item)]
    covered = [grant.network for grant in found if not grant.transport]
    for server in tunnel.dns:
        if not any(server.version == one.version and server in one for one in covered) and inside(site, server):
            found.append(Grant(ip_network(server), "both", single(53), "dns"))
    return tuple(dict.fromkeys(found))


def _granted(site: Site, tunnel: Tunnel, item: str) -> Iterator[Grant]:
    if item == "lan":
        gateway = site.gateways[lan_of(site, tunnel)]
        yield Grant(gateway.lan.network, "", None, item)
        if tunnel.subnet6 is not None and gateway.prefix6 is not None:
            yield Grant(IPv6Network(str(ip_network(str(gateway.prefix6), strict=False))), "", None, item)
        return
    meant = into_of(site, item)
    assert meant is not None
    if isinstance(meant, Service):
        device = site.devices[meant.host]
        ports = meant.used_ports if meant.has_ports else None
        for address in _addresses(device, tunnel):
            yield Grant(ip_network(address), meant.used_transport, ports, item)
    elif isinstance(meant, Host):
        for address in _addresses(meant, tunnel):
            yield Grant(ip_network(address), "", None, item)
    else:
        yield Grant(meant, "", None, item)


def _by_ssh(site: Site, tunnel: Tunnel, into: tuple[str, ...]) -> Iterator[Grant]:
    """SSH carries TCP to single hosts; `lan` is each TCP service of the server's LAN that the file has."""
    if into == ("everything",):
        yield Grant(EVERYTHING4, "tcp", None, "everything")
        yield Grant(EVERYTHING6, "tcp", None, "everything")
        return
    lan = site.gateways[lan_of(site, tunnel)].lan.network
    for item in into:
        found = into_of(site, item) if item != "lan" else None
        if isinstance(found, Host):
            yield Grant(ip_network(found.address), "tcp", None, item)
        for key, service in site.services.items() if item == "lan" else ((item, found),):
            if isinstance(service, Service) and "tcp" in transports(service.used_transport) and key != tunnel.service:
                address = site.devices[service.host].address
                if item != "lan" or address in lan:
                    yield Grant(ip_network(address), "tcp", service.used_ports, item)


def _addresses(host: Host, tunnel: Tunnel) -> Iterator[IPAddress]:
    yield host.address
    if host.address6 is not None and tunnel.subnet6 is not None:
        yield host.address6


def inside(site: Site, address: IPAddress) -> bool:
    """Whether an address is of this site: of a LAN, or of a tunnel."""
    networks: list[IPNetwork] = [gateway.lan.network for gateway in site.gateways.values()]
    networks += [ip_network(str(gateway.prefix6)) for gateway in site.gateways.values() if gateway.prefix6 is not None]
    networks += [one for tunnel in site.tunnels.values() for one in tunnel.subnets]
    return any(address.version == network.version and address in network for network in networks)


def by_code(site: Site, key: str) -> bool:
    """Whether a peer can take its profile from a QR code."""
    peer = site.peers[key]
    return peer.device == "phone" and site.tunnels[peer.tunnel].of.by_code


def handing(site: Site, key: str) -> str:
    """How a peer is given its profile: a phone with WireGuard by a code, all others by a file."""
    ending = site.tunnels[site.peers[key].tunnel].of.ending
    return deeds.HAND(key) if by_code(site, key) else deeds.HAND_FILE(key, f"{key}{ending}")


def allowed_networks(site: Site, key: str) -> tuple[IPNetwork, ...]:
    """What a peer's own software sends into the tunnel: the networks of its grants, none inside another.

    This is for convenience: what a peer may reach is kept on the server.
    """
    peer = site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    found = allowed_in(site, tunnel, into_for(site, peer))
    without6 = tunnel.subnet6 is not None and peer.address is not None and peer.address6 is None
    return tuple(one for one in found if one.version == 4) if without6 else found  # its device has IPv6 switched off


def allowed_in(site: Site, tunnel: Tunnel, into: tuple[str, ...]) -> tuple[IPNetwork, ...]:
    """What software sends into a tunnel that may reach `into`."""
    networks = dict.fromkeys(grant.network for grant in grants_in(site, tunnel, into))
    networks |= dict.fromkeys(ip_network(address) for address in server_addresses(tunnel))  # who says that it may not
    return tuple(
        one
        for one in networks
        if not any(o != one and o.version == one.version and one.subnet_of(o) for o in networks)  # type: ignore[arg-type]
    )


def hidden_by(site: Site, key: str, target: IPAddress, around: Iterable[IPNetwork]) -> IPNetwork | None:
    """The network that a peer's device is in and that takes an address from its tunnel; None: none does.

    The longest prefix decides where a packet goes, and of equals one's own network. around: those that it is in.
    """
    sent = [net.prefixlen for net in allowed_networks(site, key) if net.version == target.version and target in net]
    near = (net for net in around if net.version == target.version and target in net)
    return next((net for net in near if net.prefixlen >= max(sent, default=0)), None)


Enforced = Literal["server", "nowhere"]


def enforced(tunnel: Tunnel) -> Enforced:
    """Where peers are kept to what they may reach: by the rules on a Linux server that we write; else nowhere."""
    return "server" if tunnel.made_by == "hooper" and tunnel.server == "linux" else "nowhere"


def limited(site: Site, key: str) -> bool:
    """Whether a peer is to reach less than its tunnel's whole LAN."""
    return into_for(site, site.peers[key]) not in (("everything",), ("lan",))


def peers_of(site: Site, tunnel: str) -> dict[str, Peer]:
    """The peers of a tunnel, by key."""
    return {key: peer for key, peer in site.peers.items() if peer.tunnel == tunnel}


def reaching(site: Site, service: str) -> tuple[str, ...]:
    """The peers that are granted a service at its inner address."""
    entry = site.services[service]
    device = site.devices[entry.host]
    port = entry.used_ports.first if entry.has_ports else 0
    transport = "tcp" if entry.used_transport == "both" else entry.used_transport
    return tuple(
        key for key in site.peers if any(one.takes(device.address, transport, port) for one in grants(site, key))
    )


def server_addresses(tunnel: Tunnel) -> tuple[IPv4Address | IPv6Address, ...]:
    """The server's own addresses in the tunnel: the first of each subnet."""
    return tuple(network[1] for network in tunnel.subnets)


def peer_addresses(peer: Peer) -> tuple[IPv4Address | IPv6Address, ...]:
    """A peer's own addresses in the tunnel, where they are known."""
    return tuple(one for one in (peer.address, peer.address6) if one is not None)


class ServerEnd(NamedTuple):
    """One process of a server.

    name: of its interface, and so of its files. service: where its packets arrive. subnets: of the peers that come by
    it, IPv4 first; the server has the first address of each.
    """

    name: str
    service: str
    subnets: tuple[IPv4Network | IPv6Network, ...]


def ends(site: Site, key: str) -> tuple[ServerEnd, ...]:
    """The processes of a tunnel's server, the first port first; one that has a second port has the upper half of its
    networks for who comes by that.
    """
    tunnel = site.tunnels[key]
    if not tunnel.of.halves or tunnel.also is None:
        return (ServerEnd(interface_name(key), tunnel.service, tunnel.subnets),)
    halves: list[tuple[IPv4Network | IPv6Network, ...]] = [tuple(network.subnets()) for network in tunnel.subnets]
    second = f"{key[: NAME_LENGTH - 5]}-{hashlib.sha256(f'{key}/{tunnel.also}'.encode()).hexdigest()[:4]}"
    return (
        ServerEnd(interface_name(key), tunnel.service, tuple(half[0] for half in halves)),
        ServerEnd(second, tunnel.also, tuple(half[1] for half in halves)),
    )


def addresses_at(end: ServerEnd, tunnel: Tunnel, peer: Peer) -> tuple[IPv4Address | IPv6Address, ...]:
    """A peer's addresses where it comes by one port: the same number of each network, counted from its start."""
    return tuple(
        half[int(address) - int(whole.network_address)]
        for address in peer_addresses(peer)
        for whole, half in zip(tunnel.subnets, end.subnets, strict=True)
        if address.version == whole.version
    )


def peer_at(site: Site, address: IPAddress) -> tuple[str, str | None] | None:
    """The tunnel, and its peer where one has it, that an address is of; None: of none, or it is a server's own."""
    for key, tunnel in site.tunnels.items():
        for end in ends(site, key):
            for network in end.subnets:
                if network.version == address.version and address in network and address != network[1]:
                    of = peers_of(site, key).items()
                    return key, next((name for name, peer in of if address in addresses_at(end, tunnel, peer)), None)
    return None


def mtu_of(topology: Topology, tunnel: Tunnel) -> int:
    """The largest packet inside the tunnel, in bytes, by what its line carries."""
    line = topology.site.lines[topology.lines[tunnel.service]]
    over = {topology.site.services[key].used_transport for key in (tunnel.service, tunnel.also) if key is not None}
    return max(LEAST_MTU, line.mtu - tunnel.of.overhead("tcp" in over))


def interface_name(key: str) -> str:
    """What the interface and its files are called: the key, as far as Linux takes it, and never two the same."""
    if len(key) <= NAME_LENGTH:
        return key
    return f"{key[: NAME_LENGTH - 5]}-{hashlib.sha256(key.encode()).hexdigest()[:4]}"


def table_name(interface: str) -> str:
    """The nftables table of an interface of a tunnel."""
    return f"hooper_{interface.replace('-', '_')}"


def granted_services(site: Site, key: str) -> tuple[str, ...]:
    """The services that a peer may reach at their inner addresses, as the file has them."""
    return tuple(name for name in site.services if key in reaching(site, name))


def meant(site: Site, into: Iterable[str]) -> Iterator[str]:
    """The items of `into` in words, such as film-shell (ssh on film-box)."""
    for item in into:
        found = into_of(site, item) if item not in ("everything", "lan") else None
        if isinstance(found, Service):
            yield f"{item} ({found.speaks} on {found.host})"
        else:
            yield {"everything": "everything, the internet too", "lan": "the whole LAN"}.get(item, item)
