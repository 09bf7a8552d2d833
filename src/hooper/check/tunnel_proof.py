"""Proof at the other end of a tunnel: what a peer's own computer can show once it is away from home and connected."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

import anyio

from hooper.addresses import IPAddress
from hooper.check.checking import check_services
from hooper.check.comparing import judged
from hooper.check.probes import probe
from hooper.check.results import Result
from hooper.check.targets import Target, inner_targets
from hooper.check.wish import Wish
from hooper.errors import HooperError, NeedsAPerson, WireError
from hooper.net.dns import records
from hooper.net.exchange import socket_towards
from hooper.net.stun import mapped_by
from hooper.net.types import Door, Endpoint, Rejected, Surroundings
from hooper.net.whereabouts import at_home, connected_surroundings
from hooper.planning.access import (
    allowed_networks,
    grants,
    into_for,
    lan_of,
    mtu_of,
    peer_addresses,
    peer_at,
    server_addresses,
)
from hooper.planning.local_ports import by_ssh, forwards_of
from hooper.words.said import Said, quoted, say

if TYPE_CHECKING:
    from hooper.planning.topology import Topology
    from hooper.site.tunnel_tables import Tunnel

SIZES = (1500, 1428, 1420, 1412, 1400, 1380, 1340, 1280, 1200, 1000, 576)  # bytes of a packet, tried from the largest
DISCARD = 9  # RFC 863: whatever its server says of that comes through the tunnel
ADDRESSES_FOR, SIZE_FOR, TRIES = 3.0, 0.7, 2  # seconds, and how often
LOOPBACK = IPv4Address("127.0.0.1")


class SameNetwork(NeedsAPerson):
    """The computer is at home: what answers there need not have come by the tunnel."""

    code = "same-network"
    remedy = "Join another network, such as a phone's mobile data; switch the tunnel on there, and try again."


class TunnelDown(NeedsAPerson):
    """The computer has no tunnel of this site."""

    code = "tunnel-down"


@dataclass(frozen=True, slots=True)
class Proven:
    """One thing that was looked at.

    what: address, route, dns, service, forbidden, size, way or way-back, with its object. before: without it; null:
    there is nothing to compare. after: with it. ok: as it should be; null: it cannot be told from here.
    service: that was to answer; null: it is about none such.
    """

    what: str
    before: str | None
    after: str | None
    ok: bool | None
    detail: Said
    service: str | None = None


async def prove(here: Door, wish: Wish, peer: str, public: Mapping[str, IPAddress]) -> list[Proven]:
    """All proofs, side by side. public: the lines' addresses, as far as they are known.

    Raises: SameNetwork, TunnelDown, NoNetwork, UsageError.
    """
    around = await connected_surroundings(here)
    home = at_home(wish.site, around)
    if home is not None:
        raise SameNetwork(f"this computer is on the LAN of {home}, or on one with its addresses: that proves nothing")
    ssh = by_ssh(wish.site, peer)
    name = None if ssh else _interface(wish, peer, around)
    outer = next((route.interface for route in around.default_routes() if route.interface != name), None)
    found: dict[str, list[Proven]] = {}

    at_site: list[SameNetwork] = []

    async def address() -> None:
        try:
            found["address"] = [await _address(here, wish, peer, outer, public)]
        except SameNetwork as exc:
            at_site.append(exc)

    async def services() -> None:
        found["services"] = await (_by_ssh(here, wish, peer) if name is None else _services(here, wish, peer, name))

    async def inside(name: str) -> None:
        found["route"] = [await _route(here, wish, peer, name, outer)]
        found["dns"] = await _dns(here.through(name), wish, peer)
        found["size"] = [await _size(here.through(name), wish, peer)]

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(address)
        tasks.start_soon(services)
        if name is not None:
            tasks.start_soon(inside, name)
    if at_site:
        raise at_site[0]
    order = ("address", "route", "dns", "services", "size")
    return [*(proof for key in order for proof in found.get(key, ())), *_way_back(wish, peer)]


def _interface(wish: Wish, peer: str, around: Surroundings) -> str:
    """The interface that is the peer's tunnel. Raises: TunnelDown."""
    of = wish.site.peers[peer].tunnel
    for interface in around.interfaces:
        if interface.up and interface.ipv4 is not None and peer_at(wish.site, interface.ipv4) == (of, peer):
            return interface.name
    own = ", ".join(map(str, peer_addresses(wish.site.peers[peer])))
    raise TunnelDown(
        f"no interface here has the address {own} of {peer}: the tunnel is not up, or this is another computer",
        remedy="Switch the tunnel on, then try again.",
    )


