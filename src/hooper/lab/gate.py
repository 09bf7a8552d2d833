"""The town's tunnel server and its peers: genuine handshakes and transport, by the files that real software loads."""

from __future__ import annotations

import base64
import re
import secrets
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, ip_address, ip_interface, ip_network
from typing import TYPE_CHECKING

from hooper.errors import UsageError, WireError
from hooper.lab.things import SWALLOWED, Arrival, Attachment, Machine, Transport, Turned
from hooper.net.types import Endpoint
from hooper.wire import ip4
from hooper.wire.icmp import Icmp
from hooper.wire.wgfile import WireGuardFile, parse
from hooper.wire.wireguard import (
    INITIATION,
    SESSION_S,
    TRANSPORT,
    Initiator,
    Responder,
    SessionKeys,
    cookie_for,
    cookie_reply,
    kind_of,
    mac2_fits,
    public_of,
    tai64n,
)

if TYPE_CHECKING:
    from hooper.addresses import IPNetwork
    from hooper.lab.streets import Streets

OWN_DUMP = ("wg", "show", "all", "dump")  # wg(8): what its software tells
PROHIBITED = Icmp(3, 13)
NOWHERE, NO_NETWORK = IPv4Address(0), IPv4Network("0.0.0.0/32")
_RULE = re.compile(
    r"(ip6?) saddr (\S+) \1 daddr (\S+)(?: (tcp|udp) dport (\d+)(?:-(\d+))?| meta l4proto (\d+))? accept"
    r'(?: comment "[^"]*")?'
)


@dataclass(frozen=True)
class Allowed:
    """One rule of the server: who may go where. transport: empty: all."""

    source: IPv4Address
    network: IPNetwork
    transport: str
    first: int
    last: int

    def takes(self, source: IPv4Address, to: IPv4Address, transport: str, port: int) -> bool:
        inside = self.network.version == 4 and to in self.network
        fits = not self.transport or (self.transport == transport and self.first <= port <= self.last)
        return source == self.source and inside and fits


def read_rules(text: str) -> tuple[list[Allowed], bool]:
    """The rules in the server's own form, and whether it puts its address for those of peers.

    Raises: UsageError: there are rules that this gate does not understand.
    """
    found, nat = [], False
    in_peers = False
    for line in map(str.strip, text.splitlines()):
        if line.startswith("chain "):
            in_peers = line.startswith("chain peers")
        elif line.startswith("ip saddr") and line.endswith("masquerade"):
            nat = True
        elif in_peers and line.startswith(("ip ", "ip6 ")):
            match = _RULE.fullmatch(line)
            if match is None:
                raise UsageError(f"the gate does not understand the rule {line!r}", remedy="Load files that were made.")
            family, source, to, transport, first, last, _ = match.groups()
            if family == "ip":
                low = int(first or 0)
                found.append(Allowed(IPv4Address(source), ip_network(to), transport or "", low, int(last or low)))
    return found, nat


@dataclass
class Known:
    """A peer of the server. label: of its last initiation."""

    allowed: tuple[IPNetwork, ...]
    psk: bytes
    label: bytes = b""
    session: SessionKeys | None = None
    handshake: datetime | None = None
    came_from: Endpoint | None = None
    received: int = 0
    sent: int = 0
    alive: bool = False


