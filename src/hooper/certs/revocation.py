"""Asking whether a certificate was revoked: by OCSP (RFC 6960) and by its authority's list (RFC 5280 section 5).

Where to ask, the certificate itself says; what answers is believed only with its authority's signature.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Literal

from hooper.clock import rfc3339
from hooper.errors import HooperError
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from cryptography import x509
    from cryptography.x509 import ocsp

    from hooper.net.http import HttpClient
    from hooper.net.types import Door

Standing = Literal["good", "revoked", "unknown"]
ASKED_AT_MOST = 2  # places of each kind


@dataclass(frozen=True, slots=True)
class RevocationRow:
    """What one place says. by: ocsp or crl. where: its URL. standing: unknown: it does not tell. at: since when it was
    revoked, RFC 3339. says: in words.
    """

    by: Literal["ocsp", "crl"]
    where: str
    standing: Standing
    at: str | None
    says: Said


async def revocations(
    door: Door, chain: Sequence[x509.Certificate], now: datetime, deadline: float
) -> list[RevocationRow]:
    """What all places that the first certificate names say of it. deadline: seconds for each. Never raises for them."""
    from hooper.net.http import http

    issuer = next((one for one in chain[1:] if one.subject == chain[0].issuer), None)
    rows: list[RevocationRow] = []
    async with http(door, None, deadline) as client:
        for url in list(_ocsp_places(chain[0]))[:ASKED_AT_MOST]:
            rows.append(await _asked("ocsp", client, url, chain[0], issuer, now))
        for url in list(_crl_places(chain[0]))[:ASKED_AT_MOST]:
            rows.append(await _asked("crl", client, url, chain[0], issuer, now))
    return rows


def _ocsp_places(leaf: x509.Certificate) -> Iterator[str]:
    from cryptography import x509
    from cryptography.x509.oid import AuthorityInformationAccessOID

    try:
        found = leaf.extensions.get_extension_for_class(x509.AuthorityInformationAccess).value
    except (x509.ExtensionNotFound, ValueError):
        return
    for one in found:
        if one.access_method == AuthorityInformationAccessOID.OCSP and isinstance(
            one.access_location, x509.UniformResourceIdentifier
        ):
            yield one.access_location.value


def _crl_places(leaf: x509.Certificate) -> Iterator[str]:
    from cryptography import x509

    try:
        found = leaf.extensions.get_extension_for_class(x509.CRLDistributionPoints).value
    except (x509.ExtensionNotFound, ValueError):
        return
    for point in found:
        for name in point.full_name or ():
            if isinstance(name, x509.UniformResourceIdentifier) and name.value.startswith(("http://", "https://")):
                yield name.value


async def _asked(
    by: Literal["ocsp", "crl"],
    client: HttpClient,
    url: str,
    leaf: x509.Certificate,
    issuer: x509.Certificate | None,
    now: datetime,
) -> RevocationRow:
    if issuer is None:
        return RevocationRow(by, url, "unknown", None, say("revocation-no-issuer"))
    try:
        if by == "ocsp":
            headers = {"Content-Type": "application/ocsp-request"}
            answer = await client.request("POST", url, headers=headers, content=_ocsp_request(leaf, issuer))
        else:
            answer = await client.request("GET", url)
        if answer.status != 200:
            return RevocationRow(by, url, "unknown", None, say("revocation-status", status=answer.status))
        told = read_ocsp if by == "ocsp" else read_crl
        return told(url, answer.content, leaf, issuer, now)
    except HooperError as exc:
        return RevocationRow(by, url, "unknown", None, say("revocation-silent", why=exc.message))
    except Exception:  # the libraries fail on what strangers send in many ways
        return RevocationRow(by, url, "unknown", None, say("revocation-strange"))


def _ocsp_request(leaf: x509.Certificate, issuer: x509.Certificate) -> bytes:
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.serialization import Encoding
    from cryptography.x509 import ocsp

    builder = ocsp.OCSPRequestBuilder().add_certificate(leaf, issuer, hashes.SHA1())  # noqa: S303 - RFC 5019 wants it
    return builder.build().public_bytes(Encoding.DER)


def read_ocsp(url: str, data: bytes, leaf: x509.Certificate, issuer: x509.Certificate, now: datetime) -> RevocationRow:
    """What an OCSP answer says of a certificate (RFC 6960 section 4.2), if its authority stands behind it.

    Raises: what the library raises for what is no answer.
    """
    from cryptography.x509 import ocsp

    answer = ocsp.load_der_ocsp_response(data)
    if answer.response_status != ocsp.OCSPResponseStatus.SUCCESSFUL:
        status = answer.response_status.name.lower().replace("_", " ")
        return RevocationRow("ocsp", url, "unknown", None, say("revocation-declines", status=status))
    if answer.serial_number != leaf.serial_number or not _stands_behind(answer, issuer):
        return RevocationRow("ocsp", url, "unknown", None, say("revocation-not-signed"))
    if answer.next_update_utc is not None and answer.next_update_utc < now:
        return RevocationRow("ocsp", url, "unknown", None, say("revocation-old", until=answer.next_update_utc))
    if answer.certificate_status == ocsp.OCSPCertStatus.GOOD:
        return RevocationRow("ocsp", url, "good", None, say("revocation-good", at=answer.this_update_utc))
    if answer.certificate_status == ocsp.OCSPCertStatus.REVOKED and answer.revocation_time_utc is not None:
        at = answer.revocation_time_utc
        return RevocationRow("ocsp", url, "revoked", rfc3339(at), say("revocation-revoked", at=at))
    return RevocationRow("ocsp", url, "unknown", None, say("revocation-not-known"))


def _stands_behind(answer: ocsp.OCSPResponse, issuer: x509.Certificate) -> bool:
    """Whether the issuer, or whom it has named for that, signed it (RFC 6960 section 4.2.2.2)."""
    from cryptography import x509
    from cryptography.x509.oid import ExtendedKeyUsageOID

    signers = [issuer]
    for one in answer.certificates:
        try:
            one.verify_directly_issued_by(issuer)
            usage = one.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
        except Exception:  # noqa: S112 - it is none, whatever is wrong with it
            continue
        if ExtendedKeyUsageOID.OCSP_SIGNING in usage:
            signers.append(one)
    return any(_signed(one.public_key(), answer) for one in signers)


def _signed(key: object, answer: ocsp.OCSPResponse) -> bool:
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa

    digest = answer.signature_hash_algorithm
    try:
        if isinstance(key, rsa.RSAPublicKey) and digest is not None:
            key.verify(answer.signature, answer.tbs_response_bytes, padding.PKCS1v15(), digest)
        elif isinstance(key, ec.EllipticCurvePublicKey) and digest is not None:
            key.verify(answer.signature, answer.tbs_response_bytes, ec.ECDSA(digest))
        else:
            return False
    except InvalidSignature:
        return False
    return True


def read_crl(url: str, data: bytes, leaf: x509.Certificate, issuer: x509.Certificate, now: datetime) -> RevocationRow:
    """Whether a list names a certificate, if its authority has signed the list. data: DER, or PEM.

    Raises: what the library raises for what is no list.
    """
    from cryptography import x509

    pem = data.lstrip().startswith(b"-----BEGIN")
    found = x509.load_pem_x509_crl(data) if pem else x509.load_der_x509_crl(data)
    if found.issuer != issuer.subject or not found.is_signature_valid(issuer.public_key()):  # type: ignore[arg-type]
        return RevocationRow("crl", url, "unknown", None, say("revocation-not-signed"))
    entry = found.get_revoked_certificate_by_serial_number(leaf.serial_number)
    if entry is not None:
        at = entry.revocation_date_utc
        return RevocationRow("crl", url, "revoked", rfc3339(at), say("revocation-revoked", at=at))
    if found.next_update_utc is not None and found.next_update_utc < now:
        return RevocationRow("crl", url, "unknown", None, say("revocation-old", until=found.next_update_utc))
    return RevocationRow("crl", url, "good", None, say("revocation-not-in-list", count=len(found)))
