"""The first message of IKE, and what comes back: IKEv2 (RFC 7296) and IKEv1 main mode (RFC 2408, 2409), sans-I/O.

The offers name a cipher from the range for private use, which no daemon takes: so it refuses, and keeps nothing. On
UDP 4500 four zero bytes stand before each message (RFC 3948 section 2.2).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from hooper.errors import WireError

MARKER = bytes(4)  # RFC 3948 section 2.2: what is not ESP
HEADER = struct.Struct("!8s8sBBBBII")  # RFC 7296 section 3.1, RFC 2408 section 3.1
SA_INIT, MAIN_MODE, INFORMATIONAL_1, AGGRESSIVE, INFORMATIONAL = 34, 2, 5, 4, 37
EXCHANGES = {1: (MAIN_MODE, AGGRESSIVE, INFORMATIONAL_1), 2: (SA_INIT, INFORMATIONAL)}
INITIATOR, RESPONSE = 0x08, 0x20
PAYLOAD_SA, PAYLOAD_KE, PAYLOAD_NONCE, PAYLOAD_NOTIFY = 33, 34, 40, 41
PAYLOAD1_SA, PAYLOAD1_NOTIFY = 1, 11
PRIVATE_CIPHER, PRIVATE_CIPHER1 = 65001, 65001  # RFC 7296 section 3.3.2, RFC 2409 appendix A: for private use
# RFC 7296 section 3.10.1, RFC 2408 section 3.14.1
NOTIFIED = {
    1: "unsupported payload", 4: "invalid cookie", 5: "another version wanted", 7: "bad syntax",
    14: "no proposal chosen",
    17: "another key exchange wanted", 24: "authentication failed", 35: "no more sessions", 16390: "a cookie is wanted",
    16407: "redirect",
}  # fmt: skip
NOTIFIED1 = {
    5: "another version wanted",
    14: "no proposal chosen",
    16: "malformed payload",
    24: "authentication failed",
}


@dataclass(frozen=True, slots=True)
class Answer:
    """A well-formed answer. version: 1 or 2. says: what it tells, in words; empty: it takes part."""

    version: int
    says: str

    @property
    def words(self) -> str:
        return f"IKEv{self.version}" + (f", {self.says}" if self.says else "")


def sa_init(spi: bytes, nonce: bytes, public: bytes) -> bytes:
    """An IKE_SA_INIT request (RFC 7296 section 1.2) with an offer that nobody takes.

    Args: spi: 8 bytes. nonce: 16 to 256 bytes. public: an X25519 value, 32 bytes (RFC 8031).
    """
    transforms = ((1, PRIVATE_CIPHER), (2, 5), (3, 12), (4, 31))  # cipher, PRF and integrity by SHA-256, group
    last = len(transforms) - 1
    parts = b"".join(
        struct.pack("!BBHBBH", 0 if number == last else 3, 0, 8, kind, 0, value)
        for number, (kind, value) in enumerate(transforms)
    )
    proposal = struct.pack("!BBHBBBB", 0, 0, 8 + len(parts), 1, 1, 0, len(transforms)) + parts
    body = (
        _payload(PAYLOAD_KE, proposal)
        + _payload(PAYLOAD_NONCE, struct.pack("!HH", 31, 0) + public)
        + _payload(0, nonce)
    )
    return HEADER.pack(spi, bytes(8), PAYLOAD_SA, 0x20, SA_INIT, INITIATOR, 0, HEADER.size + len(body)) + body


def main_mode(spi: bytes) -> bytes:
    """The first message of IKEv1's main mode (RFC 2409 section 5) with an offer that nobody takes. spi: 8 bytes."""
    # cipher, SHA-1, a shared secret, group 2, a life of a minute (RFC 2409 appendix A)
    values = ((1, PRIVATE_CIPHER1), (2, 2), (3, 1), (4, 2), (11, 1), (12, 60))
    attributes = b"".join(struct.pack("!HH", 0x8000 | kind, value) for kind, value in values)
    transform = struct.pack("!BBHBBH", 0, 0, 8 + len(attributes), 1, 1, 0) + attributes
    proposal = struct.pack("!BBHBBBB", 0, 0, 8 + len(transform), 1, 1, 0, 1) + transform
    body = _payload(0, struct.pack("!II", 1, 1) + proposal)
    return HEADER.pack(spi, bytes(8), PAYLOAD1_SA, 0x10, MAIN_MODE, 0, 0, HEADER.size + len(body)) + body


def _payload(following: int, body: bytes) -> bytes:
    return struct.pack("!BBH", following, 0, 4 + len(body)) + body


def read_answer(data: bytes, spi: bytes, *, marked: bool) -> Answer:
    """What came back to a message with `spi`. marked: with the four zero bytes of UDP 4500.

    Raises: WireError: it is no well-formed answer to it.
    """
    if marked:
        if data[: len(MARKER)] != MARKER:
            raise WireError("marker", 0, "the four zero bytes are missing")
        data = data[len(MARKER) :]
    if len(data) < HEADER.size:
        raise WireError("header", 0, f"{len(data)} bytes are no IKE message")
    ours, theirs, first, version, exchange, flags, _, length = HEADER.unpack_from(data)
    major = version >> 4
    if ours != spi:
        raise WireError("SPI", 0, "it answers another message")
    if major not in EXCHANGES or exchange not in EXCHANGES[major]:
        raise WireError("exchange", 17, f"{exchange} of version {major} answers no first message")
    if length != len(data):
        raise WireError("length", 24, f"it says {length} bytes, and has {len(data)}")
    # of IKEv1 there is no sign of a response but the responder's own cookie, or a notification
    if major == 2 and not flags & RESPONSE:
        raise WireError("flags", 19, "it is no response")
    if major == 2 and flags & INITIATOR:
        raise WireError("flags", 19, "it is of the side that began")
    says = _notified(data, first, major)
    if major == 1 and theirs == bytes(8) and exchange == MAIN_MODE:
        raise WireError("responder's cookie", 8, "it is empty, as in what was sent")
    return Answer(major, says)


def _notified(data: bytes, kind: int, major: int) -> str:
    """What its first notification says. Raises: WireError: its payloads do not fit."""
    at, says = HEADER.size, ""
    while kind:
        if at + 4 > len(data):
            raise WireError("payload", at, "it is cut short")
        following, _, size = struct.unpack_from("!BBH", data, at)
        if size < 4 or at + size > len(data):
            raise WireError("payload", at + 2, f"{size} bytes do not fit")
        body = data[at + 4 : at + size]
        if major == 2 and kind == PAYLOAD_NOTIFY and len(body) >= 4:
            says = says or _word(NOTIFIED, int.from_bytes(body[2:4], "big"), 16384)
        elif major == 1 and kind == PAYLOAD1_NOTIFY and len(body) >= 8:
            says = says or _word(NOTIFIED1, int.from_bytes(body[6:8], "big"), 16384)
        kind, at = following, at + size
    return says


def _word(words: dict[int, str], number: int, statuses: int) -> str:
    """An error in words; of a status, which says nothing against it, nothing."""
    if number in words:
        return words[number]
    return f"error {number}" if number < statuses else ""