@dataclass
class Gate:
    """The server on one machine.

    forwards: its kernel hands packets on. busy: it wants its cookie first. arrived: connections that came through.
    """

    town: Streets
    node: Machine
    responder: Responder | None = None
    address: IPv4Address = NOWHERE
    network: IPv4Network = NO_NETWORK
    port: int = 51820
    peers: dict[bytes, Known] = field(default_factory=dict)
    rules: list[Allowed] = field(default_factory=list)
    nat: bool = False
    forwards: bool = True
    busy: bool = False
    secret: bytes = field(default_factory=lambda: secrets.token_bytes(32), repr=False)
    name: str = "gate0"
    arrived: dict[tuple[IPv4Address, int, IPv4Address, int], Arrival] = field(default_factory=dict)

    def load(self, conf: str, rules: str, name: str = "gate0") -> list[str]:
        """Take the files of a server, whose interface is called so; returns the peers' public keys.

        Raises: UsageError: they are none.
        """
        read = parse(conf)
        private, address, port = _interface(read)
        self.responder, self.network = Responder(private), address.network
        self.address = address.ip
        before, self.peers = self.peers, {}
        for section in read.peers:
            key, shared = section.get("PublicKey"), section.get("PresharedKey")
            if key is None:
                raise UsageError("a peer in the file has no PublicKey", remedy="Load a file that was made.")
            public = base64.b64decode(key.value)
            old = before.get(public)
            self.peers[public] = Known(
                tuple(ip_network(item, strict=False) for item in section.items("AllowedIPs")),
                base64.b64decode(shared.value) if shared is not None else bytes(32),
                old.label if old is not None else b"",
                old.session if old is not None else None,
                old.handshake if old is not None else None,
            )
        self.rules, self.nat = read_rules(rules)
        self.name = name
        self.node.udp.pop(self.port, None)
        self.port = port
        self.listen()
        return [base64.b64encode(public).decode() for public in self.peers]

    def listen(self) -> None:
        """Answer at its port, once it has its files."""
        if self.responder is not None:
            self.node.udp[self.port] = self.receive

    def receive(self, data: bytes, source: Endpoint) -> bytes | None:
        """One datagram; None: nothing is said, as to all strangers."""
        assert self.responder is not None
        try:
            kind = kind_of(data)
            if kind == INITIATION:
                return self._answer(data, source)
            if kind == TRANSPORT:
                return self._carry(data, source)
        except WireError:
            pass
        return None

    def _answer(self, data: bytes, source: Endpoint) -> bytes | None:
        assert self.responder is not None
        asked = self.responder.open(data)
        cookie = cookie_for(self.secret, f"{source}".encode())
        if self.busy and not mac2_fits(data, cookie):
            return cookie_reply(data, self.responder.public, cookie)
        known = self.peers.get(asked.peer)
        if known is None or asked.label <= known.label:
            return None
        known.label, known.came_from = asked.label, source
        answer, known.session = self.responder.respond(asked, known.psk)
        known.handshake = self.town.now()
        known.received += len(data)
        known.sent += len(answer)
        return answer

    def _carry(self, data: bytes, source: Endpoint) -> bytes | None:
        index = int.from_bytes(data[4:8], "little")
        known = next((one for one in self.peers.values() if one.session and one.session.own == index), None)
        if known is None or known.session is None:
            return None
        plain = known.session.receive(data)
        known.came_from, known.received = source, known.received + len(data)
        if not plain:  # a sign of life, and one in return where it keeps its own end open
            return known.session.send(b"") if known.alive else None
        packet = ip4.Packet.parse(plain)
        if not any(one.version == 4 and packet.source in one for one in known.allowed):
            return None
        answer = self._forward(packet)
        if answer is None:
            return None
        sealed = known.session.send(answer.serialize())
        known.sent += len(sealed)
        return sealed

    def _forward(self, packet: ip4.Packet) -> ip4.Packet | None:
        """What comes back for a packet of a peer: what its first one would bring."""
        if packet.to == self.address and (echo := ip4.echo_reply(packet)) is not None:
            return echo
        transport: Transport = "tcp" if packet.protocol == ip4.TCP else "udp"
        source_port, port = ip4.ports_of(packet)
        result = self.way(packet.source, packet.to, transport, port, source_port)
        if isinstance(result, Turned):
            if result.icmp is None or result.by is None:
                return None
            message = ip4.icmp(result.icmp.type, result.icmp.code, packet.serialize())
            return ip4.Packet(result.by, packet.source, ip4.ICMP, message)
        if transport == "udp":
            handler = result.node.udp.get(result.port)
            reply = handler(packet.payload[8:], result.source) if handler is not None else None
            if handler is None:
                message = ip4.icmp(3, 3, packet.serialize())
                return ip4.Packet(packet.to, packet.source, ip4.ICMP, message)
            body = ip4.udp(port, source_port, reply) if isinstance(reply, bytes) else None
            return ip4.Packet(packet.to, packet.source, ip4.UDP, body) if body is not None else None
        self.arrived[packet.source, source_port, packet.to, port] = result
        open_ = self.town.stream_handler(result) is not None
        flags = ip4.SYN | ip4.ACK if open_ else ip4.RST | ip4.ACK
        return ip4.Packet(packet.to, packet.source, ip4.TCP, ip4.tcp(port, source_port, flags))

    def way(
        self, source: IPv4Address, to: IPv4Address, transport: Transport, port: int, source_port: int
    ) -> Arrival | Turned:
        """What becomes of a packet of a peer behind the server: its rules, its forwarding, the way there and back."""
        if not any(rule.takes(source, to, transport, port) for rule in self.rules):
            return Turned(PROHIBITED, self.address)
        own = [attachment.address for attachment in self.node.attachments]
        if to in (self.address, *own):
            return Arrival(self.node, to, port, Endpoint(source, source_port), to)
        if not self.forwards:
            return SWALLOWED
        seen_as = own[0] if self.nat else source
        result = self.town.onward(self.node, Endpoint(seen_as, source_port), to, transport, port)
        if isinstance(result, Arrival) and not self.nat and not self._way_back(result):
            return SWALLOWED
        return result

    def set(self, words: Sequence[str]) -> bool:
        """As `Client.set`."""
        given = dict(zip(words[::2], words[1::2], strict=False))
        known = self.peers.get(base64.b64decode(given.get("peer", "")))
        if known is None:
            return False
        host, _, port = given["endpoint"].rpartition(":")
        known.came_from, known.alive = Endpoint(ip_address(host), int(port)), given["persistent-keepalive"] != "0"
        return True

    def _way_back(self, arrival: Arrival) -> bool:
        """Whether the router of its LAN knows where the tunnel's network is."""
        segment = self.node.attachments[0].segment
        router = next((box for box in self.town.boxes.values() if box.inner == segment), None)
        if router is None or arrival.node is router:
            return router is not None
        return any(self.network.subnet_of(net) and via == self.node.address for net, via in router.routes)

    def dump(self, *, keys: bool = False) -> str:
        """What its software tells of it: `wg show all dump`, as wg(8) has it. Its own private key is left out; with
        `keys` the shared ones are not.
        """
        if self.responder is None:
            return ""
        own = base64.b64encode(self.responder.public).decode()
        lines = [f"{self.name}\t(hidden)\t{own}\t{self.port}\toff"]
        for public, known in self.peers.items():
            allowed = ",".join(map(str, known.allowed)) or "(none)"
            last = int(known.handshake.timestamp()) if known.handshake is not None else 0
            shared = base64.b64encode(known.psk).decode() if keys else "(hidden)"
            lines.append(
                f"{self.name}\t{base64.b64encode(public).decode()}\t{shared}\t{known.came_from or '(none)'}"
                f"\t{allowed}\t{last}\t{known.received}\t{known.sent}\toff"
            )
        return "\n".join(lines) + "\n"


