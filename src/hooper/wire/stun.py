"""STUN (RFC 8489): the frame of a message, its attributes, the mapped address that a server saw; and what RFC 5780
adds to learn how a NAT behaves.
"""

from __future__ import annotations

import hashlib
import hmac
import struct
import zlib
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address
from typing import Self

from hooper.addresses import IPAddress
from hooper.errors import WireError

HEADER = struct.Struct("!HHI12s")  # section 5: type, length of the rest, cookie, transaction id
MAGIC_COOKIE, COOKIE = 0x2112A442, b"\x21\x12\xa4\x42"  # section 5; the same as it stands in a message
BINDING_REQUEST, BINDING_SUCCESS, BINDING_ERROR = 0x0001, 0x0101, 0x0111  # sections 5 and 18.2
MAPPED_ADDRESS, ERROR_CODE, XOR_MAPPED_ADDRESS = 0x0001, 0x0009, 0x0020  # section 18.3
USERNAME, MESSAGE_INTEGRITY = 0x0006, 0x0008  # section 18.3
UNKNOWN_ATTRIBUTES, SOFTWARE, FINGERPRINT = 0x000A, 0x8022, 0x8028  # section 18.3
CHANGE_REQUEST, PADDING, RESPONSE_PORT = 0x0003, 0x0026, 0x0027  # RFC 5780 section 9.1
RESPONSE_ORIGIN, OTHER_ADDRESS = 0x802B, 0x802C  # RFC 5780 section 9.1
SOURCE_ADDRESS, CHANGED_ADDRESS = 0x0004, 0x0005  # the same two as servers of RFC 3489 name them, section 11.2
_CHANGE_ADDRESS, _CHANGE_PORT = 0x04, 0x02  # RFC 5780 section 7.2
FINGERPRINT_XOR = 0x5354554E  # section 14.7
MAC = 20  # bytes, section 14.5
_FAMILY = struct.Struct("!BBH")  # zero, family, port: section 14.1


@dataclass(frozen=True, slots=True)
class Message:
    """A STUN message. transaction_id: 12 bytes. attributes: (type, value) in their order, padding left out."""

    kind: int
    transaction_id: bytes
    attributes: tuple[tuple[int, bytes], ...] = ()

    def __post_init__(self) -> None:
        if len(self.transaction_id) != 12 or not 0 <= self.kind <= 0x3FFF:
            raise ValueError(f"needs a 12-byte transaction id and a 14-bit type: {self!r}")

    @classmethod
    def parse(cls, data: bytes) -> Self:
        """Read one whole datagram. Raises: WireError: cut short, too long, not STUN, or a wrong fingerprint."""
        if len(data) < HEADER.size:
            raise WireError("header", 0, f"needs {HEADER.size} bytes, got {len(data)}")
        kind, length, cookie, transaction_id = HEADER.unpack_from(data)
        if kind > 0x3FFF:
            raise WireError("type", 0, f"{kind:#06x}: the first two bits are not zero")
        if length % 4 or length != len(data) - HEADER.size:
            raise WireError("length", 2, f"announces {length} bytes, {len(data) - HEADER.size} follow")
        if cookie != MAGIC_COOKIE:
            raise WireError("magic cookie", 4, f"{cookie:#010x} is not {MAGIC_COOKIE:#010x}")
        attributes: list[tuple[int, bytes]] = []
        at = HEADER.size
        while at < len(data):
            name, size = struct.unpack_from("!HH", data, at)
            value = data[at + 4 : at + 4 + size]
            if len(value) != size:
                raise WireError("attribute length", at + 2, f"announces {size} bytes, {len(value)} follow")
            if name == FINGERPRINT and (size != 4 or struct.unpack("!I", value)[0] != _fingerprint(data[:at])):
                raise WireError("fingerprint", at + 4, "does not match the message")
            attributes.append((name, value))
            at += 4 + size + -size % 4
        return cls(kind, transaction_id, tuple(attributes))

    def serialize(self) -> bytes:
        """The bytes, padded with zeros. A FINGERPRINT attribute is computed anew."""
        body = b""
        total = sum(4 + len(value) + -len(value) % 4 for _, value in self.attributes)
        header = HEADER.pack(self.kind, total, MAGIC_COOKIE, self.transaction_id)
        for name, value in self.attributes:
            if name == FINGERPRINT:
                # Section 14.7: the length in the header covers the fingerprint, which comes last.
                value = struct.pack("!I", _fingerprint(header + body))
            body += struct.pack("!HH", name, len(value)) + value + bytes(-len(value) % 4)
        return header + body

    def get(self, name: int) -> bytes | None:
        return next((value for key, value in self.attributes if key == name), None)

    def mapped_address(self) -> tuple[IPAddress, int] | None:
        """Address and port that the server saw: XOR-MAPPED-ADDRESS, else MAPPED-ADDRESS as older servers send.

        Raises: WireError: the attribute has another length than its family asks for.
        """
        value = self.get(XOR_MAPPED_ADDRESS)
        if value is not None:
            return _read_address(value, struct.pack("!I", MAGIC_COOKIE) + self.transaction_id)
        return self._plain_address(MAPPED_ADDRESS)

    def other_address(self) -> tuple[IPAddress, int] | None:
        """Where this server could also be asked, on both another address and port (RFC 5780 section 7.4).

        Raises: WireError: as `mapped_address`.
        """
        return self._plain_address(OTHER_ADDRESS) or self._plain_address(CHANGED_ADDRESS)

    def origin(self) -> tuple[IPAddress, int] | None:
        """Where the server says that it answers from (RFC 5780 section 7.3). Raises: WireError: as `mapped_address`."""
        return self._plain_address(RESPONSE_ORIGIN) or self._plain_address(SOURCE_ADDRESS)

    def wished_change(self) -> tuple[bool, bool]:
        """Whether the answer is to come from the other address, and the other port (RFC 5780 section 7.2).

        Raises: WireError: the attribute is not four bytes long.
        """
        value = self.get(CHANGE_REQUEST)
        if value is None:
            return False, False
        if len(value) != 4:
            raise WireError("change request", 0, f"{len(value)} bytes, where 4 are right")
        return bool(value[3] & _CHANGE_ADDRESS), bool(value[3] & _CHANGE_PORT)

    def error(self) -> tuple[int, str] | None:
        """Number and reason of a refusal (section 14.8). Raises: WireError: the attribute is cut short."""
        value = self.get(ERROR_CODE)
        if value is None:
            return None
        if len(value) < 4:
            raise WireError("error code", 0, f"{len(value)} bytes, where at least 4 are right")
        return (value[2] & 7) * 100 + value[3], value[4:].decode("utf-8", "replace")

    def _plain_address(self, name: int) -> tuple[IPAddress, int] | None:
        value = self.get(name)
        return _read_address(value, bytes(16)) if value is not None else None


