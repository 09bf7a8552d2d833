"""Secrets that are proposed for what a device makes by itself, kept until they have been entered."""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Mapping

from hooper.files import machine_error, make_folder, read_text, write_atomically
from hooper.secret import keep_out_of_output
from hooper.tunnels.fields import SHARED
from hooper.tunnels.keys import KeyRing

SIGNS = "abcdefghijkmnpqrstuvwxyz23456789"  # none of them is taken for another, on any keyboard
GROUPS, EACH = 5, 5  # 25 signs of 32: 125 bits


def new_secret() -> str:
    """One that can be typed: groups of letters and digits, 125 bits by chance (RFC 4086)."""
    return "-".join("".join(secrets.choice(SIGNS) for _ in range(EACH)) for _ in range(GROUPS))


def proposed(ring: KeyRing, tunnel: str, peers: Iterable[str], *, renew: bool = False) -> Mapping[str, str]:
    """The secrets of a tunnel: the one that all share, and a password for each peer; the same ones each time.

    renew: the shared one is another. Raises: MachineError.
    """
    wanted = {SHARED: f"{tunnel}.secret", **{peer: f"{tunnel}.{peer}.password" for peer in peers}}
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


def forget_proposed(ring: KeyRing, tunnel: str) -> None:
    """Take them away with their tunnel. Raises: MachineError."""
    for path in (*ring.folder.glob(f"{tunnel}.secret"), *ring.folder.glob(f"{tunnel}.*.password")):
        try:
            path.unlink(missing_ok=True)
        except OSError as exc:
            raise machine_error(exc, f"{path} cannot be taken away") from None
