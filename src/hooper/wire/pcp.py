"""PCP (RFC 6887): the frame, MAP and ANNOUNCE, and the options THIRD_PARTY, PREFER_FAILURE and FILTER."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, IPv6Network, ip_network
from typing import Self

from hooper.addresses import IPAddress, IPNetwork
from hooper.errors import WireError

VERSION, PORT, ANNOUNCED = 2, 5351, 5350  # sections 7.1 and 19.1
GROUP = "224.0.0.1"  # all hosts: where a server announces that it lost its state, section 14.1.3
SHORTEST, LONGEST = 24, 1100  # bytes of a message, section 7
ANSWER = 0x80  # the R bit
ANNOUNCE, MAP = 0, 1  # opcodes, section 19.2
THIRD_PARTY, PREFER_FAILURE, FILTER = 1, 2, 3  # options, section 19.4
MANDATORY_BELOW = 128  # an option that must be understood, section 7.3
NONCE = 12  # bytes
SUCCESS, UNSUPP_VERSION, NOT_AUTHORIZED, MALFORMED_REQUEST, UNSUPP_OPCODE, UNSUPP_OPTION = range(6)
MALFORMED_OPTION, NETWORK_FAILURE, NO_RESOURCES, UNSUPP_PROTOCOL, USER_EX_QUOTA = range(6, 11)
CANNOT_PROVIDE_EXTERNAL, ADDRESS_MISMATCH, EXCESSIVE_REMOTE_PEERS = range(11, 14)
# section 7.4
RESULTS: dict[int, str] = {
    SUCCESS: "it did so",
    UNSUPP_VERSION: "it does not speak this version",
    NOT_AUTHORIZED: "it does not allow this, or has it switched off",
    MALFORMED_REQUEST: "it does not understand the request",
    UNSUPP_OPCODE: "it does not know this kind of request",
    UNSUPP_OPTION: "it does not know an option that was asked for",
    MALFORMED_OPTION: "it does not understand an option",
    NETWORK_FAILURE: "it has no address from its provider",
    NO_RESOURCES: "it has no room for more, for now",
    UNSUPP_PROTOCOL: "it does not map this protocol",
    USER_EX_QUOTA: "this device has as many mappings as it may",
    CANNOT_PROVIDE_EXTERNAL: "it cannot give this outside address or port",
    ADDRESS_MISMATCH: "the request came from another address than it says: a NAT stands between",
    EXCESSIVE_REMOTE_PEERS: "it has no room for that many sources",
}

_REQUEST, _RESPONSE = struct.Struct("!BBHI16s"), struct.Struct("!BBBBII12s")  # sections 7.1 and 7.2
_MAP = struct.Struct("!12sB3sHH16s")  # section 11.1
_OPTION, _FILTER = struct.Struct("!BBH"), struct.Struct("!BBH16s")  # sections 7.3 and 13.3


def _wide(address: IPAddress) -> bytes:
    """Section 5: IPv4 addresses travel as IPv4-mapped IPv6 ones."""
    return address.packed if address.version == 6 else bytes(10) + b"\xff\xff" + address.packed


def _narrow(raw: bytes) -> IPAddress:
    wide = IPv6Address(raw)
    return wide.ipv4_mapped if wide.ipv4_mapped is not None else wide


@dataclass(frozen=True, slots=True)
class Option:
    """An option by its code, with its value as it travels."""

    code: int
    value: bytes = b""

    def __post_init__(self) -> None:
        if not 0 <= self.code < 256 or len(self.value) > LONGEST:
            raise ValueError(f"no option: code {self.code} with {len(self.value)} bytes")

    @property
    def mandatory(self) -> bool:
        return self.code < MANDATORY_BELOW

    def third_party(self) -> IPAddress:
        """The inside address that a THIRD_PARTY names (section 13.1). Raises: WireError."""
        if self.code != THIRD_PARTY or len(self.value) != 16:
            raise WireError("THIRD_PARTY", 0, f"option {self.code} with {len(self.value)} bytes")
        return _narrow(self.value)

    def filter(self) -> tuple[IPNetwork | None, int]:
        """The sources and the source port that a FILTER lets in; None, 0: it takes earlier filters away; port 0: any.

        Section 13.3. Raises: WireError.
        """
        if self.code != FILTER or len(self.value) != _FILTER.size:
            raise WireError("FILTER", 0, f"option {self.code} with {len(self.value)} bytes")
        _, length, port, raw = _FILTER.unpack(self.value)
        if length > 128:
            raise WireError("FILTER prefix", 1, f"{length} bits are more than an address has")
        if length == 0:
            return None, port
        address = _narrow(raw)
        if isinstance(address, IPv4Address):
            if length < 96:
                raise WireError("FILTER prefix", 1, f"{length} bits are less than an IPv4 address starts with")
            return ip_network((address, length - 96), strict=False), port
        return IPv6Network((address, length), strict=False), port


def third_party(address: IPAddress) -> Option:
    """Map for another inside address than one's own (section 13.1)."""
    return Option(THIRD_PARTY, _wide(address))


