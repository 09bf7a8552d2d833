"""The private keys of tunnels on the disk, each in a private file that is named by its public key.

So a key and the site file never disagree: a key is kept before the site file names it, and forgotten after that names
another. Who is killed between the two leaves a key that nobody uses.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import secrets
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from hooper.certs.inspect import public_text
from hooper.errors import MachineError
from hooper.files import machine_error, make_folder, read_text, read_whole, write_atomically
from hooper.secret import Secret, keep_out_of_output
from hooper.site.tunnel_fields import key_form
from hooper.tunnels.page_fields import SHARED

PRIVATE = ("key", "shared", "server-key", "tls-crypt")  # what of a public key is secret; a certificate is not


def stem_of(public: str) -> str:
    """What the files of a public key are called: 64 hexadecimal digits."""
    form = key_form(public)
    if form == "fingerprint":
        return public.removeprefix("sha256:")
    if form == "wireguard":
        return base64.b64decode(public).hex()
    return hashlib.sha256(base64.b64decode(public.split()[1])).hexdigest()


class KeyRing:
    """The folder of one site.

    PUBLIC.key holds the private key of a public one, PUBLIC.shared what both sides of a WireGuard tunnel share,
    PUBLIC.cert a certificate for it; an authority has PUBLIC.server-key, PUBLIC.server-cert and PUBLIC.tls-crypt too.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def path(self, public: str, kind: str) -> Path:
        """Where something of a public key stands."""
        return self.folder / f"{stem_of(public)}.{kind}"

    def put(self, public: str, kind: str, text: str) -> None:
        """Keep something of a public key. Raises: MachineError."""
        make_folder(self.folder, private=True)
        if kind in PRIVATE:
            keep_out_of_output(text.strip())
        write_atomically(self.path(public, kind), text.encode(), private=True)

    def text(self, public: str, kind: str) -> str | None:
        """What is kept of a public key; None: nothing is. Raises: MachineError: it is damaged or cannot be read."""
        path = self.path(public, kind)
        try:
            text = read_whole(path).decode()
        except FileNotFoundError:
            return None
        except OSError as exc:
            raise machine_error(exc, f"{path} cannot be read") from None
        except UnicodeDecodeError:
            raise self.damaged(public, kind) from None
        if kind in PRIVATE:
            keep_out_of_output(text.strip())
        return text

    def damaged(self, public: str, kind: str) -> MachineError:
        """That something that is kept is not what it should be."""
        path = self.path(public, kind)
        return MachineError(f"{path} is damaged", remedy="Move it away, then renew the key that it belongs to.")

    def stems(self, kind: str) -> Iterator[str]:
        """Of all files of a kind, in order."""
        return iter(sorted(path.stem for path in self.folder.glob(f"*.{kind}")))

    def make(self, *, shared: bool = False) -> str:
        """A new pair of WireGuard keys, kept; returns the public one, in Base64. shared: with a pre-shared key.

        Raises: MachineError.
        """
        from hooper.wire.wireguard import generate_private, public_of

        private = generate_private()
        public = base64.b64encode(public_of(private)).decode()
        if shared:
            self.put(public, "shared", base64.b64encode(secrets.token_bytes(32)).decode() + "\n")
        self.put(public, "key", base64.b64encode(private).decode() + "\n")
        return public

    def make_ssh(self) -> str:
        """A new pair of Ed25519 keys for SSH, kept; returns the public one, as OpenSSH writes it (RFC 8709).

        Raises: MachineError.
        """
        from cryptography.hazmat.primitives import serialization
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

        key = Ed25519PrivateKey.generate()
        form = serialization.PrivateFormat.OpenSSH
        text = key.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption()).decode()
        public = public_text(text)
        self.put(public, "key", text)
        return public

    def private(self, public: str) -> Secret | None:
        """The private key of a public one, as its files have it; None: it is not kept.

        Raises: MachineError: it is damaged.
        """
        text = self.text(public, "key")
        if text is None:
            return None
        form = key_form(public)
        if form == "wireguard":
            from hooper.wire.wireguard import public_of

            found = self._of_wireguard(public, "key")
            if found is not None and public_of(base64.b64decode(found.reveal())) != base64.b64decode(public):
                raise self.damaged(public, "key")
            return found
        if public_text(text) != public:
            raise self.damaged(public, "key")
        return Secret(text, "key")

    def shared(self, public: str) -> Secret | None:
        """The pre-shared key of a WireGuard peer, in Base64; None: it has none. Raises: MachineError: it is damaged."""
        return self._of_wireguard(public, "shared")

    def _of_wireguard(self, public: str, kind: str) -> Secret | None:
        text = self.text(public, kind)
        if text is None:
            return None
        try:
            sound = len(base64.b64decode(text.strip(), validate=True)) == 32
        except ValueError:
            sound = False
        if not sound:
            raise self.damaged(public, kind)
        return Secret(text.strip(), kind)

    def forget(self, public: str, *, shared: bool = False) -> bool:
        """Take a private key away, and with `shared` what it shares with others; whether one was there.

        Raises: MachineError.
        """
        there = False
        for kind in PRIVATE if shared else ("key",):
            path = self.path(public, kind)
            with contextlib.suppress(FileNotFoundError):
                try:
                    path.unlink()
                    there = True
                except PermissionError as exc:
                    raise machine_error(exc, f"{path} cannot be taken away") from None
        return there


# --- secrets that are proposed for what a device makes by itself, kept until they have been entered

SIGNS = "abcdefghijkmnpqrstuvwxyz23456789"  # none of them is taken for another, on any keyboard
GROUPS, EACH = 5, 5  # 25 signs of 32: 125 bits


def new_secret() -> str:
    """One that can be typed: groups of letters and digits, 125 bits by chance (RFC 4086)."""
    return "-".join("".join(secrets.choice(SIGNS) for _ in range(EACH)) for _ in range(GROUPS))


def proposed(
    ring: KeyRing, tunnel: str, peers: Iterable[str], *, renew: bool = False, shared: bool = True
) -> Mapping[str, str]:
    """The secrets of a tunnel: the one that all share, and a password for each peer; the same ones each time.

    renew: the shared one is another. shared: there is one. Raises: MachineError.
    """
    wanted = {
        **({SHARED: f"{tunnel}.secret"} if shared else {}),
        **{peer: f"{tunnel}.{peer}.password" for peer in peers},
    }
    found = {}
    for name, file in wanted.items():
        path = ring.folder / file
        if not path.exists() or (renew and name == SHARED):
            make_folder(ring.folder, private=True)
            text = new_secret()
            write_atomically(path, f"{text}\n".encode(), private=True)
        try:
            found[name] = read_text(path).strip()
        except OSError as exc:
            raise machine_error(exc, f"{path} cannot be read") from None
        keep_out_of_output(found[name])
    return found


def forget_proposed(ring: KeyRing, tunnel: str, peer: str = "") -> None:
    """Take them away with their tunnel. peer: only its password. Raises: MachineError."""
    whole = () if peer else ring.folder.glob(f"{tunnel}.secret")
    for path in (*whole, *ring.folder.glob(f"{tunnel}.{peer or '*'}.password")):
        try:
            path.unlink(missing_ok=True)
        except OSError as exc:
            raise machine_error(exc, f"{path} cannot be taken away") from None
