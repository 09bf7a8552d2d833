"""Findings on tunnels and their peers: what keeps them from working, and who reaches more than is meant."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import (
    enforced,
    grants,
    inside,
    into_for,
    lan_of,
    limited,
    peers_of,
    reaching,
)
from hooper.planning.addresses import free_prefix
from hooper.planning.facts import Facts
from hooper.planning.findings import finding
from hooper.planning.typed import name_for
from hooper.planning.values import Finding
from hooper.site.references import chain_of

if TYPE_CHECKING:
    from hooper.addresses import IPNetwork
    from hooper.site.tunnel_tables import Peer, Tunnel

SOON = timedelta(days=14)


def find(facts: Facts) -> Iterator[Finding]:
    """What stands against each tunnel and each peer."""
    for key, tunnel in sorted(facts.site.tunnels.items()):
        yield from _tunnel(facts, key, tunnel)
    for key, peer in sorted(facts.site.peers.items()):
        yield from _peer(facts, key, peer)
    yield from _clashes(facts)
    if facts.site.peers:
        for key, service in sorted(facts.site.services.items()):
            if service.reach == "tunnel" and not reaching(facts.site, key):
                yield finding(
                    "tunnel-for-nobody",
                    f"services.{key}",
                    "it is to be reached through a tunnel, and no peer may reach it",
                    f"Add {key} to the `into` of the peer that is to reach it, or give it another reach.",
                )


def _tunnel(facts: Facts, key: str, tunnel: Tunnel) -> Iterator[Finding]:
    site, subject = facts.site, f"tunnels.{key}"
    service = site.services[tunnel.service]
    if service.reach != "public":
        yield finding(
            "tunnel-shut",
            subject,
            f'its packets arrive at {tunnel.service}, whose reach is "{service.reach}"',
            f"`{deeds.MAKE_PUBLIC(tunnel.service)}` lets them in.",
        )
    elif (
        tunnel.made_by == "hooper"
        and name_for(facts.topology, tunnel.service) is None
        and not site.lines[facts.topology.lines[tunnel.service]].address
    ):
        yield finding(
            "tunnel-by-number",
            subject,
            f"its line {facts.topology.lines[tunnel.service]} has no name, and its address may change",
            "Add [names.*] for the line, before the first peer has its file.",
        )
    for server in tunnel.dns:
        if server.is_private and not inside(site, server):
            yield finding(
                "tunnel-dns-lost",
                subject,
                f"the DNS server {server} is on none of this site's networks",
                f"Use the gateway's own address {site.gateways[lan_of(site, tunnel)].lan.ip}, if it answers DNS.",
            )
    if tunnel.made_by == "device" and tunnel.public_key is None and tunnel.kind == "wireguard":
        yield finding(
            "tunnel-key-unknown",
            subject,
            f"the public key that {service.host} made is not written down",
            f"Read it on the page of {service.host}, and write it as `public_key`.",
        )
    if tunnel.one_secret or (tunnel.kind == "ipsec" and len(peers_of(site, key)) > 1):
        yield finding(
            "one-secret-for-all",
            subject,
            f"{', '.join(peers_of(site, key)) or 'all its peers'} share one secret",
            f"To shut one of them out, it has to change on all: `{deeds.RENEW_TUNNEL(key)}` lists them.",
        )
    for name in (tunnel.service, tunnel.also):
        if name is not None and name != tunnel.service and site.services[name].reach != "public":
            yield finding(
                "tunnel-shut",
                subject,
                f'its second port is that of {name}, whose reach is "{site.services[name].reach}"',
                f"`{deeds.MAKE_PUBLIC(name)}` lets its packets in.",
            )
    other = next((name for name, one in site.tunnels.items() if name < key and _meet(one, tunnel)), None)
    if other is not None:
        yield finding(
            "prefix-overlap",
            subject,
            f"its network overlaps that of the tunnel {other}",
            f"Give it another, such as {free_prefix(site, tunnel.network.prefixlen)}.",
        )


def _meet(one: Tunnel, other: Tunnel) -> bool:
    return any(a.version == b.version and a.overlaps(b) for a in one.subnets for b in other.subnets)


def _peer(facts: Facts, key: str, peer: Peer) -> Iterator[Finding]:
    site, subject = facts.site, f"peers.{key}"
    tunnel = site.tunnels[peer.tunnel]
    if peer.until is not None and peer.until < facts.today:
        yield finding(
            "peer-ended",
            subject,
            f"its time was over on {peer.until}, and it comes in until the server has files without it",
            f"`{deeds.REVOKE(key)}`, or give it a new `until`; then `{deeds.MAKE_TUNNEL(peer.tunnel)}`.",
        )
    elif peer.until is not None and peer.until - facts.today <= SOON:
        yield finding(
            "peer-ends-soon",
            subject,
            f"its last day is {peer.until}",
            "Give it a later `until` if it is still to come in.",
        )
    if peer.public_key is None and peer.revoked is None and not needs_no_key(tunnel):
        yield finding("peer-without-key", subject, "it has no key in the site file", key_wanted(tunnel, key))
    if enforced(tunnel) == "nowhere" and limited(site, key):
        host = site.services[tunnel.service].host
        yield finding(
            "peer-not-kept",
            subject,
            f"it is to reach {', '.join(into_for(site, peer))} only, and nothing on {host} keeps it to that",
            f"Limit {peer.address} on the firewall page of {host}, if it has one; else use a Linux server.",
        )
    for network in _behind(facts, key):
        yield finding(
            "peer-shut-out",
            subject,
            f"{network[0]} lies behind {network[1]}, which lets nothing in from the side of the tunnel's server",
            f"Move the server behind {network[1]}, or forward what is wanted there.",
        )


def needs_no_key(tunnel: Tunnel) -> bool:
    """Whether a device lets its peers in by a user, a certificate or a secret of its own making."""
    return tunnel.made_by == "device" and tunnel.kind != "wireguard"


def key_wanted(tunnel: Tunnel, key: str) -> str:
    """How a peer without a key gets one: it is made here, or the device made it and shows it."""
    if tunnel.made_by == "hooper":
        return f"`{deeds.RENEW_PEER(key)}` makes one."
    return f"`{deeds.WRITE_KEY(key)}`, with the one that the device's page shows for it."


def _behind(facts: Facts, key: str) -> Iterator[tuple[IPNetwork, str]]:
    """Networks that a peer is granted by name, on LANs further in than its server stands; with the router between."""
    site = facts.site
    own = lan_of(site, site.tunnels[site.peers[key].tunnel])
    further = [name for name in site.gateways if name != own and own in chain_of(site, name)]
    for grant in grants(site, key):
        for name in further:
            lan = site.gateways[name].lan.network
            if grant.network.version == 4 and grant.network.prefixlen and lan.overlaps(grant.network):
                yield grant.network, name


def _clashes(facts: Facts) -> Iterator[Finding]:
    site = facts.site
    listens: dict[tuple[str, str, int], str] = {}
    for tunnel, entry in sorted(site.tunnels.items()):
        for name in dict.fromkeys(one for one in (entry.service, entry.also) if one is not None):
            service = site.services[name]
            where = (service.host, service.used_transport, service.used_ports.first if service.has_ports else 0)
            other = listens.setdefault(where, tunnel)
            if other != tunnel and entry.kind != "ssh":
                message = f"it listens at {where[1]} {where[2]} of {where[0]}, as {other} does"
                remedy = f"Give {name} another `port`, then make the files of {tunnel} anew."
                yield finding("tunnels-clash", f"tunnels.{tunnel}", message, remedy)
    for tunnel in sorted(site.tunnels):
        seen: dict[object, str] = {}
        for key, peer in sorted(peers_of(site, tunnel).items()):
            for what, value in (("address", peer.address), ("address", peer.address6), ("key", peer.public_key)):
                if value is None:
                    continue
                other = seen.setdefault(value, key)
                if other != key:
                    remedy = f"`{deeds.RENEW_PEER(key)}`." if what == "key" else f"Give {key} another address."
                    yield finding("peers-clash", f"peers.{key}", f"{other} has the same {what}, {value}", remedy)
        own = site.tunnels[tunnel]
        for key, peer in sorted(peers_of(site, tunnel).items()):
            if peer.public_key is not None and peer.public_key in (own.public_key, own.probe_key):
                message = f"it has the key of {'the server' if peer.public_key == own.public_key else 'the probe'}"
                yield finding("peers-clash", f"peers.{key}", message, f"`{deeds.RENEW_PEER(key)}`.")