def source_filter(network: IPNetwork | None, port: int = 0) -> Option:
    """Let in these sources only (section 13.3). None: take the filters that there are away. port: 0 for any."""
    if network is None:
        return Option(FILTER, _FILTER.pack(0, 0, port, bytes(16)))
    length = network.prefixlen + (96 if network.version == 4 else 0)
    if length == 0:
        raise ValueError("::/0 cannot be told from no filter at all")
    return Option(FILTER, _FILTER.pack(0, length, port, _wide(network.network_address)))


@dataclass(frozen=True, slots=True)
class Mapping:
    """What MAP is about (section 11.1). nonce: 12 bytes. protocol: its IP number, 0 for all, then the ports are 0.

    outside_port, outside_address: wished for in a request (0 and an address of zeros: any), granted in an answer.
    """

    nonce: bytes
    protocol: int
    inside_port: int
    outside_port: int
    outside_address: IPAddress

    def __post_init__(self) -> None:
        if len(self.nonce) != NONCE or not 0 <= self.protocol < 256:
            raise ValueError(f"needs a nonce of {NONCE} bytes and a protocol: {self!r}")
        if not all(0 <= port < 65536 for port in (self.inside_port, self.outside_port)):
            raise ValueError(f"no ports: {self.inside_port}, {self.outside_port}")
        if self.protocol == 0 and self.inside_port:
            raise ValueError("all protocols together have no port")

    def serialize(self) -> bytes:
        wide = _wide(self.outside_address)
        return _MAP.pack(self.nonce, self.protocol, bytes(3), self.inside_port, self.outside_port, wide)

    @classmethod
    def parse(cls, data: bytes) -> Self:
        """Raises: WireError."""
        if len(data) < _MAP.size:
            raise WireError("MAP", len(data), f"needs {_MAP.size} bytes, got {len(data)}")
        nonce, protocol, _, inside, outside, raw = _MAP.unpack_from(data)
        if protocol == 0 and inside:
            raise WireError("MAP protocol", NONCE, f"all protocols, and yet port {inside}")
        return cls(nonce, protocol, inside, outside, _narrow(raw))


@dataclass(frozen=True, slots=True)
class PcpRequest:
    """A request (section 7.1). client: the address that it is sent from, as the server sees it.

    mapping: of MAP. body: what an opcode that is not known here carries.
    """

    opcode: int
    lifetime_s: int
    client: IPAddress
    mapping: Mapping | None = None
    options: tuple[Option, ...] = ()
    body: bytes = b""

    def __post_init__(self) -> None:
        _whole(self.opcode, self.lifetime_s, self.mapping, self.options, self.body)

    def serialize(self) -> bytes:
        head = _REQUEST.pack(VERSION, self.opcode, 0, self.lifetime_s, _wide(self.client))
        return head + _rest(self.mapping, self.options, self.body)

    @classmethod
    def parse(cls, data: bytes) -> Self:
        """Read one whole datagram. Raises: WireError."""
        _sized(data)
        version, opcode, _, lifetime, raw = _REQUEST.unpack_from(data)
        if version != VERSION:
            raise WireError("version", 0, f"{version} is not {VERSION}")
        if opcode & ANSWER:
            raise WireError("opcode", 1, "is an answer, not a request")
        mapping, options, body = _read_rest(opcode, data[SHORTEST:], strict=True)
        return cls(opcode, lifetime, _narrow(raw), mapping, options, body)


