"""An authority of one's own: its key stays in the state, its root stands beside the site file, where all find it.

It is known by its root's fingerprint. All that it issues is kept, so that it can be revoked; its list is written anew
with each that is.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.certs.inspect import fingerprint_of, load_pem
from hooper.certs.issuing import certify, key_text, load_ec_key, new_ec_key, pem_text, revocation_list
from hooper.clock import read_moment, rfc3339
from hooper.dnsnames import bound_to, may_sign
from hooper.errors import MachineError, UsageError
from hooper.files import machine_error, make_folder, read_whole, write_atomically

if TYPE_CHECKING:
    from cryptography import x509

ROOT_LIFE, LEAF_LIFE = timedelta(days=3650), timedelta(days=90)


class NoRoot(UsageError):
    """The authority has not been made yet, or its key is kept on another computer."""

    code = "no-own-authority"


def make_root(folder: Path, title: str, signs: Sequence[str], now: datetime) -> str:
    """A new authority, bound to these names and networks, its key kept; its root in PEM. Raises: MachineError."""
    key = new_ec_key()
    root = certify(title, key.public_key(), None, key, now, ROOT_LIFE, "authority", signs=signs)
    at = _place(folder, root)
    make_folder(at, private=True)
    write_atomically(at / "key.pem", key_text(key).encode(), private=True)
    write_atomically(at / "root.pem", pem_text(root).encode(), private=True)
    return pem_text(root)


def _place(folder: Path, root: x509.Certificate) -> Path:
    return folder / f"own-{fingerprint_of(root)[7:23]}"


class OwnAuthority:
    """One that is kept. folder: of all certificates of the site. name: its key in the site file. root: in PEM.

    Raises, on making: NoRoot: its key is not kept here; MachineError.
    """

    def __init__(self, folder: Path, name: str, root: str) -> None:
        try:
            self.root = load_pem(root.encode())[0]
        except ValueError:
            raise NoRoot(f"the file that `trust` of {name} names holds no root", remedy=_make(name)) from None
        self._at = _place(folder, self.root)
        try:
            self._key = load_ec_key(read_whole(self._at / "key.pem").decode())
        except FileNotFoundError:
            raise NoRoot(
                f"the key of {name} is not kept here",
                remedy=f"Order where it was made; or make another with `{deeds.MAKE_AUTHORITY(name)}`, which all"
                " devices have to be given.",
            ) from None
        except (OSError, ValueError) as exc:
            raise machine_error(exc, f"{self._at / 'key.pem'} cannot be read") from None

    def issue(self, names: Sequence[str | IPAddress], public: object, now: datetime) -> x509.Certificate:
        """A certificate for a server with these names, kept. Raises: MachineError."""
        life = min(LEAF_LIFE, self.root.not_valid_after_utc - now)
        if life <= timedelta(0):
            raise MachineError("the authority's root has ended", remedy="Make another, and give it to all devices.")
        # OpenSSL holds a common name that looks like a name of DNS against the constraints, though it is an address
        called = names[0] if isinstance(names[0], str) else f"address {names[0]}"
        leaf = certify(called, public, self.root, self._key, now, life, "server", names=names)
        make_folder(self._at / "issued", private=True)
        write_atomically(self._at / "issued" / f"{leaf.serial_number:x}.pem", pem_text(leaf).encode(), private=True)
        return leaf

    def revoke(self, certificate: x509.Certificate, now: datetime) -> None:
        """It is worth nothing any more: the list says so. Raises: MachineError."""
        gone = self._gone()
        gone.setdefault(f"{certificate.serial_number:x}", rfc3339(now))
        write_atomically(self._at / "revoked.json", json.dumps(gone).encode(), private=True)
        self.list_path(now)

    def _gone(self) -> dict[str, str]:
        try:
            found = json.loads(read_whole(self._at / "revoked.json"))
            return {str(serial): str(at) for serial, at in found.items()}
        except FileNotFoundError:
            return {}
        except (OSError, ValueError, AttributeError) as exc:
            raise machine_error(exc, f"{self._at / 'revoked.json'} cannot be read") from None

    def list_path(self, now: datetime) -> Path:
        """The file of its list of what is revoked, as it is now. Raises: MachineError."""
        path = self._at / "revoked.crl.pem"
        gone = [(int(serial, 16), read_moment(at)) for serial, at in self._gone().items()]
        write_atomically(path, revocation_list(self.root, self._key, now, gone).encode())
        return path


def names_to_sign(names: Sequence[str], addresses: Sequence[IPAddress], signs: Sequence[str]) -> list[str | IPAddress]:
    """What a certificate of one's own is for: its names, and the addresses of its services that may be signed for."""
    own = [one for one in dict.fromkeys(addresses) if may_sign(signs, one)]
    return [*names, *own]


def said_to_sign(signs: Sequence[str]) -> str:
    """For people."""
    return ", ".join(f"{one} and below" if isinstance(bound_to(one), str) else one for one in signs) or "nothing"


def _make(name: str) -> str:
    return f"Make it with `{deeds.MAKE_AUTHORITY(name)}`."
