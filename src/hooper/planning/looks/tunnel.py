"""Findings on tunnels and their peers: what keeps them from working, and who reaches more than is meant."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import enforced, grants, inside, into_for, lan_of, limited, peers_of, reaching
from hooper.planning.facts import Facts
from hooper.planning.findings import finding, finds
from hooper.planning.free_addresses import free_prefix
from hooper.planning.typed import name_for
from hooper.planning.values import Finding
from hooper.site.references import chain_of
from hooper.words.said import Said, say

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
                yield finds("tunnel-for-nobody", f"services.{key}", key=key)


def _tunnel(facts: Facts, key: str, tunnel: Tunnel) -> Iterator[Finding]:
    site, subject = facts.site, f"tunnels.{key}"
    service = site.services[tunnel.service]
    if service.reach != "public":
        yield finds(
            "tunnel-shut",
            subject,
            service=tunnel.service,
            reach=service.reach,
            make_public=deeds.MAKE_PUBLIC(tunnel.service),
        )
    elif (
        tunnel.made_by == "hooper"
        and name_for(facts.topology, tunnel.service) is None
        and not site.lines[facts.topology.lines[tunnel.service]].address
    ):
        yield finds("tunnel-by-number", subject, lines=facts.topology.lines[tunnel.service])
    for server in tunnel.dns:
        if server.is_private and not inside(site, server):
            yield finds("tunnel-dns-lost", subject, server=server, ip=site.gateways[lan_of(site, tunnel)].lan.ip)
    if tunnel.made_by == "device" and tunnel.public_key is None and tunnel.of.keyed:
        yield finds("tunnel-key-unknown", subject, host=service.host)
    if tunnel.one_secret or (tunnel.of.one_secret and len(peers_of(site, key)) > 1):
        yield finds("one-secret-for-all", subject, peers_of=peers_of(site, key), renew_tunnel=deeds.RENEW_TUNNEL(key))
    for name in (tunnel.service, tunnel.also):
        if name is not None and name != tunnel.service and site.services[name].reach != "public":
            yield finds(
                "tunnel-shut.tunnel",
                subject,
                name=name,
                reach=site.services[name].reach,
                make_public=deeds.MAKE_PUBLIC(name),
            )
    other = next((name for name, one in site.tunnels.items() if name < key and _meet(one, tunnel)), None)
    if other is not None:
        yield finds(
            "prefix-overlap.tunnel", subject, other=other, free_prefix=free_prefix(site, tunnel.network.prefixlen)
        )


def _meet(one: Tunnel, other: Tunnel) -> bool:
    return any(a.version == b.version and a.overlaps(b) for a in one.subnets for b in other.subnets)


def _peer(facts: Facts, key: str, peer: Peer) -> Iterator[Finding]:
    site, subject = facts.site, f"peers.{key}"
    tunnel = site.tunnels[peer.tunnel]
    if peer.until is not None and peer.until < facts.today:
        yield finds(
            "peer-ended.peer",
            subject,
            until=peer.until,
            revoke=deeds.REVOKE(key),
            make_tunnel=deeds.MAKE_TUNNEL(peer.tunnel),
        )
    elif peer.until is not None and peer.until - facts.today <= SOON:
        yield finds("peer-ends-soon", subject, until=peer.until)
    if peer.public_key is None and peer.revoked is None and not needs_no_key(tunnel):
        yield finding("peer-without-key", subject, say("peer-without-key.peer.says"), key_wanted(tunnel, key) + ".")
    if enforced(tunnel) == "nowhere" and limited(site, key):
        host = site.services[tunnel.service].host
        yield finds("peer-not-kept", subject, into_for=into_for(site, peer), host=host, address=peer.address)
    for network in _behind(facts, key):
        yield finds(
            "peer-shut-out",
            subject,
            do=say("peer-shut-out.do", network=network[1]),
            network=network[0],
            network2_network=network[1],
        )


def needs_no_key(tunnel: Tunnel) -> bool:
    """Whether a device lets its peers in by a user, a certificate or a secret of its own making."""
    return tunnel.made_by == "device" and not tunnel.of.keyed


def key_wanted(tunnel: Tunnel, key: str) -> Said:
    """How a peer without a key gets one: it is made here, or the device made it and shows it."""
    if tunnel.made_by == "hooper":
        return say("makes-one", renew_peer=deeds.RENEW_PEER(key))
    return say("with-the-one-that", write_key=deeds.WRITE_KEY(key))


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
            if other != tunnel and entry.of.whole:
                message = say(
                    "it-listens-at-of", where=where[1], where2_where=where[2], where2_where2=where[0], other=other
                )
                remedy = say("give-another-port-then", name=name, tunnel=tunnel)
                yield finding("tunnels-clash", f"tunnels.{tunnel}", message, remedy)
    for tunnel in sorted(site.tunnels):
        seen: dict[object, str] = {}
        for key, peer in sorted(peers_of(site, tunnel).items()):
            for what, value in (("address", peer.address), ("address", peer.address6), ("key", peer.public_key)):
                if value is None:
                    continue
                other = seen.setdefault(value, key)
                if other != key:
                    remedy = (
                        say("do-that", deed=deeds.RENEW_PEER(key))
                        if what == "key"
                        else say("give-another-address", key=key)
                    )
                    yield finds("peers-clash", f"peers.{key}", do=remedy, other=other, what=what, value=value)
        own = site.tunnels[tunnel]
        for key, peer in sorted(peers_of(site, tunnel).items()):
            if peer.public_key is not None and peer.public_key in (own.public_key, own.probe_key):
                message = say(
                    "it-has-the-key", whose=say("the-server" if peer.public_key == own.public_key else "the-probe")
                )
                yield finding("peers-clash", f"peers.{key}", message, say("do-that", deed=deeds.RENEW_PEER(key)))
