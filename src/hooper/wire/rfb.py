"""RFB (RFC 6143): the version, which a server says first (section 7.1.1), and how it lets people in (section 7.1.2)."""

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


NO_LOGIN = 1  # the security type None: anybody has the screen


def answer_version(version: str) -> bytes:
    """The version that the client chooses: the server's, where the standard has it, else the newest that it has."""
    known = {"RFB 003.003": "RFB 003.003", "RFB 003.007": "RFB 003.007"}
    return f"{known.get(version, 'RFB 003.008')}\n".encode()


def parse_security(data: bytes, version: str) -> tuple[int, ...] | None:
    """The security types that the server offers, empty where it refuses; None while they are not whole."""
    if version == "RFB 003.003":  # then the server decides, in four bytes
        if len(data) < 4:
            return None
        kind = int.from_bytes(data[:4], "big")
        return (kind,) if kind else ()
    if not data or len(data) < 1 + data[0]:
        return None
    return tuple(data[1 : 1 + data[0]])
