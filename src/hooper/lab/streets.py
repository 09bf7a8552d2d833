"""The town: networks, NAT gateways with real tables, nodes with services, and what becomes of each packet.

For every connection and datagram the town decides from the asker's place: delivered (as seen after translation),
refused, rejected by ICMP, or swallowed.
"""

from __future__ import annotations

import secrets
from collections import defaultdict, deque
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from datetime import datetime
from functools import partial
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from typing import Any, Protocol

import anyio
from anyio.abc import ByteStream

from hooper.clock import rfc3339
from hooper.lab.ipv6 import route6
from hooper.lab.pipe import pipe
from hooper.lab.things import (
    SWALLOWED,
    Arrival,
    Attachment,
    Box,
    DatagramHandler,
    DatagramSocket,
    Dependence,
    Flow,
    Machine,
    Reply,
    StreamHandler,
    Transport,
    Turned,
    made_up_mac,
)
from hooper.lab.zone import LIE, Zone
from hooper.net.types import Endpoint
from hooper.wire import ip4
from hooper.wire.icmp import Icmp
from hooper.wire.stun import COOKIE as STUN

NEIGHBOUR_SECONDS = 30.0  # how long a machine goes on sending to a device that is gone, as the kernel does
ARP_SECONDS = 3.0  # how long a router asks for a host that is gone before it gives up, as the kernel does
LEDGER_LENGTH = 100_000
LOST_S = 10.0  # seconds for which a connection with a gap stays
PORT_UNREACHABLE_6 = Icmp(1, 4, 6)  # RFC 4443 section 3.1
PORT_UNREACHABLE, HOST_UNREACHABLE, NET_UNREACHABLE = Icmp(3, 3), Icmp(3, 1), Icmp(3, 0)
TOO_MANY_HOPS = Icmp(11, 0)


class TunnelWay(Protocol):
    """The interface of a tunnel's client, which takes what is sent to its networks."""

    def takes(self, to: IPv4Address) -> int | None: ...

    def route(
        self, gate: Any, to: IPv4Address, transport: Transport, port: int, source_port: int
    ) -> Arrival | Turned: ...

    def send(self, to: IPv4Address, transport: Transport, port: int, source_port: int, data: bytes) -> Any: ...


