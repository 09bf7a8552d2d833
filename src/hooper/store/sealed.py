"""A file that only a passphrase opens: scrypt (RFC 7914) makes its key, ChaCha20-Poly1305 (RFC 8439) seals it."""

from __future__ import annotations

import base64
import gzip
import json
import os
import zlib
from typing import Any

from hooper.errors import RefusedForSafety, UsageError

MAGIC = b"Made by Hooper: moved site 1\n"
WORK, BLOCK = 2**15, 8  # scrypt's N and r: 32 MiB of memory for each try
LARGEST = 64 * 1024 * 1024  # bytes, unpacked
SHORTEST = 8  # characters of a passphrase


class WrongPassphrase(RefusedForSafety):
    """The passphrase does not open it, or the file was changed."""

    code = "wrong-passphrase"
    remedy = "Give the passphrase with which it was made; if that is right, the file was damaged on the way."


def seal(document: dict[str, Any], passphrase: str) -> bytes:
    """A document under a passphrase. Raises: UsageError: that is too short, or the document too large."""
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

    if len(passphrase) < SHORTEST:
        raise UsageError(
            f"a passphrase of {len(passphrase)} characters is too short", remedy=f"Give {SHORTEST} or more."
        )
    salt, nonce = os.urandom(16), os.urandom(12)
    head = {"salt": base64.b64encode(salt).decode(), "nonce": base64.b64encode(nonce).decode()}
    first = MAGIC + json.dumps(head).encode() + b"\n"
    text = json.dumps(document).encode()
    if len(text) > LARGEST:  # nobody could open it any more
        raise UsageError(
            f"all of it takes {len(text):,} bytes, more than {LARGEST:,}",
            remedy="Copy the folder and its state yourself.",
        )
    body = gzip.compress(text, mtime=0)
    return first + ChaCha20Poly1305(_key(passphrase, salt)).encrypt(nonce, body, first)


def unseal(data: bytes, passphrase: str) -> dict[str, Any]:
    """The document. Raises: UsageError: it is no such file; WrongPassphrase."""
    from cryptography.exceptions import InvalidTag
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

    strange = UsageError("this is no moved site", remedy="Give the file that was written on the other computer.")
    if not data.startswith(MAGIC):
        raise strange
    line = data[len(MAGIC) :].partition(b"\n")[0]
    try:
        head = json.loads(line)
        salt, nonce = (base64.b64decode(head[key], validate=True) for key in ("salt", "nonce"))
        if len(salt) != 16 or len(nonce) != 12:
            raise ValueError("sizes")
    except (ValueError, TypeError, KeyError, RecursionError):
        raise strange from None
    first = MAGIC + line + b"\n"
    try:
        body = ChaCha20Poly1305(_key(passphrase, salt)).decrypt(nonce, data[len(first) :], first)
        unpacking = zlib.decompressobj(31)
        text = unpacking.decompress(body, LARGEST)
        document = json.loads(text)
    except InvalidTag:
        raise WrongPassphrase("it does not open with this passphrase") from None
    except (ValueError, zlib.error, RecursionError):
        raise strange from None
    if not isinstance(document, dict):
        raise strange
    return document


def _key(passphrase: str, salt: bytes) -> bytes:
    from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

    return Scrypt(salt=salt, length=32, n=WORK, r=BLOCK, p=1).derive(passphrase.encode("utf-8", "surrogatepass"))
