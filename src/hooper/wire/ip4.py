"""IPv4 packets as they travel inside a tunnel: just the head, and the heads of UDP, TCP and ICMP (RFC 791, 768, 9293,
792).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from ipaddress import IPv4Address

from hooper.errors import WireError

ICMP, TCP, UDP = 1, 6, 17
SYN, RST, ACK = 0x02, 0x04, 0x10
_HEAD = struct.Struct("!BBHHHBBH4s4s")


@dataclass(frozen=True, slots=True)
class Packet:
    """protocol: of the payload. payload: with its own head."""

    source: IPv4Address
    to: IPv4Address
    protocol: int
    payload: bytes

    def serialize(self) -> bytes:
        size = _HEAD.size + len(self.payload)
        head = _HEAD.pack(0x45, 0, size, 0, 0, 64, self.protocol, 0, self.source.packed, self.to.packed)
        return head[:10] + struct.pack("!H", checksum(head)) + head[12:] + self.payload

    @classmethod
    def parse(cls, data: bytes) -> Packet:
        """Padding after the packet is left out. Raises: WireError: cut short, or no IPv4."""
        if len(data) < _HEAD.size or data[0] >> 4 != 4:
            raise WireError("version", 0, "it is no IPv4 packet")
        head, size = (data[0] & 15) * 4, int.from_bytes(data[2:4])
        if head < _HEAD.size or not head <= size <= len(data):
            raise WireError("length", 2, f"it says {size} bytes, and has {len(data)}")
        return cls(IPv4Address(data[12:16]), IPv4Address(data[16:20]), data[9], data[head:size])


def checksum(data: bytes) -> int:
    """The sum of RFC 1071."""
    padded = data + bytes(len(data) % 2)
    total: int = sum(struct.unpack(f"!{len(padded) // 2}H", padded))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def udp(source_port: int, port: int, data: bytes) -> bytes:
    """A UDP datagram without a checksum, which IPv4 allows."""
    return struct.pack("!HHHH", source_port, port, 8 + len(data), 0) + data


def tcp(source_port: int, port: int, flags: int) -> bytes:
    """The head of a TCP segment that carries nothing."""
    return struct.pack("!HHIIBBHHH", source_port, port, 0, 0, 5 << 4, flags, 65535, 0, 0)


def ports_of(packet: Packet) -> tuple[int, int]:
    """Source and destination port of TCP or UDP. Raises: WireError: cut short, or another protocol."""
    if packet.protocol not in (TCP, UDP) or len(packet.payload) < 8:
        raise WireError("ports", 20, "it has no ports")
    source, to = struct.unpack_from("!HH", packet.payload)
    return source, to


def icmp(kind: int, code: int, about: bytes = b"") -> bytes:
    """An ICMP message about a packet: its head and the first 8 bytes behind that (RFC 792)."""
    body = struct.pack("!BBHI", kind, code, 0, 0) + about[:28]
    return body[:2] + struct.pack("!H", checksum(body)) + body[4:]


def echo_reply(packet: Packet) -> Packet | None:
    """The answer to an echo request; None: it is none."""
    if packet.protocol != ICMP or len(packet.payload) < 8 or packet.payload[0] != 8:
        return None
    body = b"\0\0\0\0" + packet.payload[4:]
    return Packet(packet.to, packet.source, ICMP, body[:2] + struct.pack("!H", checksum(body)) + body[4:])
