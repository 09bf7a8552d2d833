"""STUN (RFC 8489): the frame of a message, its attributes, and the mapped address that a server saw."""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address
from typing import Self

from hooper.addresses import IPAddress
from hooper.errors import WireError

HEADER = struct.Struct("!HHI12s")  # section 5: type, length of the rest, cookie, transaction id
MAGIC_COOKIE = 0x2112A442  # section 5
BINDING_REQUEST, BINDING_SUCCESS, BINDING_ERROR = 0x0001, 0x0101, 0x0111  # sections 5 and 18.2
MAPPED_ADDRESS, ERROR_CODE, XOR_MAPPED_ADDRESS = 0x0001, 0x0009, 0x0020  # section 18.3
SOFTWARE, FINGERPRINT = 0x8022, 0x8028  # section 18.3
FINGERPRINT_XOR = 0x5354554E  # section 14.7


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
        value = self.get(MAPPED_ADDRESS)
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
    family = 1 if address.version == 4 else 2
    return XOR_MAPPED_ADDRESS, struct.pack("!BBH", 0, family, port ^ (MAGIC_COOKIE >> 16)) + raw
