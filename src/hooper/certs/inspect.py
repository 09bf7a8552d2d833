"""Judging certificates (RFC 5280, names by RFC 9525). For telling a person what is wrong, never for trusting."""

from __future__ import annotations

import hashlib
import warnings
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.certs.problems import ABSENT, EXPIRED, NOT_YET, OTHER_NAME, UNTRUSTED
from hooper.dnsnames import any_stands_for, is_below

if TYPE_CHECKING:
    from cryptography import x509

AHEAD = timedelta(hours=1)  # of an authority's clock
AUTHORITY, TOO_LONG = "certificate-of-an-authority", "chain-too-long"  # of what was issued alone
CHAIN_LENGTH = 8  # certificates from a leaf to its root; more is a loop


@dataclass(frozen=True, slots=True)
class ChainJudged:
    """problems: codes of what is wrong, the gravest first. self_signed: it vouches for itself."""

    problems: tuple[str, ...]
    self_signed: bool


def load_chain(ders: Iterable[bytes]) -> list[x509.Certificate]:
    """The certificates that can be read; devices make some that no standard allows."""
    from cryptography import x509

    out = []
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for der in ders:
            try:
                one = x509.load_der_x509_certificate(der)
                _ = one.subject, one.issuer, one.extensions  # these are read late, and may fail late
                out.append(one)
            except Exception:  # noqa: S112 - the library fails on them in many ways
                continue
    return out


def load_pem(data: bytes) -> list[x509.Certificate]:
    """All certificates in a PEM file. Raises: ValueError: there is none, or one that cannot be read."""
    from cryptography import x509

    try:
        return x509.load_pem_x509_certificates(data)
    except Exception as exc:  # the library fails on them in many ways
        raise ValueError(f"no certificate in PEM: {exc}") from None


def fingerprint_of(certificate: x509.Certificate) -> str:
    """As everything here writes it: sha256: and the hexadecimal digits."""
    from cryptography.hazmat.primitives import hashes

    return f"sha256:{certificate.fingerprint(hashes.SHA256()).hex()}"


def with_known_keys(certificates: Iterable[x509.Certificate]) -> list[x509.Certificate]:
    """Those whose public key and names can be read: what strangers send may hold what no library knows."""
    out = []
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for one in certificates:
            try:
                _ = one.public_key(), one.subject, one.issuer, one.extensions, one.signature_hash_algorithm
                out.append(one)
            except Exception:  # noqa: S112 - the library fails on them in many ways
                continue
    return out


def known_in(pem: str) -> list[x509.Certificate]:
    """The certificates in a text that can be read; empty: there is none, or it is no PEM."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            return with_known_keys(load_pem(pem.encode()))
        except ValueError:
            return []


def key_fingerprint(certificate: x509.Certificate) -> str:
    """The fingerprint of its public key, which stays the same when the certificate is made anew."""
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    return fingerprint_of_key(certificate.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo))


def fingerprint_of_key(der: bytes) -> str:
    """The fingerprint of a public key. der: its SubjectPublicKeyInfo (RFC 5280 section 4.1)."""
    return f"sha256:{hashlib.sha256(der).hexdigest()}"


def names_of(certificate: x509.Certificate) -> tuple[str, ...]:
    """The DNS names and addresses that it is for, by its subjectAltName alone (RFC 9525 section 6.3)."""
    from cryptography import x509

    try:
        shown = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except (x509.ExtensionNotFound, ValueError):
        return ()
    return (*shown.get_values_for_type(x509.DNSName), *map(str, shown.get_values_for_type(x509.IPAddress)))


def is_for(names: Iterable[str], wanted: str) -> bool:
    """Whether a certificate with these names is for `wanted`; a wildcard is one label (RFC 9525 section 6.3)."""
    return any_stands_for(names, wanted)


def leads_to(chain: Sequence[x509.Certificate], name: str) -> bool:
    """Whether a chain ends at, or below, an authority of that common name (RFC 8555 section 7.4.2)."""
    from cryptography.x509.oid import NameOID

    shown = [one.value for one in chain[-1].issuer.get_attributes_for_oid(NameOID.COMMON_NAME)]
    return name.strip().lower() in [str(text).strip().lower() for text in shown]


def signed_by(certificate: x509.Certificate, issuer: x509.Certificate) -> bool:
    """Whether `issuer` is an authority and made this signature."""
    from cryptography import x509

    try:
        certificate.verify_directly_issued_by(issuer)
    except Exception:
        return False
    try:
        return issuer.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except (x509.ExtensionNotFound, ValueError):
        return False


def allowed_by(issuer: x509.Certificate, certificate: x509.Certificate) -> bool:
    """Whether an authority's name constraints let a certificate have its names (RFC 5280 section 4.2.1.10)."""
    from cryptography import x509

    try:
        bound = issuer.extensions.get_extension_for_class(x509.NameConstraints).value
    except x509.ExtensionNotFound:
        return True
    except ValueError:
        return False
    try:
        names = list(certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value)
    except (x509.ExtensionNotFound, ValueError):
        return True
    for name in names:
        permitted = [one for one in bound.permitted_subtrees or () if type(one) is type(name)]
        excluded = [one for one in bound.excluded_subtrees or () if type(one) is type(name)]
        if any(_covers(one, name) for one in excluded) or (
            permitted and not any(_covers(one, name) for one in permitted)
        ):
            return False
    return True


