"""How the town's authority looks whether a name is proven (RFC 8555 section 8, RFC 8737)."""

from __future__ import annotations

import base64
import ssl
from dataclasses import dataclass
from hashlib import sha256
from typing import Any

import anyio
from anyio.streams.tls import TLSAttribute, TLSStream
from cryptography import x509

from hooper.lab.streets import Streets
from hooper.lab.things import Machine
from hooper.wire import head

LOOK_S = 2.0  # seconds for a page at port 80, or a handshake at port 443
ALPN, PROOF_OID = "acme-tls/1", "1.3.6.1.5.5.7.1.31"  # RFC 8737 section 6


class Problem(Exception):
    """A refusal (RFC 8555 section 6.7). fields: of the answer."""

    def __init__(self, kind: str, detail: str, status: int = 400, fields: dict[str, str] | None = None) -> None:
        super().__init__(detail)
        self.kind, self.detail, self.status, self.fields = kind, detail, status, fields or {}

    def document(self) -> dict[str, Any]:
        kind = f"urn:ietf:params:acme:error:{self.kind}"
        return {"type": kind, "detail": self.detail, "status": self.status}


@dataclass
class Proof:
    """An authorization with its challenges. tried: the challenge that the client asked to look at."""

    name: str
    account: str
    wildcard: bool
    token: str
    status: str = "pending"
    tried: str | None = None
    error: dict[str, Any] | None = None


def b64(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def unb64(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


async def looked(town: Streets, node: Machine, proof: Proof, answer: str) -> None:
    """Look whether a challenge is answered. node: from where. answer: the key authorization.

    Raises: Problem: what should be there is not.
    """
    if proof.tried == "dns-01":
        record = f"_acme-challenge.{proof.name}"
        while alias := town.zone.get(record, "CNAME"):
            record = next(iter(alias)).rstrip(".")
        shown = town.zone.get(record, "TXT")
        if not shown:
            raise Problem("dns", f"no TXT record at _acme-challenge.{proof.name}")
        if b64(sha256(answer.encode()).digest()) not in shown:
            raise Problem("unauthorized", "the TXT record holds something else", 403)
        return
    if proof.tried == "tls-alpn-01":
        await _handshake(town, node, proof, sha256(answer.encode()).digest())
        return
    page = await _fetched(town, node, proof)
    if page.strip() != answer.encode():
        raise Problem("unauthorized", "the page holds something else", 403)


async def _fetched(town: Streets, node: Machine, proof: Proof) -> bytes:
    address = town.zone.address(proof.name)
    if address is None:
        raise Problem("dns", f"{proof.name} has no address")
    body = b""
    with anyio.move_on_after(LOOK_S):
        async with town.dialled(node, address, 80) as stream:
            if stream is None:
                raise Problem("connection", f"{address}:80 refuses")
            target = f"/.well-known/acme-challenge/{proof.token}"
            fields = (("Host", proof.name), ("Connection", "close"))
            await stream.send(head.serialize_request("GET", target, "HTTP/1.1", fields))
            try:
                while (found := head.split_head(body)) is None or len(found[1]) < 80:
                    body += await stream.receive()
            except anyio.EndOfStream:
                pass
    found = head.split_head(body)
    if found is None or found[0].status != 200:
        raise Problem("connection", f"no page at {address}:80")
    return found[1]


async def _handshake(town: Streets, node: Machine, proof: Proof, digest: bytes) -> None:
    """RFC 8737 section 3: the certificate is for the name alone, and holds the digest in a critical extension."""
    address = town.zone.address(proof.name)
    if address is None:
        raise Problem("dns", f"{proof.name} has no address")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    context.set_alpn_protocols([ALPN])
    spoken, shown = None, None
    with anyio.move_on_after(LOOK_S):
        async with town.dialled(node, address, 443) as stream:
            if stream is None:
                raise Problem("connection", f"{address}:443 refuses")
            try:
                tls = await TLSStream.wrap(stream, hostname=proof.name, ssl_context=context)
            except (ssl.SSLError, anyio.EndOfStream, anyio.BrokenResourceError):
                raise Problem("tls", f"{address}:443 does not complete the handshake") from None
            spoken = tls.extra(TLSAttribute.alpn_protocol)
            shown = tls.extra(TLSAttribute.ssl_object).getpeercert(binary_form=True)
    if shown is None:
        raise Problem("connection", f"nothing answers TLS at {address}:443")
    if spoken != ALPN:
        raise Problem("unauthorized", f"{address}:443 does not speak {ALPN}", 403)
    extensions = x509.load_der_x509_certificate(shown).extensions
    try:
        names = extensions.get_extension_for_class(x509.SubjectAlternativeName).value.get_values_for_type(x509.DNSName)
        found = extensions.get_extension_for_oid(x509.ObjectIdentifier(PROOF_OID))
    except x509.ExtensionNotFound:
        raise Problem("unauthorized", "the certificate at port 443 is not made for a proof", 403) from None
    value = found.value
    assert isinstance(value, x509.UnrecognizedExtension)
    if names != [proof.name] or not found.critical or value.value != b"\x04\x20" + digest:
        raise Problem("unauthorized", "the certificate at port 443 is another proof", 403)
