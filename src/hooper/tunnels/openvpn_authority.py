"""The small authority of one OpenVPN tunnel: certificates for its server and peers (RFC 5280), kept in the key ring.

It is named by the fingerprint of its public key, which the site file has. All that it issued is kept; what of that the
site file does not name any more is revoked, so that the list never disagrees with the site file.
"""

from __future__ import annotations

import secrets
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.certs.inspect import fingerprint_of_key
from hooper.secret import Secret
from hooper.tunnels.common import KeyMissing
from hooper.tunnels.keys import KeyRing
from hooper.wire.openvpn import static_key_text

if TYPE_CHECKING:
    from cryptography import x509
    from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey

AUTHORITY_DAYS, SERVER_DAYS, PEER_DAYS = 3650, 1200, 1200
RENEWED_DAYS = 400  # what the server's certificate has left when it is made anew
EARLY = timedelta(days=1)  # that clocks of peers may be behind
NAME_LENGTH = 64  # RFC 5280 appendix A.1, ub-common-name


@dataclass(frozen=True)
class CertifiedKey:
    """A certificate in PEM, and the private key for it."""

    certificate: str
    key: Secret


def server_name(tunnel: str, public: str) -> str:
    """What the server's certificate is called: no peer has such a name."""
    return f"{tunnel[:40]}.server.{public[7:15]}"


def peer_name(peer: str, public: str) -> str:
    """What a peer's certificate is called: with another key it is another name."""
    return f"{peer[:48]}.{public[7:15]}"


def make_authority(ring: KeyRing, tunnel: str, title: str, now: datetime) -> str:
    """A new authority, with a key for its server and one that guards the control channel, all kept.

    Returns: the fingerprint that it is known by. Raises: MachineError.
    """
    from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key

    own, server = generate_private_key(SECP256R1()), generate_private_key(SECP256R1())
    public = _fingerprint(own)
    name = f"{title[:40]} {tunnel[:10]} {public[7:15]}"
    certificate = _certify(name, own, None, own, now, timedelta(days=AUTHORITY_DAYS), "authority")
    ring.put(public, "tls-crypt", static_key_text(secrets.token_bytes(256)))
    ring.put(public, "server-key", _pem_of(server))
    ring.put(public, "cert", _text(certificate))
    ring.put(public, "key", _pem_of(own))
    return public


