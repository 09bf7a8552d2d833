"""The town's entrance: one loopback port. A first byte 0x05 is SOCKS5, a first byte { a verb of the town's own link."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Awaitable, Callable
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv6Address, ip_address
from typing import Any

import anyio
from anyio.abc import ByteStream, TaskStatus
from anyio.streams.buffered import BufferedByteStream

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.clock import Clock, SystemClock
from hooper.errors import HooperError, MachineError, UsageError, WireError
from hooper.lab import boathouse
from hooper.lab.faults import FAULTS, Breakages
from hooper.lab.happenings import HANDS, HAPPENINGS, Happenings
from hooper.lab.ipv6 import leaves_by, route6
from hooper.lab.lines import LineSetter, Shape
from hooper.lab.own_programs import own_program
from hooper.lab.pipe import GONE, splice
from hooper.lab.things import Arrival, Attachment, DatagramSocket, Machine, Turned
from hooper.net.acceptor import Guest, accept_all
from hooper.net.lab_door import SOCKS_ICMP
from hooper.net.system import SystemDoor
from hooper.net.types import Endpoint
from hooper.wire import lab_link as link
from hooper.wire import socks5
from hooper.wire.icmp import Icmp
from hooper.words.catalogue import faults

STRANGERS = 512  # connections at once that have not shown the token; a sweep makes a hundred in one moment
_NOWHERE = IPv4Address(0)
Verb = Callable[[BufferedByteStream, "Asker", dict[str, Any]], Awaitable[None]]


class Asker:
    """Who asks: a machine of the town, perhaps bound to one of its interfaces or addresses."""

    def __init__(self, name: str, node: Machine, attachment: Attachment | None) -> None:
        self.name, self.node, self.attachment = name, node, attachment

    @property
    def interface(self) -> str | None:
        return self.attachment.name if self.attachment else None


class Switchboard:
    """A running town."""

    def __init__(self, *, hairpin: bool = False, clock: Clock | None = None) -> None:
        """hairpin: the routers let machines inside reach the public address, as few do. clock: None: the machine's."""
        self.clock = clock or SystemClock()
        self.ahead = timedelta(0)
        self.started, self.slept_s = self.now(), 0.0
        self.town = boathouse.build(self.now)
        for box in self.town.boxes.values():
            box.hairpin = hairpin and box.is_router
        self.breakages = Breakages(self.town)
        self.happenings = Happenings(self.town)
        for router in self.town.igd.values():
            router.subscribe = self.happenings.subscribe
        self.lines = LineSetter(self.town, Shape(hairpin=hairpin))
        self.token = secrets.token_urlsafe(24)
        self.port = 0
        self.town.nodes["rented"].tcp[1080] = self._proxy
        self._moved = anyio.Event()
        self._visitors: dict[str, tuple[ByteStream, anyio.Event]] = {}
        self._verbs: dict[str, Verb] = {
            "hello": self._hello,
            "surroundings": self._surroundings,
            "lookup": self._lookup,
            "source": self._source,
            "printed": self._printed,
            "line": self._line,
            "plug": self._plug,
            "datagrams": self._datagrams,
            "listen": self._listen,
            "accept": self._accept,
            "sleep": self._sleep,
            "clock": self._clock,
            "ledger": self._ledger,
            "faults": self._faults,
            "break": self._break,
            "mend": self._mend,
            **dict.fromkeys(HAPPENINGS, self._happen),
            **dict.fromkeys(HANDS, self._by_hand),
        }

    def now(self) -> datetime:
        return self.clock.now() + self.ahead

    async def serve(self, *, task_status: TaskStatus[int] = anyio.TASK_STATUS_IGNORED) -> None:
        """Accept on a loopback port until cancelled; the port is given as soon as it is known."""
        async with await SystemDoor().listen(Endpoint(IPv4Address("127.0.0.1"), 0)) as listener:
            self.port = listener.local.port
            task_status.started(self.port)
            await accept_all(listener, self._one, at_once=STRANGERS, of_each=STRANGERS)

    async def _one(self, guest: Guest) -> None:
        """One connection; one that has shown the token stays as long as it likes."""
        stream = BufferedByteStream(guest)
        first = await stream.receive_exactly(1)
        if first == b"\x05":
            await self._socks(guest, stream)
        elif first == b"{":
            await self._verb(guest, stream)

    def _has_token(self, guest: Guest, shown: bytes) -> bool:
        """Whether whoever is at the other end may use the lab."""
        if right := secrets.compare_digest(shown, self.token.encode()):
            guest.stay()
        return right

    def _asker(self, name: str) -> Asker | None:
        """`here`, `here:usb0`, `here@10.44.7.105`, a host's key, phone, rented."""
        spot, _, source = name.partition("@")
        key, _, interface = spot.partition(":")
        node = self.town.nodes.get(key)
        if node is None:
            return None
        wanted = [a for a in node.attachments if interface == a.name or (source and source == str(a.address))]
        if (interface or source) and not wanted:
            return None
        return Asker(spot, node, wanted[0] if wanted else None)

    # --- streams

    async def _socks(self, guest: Guest, stream: BufferedByteStream) -> None:
        with anyio.fail_after(10):
            methods = await stream.receive_exactly((await stream.receive_exactly(1))[0])
            if socks5.LOGIN not in methods:
                await stream.send(bytes([5, socks5.NO_METHOD]))
                return
            await stream.send(bytes([5, socks5.LOGIN]))
            _, length = await stream.receive_exactly(2)
            name = (await stream.receive_exactly(length)).decode("utf-8", "replace") if length else ""
            length = (await stream.receive_exactly(1))[0]
            token = await stream.receive_exactly(length) if length else b""
            asker = self._asker(name)
            if not self._has_token(guest, token) or asker is None:
                await stream.send(b"\x01\x01")
                return
            await stream.send(b"\x01\x00")
        await self._request(stream, asker)

    async def _proxy(self, raw: ByteStream, peer: Endpoint) -> None:
        """The open SOCKS5 proxy on the rented machine: what it connects leaves from there."""
        del peer
        stream = BufferedByteStream(raw)
        _, count = await stream.receive_exactly(2)
        methods = await stream.receive_exactly(count) if count else b""
        if socks5.NO_LOGIN not in methods:
            await stream.send(bytes([5, socks5.NO_METHOD]))
            return
        await stream.send(bytes([5, socks5.NO_LOGIN]))
        await self._request(stream, Asker("rented", self.town.nodes["rented"], None))

    async def _request(self, stream: BufferedByteStream, asker: Asker) -> None:
        """One SOCKS request, and the connection that it becomes."""
        with anyio.fail_after(10):
            _, command, _, kind, first = await stream.receive_exactly(5)
            rest = await stream.receive_exactly(socks5.address_length(kind, first))
        target, port = socks5.parse_address(kind, bytes([first]) + rest)
        if command != socks5.CONNECT:
            await stream.send(socks5.serialize_reply(socks5.BAD_COMMAND, _NOWHERE))
            return
        if isinstance(target, str):
            self.town.note(asker.name, "dns", target, "asked")
            found = self.town.lookup(target)
            if not found:
                await stream.send(socks5.serialize_reply(socks5.HOST_UNREACHABLE, _NOWHERE))
                return
            target = found[0]
        await self._connect(stream, asker, target, port)

    async def _connect(self, stream: BufferedByteStream, asker: Asker, to: IPAddress, port: int) -> None:
        """Carry a TCP connection of `asker`; the stream becomes the connection."""
        own = self.town.free_port()
        if isinstance(to, IPv6Address):
            result = route6(self.town, asker.node, to, "tcp", port, own, asker.interface)
        else:
            result = self.town.route(asker.node, to, "tcp", port, own, asker.interface)
        handler = self.town.stream_handler(result) if isinstance(result, Arrival) else None
        written = str(Endpoint(to, port))
        if isinstance(result, Turned):
            await self._turn(stream, asker, written, result)
        elif handler is None:
            self.town.note(asker.name, "tcp", written, "refused")
            await stream.send(socks5.serialize_reply(socks5.REFUSED, _NOWHERE))
        else:
            self.town.note(asker.name, "tcp", written, "delivered")
            await stream.send(socks5.serialize_reply(socks5.GRANTED, _NOWHERE))
            await handler(stream, result.source)

    async def _turn(self, stream: BufferedByteStream, asker: Asker, written: str, result: Turned) -> None:
        self.town.note(
            asker.name, "tcp", written, "rejected" if result.icmp else "no-way" if result.local else "swallowed"
        )
        if result.local:
            await stream.send(socks5.serialize_reply(socks5.TTL_EXPIRED, _NOWHERE))
        elif result.icmp is not None or result.after:
            await anyio.sleep(result.after)
            by = result.by if result.icmp is not None and result.by else _NOWHERE
            code = next((key for key, icmp in SOCKS_ICMP.items() if icmp == result.icmp), socks5.HOST_UNREACHABLE)
            await stream.send(socks5.serialize_reply(code, by))
        else:
            while True:  # until the asker gives up
                await stream.receive()

    # --- verbs

    async def _verb(self, guest: Guest, stream: BufferedByteStream) -> None:
        with anyio.fail_after(10):
            asked = link.parse_line(b"{" + await self._line_of(stream))
        try:
            if not self._has_token(guest, str(asked.get("token", "")).encode()):
                raise UsageError("the token is wrong", remedy="Take it from the lab's private file.")
            asker = self._asker(str(asked.get("place", "here")))
            if asker is None:
                places = ", ".join(self.town.nodes)
                raise UsageError(f"the town has no place {asked.get('place')!r}", remedy=f"There are: {places}.")
            verb = self._verbs.get(str(asked.get("do")))
            if verb is None:
                raise UsageError(
                    f"the lab knows no verb {asked.get('do')!r}", remedy=f"It knows: {', '.join(self._verbs)}."
                )
            await verb(stream, asker, asked)
        except HooperError as exc:
            if isinstance(exc, WireError):
                raise
            answer = {"code": exc.code, "message": exc.message, "remedy": exc.remedy, "exit_code": exc.exit_code}
            await stream.send(link.serialize_line({"error": answer}))
        except (KeyError, TypeError, ValueError, AttributeError, IndexError) as exc:
            answer = {"code": "usage", "message": f"not understood: {exc!r}", "remedy": "See the link's description."}
            await stream.send(link.serialize_line({"error": {**answer, "exit_code": 2}}))

    async def _line_of(self, stream: BufferedByteStream) -> bytes:
        """The rest of a verb's line; a long one is only taken once its beginning shows the token."""
        try:
            return await stream.receive_until(b"\n", link.HEADER_LIMIT)
        except anyio.DelimiterNotFound:
            if self.token.encode() not in stream.buffer[:1024]:
                raise
            return await stream.receive_until(b"\n", link.LINE_LIMIT)

    async def _hello(self, stream: BufferedByteStream, _: Asker, __: dict[str, Any]) -> None:
        places = list(self.town.nodes)
        await stream.send(link.serialize_line({"now": self.now().isoformat(), "places": places}))

    async def _printed(self, stream: BufferedByteStream, asker: Asker, asked: dict[str, Any]) -> None:
        """What a program prints on the asker's machine: WireGuard's own is the only one that there is."""
        await stream.send(link.serialize_line({"text": own_program(self.town, asker.node, asked["words"])}))

    async def _surroundings(self, stream: BufferedByteStream, asker: Asker, _: dict[str, Any]) -> None:
        await stream.send(link.serialize_line(self.around(asker)))

    def around(self, asker: Asker) -> dict[str, Any]:
        """What a machine of the town knows of its networks."""
        attachments = asker.node.attachments
        interfaces = [
            {"name": a.name, "addresses": self._addresses(a), "mac": a.mac or None, "tunnel": a.tunnel}
            for a in attachments
        ]
        routes = []
        for a in attachments:
            network = self.town.segments[a.segment]
            if (client := self.town.clients.get(a.segment)) is not None:
                into = (str(one) for one in client.allowed if one.version == 4)
                routes += [{"destination": to, "gateway": None, "interface": a.name, "metric": a.metric} for to in into]
                continue
            if network.prefixlen:
                routes.append({"destination": str(network), "gateway": None, "interface": a.name, "metric": a.metric})
            way = str(a.gateway) if a.gateway else None
            if a.tunnel and way is None:
                continue
            routes.append({"destination": "0.0.0.0/0", "gateway": way, "interface": a.name, "metric": a.metric})
            if a.address6 is not None and not self.town.without_ipv6:
                routes.append({"destination": "::/0", "gateway": None, "interface": a.name, "metric": a.metric})
        told = self.town.resolvers
        resolvers = (
            [str(a.gateway) for a in attachments if a.gateway] if told is None else [str(server) for server in told]
        )
        around = {"interfaces": interfaces, "routes": routes, "resolvers": resolvers, "now": self.now().isoformat()}
        neighbours = [[str(address), *rest] for address, *rest in self.town.neighbours(asker.node)]
        awake = [(self.now() - self.started).total_seconds(), self.slept_s]
        return {**around, "neighbours": neighbours, "awake": awake}

    def _addresses(self, attachment: Attachment) -> list[str]:
        six = [f"{attachment.address6}/64"] if attachment.address6 is not None and not self.town.without_ipv6 else []
        return [f"{attachment.address}/{self.town.segments[attachment.segment].prefixlen or 24}", *six]

    async def _source(self, stream: BufferedByteStream, asker: Asker, asked: dict[str, Any]) -> None:
        """The address that packets to somewhere would carry. Sends nothing."""
        to, source = ip_address(str(asked["to"])), None
        if isinstance(to, IPv4Address):
            way = self.town.way_out(asker.node, to, asker.interface)
            source = str(way.address) if way is not None else None
        else:
            own = leaves_by(asker.node, to, asker.interface)
            source = str(own.address6) if own is not None else None
        await stream.send(link.serialize_line({"source": source}))

    async def _line(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        """The line as it is, once it is what was asked for."""
        if (given := asked.get("shape")) is not None:
            if self.breakages.active:
                active = ", ".join(self.breakages.active)
                raise UsageError(f"something is broken: {active}", remedy=f"Mend it first: `{deeds.MEND}`.")
            self.lines.set(Shape.read(given))
        await stream.send(link.serialize_line({"shape": asdict(self.lines.shape)}))

    async def _plug(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        """The person who carries the laptop to another socket."""
        self.lines.plug(str(asked["where"]))
        await stream.send(link.serialize_line({"where": str(asked["where"])}))

    async def _lookup(self, stream: BufferedByteStream, asker: Asker, asked: dict[str, Any]) -> None:
        name, ask = str(asked["name"]), self.town.lookup6 if asked["family"] == "ipv6" else self.town.lookup
        if self.town.resolver_dead or self.town.cut:
            self.town.note(asker.name, "dns", name, "swallowed")
            await anyio.sleep_forever()
        found = [str(one) for one in ask(name)]
        self.town.note(asker.name, "dns", name, "answered" if found else "no address")
        await stream.send(link.serialize_line({"addresses": found}))

    async def _sleep(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        until = datetime.fromtimestamp(float(asked["until"]), UTC)
        while (left := (until - self.now()).total_seconds()) > 0:
            with anyio.move_on_after(left):
                await self._moved.wait()
        await stream.send(link.serialize_line({"now": self.now().isoformat()}))

    async def _clock(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        step = float(asked["advance_s"])
        if abs(step) > 100 * 366 * 86400:
            raise UsageError("the clock moves by a hundred years at most", remedy="Give fewer seconds.")
        self.ahead += timedelta(seconds=step)
        if asked.get("asleep"):
            self.slept_s += max(step, 0.0)
        moved, self._moved = self._moved, anyio.Event()
        moved.set()
        await stream.send(link.serialize_line({"ahead_s": self.ahead.total_seconds(), "now": self.now().isoformat()}))

    async def _ledger(self, stream: BufferedByteStream, _: Asker, __: dict[str, Any]) -> None:
        await stream.send(link.serialize_line({"entries": list(self.town.ledger)}))

    async def _faults(self, stream: BufferedByteStream, _: Asker, __: dict[str, Any]) -> None:
        rows = [
            {
                "fault": fault.name,
                "active": fault.name in self.breakages.active,
                "cause": fault.cause,
                "summary": faults()[fault.name].what,
                "service": self.breakages.active[fault.name][0] if fault.name in self.breakages.active else None,
            }
            for fault in FAULTS.values()
        ]
        await stream.send(link.serialize_line({"faults": rows}))

    async def _break(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        if self.lines.shape.kind != "several-nats":
            remedy = f"Set it back first: `{deeds.SET_LINE('several-nats')}`."
            raise UsageError("faults are for the line that the town was built with", remedy=remedy)
        service = self.breakages.break_(str(asked["fault"]), asked.get("service"))
        await stream.send(link.serialize_line({"service": service}))

    async def _mend(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        await stream.send(link.serialize_line({"mended": self.breakages.mend(asked.get("fault"))}))

    async def _happen(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        await stream.send(link.serialize_line(await self.happenings.verb(asked)))

    async def _by_hand(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        """What a person does at a page or at a machine."""
        await stream.send(link.serialize_line(HANDS[str(asked["do"])](self.town, asked)))

    # --- datagrams and listeners

    def _own_port(self, asker: Asker, local: Any, taken: dict[tuple[str, int], Any]) -> tuple[Attachment, int]:
        attachment = asker.attachment or asker.node.attachments[0]
        port = 0
        if local is not None:
            address, port = ip_address(local[0]), int(local[1])
            attachment = next((a for a in asker.node.attachments if address in (a.address, a.address6)), attachment)
        if port and ((asker.node.key, port) in taken):
            raise MachineError(f"the port {port} is taken there", code="socket", remedy="Choose another.")
        return attachment, port or self.town.free_port()

    async def _datagrams(self, stream: BufferedByteStream, asker: Asker, asked: dict[str, Any]) -> None:
        groups = [ip_address(group) for group in asked.get("groups") or ()]
        beside = asked.get("beside")
        shared: dict[tuple[str, int], Any] = {} if groups else self.town.sockets if beside is None else self.town.beside
        local = asked.get("local") if beside is None else ["0.0.0.0", beside]  # noqa: S104 - of any interface
        attachment, port = self._own_port(asker, local, shared)
        lock = anyio.Lock()

        async def back(header: dict[str, Any], data: bytes = b"") -> None:
            async with lock:
                with contextlib.suppress(*GONE):
                    await stream.send(link.serialize_frame(header, data))

        async def deliver(data: bytes, sender: Endpoint) -> None:
            await back({"from": [str(sender.address), sender.port]}, data)

        async def reject(icmp: Icmp, by: IPAddress, to: Endpoint) -> None:
            await back({"icmp": [icmp.type, icmp.code], "by": str(by), "to": [str(to.address), to.port]})

        group = next((group for group in groups if isinstance(group, IPv4Address)), None)
        socket = DatagramSocket(asker.node, attachment, port, deliver, reject, asked.get("hops"), group)
        if group is None:
            shared[asker.node.key, port] = socket
        else:
            self.town.members.append(socket)
        try:
            await stream.send(link.serialize_line({"local": [str(attachment.address), port]}))
            while True:
                header_size, size = link.parse_lengths(await stream.receive_exactly(link.LENGTHS.size))
                header = link.parse_line(await stream.receive_exactly(header_size))
                data = await stream.receive_exactly(size) if size else b""
                to = Endpoint(ip_address(header["to"][0]), int(header["to"][1]))
                outcome = await self.town.send_datagram(socket, data, to, asker.interface)
                self.town.note(asker.name, "udp", str(to), outcome)
        finally:
            if group is None:
                shared.pop((asker.node.key, port), None)
            else:
                self.town.members.remove(socket)

    async def _listen(self, stream: BufferedByteStream, asker: Asker, asked: dict[str, Any]) -> None:
        attachment, port = self._own_port(asker, asked.get("local"), self.town.listeners)
        writing = anyio.Lock()

        async def visit(visitor: ByteStream, source: Endpoint) -> None:
            ticket, done = secrets.token_urlsafe(12), anyio.Event()
            self._visitors[ticket] = (visitor, done)
            try:
                async with writing:
                    said = {"visitor": ticket, "from": [str(source.address), source.port]}
                    await stream.send(link.serialize_line(said))
                await done.wait()
            finally:
                self._visitors.pop(ticket, None)

        self.town.listeners[asker.node.key, port] = visit
        try:
            await stream.send(link.serialize_line({"local": [str(attachment.address), port]}))
            while True:  # until the listener goes away
                await stream.receive()
        finally:
            self.town.listeners.pop((asker.node.key, port), None)

    async def _accept(self, stream: BufferedByteStream, _: Asker, asked: dict[str, Any]) -> None:
        visitor, done = self._visitors[str(asked["visitor"])]
        try:
            await stream.send(link.serialize_line({}))
            await splice(stream, visitor)
        finally:
            done.set()
