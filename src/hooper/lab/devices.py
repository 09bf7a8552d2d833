"""What the devices of the town say, at byte level."""

from __future__ import annotations

import os
import struct
from collections.abc import Callable
from datetime import datetime
from email.utils import format_datetime
from functools import partial
from ipaddress import IPv4Address

import anyio
from anyio.abc import ByteStream
from anyio.streams.tls import TLSStream

from hooper.errors import WireError
from hooper.lab.certificates import Identity
from hooper.lab.things import DatagramHandler, Reply, StreamHandler
from hooper.net.types import Endpoint
from hooper.wire import head, mdns, ntp, sshkex, stun, x224
from hooper.wire import ssh as ssh_line
from hooper.wire.body import read_body

PATIENCE = 30.0  # seconds that a device waits for a silent client


async def read_request(stream: ByteStream) -> tuple[head.Head, bytes] | None:
    """A request with its body; None: the client went away or sent something else."""
    data = b""
    try:
        with anyio.fail_after(PATIENCE):
            while (found := head.split_head(data)) is None:
                data += await stream.receive()
            asked, rest = found
            if asked.get("content-length") is None and "chunked" not in (asked.get("transfer-encoding") or ""):
                return asked, b""
            while (body := read_body(asked, rest, ended=False)) is None:
                rest += await stream.receive()
    except (anyio.EndOfStream, anyio.BrokenResourceError, TimeoutError, WireError):
        return None
    return asked, body


async def _until_head(stream: ByteStream) -> head.Head | None:
    """The head of a request; None: the client went away or sent something else."""
    data = b""
    try:
        with anyio.fail_after(PATIENCE):
            while (found := head.split_head(data)) is None:
                data += await stream.receive()
    except (anyio.EndOfStream, TimeoutError, WireError):
        return None
    return found[0]


async def _web(
    stream: ByteStream, peer: Endpoint, *, title: str, server: str, now: Callable[[], datetime] | None = None
) -> None:
    asked = await _until_head(stream)
    if asked is None:
        await stream.send(
            head.serialize_response(400, "Bad Request", "HTTP/1.1", (("Server", server), ("Connection", "close")))
        )
        return
    logo = '<img src="logo.gif" alt="">'
    page = (
        f"<!doctype html>\n<title>{title}</title>\n<h1>{logo}{title}</h1>\n<p>You are {peer.address}.</p>\n"
    ).encode()
    date = (("Date", format_datetime(now(), usegmt=True)),) if now is not None else ()
    fields = (("Server", server), ("Content-Type", "text/html; charset=utf-8"), ("Connection", "close"), *date)
    path = asked.target.partition("?")[0]
    if path == "/logo.gif":
        shown = (("Server", server), ("Content-Type", "image/gif"), ("Connection", "close"))
        await stream.send(head.serialize_response(200, "OK", "HTTP/1.1", shown, logo_of(title)))
    elif path == "/":
        await stream.send(
            head.serialize_response(200, "OK", "HTTP/1.1", fields, page if asked.method != "HEAD" else b"")
        )
    else:
        await stream.send(head.serialize_response(404, "Not Found", "HTTP/1.1", fields, b"no such page\n"))


def logo_of(title: str) -> bytes:
    """A picture that is as wide as its make's name is long (GIF89a): devices of one make have the same."""
    width, height = 8 * len(title.split(" ")[0]), 32
    screen = width.to_bytes(2, "little") + height.to_bytes(2, "little") + b"\x80\x00\x00" + bytes((40, 90, 120)) * 2
    frame = b"," + bytes(4) + width.to_bytes(2, "little") + height.to_bytes(2, "little") + b"\x00"
    pixels = b"\x02" + b"\x02\x44\x01" + b"\x00"  # the first alone; browsers leave the rest empty
    return b"GIF89a" + screen + frame + pixels + b";"


def web(title: str, server: str, now: Callable[[], datetime] | None = None) -> StreamHandler:
    """A page over HTTP. now: the device's own time, where it tells it."""
    return partial(_web, title=title, server=server, now=now)


