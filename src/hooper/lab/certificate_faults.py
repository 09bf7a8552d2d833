"""The faults that the devices' certificates and pages can have."""

from __future__ import annotations

import ssl
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import timedelta

import anyio
from anyio.abc import ByteStream
from anyio.streams.tls import TLSStream
from cryptography.hazmat.primitives.asymmetric import ec

from hooper.lab.boathouse import NAME, SERVICES
from hooper.lab.certificates import Identity, TownAuthority, self_signed
from hooper.lab.devices import PATIENCE, secured, sends_on, web
from hooper.lab.fault import Apply, Fault, NothingToBreak, Undo, changed, placed
from hooper.lab.things import StreamHandler
from hooper.lab.town import Town
from hooper.net.types import Endpoint

HUB = "hub-page"


def _shows(make: Callable[[Town, str], Identity]) -> Apply:
    """The device shows another certificate."""

    def apply(town: Town, service: str) -> Undo:
        host = SERVICES[service][0]
        identity = town.identities.get(host)
        if identity is None:
            raise NothingToBreak(f"{service} shows no certificate", remedy="Choose hub-page, film-page or a desktop.")
        return changed(identity, context=make(town, host).context)

    return apply


def _ended(town: Town, host: str) -> Identity:
    return town.acme.authority.identity([NAME], town.now() - timedelta(days=97), days=90)


def _other(town: Town, host: str) -> Identity:
    return town.acme.authority.identity(["regatta.heronquay.example"], town.now() - timedelta(days=7), days=90)


def _own(town: Town, host: str) -> Identity:
    if host != "hub":  # the others have shown certificates of their own making all along
        raise NothingToBreak(f"{host} shows a certificate of its own making already", remedy="Choose hub-page.")
    return self_signed(f"{host}.local", town.now() - timedelta(days=100))


def _not_yet(town: Town, host: str) -> Identity:
    return town.acme.authority.identity([NAME], town.now() + timedelta(days=2), days=90)


def _stranger(town: Town, host: str) -> Identity:
    """Of an authority that nobody here has heard of."""
    return TownAuthority(town.now()).identity([NAME], town.now() - timedelta(days=7), days=90)


def _serves(make: Callable[[Town, str], StreamHandler]) -> Apply:
    """Something else answers at the service's own port."""

    def apply(town: Town, service: str) -> Undo:
        host, transport, port, _ = SERVICES[service]
        if transport != "tcp" or host not in town.identities:
            raise NothingToBreak(f"{service} has no page with encryption", remedy="Choose hub-page or film-page.")
        return placed(town.nodes[host].tcp, port, make(town, service))

    return apply


def _in_clear(town: Town, service: str) -> StreamHandler:
    host = SERVICES[service][0]
    return web("Heating and doors", host)


def _port_lost(town: Town, service: str) -> StreamHandler:
    host = SERVICES[service][0]
    return secured(town.identities[host], sends_on(f"https://{NAME}/start", host))


def _other_key(town: Town, service: str) -> StreamHandler:
    host = SERVICES[service][0]
    start = town.now() - timedelta(days=2)
    chain = town.acme.authority.issue([NAME], ec.generate_private_key(ec.SECP256R1()).public_key(), start)
    return with_other_key(self_signed(f"{host}.local", start), chain.decode())


CERTIFICATE_FAULTS = (
    Fault("certificate-expired", _shows(_ended), HUB, touches="the device's certificate"),
    Fault("certificate-not-yet-valid", _shows(_not_yet), HUB, touches="the device's certificate"),
    Fault("certificate-other-name", _shows(_other), HUB, touches="the device's certificate"),
    Fault("certificate-untrusted", _shows(_stranger), HUB, touches="the device's certificate"),
    Fault("certificate-own", _shows(_own), HUB, touches="the device's certificate"),
    Fault("certificate-key-other", _serves(_other_key), HUB, touches="what answers at the port"),
    Fault("page-in-clear", _serves(_in_clear), HUB, touches="what answers at the port"),
    Fault("page-without-port", _serves(_port_lost), HUB, touches="what answers at the port"),
)


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