@dataclass(frozen=True, slots=True)
class PcpResponse:
    """An answer (section 7.2). lifetime_s: of the mapping, or of the error. epoch_s: how long the server has its state.

    mapping: of MAP; after an error it may be missing. body: as in PcpRequest.
    """

    opcode: int
    result: int
    lifetime_s: int
    epoch_s: int
    mapping: Mapping | None = None
    options: tuple[Option, ...] = ()
    body: bytes = b""

    def __post_init__(self) -> None:
        _whole(self.opcode, self.lifetime_s, self.mapping, self.options, self.body)
        if not 0 <= self.result < 256 or not 0 <= self.epoch_s < 2**32:
            raise ValueError(f"out of range: result {self.result}, epoch {self.epoch_s}")

    def serialize(self) -> bytes:
        head = _RESPONSE.pack(VERSION, self.opcode | ANSWER, 0, self.result, self.lifetime_s, self.epoch_s, bytes(12))
        return head + _rest(self.mapping, self.options, self.body)

    @classmethod
    def parse(cls, data: bytes) -> Self:
        """Read one whole datagram. Raises: WireError: cut short, another version, or success without its content."""
        _sized(data)
        version, opcode, _, result, lifetime, epoch, _ = _RESPONSE.unpack_from(data)
        if version != VERSION:
            raise WireError("version", 0, f"{version} is not {VERSION}")
        if not opcode & ANSWER:
            raise WireError("opcode", 1, "is a request, not an answer")
        opcode &= ~ANSWER
        mapping, options, body = _read_rest(opcode, data[SHORTEST:], strict=result == SUCCESS)
        return cls(opcode, result, lifetime, epoch, mapping, options, body)


def _whole(opcode: int, lifetime_s: int, mapping: Mapping | None, options: tuple[Option, ...], body: bytes) -> None:
    if not 0 <= opcode < ANSWER or not 0 <= lifetime_s < 2**32:
        raise ValueError(f"out of range: opcode {opcode}, {lifetime_s} s")
    if mapping is not None and opcode != MAP:
        raise ValueError(f"opcode {opcode} carries no mapping")
    if body and (options or len(body) % 4 or mapping is not None):
        raise ValueError("what is not understood is carried whole, or not at all")
    if SHORTEST + len(_rest(mapping, options, body)) > LONGEST:
        raise ValueError(f"longer than {LONGEST} bytes")


def _rest(mapping: Mapping | None, options: tuple[Option, ...], body: bytes) -> bytes:
    out = mapping.serialize() if mapping is not None else body
    for option in options:
        out += _OPTION.pack(option.code, 0, len(option.value)) + option.value + bytes(-len(option.value) % 4)
    return out


def _sized(data: bytes) -> None:
    if not SHORTEST <= len(data) <= LONGEST or len(data) % 4:
        raise WireError("length", 0, f"{len(data)} bytes, where {SHORTEST} to {LONGEST} in steps of 4 are right")


def _read_rest(opcode: int, data: bytes, *, strict: bool) -> tuple[Mapping | None, tuple[Option, ...], bytes]:
    """The content by its opcode. strict: what cannot be read is an error; else it is carried as it is."""
    if opcode not in (ANNOUNCE, MAP):
        return None, (), data
    try:
        mapping = Mapping.parse(data) if opcode == MAP else None
        return mapping, tuple(_options(data[_MAP.size :] if mapping else data)), b""
    except WireError:
        if strict:
            raise
        return None, (), data


def _options(data: bytes) -> Iterator[Option]:
    at = 0
    while at < len(data):
        code, _, length = _OPTION.unpack_from(data, at)  # the whole is a multiple of 4 bytes long
        value = data[at + 4 : at + 4 + length]
        if len(value) != length:
            raise WireError("option length", at + 2, f"announces {length} bytes, {len(value)} follow")
        yield Option(code, value)
        at += 4 + length + -length % 4


def lost_state(before_s: int, now_s: int, elapsed_s: float) -> bool:
    """Whether a server's epoch says that it lost its state (section 8.5).

    Args: before_s, now_s: the epochs of two answers. elapsed_s: seconds between them by one's own clock.
    """
    if now_s + 1 < before_s:
        return True
    passed = now_s - before_s
    return elapsed_s + 2 < passed - passed / 16 or passed + 2 < elapsed_s - elapsed_s / 16
