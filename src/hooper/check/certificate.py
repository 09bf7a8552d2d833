"""What a certificate says of itself, as a check shows it."""

from __future__ import annotations

import hashlib
import warnings

from hooper.check.results import CertificateSeen, Seen
from hooper.clock import rfc3339


def note_chain(seen: Seen, chain: tuple[bytes, ...]) -> None:
    """Write down the certificate that a server has shown. chain: in DER, its own first."""
    if chain:
        seen.fingerprint = "sha256:" + hashlib.sha256(chain[0]).hexdigest()
        seen.certificate = read_certificate(chain[0])


def read_certificate(der: bytes) -> CertificateSeen | None:
    """What a certificate says of itself (RFC 5280); None: it cannot be read."""
    from cryptography import x509

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # what is odd about it is judged elsewhere
            certificate = x509.load_der_x509_certificate(der)
        try:
            shown = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
            names = [
                *shown.get_values_for_type(x509.DNSName),
                *(str(address) for address in shown.get_values_for_type(x509.IPAddress)),
            ]
        except x509.ExtensionNotFound:
            names = []
        return CertificateSeen(
            certificate.subject.rfc4514_string(),
            tuple(names),
            certificate.issuer.rfc4514_string(),
            rfc3339(certificate.not_valid_before_utc),
            rfc3339(certificate.not_valid_after_utc),
        )
    except Exception:  # devices make certificates that no standard allows; the library fails on them in many ways
        return None
