"""Replies of FTP (RFC 959 section 4.2) and the address of its passive mode (section 4.1.2)."""

from __future__ import annotations

import re
from ipaddress import IPv4Address

from hooper.errors import WireError

LONGEST = 16 * 1024
_FIRST = re.compile(rb"(\d{3})([ -])")
_PASSIVE = re.compile(r"(\d{1,3}),(\d{1,3}),(\d{1,3}),(\d{1,3}),(\d{1,3}),(\d{1,3})")


def split_reply(data: bytes) -> tuple[int, str, bytes] | None:
    """Code, first line without it, and what follows; None while the reply is not whole. Raises: WireError: it is none.

    A reply of several lines begins with its code and a hyphen, and ends with a line of its code and a space.
    """
    if len(data) > LONGEST:
        raise WireError("reply", 0, f"longer than {LONGEST} bytes")
    head = _FIRST.match(data)
    if head is None:
        if len(data) >= 4 or re.match(rb"\d{0,3}$", data) is None:
            raise WireError("reply", 0, "no code of three digits")
        return None
    lines = data.split(b"\n")
    for number, line in enumerate(lines[:-1]):
        if line.startswith(head[1] + b" ") and (number == 0 or head[2] == b"-"):
            rest = b"\n".join(lines[number + 1 :])
            return int(head[1]), lines[0][4:].strip().decode("utf-8", "replace")[:200], rest
    return None


def passive_address(code: int, text: str) -> tuple[IPv4Address, int] | None:
    """Where a 227 reply sends the client for its data; None: it is no such reply."""
    found = _PASSIVE.search(text) if code == 227 else None
    if found is None:
        return None
    numbers = [int(part) for part in found.groups()]
    if any(number > 255 for number in numbers):
        return None
    return IPv4Address(bytes(numbers[:4])), numbers[4] * 256 + numbers[5]
