"""The keys of a witness and of the sites that know it: Ed25519 (RFC 8032), each kept where it was made."""

from __future__ import annotations

import hashlib
import ssl
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.errors import MachineError
from hooper.files import machine_error, make_folder, read_whole, write_atomically
from hooper.net.tls import server_context

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

ENDS = datetime(2099, 12, 31, tzinfo=UTC)  # of the certificate: it is known by its key, and by nothing else


@dataclass(frozen=True)
class OwnKey:
    """A private key, and its public half as it is sent: 32 bytes."""

    private: Ed25519PrivateKey
    public: bytes

    def sign(self, data: bytes) -> bytes:
        return self.private.sign(data)


def own_key(path: Path) -> OwnKey:
    """The key of a file, which is made where there is none. Raises: MachineError."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import (
        Encoding,
        NoEncryption,
        PrivateFormat,
        load_pem_private_key,
    )

    try:
        data = read_whole(path) if path.exists() else None
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None
    if data is None:
        made = Ed25519PrivateKey.generate()
        make_folder(path.parent, private=True)
        write_atomically(path, made.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()), private=True)
        return OwnKey(made, made.public_key().public_bytes_raw())
    try:
        loaded = load_pem_private_key(data, None)
    except (ValueError, TypeError):
        loaded = None
    if not isinstance(loaded, Ed25519PrivateKey):
        raise MachineError(f"{path} is no key of a witness or a site", remedy="Put the right one back.")
    return OwnKey(loaded, loaded.public_key().public_bytes_raw())


def is_signed(public: bytes, signature: bytes, data: bytes) -> bool:
    """Whether that key has signed it."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    try:
        Ed25519PublicKey.from_public_bytes(public).verify(signature, data)
    except (InvalidSignature, ValueError):
        return False
    return True


def pin_of(public: bytes) -> bytes:
    """By which a witness is known: SHA-256 of its key as it stands in a certificate (RFC 5280 section 4.1.2.7)."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    info = Ed25519PublicKey.from_public_bytes(public).public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return hashlib.sha256(info).digest()


def shown_by(certificate: bytes) -> bytes | None:
    """The Ed25519 key of a certificate in DER; None: it has none."""
    from cryptography import x509
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    try:
        key = x509.load_der_x509_certificate(certificate).public_key()
    except Exception:  # whatever a stranger shows, it is none of ours
        return None
    return key.public_bytes_raw() if isinstance(key, Ed25519PublicKey) else None


def tls_of(key: OwnKey) -> ssl.SSLContext:
    """What the witness shows: TLS 1.3 alone, and a certificate that says nothing but its key."""
    from cryptography import x509
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
    from cryptography.x509.oid import NameOID

    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "witness")])
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.private.public_key())
        .serial_number(1)
        .not_valid_before(datetime(2020, 1, 1, tzinfo=UTC))
        .not_valid_after(ENDS)
        .sign(key.private, None)
    )
    private = key.private.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    context = server_context(made.public_bytes(Encoding.PEM), private)
    context.minimum_version = ssl.TLSVersion.TLSv1_3
    context.num_tickets = 0
    return context


def asking_tls() -> ssl.SSLContext:
    """How a site asks: TLS 1.3 alone; the key that is shown is held against the pin before anything is said."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.minimum_version = ssl.TLSVersion.TLSv1_3
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context
