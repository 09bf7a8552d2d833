"""The body of an HTTP/1 message (RFC 9112 section 6), read with patience: routers' lengths are often wrong."""

from __future__ import annotations

import re

from hooper.errors import WireError
from hooper.wire.head import Head

LIMIT = 256 * 1024  # bytes; no router's table or description is longer


def read_body(head: Head, data: bytes, *, ended: bool) -> bytes | None:
    """The whole body; None while more must come. ended: the peer has closed, so that what is there is all.

    Raises: WireError: longer than LIMIT, or chunks that are none.
    """
    if len(data) > LIMIT:
        raise WireError("body", LIMIT, f"longer than {LIMIT} bytes")
    if "chunked" in (head.get("transfer-encoding") or "").lower():
        whole, done = _chunks(data)
        return whole if done or ended else None
    length = head.get("content-length") or ""
    if length.isascii() and length.isdigit() and len(length) < 10:
        if len(data) >= int(length):
            return data[: int(length)]
    elif head.status in (204, 304):
        return b""
    return data if ended else None


def _chunks(data: bytes) -> tuple[bytes, bool]:
    """RFC 9112 section 7.1: what the chunks hold so far, and whether the last one is there."""
    out, at = b"", 0
    while True:
        end = data.find(b"\n", at)
        if end < 0:
            return out, False
        size = re.match(rb"[ \t]*([0-9A-Fa-f]{1,8})[ \t]*(?:;[^\r\n]*)?\r?$", data[at:end])
        if size is None:
            raise WireError("chunk size", at, f"{data[at:end][:20]!r} is no number")
        length = int(size[1], 16)
        if length == 0:
            return out, True
        out += data[end + 1 : end + 1 + length]
        if len(data) < end + 1 + length:
            return out, False
        at = end + 1 + length
        at += 2 if data[at : at + 2] == b"\r\n" else data[at : at + 1] == b"\n"