def _interface(read: WireGuardFile) -> tuple[bytes, IPv4Interface, int]:
    """Private key, address in the tunnel, port. Raises: UsageError."""
    section = read.interface
    private = section.get("PrivateKey") if section is not None else None
    if section is None or private is None:
        raise UsageError("this is no file of WireGuard's: it has no PrivateKey", remedy="Load a file that was made.")
    addresses = map(ip_interface, section.items("Address"))
    address = next((one for one in addresses if isinstance(one, IPv4Interface)), None)
    port = section.get("ListenPort")
    if address is None:
        raise UsageError("the file has no IPv4 address", remedy="Load a file that was made.")
    return base64.b64decode(private.value), address, int(port.value) if port is not None else 51820


@dataclass
class Client:
    """A peer on a machine of the town, with the profile that it was handed."""

    town: Streets
    node: Machine
    name: str
    private: bytes
    server: bytes
    psk: bytes
    address: IPv4Address
    allowed: tuple[IPNetwork, ...]
    host: str
    port: int
    session: SessionKeys | None = None
    since: datetime | None = None
    label: bytes = b""
    local: int = 0
    received: int = 0
    sent: int = 0
    alive: bool = False  # it sends something now and then, whether it is used or not

    @classmethod
    def load(cls, town: Streets, node: Machine, name: str, conf: str) -> Client:
        """Take a profile: the machine has another interface then. Raises: UsageError: it is none."""
        read = parse(conf)
        private, address, _ = _interface(read)
        peer = read.peers[0] if read.peers else None
        key, endpoint = (peer.get("PublicKey"), peer.get("Endpoint")) if peer is not None else (None, None)
        if peer is None or key is None or endpoint is None:
            remedy = "Load a file that was handed over."
            raise UsageError("the profile does not say where its server is", remedy=remedy)
        host, _, port = endpoint.value.rpartition(":")
        shared = peer.get("PresharedKey")
        client = cls(
            town,
            node,
            name,
            private,
            base64.b64decode(key.value),
            base64.b64decode(shared.value) if shared is not None else bytes(32),
            address.ip,
            tuple(ip_network(item, strict=False) for item in peer.items("AllowedIPs")),
            host.strip("[]"),
            int(port),
            local=town.free_port(),
            alive=(kept := peer.get("PersistentKeepalive")) is not None and kept.value not in ("0", "off"),
        )
        segment = f"tunnel:{node.key}:{name}"
        town.segments[segment] = IPv4Network(f"{address.ip}/32")
        node.attachments = [one for one in node.attachments if one.name != name]
        node.attachments.append(Attachment(name, segment, address.ip, "", None, 5, tunnel=True))
        town.clients[segment] = client
        return client

    def unload(self) -> None:
        """The machine has the interface no more."""
        self.node.attachments = [one for one in self.node.attachments if one.name != self.name]

    def keep_alive(self) -> None:
        """What software that keeps its tunnel open has done by now."""
        if self.alive and (session := self._session()) is not None:
            self._exchange(session.send(b""))

    def set(self, words: Sequence[str]) -> bool:
        """What wg(8) sets at a peer: its endpoint, and whether it keeps it open; whether it is that peer."""
        given = dict(zip(words[::2], words[1::2], strict=False))
        if given.get("peer") != base64.b64encode(self.server).decode():
            return False
        self.host, _, port = given["endpoint"].rpartition(":")
        self.port, self.alive = int(port), given["persistent-keepalive"] != "0"
        self.keep_alive()
        return True

    def dump(self) -> str:
        """As that of the gate, with the key that is shared."""
        own, server, shared = (
            base64.b64encode(one).decode() for one in (public_of(self.private), self.server, self.psk)
        )
        last = int((self.since - self.node.clock_off).timestamp()) if self.since is not None else 0
        allowed, seconds = ",".join(map(str, self.allowed)), "25" if self.alive else "off"
        where = f"{self.host}:{self.port}"
        values = (self.name, server, shared, where, allowed, last, self.received, self.sent, seconds)
        return f"{self.name}\t(hidden)\t{own}\t{self.local}\toff\n" + "\t".join(map(str, values)) + "\n"

    def takes(self, to: IPv4Address) -> int | None:
        """The length of the prefix by which a packet goes into the tunnel; None: it does not."""
        return max((one.prefixlen for one in self.allowed if one.version == 4 and to in one), default=None)

    def send(
        self, to: IPv4Address, transport: Transport, port: int, source_port: int, data: bytes
    ) -> ip4.Packet | None:
        """One packet through the tunnel; what came back for it."""
        session = self._session()
        if session is None:
            return None
        payload = ip4.udp(source_port, port, data) if transport == "udp" else ip4.tcp(source_port, port, ip4.SYN)
        protocol = ip4.UDP if transport == "udp" else ip4.TCP
        packet = ip4.Packet(self.address, to, protocol, payload)
        answer = self._exchange(session.send(packet.serialize()))
        if answer is None:
            return None
        try:
            return ip4.Packet.parse(session.receive(answer))
        except WireError:
            return None

    def _session(self) -> SessionKeys | None:
        """Keys that are still good; a handshake where there are none."""
        now = self.town.now() + self.node.clock_off
        fresh = self.since is not None and timedelta(0) <= now - self.since < timedelta(seconds=SESSION_S)
        if self.session is not None and fresh:
            return self.session
        self.session = None
        initiator = Initiator(self.private, self.server, self.psk, index=secrets.randbits(32))
        self.label = tai64n(now)
        answer = self._exchange(initiator.initiation(self.label))
        try:
            made = initiator.read(answer) if answer is not None else None
        except WireError:
            return None
        if isinstance(made, SessionKeys):
            self.session, self.since = made, now
        return self.session

    def _exchange(self, data: bytes) -> bytes | None:
        """One datagram to the server and what comes back, by the machine's own way out."""
        try:
            address: IPv4Address | None = IPv4Address(self.host)
        except ValueError:
            address = self.town.zone.address(self.host)
        if address is None:
            return None
        outer = self.town.exchange(self.node, address, self.port, self.local, data)
        self.sent, self.received = self.sent + len(data), self.received + len(outer or b"")
        written = str(Endpoint(address, self.port))
        self.town.note(self.node.key, "udp", written, "delivered" if outer is not None else "swallowed")
        return outer

    def route(
        self, gate: Gate | None, to: IPv4Address, transport: Transport, port: int, source_port: int
    ) -> Arrival | Turned:
        """Where a connection comes to through the tunnel."""
        answer = self.send(to, transport, port, source_port, b"")
        if answer is None or gate is None:
            return SWALLOWED
        if answer.protocol == ip4.ICMP:
            return Turned(Icmp(answer.payload[0], answer.payload[1]), answer.source)
        arrival = gate.arrived.pop((self.address, source_port, to, port), None)
        return arrival if arrival is not None else SWALLOWED
