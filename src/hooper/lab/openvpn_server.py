"""A tunnel server of the town that speaks OpenVPN as far as its control channel: by the file that real software loads.

It proves its certificate to whoever has the shared key, and lets nobody any further: the town carries no data for it.
"""

from __future__ import annotations

import secrets
import ssl
from collections import OrderedDict, deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime

import anyio
from anyio.abc import ByteStream

from hooper.errors import UsageError, WireError
from hooper.net.tls import server_context
from hooper.net.types import Endpoint
from hooper.wire.openvpn import Channel, Guard, frame, unframe
from hooper.wire.ovpnfile import guard_of, parse

CONVERSATIONS = 64  # at a time; who comes then pushes out the oldest
PATIENCE = 20.0  # seconds that a connection over TCP may last


@dataclass
class Conversation:
    """One client's handshake. waiting: packets for it that have not been sent."""

    channel: Channel
    tls: ssl.SSLObject
    incoming: ssl.MemoryBIO
    outgoing: ssl.MemoryBIO
    waiting: deque[bytes] = field(default_factory=deque)

    def receive(self, packet: bytes) -> None:
        """Take a packet in. Raises: WireError: it is none of this conversation."""
        self.waiting.extend(self.channel.receive(packet))
        data = self.channel.take()
        if data:
            self.incoming.write(data)
            with suppress(ssl.SSLError):  # who has no certificate of the authority is told so, and no more
                self.tls.do_handshake()
            self.waiting.extend(self.channel.send(self.outgoing.read()))
        self.waiting.extend(self.channel.acknowledge())


@dataclass
class OpenVpnServer:
    """What answers at its port. transport: udp or tcp. port: of the server."""

    context: ssl.SSLContext
    guard: Callable[[], Guard]
    now: Callable[[], datetime]
    transport: str
    port: int
    name: str
    conversations: OrderedDict[Endpoint, Conversation] = field(default_factory=OrderedDict)

    @classmethod
    def load(cls, text: str, name: str, now: Callable[[], datetime]) -> OpenVpnServer:
        """The server of a file. Raises: UsageError: it is none, or not whole."""
        file = parse(text)
        proto, port = file.get("proto"), file.get("port")
        if not file.has("tls-server") or any(file.inline(part) is None for part in ("ca", "cert", "key")):
            remedy = "Load the .conf that was made for the server; of peers, the town carries WireGuard's alone."
            raise UsageError("this is no file of an OpenVPN server with all inside", remedy=remedy)
        inside = {part: file.inline(part).text for part in ("ca", "cert", "key")}  # type: ignore[union-attr]
        try:
            context = server_context(inside["cert"].encode(), inside["key"].encode())
            context.verify_mode = ssl.CERT_REQUIRED
            context.load_verify_locations(cadata=inside["ca"])
            guard = guard_of(file, "server")
        except (ssl.SSLError, WireError) as exc:
            raise UsageError(f"its keys do not fit: {exc}", remedy="Make the server's files anew.") from None
        transport = "tcp" if proto is not None and proto.word(0).startswith("tcp") else "udp"
        number = int(port.word(0)) if port is not None and port.word(0).isdigit() else 1194
        return cls(context, guard, now, transport, number, name)

    def _begin(self) -> Conversation:
        seconds = int(self.now().timestamp())
        channel = Channel(self.guard(), secrets.token_bytes(8), lambda: seconds, "server")
        incoming, outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
        return Conversation(channel, self.context.wrap_bio(incoming, outgoing, server_side=True), incoming, outgoing)

    def datagram(self, data: bytes, peer: Endpoint) -> bytes | None:
        """The next packet for who sent one; the acknowledgement of each brings the one behind it."""
        talk = self.conversations.get(peer) or self._begin()
        try:
            talk.receive(data)
        except WireError:
            talk = self._begin()  # perhaps the same machine begins anew
            try:
                talk.receive(data)
            except WireError:
                return None
        self.conversations[peer] = talk
        if len(self.conversations) > CONVERSATIONS:
            self.conversations.popitem(last=False)
        return talk.waiting.popleft() if talk.waiting else None

    async def stream(self, stream: ByteStream, peer: Endpoint) -> None:
        """The same over TCP."""
        del peer
        talk, rest = self._begin(), b""
        with anyio.move_on_after(PATIENCE), suppress(WireError):
            while True:
                packets, rest = unframe(rest + await stream.receive())
                for packet in packets:
                    talk.receive(packet)
                while talk.waiting:
                    await stream.send(frame(talk.waiting.popleft()))


def is_openvpn(text: str) -> bool:
    """Whether a file is in OpenVPN's format."""
    names = {option.name for option in parse(text).options}
    return bool(names & {"client", "tls-server", "tls-client", "remote"})
