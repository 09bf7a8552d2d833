"""The protocol version message of RFB (RFC 6143 section 7.1.1): the first 12 bytes that a server sends by itself."""

from __future__ import annotations

import re

from hooper.errors import WireError

_VERSION = re.compile(rb"RFB \d{3}\.\d{3}\n")


def parse_version(data: bytes) -> str | None:
    """ "RFB 003.008"; None while it is not whole. Raises: WireError: this is no RFB server."""
    if len(data) < 12:
        if not b"RFB ".startswith(data[:4]):
            raise WireError("version", 0, f"not RFB: {data!r}")
        return None
    if not _VERSION.match(data):
        raise WireError("version", 0, f"not RFB: {data[:12]!r}")
    return data[:11].decode()
