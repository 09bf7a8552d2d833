"""A device that was given one certificate and the key of another: it shows the one and signs with the other."""

from __future__ import annotations

import ssl
from collections.abc import Sequence
from contextlib import suppress

import anyio
from anyio.abc import ByteStream
from anyio.streams.tls import TLSStream

from hooper.lab.devices import PATIENCE
from hooper.lab.identity import Identity
from hooper.lab.things import StreamHandler
from hooper.net.types import Endpoint

HANDSHAKE, CERTIFICATE = 22, 11  # a record's type, and a message's (RFC 5246 sections 6.2.1, 7.4)
LARGEST = 2**14  # bytes of a record


def _length(number: int) -> bytes:
    return number.to_bytes(3, "big")


def certificate_message(chain: Sequence[bytes]) -> bytes:
    """RFC 5246 section 7.4.2."""
    listed = b"".join(_length(len(one)) + one for one in chain)
    body = _length(len(listed)) + listed
    return bytes([CERTIFICATE]) + _length(len(body)) + body


def shown_instead(flight: bytes, chain: Sequence[bytes]) -> bytes:
    """A server's first flight with another certificate message in it."""
    messages, rest = b"", flight
    while len(rest) >= 5 and rest[0] == HANDSHAKE:
        end = 5 + int.from_bytes(rest[3:5], "big")
        messages, rest = messages + rest[5:end], rest[end:]
    out = b""
    while messages:
        end = 4 + int.from_bytes(messages[1:4], "big")
        out += certificate_message(chain) if messages[0] == CERTIFICATE else messages[:end]
        messages = messages[end:]
    records = [out[start : start + LARGEST] for start in range(0, len(out), LARGEST)]
    return b"".join(bytes([HANDSHAKE, 3, 3]) + len(one).to_bytes(2, "big") + one for one in records) + rest


class _Instead(ByteStream):
    """What goes out first is changed on its way."""

    def __init__(self, inner: ByteStream, chain: Sequence[bytes]) -> None:
        self._inner, self._chain, self._first = inner, chain, True

    async def receive(self, max_bytes: int = 65536) -> bytes:
        return await self._inner.receive(max_bytes)

    async def send(self, item: bytes) -> None:
        await self._inner.send(shown_instead(item, self._chain) if self._first else item)
        self._first = False

    async def send_eof(self) -> None:
        await self._inner.send_eof()

    async def aclose(self) -> None:
        await self._inner.aclose()


def with_other_key(identity: Identity, chain_pem: str) -> StreamHandler:
    """TLS that shows this chain and signs with the key of `identity`."""
    identity.context.maximum_version = ssl.TLSVersion.TLSv1_2
    marks = "-----BEGIN CERTIFICATE-----", "-----END CERTIFICATE-----"
    chain = [
        ssl.PEM_cert_to_DER_cert(f"{marks[0]}{text.partition(marks[1])[0]}{marks[1]}\n")
        for text in chain_pem.split(marks[0])[1:]
    ]

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        with anyio.fail_after(PATIENCE), suppress(ssl.SSLError, anyio.BrokenResourceError, anyio.EndOfStream):
            await TLSStream.wrap(_Instead(stream, chain), server_side=True, ssl_context=identity.context)

    return handle
