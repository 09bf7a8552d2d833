"""The time by SNTP (RFC 5905 sections 7.3, 14): a question, and what its answer says about the clock that asked."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from typing import Self

from hooper.errors import WireError

PACKET = struct.Struct("!BBbbII4sQQQQ")  # figure 8, without extensions
SINCE_1900 = 2_208_988_800  # seconds from the beginning of the NTP era 0 to that of POSIX (section 6)
ERA = 2**32  # seconds
CLIENT, SERVER, BROADCAST, UNSYNCHRONIZED = 3, 4, 5, 3


def question(transmit: int) -> bytes:
    """A client's packet of version 4. transmit: 64 bits that the answer has to repeat; they need be no time."""
    return PACKET.pack(0x20 | CLIENT, 0, 0, 0, 0, 0, b"\0" * 4, 0, 0, 0, transmit)


@dataclass(frozen=True, slots=True)
class NtpAnswer:
    """stratum: 1 to 15; 0: it declines. leap: 3: it has no time itself. origin: the question's. receive, transmit:
    when it came and went, as 64-bit timestamps. reason: why it declines (RFC 5905 section 7.4).
    """

    stratum: int
    leap: int
    origin: int
    receive: int
    transmit: int
    reason: str

    @classmethod
    def parse(cls, data: bytes) -> Self:
        """Read one datagram. Raises: WireError: cut short, or no server's answer."""
        if len(data) < PACKET.size:
            raise WireError("packet", 0, f"needs {PACKET.size} bytes, got {len(data)}")
        first, stratum, _, _, _, _, reference, _, origin, receive, transmit = PACKET.unpack_from(data)
        if first & 7 not in (SERVER, BROADCAST) or first >> 3 & 7 not in (3, 4):
            raise WireError("mode", 0, f"{first:#04x} is no server's of version 3 or 4")
        reason = reference.decode("ascii", "replace").strip("\0 ") if stratum == 0 else ""
        return cls(stratum, first >> 6, origin, receive, transmit, reason if reason.isprintable() else "")

    @property
    def tells(self) -> bool:
        """Whether it has a time to tell."""
        return 1 <= self.stratum <= 15 and self.leap != UNSYNCHRONIZED and self.transmit != 0


def seconds(stamp: int, near: float) -> float:
    """A timestamp in seconds of POSIX, in the era that is nearest to `near` (RFC 5905 section 6)."""
    found = (stamp >> 32) - SINCE_1900 + (stamp & 0xFFFFFFFF) / ERA
    return found + ERA * round((near - found) / ERA)


def offset(answer: NtpAnswer, sent: float, came: float) -> tuple[float, float]:
    """How many seconds a clock is behind the server's, and the most by which that may be wrong (section 8).

    sent, came: when the question went and the answer came, by the clock that is measured.
    """
    receive, transmit = seconds(answer.receive, sent), seconds(answer.transmit, came)
    behind = ((receive - sent) + (transmit - came)) / 2
    return behind, max(((came - sent) - (transmit - receive)) / 2, 0.0)