class Streets:
    """The networks of the town, the machines and boxes on them, and what becomes of a packet."""

    def __init__(self, now: Callable[[], datetime]) -> None:
        self.now = now
        self.segments: dict[str, IPv4Network] = {}
        self.routers: dict[str, tuple[IPv4Address, ...]] = {}  # that packets pass on a segment, in their order
        self.resolvers: tuple[IPv4Address, ...] | None = None  # that machines are told of; None: their gateways
        self.resolver_dead = self.cut = self.without_ipv6 = False
        self.widest: int | None = None  # bytes in one piece that the way to the outside takes; None: all
        self.boxes: dict[str, Box] = {}
        self.nodes: dict[str, Machine] = {}
        self.gate: Any = None  # the tunnel server
        self.clients: dict[str, Any] = {}  # each a TunnelWay, by the segment of their interface
        self.ssh_servers: Mapping[str, Any] = {}  # by machine
        self.zone = Zone(secrets.token_bytes(32), now)
        self.gone: dict[IPv4Address, tuple[str, str, datetime]] = {}  # segment, MAC, since when nobody is there
        self.listeners: dict[tuple[str, int], Callable[[ByteStream, Endpoint], Awaitable[None]]] = {}
        self.sockets: dict[tuple[str, int], DatagramSocket] = {}
        self.beside: dict[tuple[str, int], DatagramSocket] = {}  # that hear STUN at the port of another program
        self.members: list[DatagramSocket] = []  # sockets that have joined a group
        self.ledger: deque[dict[str, Any]] = deque(maxlen=LEDGER_LENGTH)
        self.spoken: defaultdict[str, set[str]] = defaultdict(set)  # by machine, to whom
        self._ports = 49152

    def free_port(self) -> int:
        """A source port nobody has used lately (RFC 6335 section 6)."""
        self._ports = 49152 if self._ports >= 65535 else self._ports + 1
        return self._ports

    def note(self, place: str, transport: str, to: str, outcome: str) -> None:
        """Write one exchange into the ledger."""
        entry = {"at": rfc3339(self.now()), "place": place, "transport": transport, "to": to, "outcome": outcome}
        self.ledger.append(entry)
        self.spoken[place.partition(":")[0]].add(to.rpartition(":")[0])

    def route(
        self,
        node: Machine,
        to: IPv4Address,
        transport: Transport,
        port: int,
        source_port: int,
        interface: str | None = None,
        hops: int | None = None,
    ) -> Arrival | Turned:
        """What becomes of a packet that `node` sends. interface: the one it is bound to; None: as it routes.

        hops: how many it may make; None: as many as it takes.
        """
        if to.is_loopback or any(to == attachment.address for attachment in node.attachments):
            return Arrival(node, to, port, Endpoint(to, source_port), to)
        if self.cut:
            return SWALLOWED
        attachment = self.way_out(node, to, interface)
        if attachment is None:
            return Turned(local=True)
        client: TunnelWay | None = self.clients.get(attachment.segment)
        if client is not None:
            return client.route(self.gate, to, transport, port, source_port)
        source = Endpoint(attachment.address, source_port)
        return self._forward(attachment.segment, source, to, transport, port, sender=node, hops=hops)

    def way_out(self, node: Machine, to: IPv4Address, interface: str | None) -> Attachment | None:
        """The interface by which a packet leaves: on the same network, else by the best default route."""
        usable = [a for a in node.attachments if interface in (None, a.name)]
        into = [(length, a) for a in usable if a.segment in self.clients
                if (length := self.clients[a.segment].takes(to)) is not None]  # fmt: skip
        usable = [a for a in usable if a.segment not in self.clients]
        own = max((self.segments[a.segment].prefixlen for a in usable if to in self.segments[a.segment]), default=-1)
        if into and into[0][0] > own:  # the longest prefix decides, and of equals one's own network
            return into[0][1]
        near = [a for a in usable if to in self.segments[a.segment] and self.segments[a.segment].prefixlen]
        far = [a for a in usable if a.gateway is not None or not self.segments[a.segment].prefixlen]
        return min(near or far, key=lambda a: a.metric, default=None)

    def onward(
        self, node: Machine, source: Endpoint, to: IPv4Address, transport: Transport, port: int
    ) -> Arrival | Turned:
        """What becomes of a packet that a machine hands on for another."""
        return self._forward(node.attachments[0].segment, source, to, transport, port, sender=None)

    def exchange(self, node: Machine, to: IPv4Address, port: int, source_port: int, data: bytes) -> bytes | None:
        """One datagram of a machine's own system, past its tunnels, and the answer to it; None: nothing comes back."""
        tunnels = [a for a in node.attachments if a.segment in self.clients]
        own = [a for a in node.attachments if a not in tunnels]
        usable = Machine(node.key, own)
        result = self.route(usable, to, "udp", port, source_port)
        if not isinstance(result, Arrival):
            return None
        handler = self.datagram_handler(result)
        answer = handler(data, result.source) if handler is not None else None
        return answer if isinstance(answer, bytes) else None

    def _forward(
        self,
        segment: str,
        source: Endpoint,
        to: IPv4Address,
        transport: Transport,
        port: int,
        *,
        sender: Machine | None,
        hops: int | None = None,
    ) -> Arrival | Turned:
        """Carry a packet from `segment` to wherever its address is, outward through the gateways."""
        remote = Endpoint(to, port)
        for made in range(16):  # more boxes than any chain has
            if self._is_on(segment, to):
                passed = self.routers.get(segment, ())
                if hops is not None and hops <= made + len(passed):
                    return Turned(TOO_MANY_HOPS, passed[hops - made - 1])
                return self._deliver(segment, source, to, transport, port, sender=sender)
            box = next((b for b in self.boxes.values() if b.inner == segment), None)
            if box is None:
                return SWALLOWED  # private or unused space, dropped somewhere in the internet
            if to == box.lan.ip:
                return Arrival(box, to, port, source, to)
            if box.holds(to):
                if not box.hairpin:
                    return SWALLOWED
                back = Endpoint(to, self._map(box, transport, source, remote))
                return self._inbound(box, Endpoint(box.lan.ip, source.port), transport, port, back)
            if hops is not None and hops <= made + 1:
                return Turned(TOO_MANY_HOPS, box.lan.ip) if box.reveals else SWALLOWED
            if not int(box.wan):
                return Turned(NET_UNREACHABLE, box.lan.ip)
            if box.lets_out is not None and (transport, port) not in box.lets_out:
                return SWALLOWED
            source = Endpoint(box.other_exit or box.wan, self._map(box, transport, source, remote))
            segment, sender = box.outer, None
        return SWALLOWED

    def _is_on(self, segment: str, to: IPv4Address) -> bool:
        network = self.segments[segment]
        if network.prefixlen:
            return to in network
        owned = any(to == a.address for n in self.nodes.values() for a in n.attachments if a.segment == segment)
        return owned or any(box.outer == segment and box.holds(to) for box in self.boxes.values())

    def _map(self, box: Box, transport: Transport, source: Endpoint, remote: Endpoint) -> int:
        """The outer port of a connection; for UDP the mapping is kept, so that answers find back."""
        if transport == "tcp":
            return source.port
        assert isinstance(remote.address, IPv4Address)
        if (asked_at := box.answers.get((source, remote))) is not None:
            return asked_at  # it answers who came in by a rule
        fars: dict[Dependence, Endpoint | IPv4Address | None] = {"endpoint": None, "address": remote.address}
        far = fars.get(box.mapping, remote)
        flow = box.flows.get(box.flow_of.get((source, far), 0))
        if flow is not None and (flow.inside, flow.far) == (source, far):
            flow.remotes.add(remote)
            return box.flow_of[source, far]
        outer = source.port
        while outer in box.flows or (box.ports is not None and outer not in box.ports):
            outer = secrets.choice(box.ports) if box.ports is not None else self.free_port()
        box.flows[outer], box.flow_of[source, far] = Flow(source, far, {remote}), outer
        return outer

    def _deliver(
        self,
        segment: str,
        source: Endpoint,
        to: IPv4Address,
        transport: Transport,
        port: int,
        *,
        sender: Machine | None,
    ) -> Arrival | Turned:
        for box in self.boxes.values():
            if box.outer == segment and box.holds(to):
                return self._inbound(box, source, transport, port)
            if box.inner == segment and box.lan.ip == to:
                return Arrival(box, to, port, source, to)
        for node in self.nodes.values():
            if not node.off and any(a.segment == segment and a.address == to for a in node.attachments):
                if isinstance(source.address, IPv4Address) and not node.answers(source.address, self.segments[segment]):
                    return SWALLOWED
                return Arrival(node, to, port, source, to)
        if (left := self.gone.get(to)) is not None and left[0] == segment and self._remembered(left[2]) is not None:
            return SWALLOWED
        if sender is not None:
            return Turned(after=ARP_SECONDS, local=False, icmp=None, by=to)  # asked on its own network, nobody is there
        router = next((b for b in self.boxes.values() if b.inner == segment), None)
        return Turned(HOST_UNREACHABLE, router.wan if router else to, ARP_SECONDS)

    def _inbound(
        self, box: Box, source: Endpoint, transport: Transport, port: int, back: Endpoint | None = None
    ) -> Arrival | Turned:
        """A packet for a gateway's outer address: by the answer to a flow, by a rule, or dropped.

        back: how a packet that comes back from inside looks to a flow (RFC 4787 section 6).
        """
        if back is None and box.blocks(transport, port):  # the provider's filter stands before the box
            return SWALLOWED
        if transport == "tcp" and port in box.remote:
            return Arrival(box, box.wan, port, source, box.wan)
        flow = box.flows.get(port) if transport == "udp" else None
        if flow is not None and flow.lets_in(back or source, box.filtering):
            return self._seen_at(box, self._forward_inside(box, back or source, flow.inside, transport))
        assert isinstance(source.address, IPv4Address)
        for rule in box.live_rules(self.now()):
            if rule.takes(transport, port, source.address):
                target = Endpoint(rule.target, rule.translated(port))
                if transport == "udp":
                    box.answers[target, source] = port
                return self._seen_at(box, self._forward_inside(box, source, target, transport))
        return SWALLOWED

    def _forward_inside(self, box: Box, source: Endpoint, target: Endpoint, transport: Transport) -> Arrival | Turned:
        assert isinstance(target.address, IPv4Address)
        return self._deliver(box.inner, source, target.address, transport, target.port, sender=None)

    @staticmethod
    def _seen_at(box: Box, result: Arrival | Turned) -> Arrival | Turned:
        """Answers and ICMP errors from behind a NAT carry its outer address."""
        if isinstance(result, Arrival):
            return Arrival(result.node, result.to, result.port, result.source, box.wan)
        return Turned(result.icmp, box.wan, result.after) if result.icmp else result

    async def send_datagram(self, socket: DatagramSocket, data: bytes, to: Endpoint, interface: str | None) -> str:
        """Carry one datagram; returns its outcome for the ledger."""
        if isinstance(to.address, IPv6Address):
            return await self._send6(socket, data, to)
        if to.address.is_multicast:
            return await self._send_to_group(socket, data, to)
        way = self.way_out(socket.node, to.address, interface)
        if way is not None and (client := self.clients.get(way.segment)) is not None:
            return await self._send_inside(client, socket, data, to)
        result = self.route(socket.node, to.address, "udp", to.port, socket.port, interface, socket.hops)
        if isinstance(result, Turned):
            if result.icmp is not None and result.by is not None:
                await socket.reject(result.icmp, result.by, to)
                return "rejected"
            return "swallowed"
        if (bound := self._bound(result, data)) is not None:
            await bound.deliver(data, result.source)
            return "delivered"
        handler = self.datagram_handler(result)
        if handler is None:
            await socket.reject(PORT_UNREACHABLE, result.entered, to)
            return "rejected"
        answer = handler(data, result.source)
        if isinstance(answer, Reply):
            await self._send_back(answer, result)
        elif answer is not None:
            await socket.deliver(answer, to)
        return "delivered"

    def _bound(self, at: Arrival, data: bytes) -> DatagramSocket | None:
        """The socket that takes a datagram; None: none does."""
        place = at.node.key, at.port
        return (self.beside.get(place) if data[4:8] == STUN else None) or self.sockets.get(place)

    async def _send_inside(self, client: TunnelWay, socket: DatagramSocket, data: bytes, to: Endpoint) -> str:
        """A datagram through a tunnel."""
        assert isinstance(to.address, IPv4Address)
        answer = client.send(to.address, "udp", to.port, socket.port, data)
        if answer is None:
            return "swallowed"
        if answer.protocol == ip4.ICMP:
            await socket.reject(Icmp(answer.payload[0], answer.payload[1]), answer.source, to)
            return "rejected"
        await socket.deliver(answer.payload[8:], to)
        return "delivered"

    async def _send_back(self, answer: Reply, asked: Arrival) -> None:
        """A datagram from another address than the asker knows goes the whole way, past every NAT's filter."""
        back = asked.source
        if isinstance(asked.node, Box) or not isinstance(back.address, IPv4Address):
            return
        segment = asked.node.attachments[0].segment
        result = self._deliver(segment, answer.sender, back.address, "udp", back.port, sender=None)
        if isinstance(result, Arrival) and (bound := self.sockets.get((result.node.key, result.port))) is not None:
            await bound.deliver(answer.data, answer.sender)

    async def _send6(self, socket: DatagramSocket, data: bytes, to: Endpoint) -> str:
        """IPv6 needs no NAT."""
        assert isinstance(to.address, IPv6Address)
        result = route6(self, socket.node, to.address, "udp", to.port, socket.port, socket.attachment.name)
        if isinstance(result, Turned):
            return "swallowed"
        handler = self.datagram_handler(result)
        if handler is None:
            await socket.reject(PORT_UNREACHABLE_6, to.address, to)
            return "rejected"
        answer = handler(data, result.source)
        if isinstance(answer, bytes):
            await socket.deliver(answer, to)
        return "delivered"

    async def _send_to_group(self, socket: DatagramSocket, data: bytes, to: Endpoint) -> str:
        """A datagram for a group reaches those on the sender's own network that listen there. One that has an address
        of another network finds no way to a single one, and answers the group alone.
        """
        segment = socket.attachment.segment
        routers = [(box.lan.ip, box.udp) for box in self.boxes.values() if box.inner == segment]
        others = [node for node in self.nodes.values() if node is not socket.node and not node.off]
        machines = [(own.address, node.udp) for node in others for own in node.attachments if own.segment == segment]
        hearing = [] if self.cut else [(address, udp[to.port]) for address, udp in routers + machines if to.port in udp]
        for address, handler in hearing:
            answer = handler(data, socket.local)
            if isinstance(answer, bytes) and (address in self.segments[segment] or socket.group is not None):
                await socket.deliver(answer, Endpoint(address, to.port))
        return "delivered" if hearing else "swallowed"

    def stream_handler(self, arrival: Arrival) -> StreamHandler | None:
        """What answers a connection there; None: nothing listens, so that it is refused."""
        if isinstance(arrival.node, Box):
            inward = arrival.to == arrival.node.lan.ip
            return (arrival.node.tcp if inward else arrival.node.remote).get(arrival.port)
        if (listener := self.listeners.get((arrival.node.key, arrival.port))) is not None:
            return listener
        if not arrival.node.listens("tcp", arrival.port, arrival.to):
            return None
        handler = arrival.node.tcp.get(arrival.port)
        near = any(arrival.source.address in self.segments[a.segment] for a in arrival.node.attachments)
        return handler if handler is None or near or self.widest is None else partial(narrowed, handler, self.widest)

    @staticmethod
    def datagram_handler(arrival: Arrival) -> DatagramHandler | None:
        """What takes a datagram there; None: nothing listens."""
        node = arrival.node
        if isinstance(node, Machine) and not node.listens("udp", arrival.port, arrival.to):
            return None
        return node.udp.get(arrival.port)

    def leave(self, attachment: Attachment) -> None:
        """Nobody has this address any more, and for a while machines go on sending to who had it."""
        self.gone[attachment.address] = attachment.segment, attachment.mac, self.now()

    def _remembered(self, since: datetime) -> float | None:
        """For how many seconds nobody has answered there; None: machines have found out meanwhile."""
        silent = (self.now() - since).total_seconds() + 1  # it was heard of a second before it left
        return silent if silent < NEIGHBOUR_SECONDS else None

    def neighbours(self, node: Machine) -> list[tuple[IPv4Address, str, str, float]]:
        """Address, MAC and interface of those on its own networks that `node` has spoken with, and for how many seconds
        they have been silent: those that are gone stay for a while.
        """
        asked = self.spoken[node.key]
        routers = [
            (address, made_up_mac(address), own.name, 0.0)
            for own in node.attachments
            for box in self.boxes.values()
            for segment, address in ((box.inner, box.lan.ip), (box.outer, box.wan))
            if segment == own.segment and (address == own.gateway or str(address) in asked)
        ]
        gone = [
            (address, mac, own.name, silent)
            for own in node.attachments
            for address, (segment, mac, since) in self.gone.items()
            if segment == own.segment and (silent := self._remembered(since)) is not None
        ]
        there = [
            (other.address, other.mac, own.name, 0.0)
            for own in node.attachments
            for peer in self.nodes.values()
            for other in peer.attachments
            if other.segment == own.segment and not peer.off and peer is not node and str(other.address) in asked
        ]
        taken = {address for address, *_ in there}
        there = [next(entry for entry in there if entry[0] == address) for address in taken]  # who answers first
        return routers + there + [entry for entry in gone if entry[0] not in taken]

    def lookup6(self, name: str) -> list[IPv6Address]:
        """The IPv6 addresses that a machine's own resolver gives."""
        return [IPv6Address(text) for text in self.zone.get(name, "AAAA")]

    def lookup(self, name: str) -> list[IPv4Address]:
        """What a machine's own resolver gives."""
        address = self.zone.address(name)
        if address and self.resolvers:
            address = IPv4Address(LIE)
        return [address] if address else []

    @asynccontextmanager
    async def dialled(self, node: Machine, to: IPv4Address, port: int) -> AsyncIterator[ByteStream | None]:
        """A connection that a machine of the town makes by itself; None: it is refused. Silence is the caller's."""
        result = self.route(node, to, "tcp", port, self.free_port())
        handler = self.stream_handler(result) if isinstance(result, Arrival) else None
        if isinstance(result, Turned) and result.icmp is None:
            await anyio.sleep_forever()
        if handler is None or not isinstance(result, Arrival):
            yield None
            return
        near, far = pipe()
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(_handled, handler, far, result.source)
            try:
                yield near
            finally:
                await near.aclose()
                tasks.cancel_scope.cancel()


