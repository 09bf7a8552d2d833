"""The connection request of X.224 over TPKT, as remote desktops use it.

Sources: RFC 1006 section 6 (TPKT), X.224 section 13, and the published [MS-RDPBCGR] sections 2.2.1.1 and 2.2.1.2
(security negotiation).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from hooper.errors import WireError

TPKT = struct.Struct("!BBH")  # version 3, reserved, length with this header
NEGOTIATION = struct.Struct("<BBHI")  # type, flags, length 8, protocols or failure code
REQUEST_TYPE, RESPONSE_TYPE, FAILURE_TYPE = 1, 2, 3
CONNECTION_REQUEST, CONNECTION_CONFIRM = 0xE0, 0xD0
STANDARD, TLS, HYBRID, HYBRID_EX = 0, 1, 2, 8
FAILURES = {
    1: "it wants TLS",
    2: "it does not allow TLS",
    3: "it has no certificate",
    4: "it does not allow the security asked for",
    5: "it wants network-level login",
    6: "it wants TLS with user authentication",
}


@dataclass(frozen=True, slots=True)
class Confirm:
    """What the server answers. protocol: the security it chose (STANDARD where it says nothing).

    failure: its code where it refuses, else None.
    """

    protocol: int = STANDARD
    failure: int | None = None


@dataclass(frozen=True, slots=True)
class ConnectionRequest:
    """What a client asks for. protocols: the bits of the security it can do; None: it does not negotiate."""

    protocols: int | None


def _packet(code: int, negotiation: bytes) -> bytes:
    body = struct.pack("!BHHB", code, 0, 0x1234 if code == CONNECTION_CONFIRM else 0, 0) + negotiation
    return TPKT.pack(3, 0, TPKT.size + 1 + len(body)) + bytes([len(body)]) + body


def serialize_request(protocols: int = TLS | HYBRID) -> bytes:
    return _packet(CONNECTION_REQUEST, NEGOTIATION.pack(REQUEST_TYPE, 0, 8, protocols))


def serialize_confirm(confirm: Confirm) -> bytes:
    if confirm.failure is not None:
        return _packet(CONNECTION_CONFIRM, NEGOTIATION.pack(FAILURE_TYPE, 0, 8, confirm.failure))
    return _packet(CONNECTION_CONFIRM, NEGOTIATION.pack(RESPONSE_TYPE, 0, 8, confirm.protocol))


def _body(data: bytes, wanted: int) -> bytes | None:
    """What follows the fixed part of the one X.224 packet in `data`; None while it is not whole."""
    if data[:1] not in (b"", b"\x03") or (len(data) > 1 and data[1] != 0):
        raise WireError("TPKT header", 0, f"not version 3: {data[:4].hex()}")
    if len(data) < TPKT.size:
        return None
    length = TPKT.unpack_from(data)[2]
    if not 11 <= length <= 1024:
        raise WireError("TPKT length", 2, f"{length} bytes cannot be a connection packet")
    if len(data) < length:
        return None
    indicator, code = data[4], data[5]
    if indicator != length - 5 or code & 0xF0 != wanted:
        raise WireError("X.224 code", 5, f"{code:#04x} with length {indicator}, not {wanted:#04x}")
    return data[11:length]


def parse_confirm(data: bytes) -> Confirm | None:
    """Read the server's answer; None while it is not whole. Raises: WireError: it is none."""
    body = _body(data, CONNECTION_CONFIRM)
    if body is None:
        return None
    if len(body) < NEGOTIATION.size:
        return Confirm()
    kind, _, _, value = NEGOTIATION.unpack_from(body)
    if kind == RESPONSE_TYPE:
        return Confirm(value)
    if kind == FAILURE_TYPE:
        return Confirm(failure=value)
    raise WireError("negotiation type", 11, f"{kind} is neither a response nor a failure")


def parse_request(data: bytes) -> ConnectionRequest | None:
    """Read a client's request; None while it is not whole. A routing cookie before the negotiation is passed over."""
    body = _body(data, CONNECTION_REQUEST)
    if body is None:
        return None
    _, _, rest = body.rpartition(b"\r\n")
    if len(rest) < NEGOTIATION.size or rest[0] != REQUEST_TYPE:
        return ConnectionRequest(None)
    return ConnectionRequest(NEGOTIATION.unpack_from(rest)[3])
