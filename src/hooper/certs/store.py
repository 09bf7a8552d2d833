"""Keys and chains on the disk: private, whole or not at all, and never a key beside another key's chain."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.certs.inspect import load_pem, names_of
from hooper.errors import CounterpartError, MachineError
from hooper.files import machine_error, make_folder, read_whole, write_atomically

if TYPE_CHECKING:
    from cryptography import x509
    from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey

    PrivateKey = EllipticCurvePrivateKey | RSAPrivateKey

_END = b"-----END PRIVATE KEY-----\n"


class OtherKey(CounterpartError):
    """What came is for a key of somebody else."""

    code = "wrong-key"
    remedy = "Order it again; if that happens once more, tell the authority."


@dataclass(frozen=True)
class Kept:
    """A certificate that is kept. chain: its own first."""

    chain: tuple[x509.Certificate, ...]

    @property
    def leaf(self) -> x509.Certificate:
        return self.chain[0]

    @property
    def names(self) -> tuple[str, ...]:
        return names_of(self.leaf)


class CertificateStore:
    """The folder of one site. For each certificate: pair.pem (key and chain, written in one stroke), and from it
    key.pem and certificate-with-chain.pem, as servers want them; they are made anew where they do not match, and so is
    a chain.pem, as earlier versions called it, where it stands there still. earlier/ has the pairs kept before.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def _of(self, certificate: str) -> Path:
        return self.folder / certificate

    def key_path(self, certificate: str) -> Path:
        return self._of(certificate) / "key.pem"

    def chain_path(self, certificate: str) -> Path:
        return self._of(certificate) / "certificate-with-chain.pem"

    def kept(self, certificate: str) -> Kept | None:
        """What is kept; None: nothing. Raises: MachineError: it cannot be read."""
        data = _read(self._of(certificate) / "pair.pem")
        if data is None:
            return None
        key, end, chain = data.partition(_END)
        try:
            found = Kept(tuple(load_pem(chain)))
        except ValueError:
            raise MachineError(
                f"{self._of(certificate) / 'pair.pem'} is damaged",
                remedy="Move it away, then order the certificate again.",
            ) from None
        old = self._of(certificate) / "chain.pem"
        files = [(self.key_path(certificate), key + end), (self.chain_path(certificate), chain)]
        for path, right in (*files, *([(old, chain)] if old.is_file() else [])):
            if _read(path) != right:
                write_atomically(path, right, private=True)
        return found

    def keep(self, certificate: str, key: bytes, chain: Sequence[x509.Certificate]) -> Kept:
        """Keep a key, in PEM, with its chain; the generation before stays beside it.

        Raises: OtherKey: they do not match; MachineError: the disk is full.
        """
        from cryptography.hazmat.primitives import serialization

        private = serialization.load_pem_private_key(key, None)
        form = (serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
        if chain[0].public_key().public_bytes(*form) != private.public_key().public_bytes(*form):
            raise OtherKey("the certificate that came is not for the key that was ordered")
        self._put(certificate, key + b"".join(one.public_bytes(serialization.Encoding.PEM) for one in chain))
        kept = self.kept(certificate)
        assert kept is not None
        with contextlib.suppress(OSError):
            self._pending(certificate).unlink()
        return kept

    def _put(self, certificate: str, pair: bytes) -> None:
        """A pair in the place of the one that is kept, which becomes an earlier one."""
        path = self._of(certificate) / "pair.pem"
        make_folder(path.parent, private=True)
        before = _read(path)
        if before is not None and before != pair:
            with contextlib.suppress(ValueError):  # one that is damaged is of no use to anybody
                make_folder(self._earlier(certificate), private=True)
                write_atomically(self._earlier(certificate) / f"{_generation(before)}.pem", before, private=True)
        write_atomically(path, pair, private=True)

    def pair(self, certificate: str, generation: str = "") -> bytes:
        """Key and chain in PEM, of what is kept or of an earlier generation. Raises: MachineError: it is not there."""
        path = (
            self._of(certificate) / "pair.pem" if not generation else self._earlier(certificate) / f"{generation}.pem"
        )
        data = _read(path)
        if data is None:
            raise MachineError(f"{path} is not there", remedy="Order the certificate again.")
        return data

    def _earlier(self, certificate: str) -> Path:
        return self._of(certificate) / "earlier"

    def earlier(self, certificate: str) -> dict[str, Kept]:
        """The generations that were kept before, the newest first, by the start of their fingerprints."""
        found: dict[str, Kept] = {}
        for path in self._earlier(certificate).glob("*.pem"):
            with contextlib.suppress(ValueError, MachineError):
                found[path.stem] = Kept(tuple(load_pem((_read(path) or b"").partition(_END)[2])))
        return dict(sorted(found.items(), key=lambda item: item[1].leaf.not_valid_before_utc, reverse=True))

    def restore(self, certificate: str, generation: str) -> Kept:
        """Put an earlier generation in the place of the one that is kept, which becomes an earlier one.

        Raises: MachineError: it is not there, or cannot be read.
        """
        pair = _read(self._earlier(certificate) / f"{generation}.pem")
        if pair is None:
            raise MachineError(
                f"there is no earlier generation {generation} of {certificate}", code="no-generation",
                remedy=f"It was taken away meanwhile. See `{deeds.GENERATIONS}`.",
            )  # fmt: skip
        self._put(certificate, pair)
        with contextlib.suppress(OSError):
            (self._earlier(certificate) / f"{generation}.pem").unlink()
        kept = self.kept(certificate)
        assert kept is not None
        return kept

    def _pending(self, certificate: str) -> Path:
        return self._of(certificate) / "ordered-key.pem"

    def pending_key(self, certificate: str, *, fresh: bool, kind: str = "p-256") -> bytes:
        """The key of the order that is under way, in PEM. fresh: a new one. kind: as in the site file.

        Raises: MachineError.
        """
        path = self._pending(certificate)
        return (None if fresh else _read(path)) or _made(path, kind)

    def account_key(self, directory: str) -> bytes:
        """The key of the account at an authority, made where there is none yet, in PEM. Raises: MachineError."""
        path = self._account(directory)
        return _read(path) or _made(path)

    def _account(self, directory: str, more: str = "") -> Path:
        return self.folder / f"account-{hashlib.sha256(directory.encode()).hexdigest()[:16]}{more}.pem"

    def next_account_key(self, directory: str, *, make: bool) -> bytes | None:
        """The key that the account is to have next; None: no change is under way. Raises: MachineError."""
        path = self._account(directory, "-next")
        return _read(path) or (_made(path) if make else None)

    def end_change(self, directory: str, *, taken: bool) -> None:
        """The change of an account's key is over. taken: the authority knows the next one. Raises: MachineError."""
        path = self._account(directory, "-next")
        data = _read(path)
        if data is not None and taken:
            write_atomically(self._account(directory), data, private=True)
        with contextlib.suppress(OSError):
            path.unlink()

    # --- what is worth nothing any more

    def revoked(self, certificate: str) -> frozenset[str]:
        """The fingerprints of what was revoked. Raises: MachineError."""
        return frozenset((_read(self._of(certificate) / "revoked") or b"").decode("ascii", "replace").split())

    def note_revoked(self, certificate: str, fingerprint: str) -> None:
        """Keep that one was revoked. Raises: MachineError."""
        lines = "".join(f"{one}\n" for one in sorted({*self.revoked(certificate), fingerprint}))
        write_atomically(self._of(certificate) / "revoked", lines.encode(), private=True)


def _generation(pair: bytes) -> str:
    """What a pair is called once it is an earlier one. Raises: ValueError: it is damaged."""
    from cryptography.hazmat.primitives import hashes

    return load_pem(pair.partition(_END)[2])[0].fingerprint(hashes.SHA256()).hex()[:12]


def key_type(public: object) -> str:
    """What the site file calls a kind of key; empty: none of those."""
    from cryptography.hazmat.primitives.asymmetric import ec, rsa

    if isinstance(public, rsa.RSAPublicKey):
        return f"rsa-{public.key_size}"
    curve = public.curve.name if isinstance(public, ec.EllipticCurvePublicKey) else ""
    return {"secp256r1": "p-256", "secp384r1": "p-384"}.get(curve, "")


def _made(path: Path, kind: str = "p-256") -> bytes:
    """A new key, kept there. Raises: MachineError."""
    data = new_key(kind)
    make_folder(path.parent, private=True)
    write_atomically(path, data, private=True)
    return data


def new_key(kind: str = "p-256") -> bytes:
    """A private key in PEM (PKCS #8, RFC 5208). kind: p-256, p-384, or rsa- with its bits."""
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric import ec, rsa

    key: PrivateKey
    if kind.startswith("rsa-"):
        key = rsa.generate_private_key(65537, int(kind[4:]))
    else:
        key = ec.generate_private_key(ec.SECP384R1() if kind == "p-384" else ec.SECP256R1())
    form = serialization.PrivateFormat.PKCS8
    return key.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption())


def _read(path: Path) -> bytes | None:
    try:
        return read_whole(path)
    except FileNotFoundError:
        return None
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None
