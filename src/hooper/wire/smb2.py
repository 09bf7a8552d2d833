"""SMB 2 and 3: the negotiation, which comes before any login ([MS-SMB2] 2.2.1, 2.2.3, 2.2.4; RFC 1002 4.3.1)."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from hooper.errors import WireError

MAGIC2, MAGIC1 = b"\xfeSMB", b"\xffSMB"
DIALECTS = {0x0202: "2.0.2", 0x0210: "2.1", 0x0300: "3.0", 0x0302: "3.0.2", 0x0311: "3.1.1", 0x02FF: "2"}
OFFERED = (0x0202, 0x0210, 0x0300, 0x0302)
SIGNING_ENABLED, SIGNING_REQUIRED = 1, 2
_HEADER, _BODY = struct.Struct("<4sHHIHHIIQIIQ16s"), struct.Struct("<HHHHI16sQ")
LONGEST = 64 * 1024


@dataclass(frozen=True, slots=True)
class Negotiated:
    """dialect: as it is written, such as 3.0.2. guid: by which the server tells itself apart, in hexadecimal digits.

    signs: it wants every message signed. old: it speaks SMB 1 alone, then the rest is not told.
    """

    dialect: str
    guid: str
    signs: bool
    old: bool = False


def serialize_negotiate(client: bytes) -> bytes:
    """A NEGOTIATE request with its session header. client: 16 bytes that name the asker. Raises: ValueError."""
    if len(client) != 16:
        raise ValueError("a client GUID has 16 bytes")
    header = _HEADER.pack(MAGIC2, 64, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, bytes(16))
    body = _BODY.pack(36, len(OFFERED), SIGNING_ENABLED, 0, 0, client, 0) + struct.pack(f"<{len(OFFERED)}H", *OFFERED)
    message = header + body
    return struct.pack(">I", len(message)) + message


def parse_negotiated(data: bytes) -> Negotiated | None:
    """The answer; None while it is not whole. Raises: WireError: it is none."""
    if len(data) < 4:
        if data and data[0]:
            raise WireError("session header", 0, "no session message")
        return None
    if data[0]:
        raise WireError("session header", 0, "no session message")
    size = int.from_bytes(data[1:4], "big")
    if not 4 <= size <= LONGEST:
        raise WireError("session header", 1, f"a message of {size} bytes")
    if len(data) < 4 + size:
        return None
    message = data[4 : 4 + size]
    if message[:4] == MAGIC1:
        return Negotiated("1", "", signs=False, old=True)
    if message[:4] != MAGIC2 or size < 64 + 24:
        raise WireError("protocol", 4, "not SMB")
    status, command = struct.unpack_from("<IH", message, 8)
    if command != 0:
        raise WireError("command", 16, f"{command} is no answer to a negotiation")
    if status:
        raise WireError("status", 12, f"it refuses the negotiation ({status:#010x})")
    _, security, dialect = struct.unpack_from("<HHH", message, 64)
    guid = message[72:88].hex()
    return Negotiated(DIALECTS.get(dialect, f"{dialect:#06x}"), guid, signs=bool(security & SIGNING_REQUIRED))