async def _address(here: Door, wish: Wish, peer: str, outer: str | None, public: Mapping[str, IPAddress]) -> Proven:
    """The public address that the world sees, past the tunnel and as programs go."""
    site = wish.site
    servers = [Endpoint(address, port) for address, port in site.measure.stun]
    if not servers:
        return Proven("address", None, None, None, say("stun-not-named"))
    past = await mapped_by(here.through(outer), servers, ADDRESSES_FOR) if outer is not None else None
    now = await mapped_by(here, servers, ADDRESSES_FOR)
    before, after = (str(one[0]) if one is not None else None for one in (past, now))
    lines = {str(address) for line in site.lines.values() for address in line.address}
    lines |= set(map(str, public.values()))
    if before is not None and before in lines:
        raise SameNetwork(f"this computer shows the address {before} of the site itself: it is at home")
    if after is None:
        return Proven("address", before, None, False, say("stun-silent-in-tunnel"))
    if into_for(site, site.peers[peer]) == ("everything",):
        ok = after in lines if lines else (after != before if before is not None else None)
        return Proven("address", before, after, ok, say("all-through-tunnel"))
    ok = after == before if before is not None else None
    return Proven("address", before, after, ok, say("rest-past-tunnel"))


async def _route(here: Door, wish: Wish, peer: str, name: str, outer: str | None) -> Proven:
    """Which way packets for what is to be reached would leave."""
    tunnel = _tunnel(wish, peer)
    own = peer_addresses(wish.site.peers[peer])
    around = await here.surroundings()
    interface = around.interface(name)
    mine = {entry.ip for entry in interface.addresses} if interface is not None else set(own)
    past = []
    for network in allowed_networks(wish.site, peer):
        if network.version == 4:
            target: IPAddress = network[1] if network.num_addresses > 1 else network[0]
            if not network.prefixlen:
                target = wish.site.measure.stun[0][0] if wish.site.measure.stun else server_addresses(tunnel)[0]
            source = await here.source_towards(target)
            if source not in mine:
                past.append(str(network))
    if past:
        return Proven("route", outer, name, False, say("packets-past", networks=past, interface=name))
    return Proven("route", outer, name, True, say("packets-into", interface=name))


def _tunnel(wish: Wish, peer: str) -> Tunnel:
    return wish.site.tunnels[wish.site.peers[peer].tunnel]


async def _dns(door: Door, wish: Wish, peer: str) -> list[Proven]:
    """The DNS servers that the tunnel brings, asked through it."""
    out = []
    asked = next(iter(wish.site.names), "localhost")
    for server in _tunnel(wish, peer).dns:
        what = f"dns {server}"
        try:
            came = await records(door, Endpoint(server, 53), asked.removeprefix("*."), "A", ADDRESSES_FOR)
            words = say("asked-through-tunnel", name=asked)
            out.append(Proven(what, None, ", ".join(came) or "no address", True, words))
        except WireError as exc:
            out.append(Proven(what, None, None, True, say("answers-with-failure", failure=exc.message)))
        except HooperError as exc:
            out.append(Proven(what, None, None, False, quoted(exc.message)))
    return out


async def _services(here: Door, wish: Wish, peer: str, name: str) -> list[Proven]:
    """Each permitted service, and one that is not."""
    done = await check_services(here, wish, here.through(name))
    out = [_of(result) for result in done.results if result.expected == "reachable"]
    passes = any(proof.ok for proof in out)  # else silence tells of the tunnel, and not of what is forbidden
    forbidden = next((result for result in done.results if result.expected == "unreachable"), None)
    if forbidden is not None:
        return [*out, _kept_from(_of(forbidden), passes=passes)]
    site, tunnel = wish.site, _tunnel(wish, peer)
    gateway = site.gateways[lan_of(site, tunnel)].lan.ip
    if any(grant.takes(gateway, "tcp", 80) for grant in grants(site, peer)):
        return [*out, Proven("forbidden", None, None, None, say("nothing-forbidden"))]
    seen = await probe(here.through(name), Target.alone(gateway, 80), min(2.0, wish.deadline))
    ok = seen.verdict in ("refused", "silent")
    tried = Proven(f"forbidden {gateway}:80", None, seen.verdict, ok, seen.detail)
    return [*out, _kept_from(tried, passes=passes)]


