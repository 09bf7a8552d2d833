"""The private keys of tunnels on the disk, each in a private file that is named by its public key.

So a key and the site file never disagree: a key is kept before the site file names it, and forgotten after that names
another. Who is killed between the two leaves a key that nobody uses.
"""

from __future__ import annotations

import base64
import contextlib
import secrets
from pathlib import Path

from hooper.errors import MachineError
from hooper.files import machine_error, make_folder, write_atomically
from hooper.secret import Secret
from hooper.wire.wireguard import generate_private, public_of


class KeyRing:
    """The folder of one site. PUBLIC.key holds the private key of a public one, PUBLIC.shared what both sides share."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def _path(self, public: str, kind: str) -> Path:
        return self.folder / f"{base64.b64decode(public).hex()}.{kind}"

    def make(self, *, shared: bool = False) -> str:
        """A new pair of keys, kept; returns the public one, in Base64. shared: with a pre-shared key.

        Raises: MachineError.
        """
        private = generate_private()
        public = base64.b64encode(public_of(private)).decode()
        make_folder(self.folder, private=True)
        if shared:
            self._put(public, "shared", secrets.token_bytes(32))
        self._put(public, "key", private)
        return public

    def _put(self, public: str, kind: str, value: bytes) -> None:
        text = Secret(base64.b64encode(value).decode(), kind)
        write_atomically(self._path(public, kind), text.reveal().encode() + b"\n", private=True)

    def private(self, public: str) -> Secret | None:
        """The private key of a public one, in Base64; None: it is not kept. Raises: MachineError: it is damaged."""
        found = self._read(public, "key")
        if found is not None and public_of(base64.b64decode(found.reveal())) != base64.b64decode(public):
            raise self._damaged(public, "key")
        return found

    def shared(self, public: str) -> Secret | None:
        """The pre-shared key of a peer, in Base64; None: it has none. Raises: MachineError: it is damaged."""
        return self._read(public, "shared")

    def _read(self, public: str, kind: str) -> Secret | None:
        path = self._path(public, kind)
        try:
            text = path.read_text().strip()
        except FileNotFoundError:
            return None
        except (OSError, UnicodeDecodeError) as exc:
            if isinstance(exc, OSError):
                raise machine_error(exc, f"{path} cannot be read") from None
            raise self._damaged(public, kind) from None
        try:
            sound = len(base64.b64decode(text, validate=True)) == 32
        except ValueError:
            sound = False
        if not sound:
            raise self._damaged(public, kind)
        return Secret(text, kind)

    def _damaged(self, public: str, kind: str) -> MachineError:
        path = self._path(public, kind)
        return MachineError(f"{path} is damaged", remedy="Move it away, then renew the key that it belongs to.")

    def forget(self, public: str, *, shared: bool = False) -> bool:
        """Take a private key away, and with `shared` its pre-shared one; whether one was there.

        Raises: MachineError.
        """
        there = False
        for kind in ("key", "shared") if shared else ("key",):
            path = self._path(public, kind)
            with contextlib.suppress(FileNotFoundError):
                try:
                    path.unlink()
                    there = True
                except PermissionError as exc:
                    raise machine_error(exc, f"{path} cannot be taken away") from None
        return there