class TunnelAuthority:
    """One that is kept. Raises, on making: KeyMissing: it is not, or not whole; MachineError."""

    def __init__(self, ring: KeyRing, public: str, tunnel: str) -> None:
        self._ring, self.public, self._tunnel = ring, public, tunnel
        key, certificate = ring.private(public), ring.text(public, "cert")
        guard, server = ring.text(public, "tls-crypt"), ring.text(public, "server-key")
        if key is None or certificate is None or guard is None or server is None:
            raise KeyMissing(
                f"the authority of {tunnel} is not kept here",
                remedy=f"If it is lost, `{deeds.RENEW_TUNNEL(tunnel)}` makes another; all its peers need new files.",
            )
        self._key, self.certificate = _load_key(key.reveal()), certificate
        self._server, self.guard = server, Secret(guard, "tls-crypt")
        self._own = self._load(public, "cert")

    def _load(self, public: str, kind: str) -> x509.Certificate:
        from cryptography import x509

        text = self._ring.text(public, kind)
        try:
            return x509.load_pem_x509_certificate((text or "").encode())
        except ValueError:
            raise self._ring.damaged(public, kind) from None

    def issue(self, peer: str, until: date | None, now: datetime) -> str:
        """A key and a certificate for a peer, kept. until: its last day. Returns: the key's fingerprint.

        Raises: MachineError.
        """
        from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key

        key = generate_private_key(SECP256R1())
        public, life = _fingerprint(key), timedelta(days=PEER_DAYS)
        if until is not None:  # the last day is over everywhere on earth when the next one is over in UTC
            end = datetime.combine(until, datetime.min.time(), now.tzinfo) + timedelta(days=2)
            life = max(timedelta(days=1), min(life, end - now))
        life = min(life, self._own.not_valid_after_utc - now)
        certificate = _certify(peer_name(peer, public), key, self._own, self._key, now, life, "peer")
        self._ring.put(public, "cert", _text(certificate))
        self._ring.put(public, "key", _pem_of(key))
        return public

    def issued(self) -> Iterator[tuple[str, x509.Certificate]]:
        """All certificates for peers that it has made, by the fingerprints of their keys."""
        for stem in self._ring.stems("cert"):
            public = f"sha256:{stem}"
            certificate = self._load(public, "cert")
            if public != self.public and certificate.issuer == self._own.subject:
                yield public, certificate

    def certificate_of(self, public: str) -> x509.Certificate | None:
        """A peer's; None: this authority has made none for that key. Raises: MachineError."""
        if self._ring.text(public, "cert") is None:
            return None
        found = self._load(public, "cert")
        return found if found.issuer == self._own.subject else None

    def private_of(self, public: str) -> Secret | None:
        """A peer's private key, in PEM; None: it is not kept any more. Raises: MachineError: it is damaged."""
        return self._ring.private(public)

    def server(self, now: datetime) -> CertifiedKey:
        """The server's, made anew when the one that is kept ends within the year; peers need nothing new then.

        Raises: MachineError.
        """
        kept = self._ring.text(self.public, "server-cert")
        if kept is not None:
            left = self._load(self.public, "server-cert").not_valid_after_utc - now
            if left > timedelta(days=RENEWED_DAYS) or self._own.not_valid_after_utc - now <= left:
                return CertifiedKey(kept, Secret(self._server, "key"))
        life = min(timedelta(days=SERVER_DAYS), self._own.not_valid_after_utc - now)
        name, key = server_name(self._tunnel, self.public), _load_key(self._server)
        made = _text(_certify(name, key, self._own, self._key, now, life, "server"))
        self._ring.put(self.public, "server-cert", made)
        return CertifiedKey(made, Secret(self._server, "key"))

    def revoked(self, current: Collection[str], now: datetime) -> str:
        """The list of what is not worth anything any more (RFC 5280 section 5), in PEM. current: what still is.

        It is good for as long as the authority is: one that is too old would lock everybody out.
        """
        from cryptography import x509
        from cryptography.hazmat.primitives import hashes, serialization

        builder = (
            x509.CertificateRevocationListBuilder()
            .issuer_name(self._own.subject)
            .last_update(now - EARLY)
            .next_update(self._own.not_valid_after_utc)
            .add_extension(x509.CRLNumber(int(now.timestamp())), critical=False)
            .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(self._key.public_key()), critical=False)
        )
        for public, certificate in self.issued():
            if public not in current and certificate.not_valid_after_utc > now:
                entry = x509.RevokedCertificateBuilder().serial_number(certificate.serial_number)
                builder = builder.add_revoked_certificate(entry.revocation_date(now - EARLY).build())
        return builder.sign(self._key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM).decode()


def _load_key(text: str) -> EllipticCurvePrivateKey:
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey

    key = serialization.load_pem_private_key(text.encode(), None)
    assert isinstance(key, EllipticCurvePrivateKey)
    return key


def _pem_of(key: EllipticCurvePrivateKey) -> str:
    from cryptography.hazmat.primitives import serialization

    form = serialization.PrivateFormat.PKCS8
    return key.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption()).decode()


def _text(certificate: x509.Certificate) -> str:
    from cryptography.hazmat.primitives import serialization

    return certificate.public_bytes(serialization.Encoding.PEM).decode()


def _fingerprint(key: EllipticCurvePrivateKey) -> str:
    from cryptography.hazmat.primitives import serialization

    form = serialization.PublicFormat.SubjectPublicKeyInfo
    return fingerprint_of_key(key.public_key().public_bytes(serialization.Encoding.DER, form))


def _certify(
    name: str,
    key: EllipticCurvePrivateKey,
    issuer: x509.Certificate | None,
    signer: EllipticCurvePrivateKey,
    now: datetime,
    life: timedelta,
    what: str,
) -> x509.Certificate:
    """A certificate for an authority, a server or a peer, and nothing else. issuer: None: it vouches for itself."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes
    from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name[:NAME_LENGTH])])
    authority = what == "authority"
    usage = x509.KeyUsage(not authority, False, False, False, False, authority, authority, False, False)
    above = x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key())
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer.subject if issuer is not None else subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - EARLY)
        .not_valid_after(now + life)
        .add_extension(x509.BasicConstraints(authority, 0 if authority else None), critical=True)
        .add_extension(usage, critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .add_extension(above, critical=False)
    )
    if not authority:
        purpose = ExtendedKeyUsageOID.SERVER_AUTH if what == "server" else ExtendedKeyUsageOID.CLIENT_AUTH
        builder = builder.add_extension(x509.ExtendedKeyUsage([purpose]), critical=False)
    return builder.sign(signer, hashes.SHA256())
