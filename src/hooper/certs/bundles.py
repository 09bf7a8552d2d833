"""Certificates and keys as files have them: PEM, DER, PKCS #12 (RFC 7292); reading and writing."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

from hooper import deeds
from hooper.certs.inspect import load_chain, load_pem
from hooper.errors import UsageError

if TYPE_CHECKING:
    from cryptography import x509

    from hooper.secret import Secret

Form = Literal["pem", "pem-one", "pkcs1", "pkcs12"]
KEY = re.compile(rb"-----BEGIN ([A-Z ]*PRIVATE KEY)-----.*?-----END \1-----", re.DOTALL)


@dataclass(frozen=True)
class Bundle:
    """What a file holds. form: PEM, DER or PKCS #12. chain: its own first. key_fits: its key is for the first; None: it
    has no key, or one behind a pass phrase that was not given.
    """

    form: str
    chain: tuple[x509.Certificate, ...]
    has_key: bool
    key_fits: bool | None


def read_bundle(data: bytes, name: str, passphrase: Secret | None = None) -> Bundle:
    """What stands in a file. name: for messages. Raises: UsageError: nothing of it is a certificate."""
    from cryptography.hazmat.primitives import serialization

    secret = passphrase.reveal().encode() if passphrase is not None else None
    if b"-----BEGIN" in data:
        key: Any = None
        found = KEY.search(data)
        if found is not None:
            encrypted = b"ENCRYPTED" in found[0]
            try:
                key = serialization.load_pem_private_key(found[0] + b"\n", secret if encrypted else None)
            except (ValueError, TypeError):
                key = None
        try:
            chain = tuple(load_pem(data))
        except ValueError:
            what = "a private key and no certificate" if found is not None else "no certificate that can be read"
            raise UsageError(f"{name} holds {what}", remedy="Name the file of the certificate.") from None
        return Bundle("PEM", chain, found is not None, _fits(chain, key))
    if chain := tuple(load_chain([data])):
        return Bundle("DER", chain, False, None)
    return _pkcs12(data, name, secret)


def _pkcs12(data: bytes, name: str, secret: bytes | None) -> Bundle:
    from cryptography.hazmat.primitives.serialization import pkcs12

    if not data.startswith(b"\x30"):
        raise UsageError(f"{name} holds no certificate: neither PEM, DER nor PKCS #12", remedy="Name another file.")
    try:
        opened = pkcs12.load_pkcs12(data, secret)
    except ValueError:
        raise UsageError(
            f"{name} holds no certificate, or is a PKCS #12 behind another pass phrase",
            remedy=f"Give it by {deeds.PASSPHRASE}.",
        ) from None
    chain = tuple(one.certificate for one in (opened.cert, *opened.additional_certs) if one is not None)
    if not chain:
        raise UsageError(f"{name} is a PKCS #12 without a certificate", remedy="Name another file.")
    return Bundle("PKCS #12", chain, opened.key is not None, _fits(chain, opened.key))


def _fits(chain: tuple[x509.Certificate, ...], key: Any) -> bool | None:
    return None if key is None else bool(chain[0].public_key() == key.public_key())


NAMES = {"key": "key.pem", "chain": "certificate-with-chain.pem", "both": "key-and-certificates.pem",
         "bundle": "certificate.p12"}  # fmt: skip


def written(pair: bytes, form: Form, password: Secret | None) -> list[tuple[str, str, bytes]]:
    """A key with its chain in a form that servers and devices take: what it is (`NAMES`), its usual name, its bytes.

    pair: the key in PKCS #8, then the chain, in PEM. form: pem: two files; pem-one: both in one, the key first; pkcs1:
    two, the key as RFC 8017 and RFC 5915 have it; pkcs12: one bundle (RFC 7292). password: of the bundle.
    """
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.serialization import pkcs12

    found = KEY.search(pair)
    assert found is not None
    key_pem, chain_pem = found[0] + b"\n", pair[found.end() :].lstrip()
    key: Any = serialization.load_pem_private_key(key_pem, None)
    if form == "pem-one":
        return [("both", NAMES["both"], key_pem + chain_pem)]
    if form == "pkcs12":
        chain = load_pem(chain_pem)
        secret = password.reveal().encode() if password is not None else b""
        how: Any = serialization.BestAvailableEncryption(secret) if secret else serialization.NoEncryption()
        data = pkcs12.serialize_key_and_certificates(b"hooper", key, chain[0], chain[1:] or None, how)
        return [("bundle", NAMES["bundle"], data)]
    if form == "pkcs1":
        old = serialization.PrivateFormat.TraditionalOpenSSL
        key_pem = key.private_bytes(serialization.Encoding.PEM, old, serialization.NoEncryption())
    return [("chain", NAMES["chain"], chain_pem), ("key", NAMES["key"], key_pem)]