def _covers(constraint: x509.GeneralName, name: x509.GeneralName) -> bool:
    """Whether a name is in a subtree; of a kind that is not looked at here, it is taken to be neither in nor out."""
    from cryptography import x509

    if isinstance(constraint, x509.DNSName) and isinstance(name, x509.DNSName):
        return is_below(name.value.removeprefix("*."), constraint.value)
    if isinstance(constraint, x509.IPAddress) and isinstance(name, x509.IPAddress):
        return name.value in constraint.value  # type: ignore[operator]
    return False


def reaches_root(
    chain: Sequence[x509.Certificate],
    roots: Sequence[x509.Certificate],
    now: datetime,
    *,
    bound: bool = True,
) -> bool:
    """Whether a path leads from the first certificate over the others to a root, all of them in date. bound: and
    whether all on the way may vouch for its names.
    """
    at, pool = chain[0], list(chain[1:])
    roots = [root for root in roots if root.not_valid_before_utc <= now <= root.not_valid_after_utc]
    for _ in range(CHAIN_LENGTH):
        if at in roots:
            return True
        if any(
            root.subject == at.issuer and signed_by(at, root) and (not bound or allowed_by(root, chain[0]))
            for root in roots
        ):
            return True
        above = next(
            (other for other in pool if other.subject == at.issuer and other != at and signed_by(at, other)), None
        )
        if above is None or not above.not_valid_before_utc <= now <= above.not_valid_after_utc:
            return False
        if bound and not allowed_by(above, chain[0]):
            return False
        pool.remove(above)
        at = above
    return False


def judge(
    chain: Sequence[x509.Certificate],
    name: str | None,
    roots: Sequence[x509.Certificate],
    now: datetime,
    *,
    planned: bool,
) -> ChainJudged:
    """What is wrong with what a server shows.

    Args: chain: as shown, the server's own first. name: that people use; None: none. planned: the site file has a
    certificate for this service; without that, one of the device's own making is as expected, if it is in date.
    """
    leaf = chain[0]
    own = leaf.subject == leaf.issuer
    problems: list[str] = []
    if planned and own and leaf not in roots:
        problems.append(ABSENT)
    if now > leaf.not_valid_after_utc:
        problems.append(EXPIRED)
    elif now < leaf.not_valid_before_utc:
        problems.append(NOT_YET)
    if (planned or not own) and ABSENT not in problems:
        if name is not None and not is_for(names_of(leaf), name):
            problems.append(OTHER_NAME)
        if not reaches_root(chain, roots, now) and planned:
            problems.append(UNTRUSTED)
    return ChainJudged(tuple(problems), own)


def unfit(
    chain: Sequence[x509.Certificate], names: Iterable[str], roots: Sequence[x509.Certificate], now: datetime
) -> list[str]:
    """What speaks against a chain that was just issued for `names`: codes, the gravest first.

    Authorities' clocks may be ahead a little (RFC 5280 section 4.1.2.5 knows no other start than this one).
    """
    if len(chain) > CHAIN_LENGTH:
        return [TOO_LONG]
    found = {problem for name in names for problem in judge(chain, name, roots, now, planned=True).problems}
    if vouches(chain[0]):
        found.add(AUTHORITY)
    if chain[0].not_valid_before_utc - now <= AHEAD:
        found.discard(NOT_YET)
    return [code for code in (ABSENT, AUTHORITY, EXPIRED, NOT_YET, OTHER_NAME, UNTRUSTED) if code in found]


def vouches(certificate: x509.Certificate) -> bool:
    """Whether it is an authority's, which may vouch for others (RFC 5280 section 4.2.1.9); damaged: as if it were."""
    from cryptography import x509

    try:
        return certificate.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except x509.ExtensionNotFound:
        return False
    except ValueError:
        return True


def well_known_roots() -> list[x509.Certificate]:
    """The roots that this computer's programs trust."""
    import ssl

    import certifi

    paths = [certifi.where(), ssl.get_default_verify_paths().cafile, "/etc/ssl/certs/ca-certificates.crt"]
    there = []
    for path in dict.fromkeys(path for path in paths if path):
        with suppress(OSError):
            there.append((path, Path(path).stat().st_mtime_ns))
    return list(_roots_in(tuple(there)))


@lru_cache(maxsize=1)
def _roots_in(files: tuple[tuple[str, int], ...]) -> tuple[x509.Certificate, ...]:
    """The certificates in these files, each once; who looks again and again need not read them again. files: with the
    time of their last change.
    """
    from cryptography.hazmat.primitives import hashes

    from hooper.files import FILE_LIMIT, read_whole

    found: dict[bytes, x509.Certificate] = {}
    for path, _ in files:
        with suppress(OSError, ValueError), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            for certificate in load_pem(read_whole(Path(path), 16 * FILE_LIMIT)):
                found[certificate.fingerprint(hashes.SHA256())] = certificate
    return tuple(found.values())


def public_text(private: str) -> str:
    """The public key of a private one in PEM, as the site file has it; empty: it is none."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives import serialization

    form = serialization.PublicFormat
    try:
        if "OPENSSH" in private:
            own = serialization.load_ssh_private_key(private.encode(), None).public_key()
            return own.public_bytes(serialization.Encoding.OpenSSH, form.OpenSSH).decode()
        public = serialization.load_pem_private_key(private.encode(), None).public_key()
    except (ValueError, TypeError, UnsupportedAlgorithm):
        return ""
    return fingerprint_of_key(public.public_bytes(serialization.Encoding.DER, form.SubjectPublicKeyInfo))
