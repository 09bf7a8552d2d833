"""The lab's own link: a JSON line, then frames of a JSON line with bytes behind it.

A frame is its header's length and its payload's length (two 32-bit numbers, network order), the header as JSON, the
payload. Our own format: an open one for datagrams with ICMP errors over one stream was not found.
"""

from __future__ import annotations

import json
import struct
from typing import Any

from hooper.errors import WireError

LENGTHS = struct.Struct("!II")
HEADER_LIMIT, PAYLOAD_LIMIT, LINE_LIMIT = 64 * 1024, 1024 * 1024, 8 * 1024 * 1024  # bytes


def serialize_line(value: dict[str, Any]) -> bytes:
    """A verb or its answer."""
    return json.dumps(value, separators=(",", ":")).encode() + b"\n"


def parse_line(data: bytes) -> dict[str, Any]:
    """Raises: WireError: not one JSON object."""
    try:
        value = json.loads(data)
    except (ValueError, RecursionError):
        raise WireError("line", 0, "not JSON") from None
    if not isinstance(value, dict):
        raise WireError("line", 0, "not a JSON object")
    return value


def serialize_frame(header: dict[str, Any], payload: bytes = b"") -> bytes:
    text = json.dumps(header, separators=(",", ":")).encode()
    return LENGTHS.pack(len(text), len(payload)) + text + payload


def parse_lengths(data: bytes) -> tuple[int, int]:
    """Raises: WireError: longer than allowed."""
    header, payload = LENGTHS.unpack(data)
    if header > HEADER_LIMIT or payload > PAYLOAD_LIMIT:
        raise WireError("frame length", 0, f"{header} and {payload} bytes")
    return header, payload