def sends_on(location: str, server: str) -> StreamHandler:
    """A page that sends everybody to another one."""

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        if await _until_head(stream) is not None:
            fields = (("Server", server), ("Location", location), ("Content-Length", "0"), ("Connection", "close"))
            await stream.send(head.serialize_response(302, "Found", "HTTP/1.1", fields))

    return handle


def secured(identity: Identity, inside: StreamHandler) -> StreamHandler:
    """The same inside TLS."""

    async def handle(stream: ByteStream, peer: Endpoint) -> None:
        with anyio.fail_after(PATIENCE):
            wrapped = await TLSStream.wrap(
                stream, server_side=True, ssl_context=identity.context, standard_compatible=False
            )
        await inside(wrapped, peer)

    return handle


def rtsp(server: str) -> StreamHandler:
    """A camera that tells what it can do to anyone, and shows its film to those who log in (RFC 2326)."""

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        while (asked := await _until_head(stream)) is not None and asked.protocol == "RTSP":
            fields = (("CSeq", asked.get("cseq") or "0"), ("Server", server))
            if asked.method == "OPTIONS":
                public = ("Public", "OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN")
                await stream.send(head.serialize_response(200, "OK", "RTSP/1.0", (*fields, public)))
            else:
                login = ("WWW-Authenticate", 'Digest realm="slip-cam", nonce="7f1c"')
                await stream.send(head.serialize_response(401, "Unauthorized", "RTSP/1.0", (*fields, login)))

    return handle


def ssh(software: str) -> StreamHandler:
    """A secure shell as far as its host key: its first line, and one key exchange (RFC 4253, RFC 8731)."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    private = Ed25519PrivateKey.generate()
    key = sshkex.string(b"ssh-ed25519") + sshkex.string(private.public_key().public_bytes_raw())

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        own = f"SSH-2.0-{software}"
        await stream.send(f"{own}\r\n".encode())
        data = b""
        while (client := ssh_line.parse_identification(data)) is None:
            data += await stream.receive()
        data = data.partition(b"\n")[2]
        init = sshkex.KexInit(os.urandom(16), ("curve25519-sha256",), ("ssh-ed25519",)).serialize()
        await stream.send(sshkex.serialize_packet(init))
        received: list[bytes] = []
        while len(received) < 2:
            while (got := sshkex.parse_packet(data)) is None:
                data += await stream.receive()
            received.append(got[0])
            data = got[1]
        asked = sshkex.Reader(received[1], 1).string("client's value")
        value, share = sshkex.x25519(os.urandom(32))
        parts = (client.encode(), own.encode(), received[0], init, key, sshkex.string(asked), value)
        digest = sshkex.exchange_hash("curve25519-sha256", parts, share(asked))
        signature = sshkex.string(b"ssh-ed25519") + sshkex.string(private.sign(digest))
        reply = bytes([sshkex.REPLY]) + sshkex.string(key) + value + sshkex.string(signature)
        await stream.send(sshkex.serialize_packet(reply))
        await _until_gone(stream)

    return handle


def remote_desktop(identity: Identity) -> StreamHandler:
    """A desktop up to TLS: the connection request, its answer, the handshake."""

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        data = b""
        with anyio.fail_after(PATIENCE):
            while (asked := x224.parse_request(data)) is None:
                data += await stream.receive()
        if asked.protocols is None or not asked.protocols & (x224.TLS | x224.HYBRID):
            await stream.send(x224.serialize_confirm(x224.Confirm(failure=5)))
            return
        chosen = x224.HYBRID if asked.protocols & x224.HYBRID else x224.TLS
        await stream.send(x224.serialize_confirm(x224.Confirm(chosen)))
        with anyio.fail_after(PATIENCE):
            wrapped = await TLSStream.wrap(
                stream, server_side=True, ssl_context=identity.context, standard_compatible=False
            )
        await _until_gone(wrapped)

    return handle


async def silent(stream: ByteStream, _: Endpoint) -> None:
    """A maker's own protocol: it takes the connection and says nothing to strangers."""
    await _until_gone(stream)


