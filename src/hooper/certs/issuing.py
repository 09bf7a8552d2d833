"""Building certificates and lists of an authority of one's own (RFC 5280), for services and for tunnels."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any, Literal

from hooper.addresses import IPAddress
from hooper.certs.inspect import fingerprint_of_key
from hooper.dnsnames import bound_to

if TYPE_CHECKING:
    from cryptography import x509
    from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey

EARLY = timedelta(days=1)  # that clocks may be behind
NAME_LENGTH = 64  # RFC 5280 appendix A.1, ub-common-name
What = Literal["authority", "server", "peer"]


def constraints(signs: Iterable[str]) -> x509.NameConstraints:
    """What a root says that it may sign (RFC 5280 section 4.2.1.10): of a kind that has nothing, nothing."""
    import ipaddress

    from cryptography import x509

    found = [bound_to(one) for one in signs]
    names = [one for one in found if isinstance(one, str)]
    networks = [one for one in found if not isinstance(one, str)]
    permitted: list[x509.GeneralName] = [*map(x509.DNSName, names), *map(x509.IPAddress, networks)]
    excluded: list[x509.GeneralName] = [] if names else [x509.DNSName("")]
    for version, everything in ((4, "0.0.0.0/0"), (6, "::/0")):
        if not any(network.version == version for network in networks):
            excluded.append(x509.IPAddress(ipaddress.ip_network(everything)))
    return x509.NameConstraints(permitted or None, excluded or None)


def certify(
    name: str,
    public: Any,
    issuer: x509.Certificate | None,
    signer: EllipticCurvePrivateKey,
    now: datetime,
    life: timedelta,
    what: What,
    *,
    names: Sequence[str | IPAddress] = (),
    signs: Sequence[str] | None = None,
) -> x509.Certificate:
    """A certificate for an authority, a server or a peer, and nothing else. public: its key. issuer: None: it vouches
    for itself. names: of the subjectAltName. signs: what an authority is bound to; None: it is not.
    """
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
    from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name[:NAME_LENGTH])])
    authority = what == "authority"
    wraps = isinstance(public, RSAPublicKey)  # a key of that kind may carry another over to the server
    usage = x509.KeyUsage(not authority, False, wraps, False, False, authority, authority, False, False)
    above = x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key())
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer.subject if issuer is not None else subject)
        .public_key(public)
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - EARLY)
        .not_valid_after(now + life)
        .add_extension(x509.BasicConstraints(authority, 0 if authority else None), critical=True)
        .add_extension(usage, critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(public), critical=False)
        .add_extension(above, critical=False)
    )
    if names:
        shown = [x509.DNSName(one) if isinstance(one, str) else x509.IPAddress(one) for one in names]
        builder = builder.add_extension(x509.SubjectAlternativeName(shown), critical=False)
    if signs is not None:
        builder = builder.add_extension(constraints(signs), critical=True)
    if not authority:
        purpose = ExtendedKeyUsageOID.SERVER_AUTH if what == "server" else ExtendedKeyUsageOID.CLIENT_AUTH
        builder = builder.add_extension(x509.ExtendedKeyUsage([purpose]), critical=False)
    return builder.sign(signer, hashes.SHA256())


def revocation_list(
    issuer: x509.Certificate, signer: EllipticCurvePrivateKey, now: datetime, gone: Iterable[tuple[int, datetime]]
) -> str:
    """What is worth nothing any more (RFC 5280 section 5), in PEM. gone: serial numbers, each since when.

    It is good for as long as the authority is: one that is too old would lock everybody out.
    """
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization

    builder = (
        x509.CertificateRevocationListBuilder()
        .issuer_name(issuer.subject)
        .last_update(now - EARLY)
        .next_update(issuer.not_valid_after_utc)
        .add_extension(x509.CRLNumber(int(now.timestamp())), critical=False)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key()), critical=False)
    )
    for serial, at in gone:
        entry = x509.RevokedCertificateBuilder().serial_number(serial).revocation_date(at)
        builder = builder.add_revoked_certificate(entry.build())
    return builder.sign(signer, hashes.SHA256()).public_bytes(serialization.Encoding.PEM).decode()


def new_ec_key() -> EllipticCurvePrivateKey:
    """A key of P-256."""
    from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key

    return generate_private_key(SECP256R1())


def load_ec_key(text: str) -> EllipticCurvePrivateKey:
    """A private key in PEM. Raises: ValueError: it is none of that kind."""
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey

    key = serialization.load_pem_private_key(text.encode(), None)
    if not isinstance(key, EllipticCurvePrivateKey):
        raise ValueError("no key of an elliptic curve")
    return key


def key_text(key: EllipticCurvePrivateKey) -> str:
    """A private key in PEM (PKCS #8)."""
    from cryptography.hazmat.primitives import serialization

    form = serialization.PrivateFormat.PKCS8
    return key.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption()).decode()


def pem_text(certificate: x509.Certificate) -> str:
    """A certificate in PEM."""
    from cryptography.hazmat.primitives import serialization

    return certificate.public_bytes(serialization.Encoding.PEM).decode()


def public_fingerprint(key: EllipticCurvePrivateKey) -> str:
    """Of the public half, as the site file writes it."""
    from cryptography.hazmat.primitives import serialization

    form = serialization.PublicFormat.SubjectPublicKeyInfo
    return fingerprint_of_key(key.public_key().public_bytes(serialization.Encoding.DER, form))