def _fingerprint(data: bytes) -> int:
    return zlib.crc32(data) ^ FINGERPRINT_XOR


def _read_address(value: bytes, key: bytes) -> tuple[IPAddress, int]:
    size = {1: 8, 2: 20}.get(value[1] if len(value) > 1 else 0)
    if size != len(value):
        raise WireError("mapped address", 0, f"{len(value)} bytes do not fit their family")
    port = int.from_bytes(value[2:4], "big") ^ int.from_bytes(key[:2], "big")
    raw = bytes(a ^ b for a, b in zip(value[4:], key, strict=False))
    return (IPv4Address(raw) if size == 8 else IPv6Address(raw)), port


def xor_mapped_address(address: IPAddress, port: int, transaction_id: bytes) -> tuple[int, bytes]:
    """The attribute that tells a client what its address looks like (section 14.2)."""
    key = struct.pack("!I", MAGIC_COOKIE) + transaction_id
    raw = bytes(a ^ b for a, b in zip(address.packed, key, strict=False))
    return XOR_MAPPED_ADDRESS, _FAMILY.pack(0, 1 if address.version == 4 else 2, port ^ (MAGIC_COOKIE >> 16)) + raw


def plain_address(name: int, address: IPAddress, port: int) -> tuple[int, bytes]:
    """An attribute that holds an address as it is: MAPPED-ADDRESS, OTHER-ADDRESS and their like (section 14.1)."""
    return name, _FAMILY.pack(0, 1 if address.version == 4 else 2, port) + address.packed


def change_request(*, address: bool, port: bool) -> tuple[int, bytes]:
    """The wish that the answer comes from the server's other address, or port, or both (RFC 5780 section 7.2)."""
    return CHANGE_REQUEST, bytes((0, 0, 0, address * _CHANGE_ADDRESS | port * _CHANGE_PORT))


def sealed(message: Message, key: bytes) -> bytes:
    """The bytes with a MESSAGE-INTEGRITY behind all else (section 14.5: HMAC-SHA1), and a FINGERPRINT. key: shared."""
    whole = Message(message.kind, message.transaction_id, (*message.attributes, (MESSAGE_INTEGRITY, bytes(MAC))))
    mac = _mac(whole.serialize()[: -4 - MAC], key)
    attributes = (*message.attributes, (MESSAGE_INTEGRITY, mac), (FINGERPRINT, bytes(4)))
    return Message(message.kind, message.transaction_id, attributes).serialize()


def opened(data: bytes, key: bytes) -> Message | None:
    """What came, where its MESSAGE-INTEGRITY is by that key; what stands behind that is left out. None: it is not.

    Raises: WireError: no STUN message.
    """
    message = Message.parse(data)
    at = HEADER.size
    for number, (name, value) in enumerate(message.attributes):
        if name == MESSAGE_INTEGRITY:
            covered = data[:2] + struct.pack("!H", at + 4 + len(value) - HEADER.size) + data[4:at]
            right = hmac.compare_digest(value, _mac(covered, key))
            return Message(message.kind, message.transaction_id, message.attributes[:number]) if right else None
        at += 4 + len(value) + -len(value) % 4
    return None


def _mac(covered: bytes, key: bytes) -> bytes:
    return hmac.new(key, covered, hashlib.sha1).digest()


def refusal(number: int, reason: str) -> tuple[int, bytes]:
    """The attribute of an error response (section 14.8). Raises: ValueError: no such number."""
    if not 300 <= number <= 699:
        raise ValueError(f"{number} is no error code")
    return ERROR_CODE, bytes((0, 0, number // 100, number % 100)) + reason.encode()