def _of(result: Result) -> Proven:
    wanted = result.expected == "reachable"
    what = f"{'service' if wanted else 'forbidden'} {result.service}"
    ok = None if result.untold else result.ok  # what no look could tell is no failure
    return Proven(what, None, result.verdict, ok, result.detail, result.service if wanted else None)


def _kept_from(tried: Proven, *, passes: bool) -> Proven:
    """Whether silence proves that something is kept back. passes: something permitted came through the same tunnel."""
    if tried.after != "silent" or tried.ok is not True or passes:
        return tried
    words = say("silence-proves-nothing")
    return replace(tried, ok=None, detail=words)


async def _by_ssh(here: Door, wish: Wish, peer: str) -> list[Proven]:
    """Each service by its port on this computer. What the server refuses cannot be asked for by such a port."""
    forwards = forwards_of(wish.site, peer)
    by_service = {target.service: target for target in inner_targets(wish.topology, [one.service for one in forwards])}
    out: list[Proven] = []

    async def one(number: int) -> None:
        forward = forwards[number]
        target = replace(
            by_service[forward.service], address=LOOPBACK, port=forward.local, inner=(LOOPBACK, forward.local)
        )
        seen = await probe(here, target, wish.deadline)
        ok = seen.verdict == "answered" or (seen.verdict == "connected" and not target.told)
        if seen.verdict == "refused":
            seen.detail = say("tunnel-not-started", port=forward.local)
        out.append(Proven(f"service {forward.service}", None, seen.verdict, ok, seen.detail, forward.service))

    async with anyio.create_task_group() as tasks:
        for number in range(len(forwards)):
            tasks.start_soon(one, number)
    kept = Proven("forbidden", None, None, None, say("kept-by-server-list"))
    return [*sorted(out, key=lambda proof: proof.what), kept]


async def at_local_port(here: Door, topology: Topology, peer: str, service: str, deadline: float) -> list[Result]:
    """A service by the port of this computer that leads to it through SSH; empty: no port does."""
    forward = next((one for one in forwards_of(topology.site, peer) if one.service == service), None)
    target = next(inner_targets(topology, [service]), None)
    if forward is None or target is None:
        return []
    target = replace(target, address=LOOPBACK, port=forward.local, inner=(LOOPBACK, forward.local))
    return [judged(target, await probe(here, target, deadline))]


async def _size(door: Door, wish: Wish, peer: str) -> Proven:
    """The largest packet that comes through, by what the server says of it."""
    tunnel = _tunnel(wish, peer)
    planned, server = mtu_of(wish.topology, tunnel), server_addresses(tunnel)[0]
    sizes: Sequence[int] = sorted({planned, *(size for size in SIZES if size <= planned)}, reverse=True)
    for size in sizes:
        if await _comes_through(door, Endpoint(server, DISCARD), size):
            ok = size == planned
            words = say("as-planned") if ok else say("larger-are-lost", planned=planned)
            return Proven("size", str(planned), str(size), ok, say("size-through", bytes=size, words=words))
    return Proven("size", str(planned), None, None, say("size-untold"))


async def _comes_through(door: Door, to: Endpoint, size: int) -> bool:
    for _ in range(TRIES):  # a kernel sends so many ICMP messages a second, and no more
        with anyio.move_on_after(SIZE_FOR):
            try:
                async with await socket_towards(door, to.address) as socket:
                    await socket.send(bytes(size - 28), to)  # without the heads of IPv4 and UDP
                    return isinstance(await socket.receive(), Rejected)
            except HooperError:
                return False
    return False


def _way_back(wish: Wish, peer: str) -> list[Proven]:
    """From the site to the peer: only somebody at home sees that."""
    own = wish.site.peers[peer].address
    if own is None:
        return []
    return [Proven(f"way-back {own}", None, None, None, say("ping-at-home", address=own))]
