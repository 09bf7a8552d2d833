"""NAT-PMP (RFC 6886): asking a router for its outer address, and for mappings of one's own."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Self

from hooper.errors import WireError

VERSION, PORT, ANNOUNCED = 0, 5351, 5350  # sections 3.1 and 3.2.1
GROUP = "224.0.0.1"  # all hosts: where a router announces that its address has changed, section 3.2.1
ADDRESS, UDP, TCP = 0, 1, 2  # opcodes, sections 3.2 and 3.3
ANSWER = 128  # added to the opcode of an answer
WEEK = 604_800  # seconds; not the standard's: longer leases than routers grant
SUCCESS, NETWORK_FAILURE = 0, 3
# section 3.5
RESULTS: dict[int, str] = {
    0: "it did so",
    1: "it does not speak this version",
    2: "it has this switched off, or does not allow it",
    3: "it has no address from its provider",
    4: "it has no room for more",
    5: "it does not know this kind of request",
}
_REQUEST, _HEAD, _MAPPED = struct.Struct("!BBHHHI"), struct.Struct("!BBHI"), struct.Struct("!HHI")


def _checked(opcode: int, *ports: int, seconds: int = 0) -> None:
    if not 0 <= opcode < ANSWER or not all(0 <= port < 65536 for port in ports) or not 0 <= seconds < 2**32:
        raise ValueError(f"out of range: opcode {opcode}, ports {ports}, {seconds} s")


@dataclass(frozen=True, slots=True)
class NatPmpRequest:
    """A request. The ports and lifetime_s (seconds) are for mappings only; a lifetime of 0 takes one away."""

    opcode: int
    inside_port: int = 0
    outside_port: int = 0
    lifetime_s: int = 0

    def __post_init__(self) -> None:
        _checked(self.opcode, self.inside_port, self.outside_port, seconds=self.lifetime_s)
        if self.opcode not in (ADDRESS, UDP, TCP):
            raise ValueError(f"there is no opcode {self.opcode}")

    def serialize(self) -> bytes:
        """Sections 3.2 and 3.3."""
        if self.opcode == ADDRESS:
            return bytes((VERSION, ADDRESS))
        return _REQUEST.pack(VERSION, self.opcode, 0, self.inside_port, self.outside_port, self.lifetime_s)

    @classmethod
    def parse(cls, data: bytes) -> Self:
        """Raises: WireError: cut short, another version, or an opcode that there is not."""
        if len(data) < 2 or data[0] != VERSION:
            raise WireError("version", 0, f"{data[:1].hex() or 'nothing'} is not {VERSION}")
        if data[1] not in (ADDRESS, UDP, TCP):
            raise WireError("opcode", 1, f"{data[1]} is no request")
        if data[1] == ADDRESS:
            return cls(ADDRESS)
        if len(data) < _REQUEST.size:
            raise WireError("request", len(data), f"needs {_REQUEST.size} bytes, got {len(data)}")
        _, opcode, _, inside, outside, lifetime = _REQUEST.unpack_from(data)
        return cls(opcode, inside, outside, lifetime)


@dataclass(frozen=True, slots=True)
class NatPmpResponse:
    """An answer. epoch_s: seconds since the router's table was last empty. address: to ADDRESS.

    The ports and lifetime_s: to a mapping. After a result other than 0 all of these may be left out.
    """

    opcode: int
    result: int
    epoch_s: int
    address: IPv4Address | None = None
    inside_port: int = 0
    outside_port: int = 0
    lifetime_s: int = 0

    def __post_init__(self) -> None:
        _checked(self.opcode, self.inside_port, self.outside_port, self.result, seconds=self.lifetime_s)
        if not 0 <= self.epoch_s < 2**32:
            raise ValueError(f"{self.epoch_s} s fit no epoch")

    def serialize(self) -> bytes:
        """Sections 3.2, 3.3 and 3.5."""
        head = _HEAD.pack(VERSION, self.opcode + ANSWER, self.result, self.epoch_s)
        if self.opcode == ADDRESS:
            return head + (self.address.packed if self.address is not None else b"")
        if self.opcode in (UDP, TCP):
            return head + _MAPPED.pack(self.inside_port, self.outside_port, self.lifetime_s)
        return head

    @classmethod
    def parse(cls, data: bytes) -> Self:
        """What follows the announced fields is passed over. Raises: WireError: cut short, or no answer of version 0."""
        if len(data) < _HEAD.size:
            raise WireError("answer", len(data), f"needs {_HEAD.size} bytes, got {len(data)}")
        version, opcode, result, epoch = _HEAD.unpack_from(data)
        if version != VERSION:
            raise WireError("version", 0, f"{version} is not {VERSION}")
        if opcode < ANSWER:
            raise WireError("opcode", 1, f"{opcode} is no answer")
        opcode -= ANSWER
        rest = data[_HEAD.size :]
        if opcode == ADDRESS and len(rest) >= 4:
            return cls(opcode, result, epoch, IPv4Address(rest[:4]))
        if opcode in (UDP, TCP) and len(rest) >= _MAPPED.size:
            return cls(opcode, result, epoch, None, *_MAPPED.unpack_from(rest))
        if result == SUCCESS and opcode in (ADDRESS, UDP, TCP):
            raise WireError("answer", len(data), f"success, and only {len(rest)} bytes of what was asked")
        return cls(opcode, result, epoch)


def started_anew(before_s: int, now_s: int, elapsed_s: float) -> bool:
    """Whether a router's epoch went back, so that its table may be empty (section 3.6).

    Args: before_s, now_s: the epochs of two answers. elapsed_s: seconds between them by one's own clock.
    """
    return now_s < before_s + elapsed_s * 7 / 8 - 2