async def _until_gone(stream: ByteStream) -> None:
    with anyio.move_on_after(PATIENCE):
        while True:
            await stream.receive()


def announces(told: mdns.LocalAnswer, address: Callable[[], IPv4Address]) -> DatagramHandler:
    """What a device tells everyone on its network who asks by multicast DNS."""

    def answer(data: bytes, peer: Endpoint) -> bytes | None:
        try:
            asked = mdns.parse_questions(data)
        except WireError:
            return None
        wanted = {mdns.EVERY_KIND, *(f"{kind}.local." for kind in told.kinds)}
        number = int.from_bytes(data[:2], "big")  # of who asks from another port (RFC 6762 section 6.7)
        return mdns.serialize_answer(told, address().packed, number) if wanted & {*asked} else None

    return answer


def mute(data: bytes, peer: Endpoint) -> bytes | None:
    """A tunnel server: strangers get no answer."""
    del data, peer
    return None


def stun_server(data: bytes, peer: Endpoint) -> bytes | None:
    """Tell the asker what its address looks like (RFC 8489 section 6.3.1)."""
    asked = _stun_request(data)
    return _stun_answer(asked, peer) if asked is not None else None


def _stun_request(data: bytes) -> stun.Message | None:
    try:
        asked = stun.Message.parse(data)
    except WireError:
        return None
    return asked if asked.kind == stun.BINDING_REQUEST else None


def _stun_answer(asked: stun.Message, peer: Endpoint, *more: tuple[int, bytes]) -> bytes:
    seen = stun.xor_mapped_address(peer.address, peer.port, asked.transaction_id)
    attributes = (seen, (stun.SOFTWARE, b"town clock"), *more, (stun.FINGERPRINT, bytes(4)))
    return stun.Message(stun.BINDING_SUCCESS, asked.transaction_id, attributes).serialize()


def tells_time(now: Callable[[], datetime]) -> DatagramHandler:
    """A server of time (RFC 5905)."""

    def answer(data: bytes, _: Endpoint) -> bytes | None:
        if len(data) < ntp.PACKET.size or data[0] & 7 != ntp.CLIENT:
            return None
        mark = int.from_bytes(data[40:48], "big")
        at = int((now().timestamp() + ntp.SINCE_1900) * ntp.ERA) & (2**64 - 1)
        return ntp.PACKET.pack(0x24, 2, 0, -20, 0, 0, b"TOWN", at, mark, at, at)

    return answer


def stun_pair(own: Endpoint, other: Endpoint) -> DatagramHandler:
    """A server that answers from its other address or port when it is asked to (RFC 5780 section 6)."""

    def serve(data: bytes, peer: Endpoint) -> bytes | Reply | None:
        asked = _stun_request(data)
        if asked is None or peer.address.version == 6:  # it has one address there
            return _stun_answer(asked, peer) if asked is not None else None
        try:
            address, port = asked.wished_change()
        except WireError:
            return None
        source = Endpoint((other if address else own).address, (other if port else own).port)
        origin = stun.plain_address(stun.RESPONSE_ORIGIN, source.address, source.port)
        answer = _stun_answer(asked, peer, origin, stun.plain_address(stun.OTHER_ADDRESS, other.address, other.port))
        return answer if source == own else Reply(answer, source)

    return serve


async def stun_stream(stream: ByteStream, peer: Endpoint) -> None:
    """The same over TCP (RFC 8489 section 6.2.2)."""
    data = b""
    with anyio.move_on_after(PATIENCE):
        while True:
            while len(data) < 4 or len(data) < 20 + struct.unpack("!HH", data[:4])[1]:
                data += await stream.receive()
            size = 20 + struct.unpack("!HH", data[:4])[1]
            answer = stun_server(data[:size], peer)
            if answer is None:
                return
            data = data[size:]
            await stream.send(answer)
