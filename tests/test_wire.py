"""Codecs against the standards' own bytes, round trips, and damage."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from ipaddress import IPv4Address, IPv6Address, ip_address
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.wire import head, rfb, socks5, ssh, stun, x224
from hooper.wire import lab_link as town
from hooper.wire.icmp import Icmp, parse_extended_error
from hooper.wire.recognise import recognise

# RFC 5769 section 2.2, sample IPv4 response; section 2.3, sample IPv6 response
RFC_5769_2_2 = bytes.fromhex(
    "0101003c2112a442b7e7a701bc34d686fa87dfae"
    "8022000b7465737420766563746f7220"
    "002000080001a147e112a643"
    "000800142b91f599fd9e90c38c7489f92af9ba53f06be7d7"
    "80280004c07d4c96"
)
RFC_5769_2_3 = bytes.fromhex(
    "010100482112a442b7e7a701bc34d686fa87dfae"
    "8022000b7465737420766563746f7220"
    "002000140002a1470113a9faa5d3f179bc25f4b5bed2b9d9"
    "00080014a382954e4be67bf11784c97c8292c275bfe3ed41"
    "80280004c8fb0b4c"
)
# RFC 5769 section 2.1, sample request
RFC_5769_2_1 = bytes.fromhex(
    "000100582112a442b7e7a701bc34d686fa87dfae"
    "802200105354554e207465737420636c69656e74"
    "002400046e0001ff"
    "80290008932ff9b151263b36"
    "000600096576746a3a68367659202020"
    "000800149aeaa70cbfd8cb56781ef2b5b2d3f249c1b571a2"
    "80280004e57a3bcf"
)


@pytest.mark.parametrize(
    ("data", "address"),
    [(RFC_5769_2_2, "192.0.2.1"), (RFC_5769_2_3, "2001:db8:1234:5678:11:2233:4455:6677")],
)
def test_stun_responses_of_rfc_5769(data: bytes, address: str) -> None:
    message = stun.Message.parse(data)
    assert message.kind == stun.BINDING_SUCCESS
    assert message.transaction_id.hex() == "b7e7a701bc34d686fa87dfae"
    assert message.mapped_address() == (ip_address(address), 32853)
    assert message.get(stun.SOFTWARE) == b"test vector"


def test_stun_request_of_rfc_5769() -> None:
    message = stun.Message.parse(RFC_5769_2_1)
    assert message.kind == stun.BINDING_REQUEST
    assert message.serialize()[:-8] == RFC_5769_2_1[:-8].replace(b"evtj:h6vY   ", b"evtj:h6vY\0\0\0")


def test_a_wrong_fingerprint_is_seen() -> None:
    with pytest.raises(WireError) as caught:
        stun.Message.parse(RFC_5769_2_2[:-1] + b"\0")
    assert caught.value.field == "fingerprint"


@given(
    st.integers(0, 0x3FFF),
    st.binary(min_size=12, max_size=12),
    st.lists(st.tuples(st.integers(0, 0x7FFF), st.binary(max_size=9)), max_size=4),
    st.booleans(),
)
def test_stun_round_trip(kind: int, transaction: bytes, attributes: list[tuple[int, bytes]], signed: bool) -> None:
    message = stun.Message(kind, transaction, tuple(attributes) + (((stun.FINGERPRINT, bytes(4)),) if signed else ()))
    back = stun.Message.parse(message.serialize())
    assert back.attributes[: len(attributes)] == tuple(attributes)
    assert back.serialize() == message.serialize()


@given(st.ip_addresses(), st.integers(0, 65535), st.binary(min_size=12, max_size=12))
def test_the_mapped_address_round_trip(address: IPv4Address | IPv6Address, port: int, transaction: bytes) -> None:
    attribute = stun.xor_mapped_address(address, port, transaction)
    assert stun.Message(0x101, transaction, (attribute,)).mapped_address() == (address, port)


HTTP = (
    b"HTTP/1.1 401 Unauthorized\r\nServer: hub\r\nWWW-Authenticate: Basic\r\n"
    b"no colon here\r\nX : y\r\n\r\n<title>A\n b</title>"
)
CONFIRM = x224.serialize_confirm(x224.Confirm(x224.HYBRID))
REQUEST = x224.serialize_request()
VALID: list[tuple[Callable[[bytes], Any], bytes]] = [
    (stun.Message.parse, RFC_5769_2_2),
    (head.split_head, HTTP),
    (ssh.parse_identification, b"welcome\r\nSSH-2.0-OpenSSH_9.2p1 Debian-2\r\n"),
    (rfb.parse_version, b"RFB 003.008\n"),
    (x224.parse_confirm, CONFIRM),
    (x224.parse_request, REQUEST),
    (lambda data: town.parse_lengths(data[:8].ljust(8, b"\0")), town.serialize_frame({"a": 1}, b"xyz")),
    (town.parse_line, b'{"a": 1}'),
]


@given(st.integers(0, len(VALID) - 1), st.integers(0, 99), st.binary(max_size=5), st.integers(0, 5))
def test_damaged_bytes_give_a_value_or_a_wire_error(which: int, at: int, patch: bytes, cut: int) -> None:
    decode, data = VALID[which]
    with suppress(WireError):
        decode(data[:at] + patch + data[at + cut :])


@given(st.integers(0, len(VALID) - 1), st.binary(max_size=64))
def test_any_bytes_give_a_value_or_a_wire_error(which: int, data: bytes) -> None:
    with suppress(WireError):
        VALID[which][0](data)


@given(st.integers(1, len(VALID) - 3), st.data())
def test_half_an_answer_is_no_answer_yet(which: int, data: st.DataObject) -> None:
    decode, whole = VALID[which]
    end = whole.index(b"<title") if which == 1 else len(whole)
    cut = data.draw(st.integers(0, end - 1))
    if which != 2 or cut < len(whole) - 1:
        assert decode(whole[:cut]) is None


def test_a_patient_reader_of_heads() -> None:
    found = head.split_head(HTTP)
    assert found is not None
    got, rest = found
    assert (got.status, got.reason, got.get("SERVER"), got.get("x")) == (401, "Unauthorized", "hub", "y")
    assert head.page_title(rest) == "A b"
    bare = head.split_head(b"HTTP/1.0 200\nServer: x\n\nbody")
    assert bare is not None
    assert (bare[0].status, bare[0].get("server"), bare[1]) == (200, "x", b"body")
    with pytest.raises(WireError):
        head.split_head(b"SSH-2.0-x\r\n")


def test_a_request_cannot_be_split() -> None:
    with pytest.raises(ValueError, match="line break"):
        head.serialize_request("GET", "/", "HTTP/1.1", (("Host", "a\r\nX: y"),))


def test_ssh_identification_of_rfc_4253() -> None:
    assert ssh.parse_identification(b"SSH-2.0-billsSSH_3.6.3q3\r\n") == "SSH-2.0-billsSSH_3.6.3q3"  # section 5.1's form
    assert ssh.parse_identification(b"hello\r\nSSH-1.99-x\n") == "SSH-1.99-x"
    for wrong in (b"\x15\x03\x01\x00\x02\x02F", b"SSH-2.0-" + b"x" * 300, b"SSH-\r\n"):
        with pytest.raises(WireError):
            ssh.parse_identification(wrong)


def test_the_remote_desktop_request_byte_for_byte() -> None:
    # [MS-RDPBCGR] section 4.1.1 has this packet with a cookie; the fixed parts and the negotiation are the same
    assert REQUEST.hex() == "030000130ee000000000000100080003000000"
    assert x224.parse_request(REQUEST) == x224.ConnectionRequest(3)
    with_cookie = bytes.fromhex(
        "0300002c27e00000000000436f6f6b69653a206d737473686173683d656c746f6e730d0a0100080000000000"
    )
    assert x224.parse_request(with_cookie) == x224.ConnectionRequest(0)
    # section 4.1.2, the server's confirm
    assert x224.parse_confirm(bytes.fromhex("030000130ed000001234000200080000000000")) == x224.Confirm(0)
    assert x224.parse_confirm(bytes.fromhex("030000130ed00000123400030008000500000000")[:19]) == x224.Confirm(failure=5)
    assert x224.parse_confirm(bytes.fromhex("0300000b06d00000123400")) == x224.Confirm()


def test_socks_of_rfc_1928_and_1929() -> None:
    assert socks5.serialize_greeting(login=True) == b"\x05\x01\x02"
    assert socks5.serialize_login("me", "pw") == b"\x01\x02me\x02pw"
    assert socks5.serialize_request(IPv4Address("203.0.113.44"), 443) == bytes.fromhex("05010001cb00712c01bb")
    assert socks5.serialize_request("a.example", 80) == b"\x05\x01\x00\x03\x09a.example\x00\x50"
    assert socks5.parse_address(1, bytes.fromhex("cb00712c01bb")) == (IPv4Address("203.0.113.44"), 443)
    assert socks5.parse_address(3, b"\x0c203.0.113.44\x01\xbb") == (IPv4Address("203.0.113.44"), 443)
    assert socks5.parse_address(3, b"\x07x.local\x01\xbb") == ("x.local", 443)
    for user, password in (("", "x"), ("x", ""), ("x" * 256, "y")):
        with pytest.raises(ValueError, match="1 to 255"):
            socks5.serialize_login(user, password)


@pytest.mark.parametrize(
    ("first", "name"),
    [
        (b"SSH-2.0-x", "ssh"),
        (b"HTTP/1.1 400", "http"),
        (b"RTSP/1.0 200", "rtsp"),
        (b"\x15\x03\x03\0\x02", "tls"),
        (CONFIRM, "rdp"),
        (b"RFB 003.008\n", "vnc"),
        (b"220 mail", "a mail or file server"),
        (b"hello", None),
        (b"", None),
    ],
)
def test_first_bytes_tell_the_protocol(first: bytes, name: str | None) -> None:
    assert recognise(first) == name


def test_icmp_refusals_and_silences() -> None:
    refusing = {(3, code) for code in range(16) if Icmp(3, code).refuses}
    assert refusing == {(3, 3), (3, 9), (3, 10), (3, 13)}
    assert not Icmp(11, 0).refuses
    assert Icmp(1, 4, 6).refuses
    assert not Icmp(1, 0, 6).refuses
    # struct sock_extended_err with SO_EE_ORIGIN_ICMP, host unreachable, and the offender's sockaddr_in
    raw = bytes.fromhex("7100000002030100000000000000000002000000cb00712c0000000000000000")
    found = parse_extended_error(raw)
    assert found is not None
    assert (found.errno, found.icmp, found.by) == (113, Icmp(3, 1), IPv4Address("203.0.113.44"))
    assert parse_extended_error(raw[:15]) is None
