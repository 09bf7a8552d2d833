"""Where the town's authority says what it has revoked: by OCSP (RFC 6960) and by a list (RFC 5280 section 5)."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta

from anyio.abc import ByteStream
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.x509 import ocsp

from hooper.lab.certificates import TownAuthority
from hooper.lab.devices import read_request
from hooper.lab.things import StreamHandler
from hooper.net.types import Endpoint
from hooper.wire import head

DER = serialization.Encoding.DER
GOOD_FOR = timedelta(days=3)
REASONS = {
    0: x509.ReasonFlags.unspecified,
    1: x509.ReasonFlags.key_compromise,
    3: x509.ReasonFlags.affiliation_changed,
    4: x509.ReasonFlags.superseded,
    5: x509.ReasonFlags.cessation_of_operation,
}


def office(authority: TownAuthority, now: Callable[[], datetime]) -> StreamHandler:
    """Answers at port 80 of the authority."""

    async def handle(stream: ByteStream, _: Endpoint) -> None:
        got = await read_request(stream)
        if got is None:
            return
        asked, body = got
        status, kind, data = 404, "text/plain", b"no such page\n"
        if asked.target == "/crl":
            status, kind, data = 200, "application/pkix-crl", listed(authority, now())
        elif asked.target == "/ocsp" and asked.method == "POST":
            status, kind, data = 200, "application/ocsp-response", answered(authority, body, now())
        elif asked.target == "/between.cer":
            status, kind, data = 200, "application/pkix-cert", authority.intermediate.public_bytes(DER)
        fields = (("Content-Type", kind), ("Connection", "close"))
        await stream.send(head.serialize_response(status, "-", "HTTP/1.1", fields, data))

    return handle


def listed(authority: TownAuthority, now: datetime) -> bytes:
    """The list, in DER."""
    builder = x509.CertificateRevocationListBuilder().issuer_name(authority.intermediate.subject)
    builder = builder.last_update(now).next_update(now + GOOD_FOR)
    for serial, (at, _) in authority.revoked.items():
        entry = x509.RevokedCertificateBuilder().serial_number(serial).revocation_date(at)
        builder = builder.add_revoked_certificate(entry.build())
    return builder.sign(authority.signing_key, hashes.SHA256()).public_bytes(DER)


def answered(authority: TownAuthority, request: bytes, now: datetime) -> bytes:
    """What it says of the one certificate that is asked about; one that it has not issued is unknown to it."""
    try:
        asked = ocsp.load_der_ocsp_request(request)
    except ValueError:
        unreadable = ocsp.OCSPResponseBuilder.build_unsuccessful(ocsp.OCSPResponseStatus.MALFORMED_REQUEST)
        return unreadable.public_bytes(DER)
    leaf = authority.issued.get(asked.serial_number)
    if leaf is None:
        refused = ocsp.OCSPResponseBuilder.build_unsuccessful(ocsp.OCSPResponseStatus.UNAUTHORIZED)
        return refused.public_bytes(DER)
    at, reason = authority.revoked.get(leaf.serial_number, (None, 0))
    gone = at is not None
    builder = ocsp.OCSPResponseBuilder().add_response(
        leaf, authority.intermediate, hashes.SHA1(),  # noqa: S303 - RFC 5019 wants it
        ocsp.OCSPCertStatus.REVOKED if gone else ocsp.OCSPCertStatus.GOOD, now, now + GOOD_FOR, at,
        REASONS[reason] if gone else None,
    )  # fmt: skip
    by = builder.responder_id(ocsp.OCSPResponderEncoding.HASH, authority.intermediate)
    return by.sign(authority.signing_key, hashes.SHA256()).public_bytes(DER)
