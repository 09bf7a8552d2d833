"""The certificates of the town: its authority, and what servers and devices show."""

from __future__ import annotations

import ssl
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import AuthorityInformationAccessOID, ExtendedKeyUsageOID, NameOID

from hooper.net.tls import server_context

PEM = serialization.Encoding.PEM
OLD_ROOT = "Town old root"
ASK_AT = "http://ca.heronquay.example"


def pem_of_key(key: ec.EllipticCurvePrivateKey) -> bytes:
    return key.private_bytes(PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())


class Identity:
    """What a server or device shows in TLS; it can be changed while it runs. taken: the chain that it took last."""

    def __init__(self, context: ssl.SSLContext) -> None:
        self._context, self.taken = context, ""
        self._later: tuple[Callable[[], bool], ssl.SSLContext] | None = None

    @property
    def context(self) -> ssl.SSLContext:
        if self._later is not None and self._later[0]():
            self.context = self._later[1]
        return self._context

    @context.setter
    def context(self, context: ssl.SSLContext) -> None:
        self._context, self._later = context, None

    def show_later(self, context: ssl.SSLContext, due: Callable[[], bool]) -> None:
        """Show another one as soon as it is due."""
        self._later = due, context


class TownAuthority:
    """The town's authority: a root, and an intermediate that signs."""

    def __init__(self, now: datetime) -> None:
        self._root_key, self._key = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
        start = now - timedelta(days=400)
        root_name, name = _name("Town root"), _name("Town authority")
        self.root = self._certify(root_name, self._root_key.public_key(), root_name, self._root_key, start, 7300, ca=1)
        self.intermediate = self._certify(name, self._key.public_key(), root_name, self._root_key, start, 3650, ca=0)
        old = ec.generate_private_key(ec.SECP256R1())  # an older root, which vouches for the intermediate too
        self.crossed = self._certify(name, self._key.public_key(), _name(OLD_ROOT), old, start, 3650, ca=0)
        self.issued: dict[int, x509.Certificate] = {}  # by serial number
        self.revoked: dict[int, tuple[datetime, int]] = {}  # by serial number: when, and the reason's code

    @property
    def signing_key(self) -> ec.EllipticCurvePrivateKey:
        return self._key

    @property
    def root_pem(self) -> bytes:
        return self.root.public_bytes(PEM)

    @staticmethod
    def _certify(
        subject: x509.Name,
        public: ec.EllipticCurvePublicKey,
        issuer: x509.Name,
        signer: ec.EllipticCurvePrivateKey,
        start: datetime,
        days: int,
        *,
        ca: int | None = None,
        names: Sequence[str] = (),
    ) -> x509.Certificate:
        """ca: how many authorities may stand below; None: it is none."""
        identifier = x509.SubjectKeyIdentifier.from_public_key(public)
        above = x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key())
        usage = x509.KeyUsage(True, False, False, False, False, ca is not None, ca is not None, False, False)
        builder = (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(issuer)
            .public_key(public)
            .serial_number(x509.random_serial_number())
            .not_valid_before(start)
            .not_valid_after(start + timedelta(days=days))
            .add_extension(x509.BasicConstraints(ca is not None, ca), critical=True)
            .add_extension(usage, critical=True)
            .add_extension(identifier, critical=False)
            .add_extension(above, critical=False)
        )
        if names:
            for extension in _where_to_ask():
                builder = builder.add_extension(extension, critical=False)
            shown = x509.SubjectAlternativeName([x509.DNSName(name) for name in names])
            builder = builder.add_extension(shown, critical=False)
            server = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH])
            builder = builder.add_extension(server, critical=False)
        return builder.sign(signer, hashes.SHA256())

    def issue(self, names: Sequence[str], public: ec.EllipticCurvePublicKey, start: datetime, days: int = 90) -> bytes:
        """A certificate with its intermediate, in PEM."""
        leaf = self._certify(_name(names[0]), public, self.intermediate.subject, self._key, start, days, names=names)
        self.issued[leaf.serial_number] = leaf
        return leaf.public_bytes(PEM) + self.intermediate.public_bytes(PEM)

    def other_chain(self, chain: bytes) -> bytes:
        """The same certificate, by way of the older root."""
        leaf = x509.load_pem_x509_certificate(chain)
        return leaf.public_bytes(PEM) + self.crossed.public_bytes(PEM)

    def identity(self, names: Sequence[str], start: datetime, days: int = 3650) -> Identity:
        """A fresh key with its certificate, for a server of the town."""
        key = ec.generate_private_key(ec.SECP256R1())
        return Identity(server_context(self.issue(names, key.public_key(), start, days), pem_of_key(key)))


def _where_to_ask() -> tuple[x509.ExtensionType, x509.ExtensionType]:
    """Whom to ask whether it was revoked, and where its issuer is to be had (RFC 5280 sections 4.2.1.13, 4.2.2.1)."""
    ways = (AuthorityInformationAccessOID.OCSP, "ocsp"), (AuthorityInformationAccessOID.CA_ISSUERS, "between.cer")
    access = [x509.AccessDescription(kind, x509.UniformResourceIdentifier(f"{ASK_AT}/{path}")) for kind, path in ways]
    place = x509.DistributionPoint([x509.UniformResourceIdentifier(f"{ASK_AT}/crl")], None, None, None)
    return x509.AuthorityInformationAccess(access), x509.CRLDistributionPoints([place])


def _name(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text[:64])])


def self_signed(name: str, start: datetime, days: int = 3650) -> Identity:
    """A certificate of a device's own, as devices make them."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = _name(name)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start)
        .not_valid_after(start + timedelta(days=days))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
        .sign(key, hashes.SHA256())
    )
    return Identity(server_context(certificate.public_bytes(PEM), pem_of_key(key)))