async def narrowed(handler: StreamHandler, widest: int, stream: ByteStream, source: Endpoint) -> None:
    """A connection over a way that loses what is sent in pieces of more than `widest` bytes, and whoever says so."""
    await handler(Narrow(stream, widest), source)


class Narrow(ByteStream):
    """The end of a connection on such a way."""

    def __init__(self, stream: ByteStream, widest: int) -> None:
        self._stream, self._widest, self._lost = stream, widest, False

    async def send(self, item: bytes) -> None:
        self._lost = self._lost or len(item) > self._widest  # what comes behind a gap is not handed on
        if not self._lost:
            await self._stream.send(item)

    async def receive(self, max_bytes: int = 65536) -> bytes:
        return await self._stream.receive(max_bytes)

    async def send_eof(self) -> None:
        if not self._lost:
            await self._stream.send_eof()

    async def aclose(self) -> None:
        if self._lost:  # that it has ended is not heard either
            await anyio.sleep(LOST_S)
        await self._stream.aclose()


async def _handled(handler: StreamHandler, stream: ByteStream, source: Endpoint) -> None:
    """One connection served; what ends it is nobody's trouble."""
    try:
        await handler(stream, source)
    except Exception:  # as at the town's own port, it ends that one connection
        return
    finally:
        with anyio.CancelScope(shield=True):
            await stream.aclose()
