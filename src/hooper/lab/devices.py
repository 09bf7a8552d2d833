"""What the devices of the town say, at byte level."""

from __future__ import annotations

import ssl
import struct
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from functools import partial
from ipaddress import IPv4Address

import anyio
from anyio.abc import ByteStream
from anyio.streams.tls import TLSStream

from hooper.errors import WireError
from hooper.lab.town import DatagramHandler, StreamHandler
from hooper.net.types import Endpoint
from hooper.wire import head, stun, x224
from hooper.wire.body import read_body

PATIENCE = 30.0  # seconds that a device waits for a silent client


def self_signed(name: str, key: str | None = None) -> ssl.SSLContext:
    """A server's context with a fresh certificate of its own, as devices make them. key: told apart by nothing else."""
    import tempfile
    from pathlib import Path

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.x509.oid import NameOID

    private = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, key or name)])
    start = datetime.now(UTC) - timedelta(days=100)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start)
        .not_valid_after(start + timedelta(days=3650))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
        .sign(private, hashes.SHA256())
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.TemporaryDirectory(prefix="hooper-") as folder:
        path = Path(folder, "pair.pem")
        path.touch(0o600)
        path.write_bytes(
            certificate.public_bytes(serialization.Encoding.PEM)
            + private.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        context.load_cert_chain(path)
    return context


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


async def _web(stream: ByteStream, peer: Endpoint, *, title: str, server: str) -> None:
    asked = await _until_head(stream)
    if asked is None:
        await stream.send(head.response(400, "Bad Request", "HTTP/1.1", (("Server", server), ("Connection", "close"))))
        return
    page = f"<!doctype html>\n<title>{title}</title>\n<h1>{title}</h1>\n<p>You are {peer.address}.</p>\n".encode()
    fields = (("Server", server), ("Content-Type", "text/html; charset=utf-8"), ("Connection", "close"))
    if asked.target.partition("?")[0] == "/":
        await stream.send(head.response(200, "OK", "HTTP/1.1", fields, page if asked.method != "HEAD" else b""))
    else:
        await stream.send(head.response(404, "Not Found", "HTTP/1.1", fields, b"no such page\n"))


def web(title: str, server: str) -> StreamHandler:
    """A page over HTTP."""
    return partial(_web, title=title, server=server)


def secured(context: ssl.SSLContext, inside: StreamHandler) -> StreamHandler:
    """The same inside TLS."""

    async def handle(stream: ByteStream, peer: Endpoint) -> None:
        with anyio.fail_after(PATIENCE):
            wrapped = await TLSStream.wrap(stream, server_side=True, ssl_context=context, standard_compatible=False)
        await inside(wrapped, peer)

    return handle


def rtsp(server: str) -> StreamHandler:
    """A camera that tells what it can do to anyone, and shows its film to those who log in (RFC 2326)."""

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        while (asked := await _until_head(stream)) is not None and asked.protocol == "RTSP":
            fields = (("CSeq", asked.get("cseq") or "0"), ("Server", server))
            if asked.method == "OPTIONS":
                public = ("Public", "OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN")
                await stream.send(head.response(200, "OK", "RTSP/1.0", (*fields, public)))
            else:
                login = ("WWW-Authenticate", 'Digest realm="slip-cam", nonce="7f1c"')
                await stream.send(head.response(401, "Unauthorized", "RTSP/1.0", (*fields, login)))

    return handle


def ssh(software: str) -> StreamHandler:
    """A secure shell as far as its first line (RFC 4253 section 4.2)."""

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        await stream.send(f"SSH-2.0-{software}\r\n".encode())
        await _until_gone(stream)

    return handle


def remote_desktop(context: ssl.SSLContext) -> StreamHandler:
    """A desktop up to TLS: the connection request, its answer, the handshake."""

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        data = b""
        with anyio.fail_after(PATIENCE):
            while (asked := x224.parse_request(data)) is None:
                data += await stream.receive()
        if asked.protocols is None or not asked.protocols & (x224.TLS | x224.HYBRID):
            await stream.send(x224.connection_confirm(x224.Confirm(failure=5)))
            return
        chosen = x224.HYBRID if asked.protocols & x224.HYBRID else x224.TLS
        await stream.send(x224.connection_confirm(x224.Confirm(chosen)))
        with anyio.fail_after(PATIENCE):
            wrapped = await TLSStream.wrap(stream, server_side=True, ssl_context=context, standard_compatible=False)
        await _until_gone(wrapped)

    return handle


async def silent(stream: ByteStream, _: Endpoint) -> None:
    """A maker's own protocol: it takes the connection and says nothing to strangers."""
    await _until_gone(stream)


async def _until_gone(stream: ByteStream) -> None:
    with anyio.move_on_after(PATIENCE):
        while True:
            await stream.receive()


def mute(data: bytes, peer: Endpoint) -> bytes | None:
    """A tunnel server: strangers get no answer."""
    del data, peer
    return None


def stun_server(data: bytes, peer: Endpoint) -> bytes | None:
    """Tell the asker what its address looks like (RFC 8489 section 6.3.1)."""
    try:
        asked = stun.Message.parse(data)
    except WireError:
        return None
    if asked.kind != stun.BINDING_REQUEST:
        return None
    seen = stun.xor_mapped_address(peer.address, peer.port, asked.transaction_id)
    attributes = (seen, (stun.SOFTWARE, b"town clock"), (stun.FINGERPRINT, bytes(4)))
    return stun.Message(stun.BINDING_SUCCESS, asked.transaction_id, attributes).serialize()


def name_server(lookup: Callable[[str], Sequence[IPv4Address]], *, authoritative: bool) -> DatagramHandler:
    """DNS over datagrams (RFC 1035): the town's names, nothing else."""

    def answer(data: bytes, peer: Endpoint) -> bytes | None:
        import dns.exception
        import dns.flags
        import dns.message
        import dns.rcode
        import dns.rdatatype
        import dns.rrset

        del peer
        try:
            asked = dns.message.from_wire(data)
            reply = dns.message.make_response(asked, recursion_available=not authoritative)
            (question,) = asked.question
        except (dns.exception.DNSException, ValueError):
            return None
        found = lookup(question.name.to_text(omit_final_dot=True))
        if authoritative:
            reply.flags |= dns.flags.AA
        if not found:
            reply.set_rcode(dns.rcode.NXDOMAIN)
        elif question.rdtype == dns.rdatatype.A:
            reply.answer.append(dns.rrset.from_text(question.name, 60, "IN", "A", *map(str, found)))
        return reply.to_wire()

    return answer


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
