"""NAT-PMP, PCP, STUN with RFC 5780: the standards' layouts byte by byte, recordings of real software, properties."""

from __future__ import annotations

import time
from contextlib import suppress
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network

import pytest
from fuzz.damage import damaged
from fuzz.readers import READERS
from fuzz.run import trial
from fuzz.targets import TARGETS, outcome
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.wire import head, natpmp, pcp, rtnetlink, ssdp, stun

WAN, OUTSIDE = IPv4Address("192.168.90.2"), IPv4Address("11.22.33.44")
NONCE = bytes(range(12))
U16, U32 = st.integers(0, 65535), st.integers(0, 2**32 - 1)
ADDRESSES = st.ip_addresses(v=4) | st.ip_addresses(v=6, network="2000::/3")


# --- NAT-PMP (RFC 6886)


def test_natpmp_requests_as_sections_3_2_and_3_3_draw_them() -> None:
    assert natpmp.NatPmpRequest(natpmp.ADDRESS).serialize() == bytes.fromhex("0000")
    assert natpmp.NatPmpRequest(natpmp.UDP, 51820, 51821, 7200).serialize() == bytes.fromhex(
        "0001 0000 ca6c ca6d 00001c20"
    )
    assert natpmp.NatPmpRequest(natpmp.TCP, 443, 443, 3600).serialize() == bytes.fromhex("0002 0000 01bb 01bb 00000e10")
    for data in ("0000", "0001 0000 ca6c ca6d 00001c20", "0002 0000 01bb 01bb 00000e10"):
        assert natpmp.NatPmpRequest.parse(bytes.fromhex(data)).serialize() == bytes.fromhex(data)


@pytest.mark.parametrize(
    ("recorded", "response"),
    [
        ("008200000000942601bb01bb00000e10", natpmp.NatPmpResponse(natpmp.TCP, 0, 0x9426, None, 443, 443, 3600)),
        ("00800000000094260b16212c", natpmp.NatPmpResponse(natpmp.ADDRESS, 0, 0x9426, OUTSIDE)),
        ("008000030000942600000000", natpmp.NatPmpResponse(natpmp.ADDRESS, 3, 0x9426, IPv4Address(0))),
        ("008200030000942601bb01bb00000e10", natpmp.NatPmpResponse(natpmp.TCP, 3, 0x9426, None, 443, 443, 3600)),
        ("0083000500009426", natpmp.NatPmpResponse(3, 5, 0x9426)),  # an opcode that there is not
        ("0080000100009426", natpmp.NatPmpResponse(natpmp.ADDRESS, 1, 0x9426)),
    ],
)
def test_natpmp_answers_as_real_software_gives_them(recorded: str, response: natpmp.NatPmpResponse) -> None:
    data = bytes.fromhex(recorded)
    assert natpmp.NatPmpResponse.parse(data) == response
    assert natpmp.NatPmpResponse.parse(data + b"more") == response or len(data) == 8
    assert response.serialize() == data


@pytest.mark.parametrize(
    "data", ["", "00", "0080", "0000000000000000", "02800000000094260b16212c", "00800000000094260b16"]
)
def test_natpmp_answers_that_are_none(data: str) -> None:
    with pytest.raises(WireError):
        natpmp.NatPmpResponse.parse(bytes.fromhex(data))


def test_every_result_has_words() -> None:
    assert set(natpmp.RESULTS) == set(range(6))  # RFC 6886 section 3.5
    assert set(pcp.RESULTS) == set(range(14))  # RFC 6887 section 7.4


@given(st.sampled_from([natpmp.UDP, natpmp.TCP]), U16, U16, U32, st.integers(0, 5), U32)
def test_natpmp_round_trip(opcode: int, inside: int, outside: int, lifetime: int, result: int, epoch: int) -> None:
    asked = natpmp.NatPmpRequest(opcode, inside, outside, lifetime)
    assert natpmp.NatPmpRequest.parse(asked.serialize()) == asked
    answer = natpmp.NatPmpResponse(opcode, result, epoch, None, inside, outside, lifetime)
    assert natpmp.NatPmpResponse.parse(answer.serialize()) == answer


@pytest.mark.parametrize(
    ("before", "now", "elapsed", "anew"),
    [(100, 110, 10, False), (100, 107, 10, False), (100, 106, 10, True), (100, 1, 10, True), (0, 0, 0, False)],
)
def test_natpmp_epochs(before: int, now: int, elapsed: float, anew: bool) -> None:
    """Section 3.6: seven eighths of the time, less two seconds."""
    assert natpmp.started_anew(before, now, elapsed) is anew


# --- PCP (RFC 6887)

MAPPING = pcp.Mapping(NONCE, 6, 8443, 8443, IPv4Address(0))
FILTERED = (pcp.Option(pcp.PREFER_FAILURE), pcp.source_filter(IPv4Network("11.22.55.0/24")))
REQUESTS = {
    "020000000000000000000000000000000000ffffc0a85a02": pcp.PcpRequest(pcp.ANNOUNCE, 0, WAN),
    "0201000000000e1000000000000000000000ffffc0a85a02000102030405060708090a0b0600000020fb20fb00000000000000000000ffff"
    "00000000": pcp.PcpRequest(pcp.MAP, 3600, WAN, MAPPING),
    "0201000000000e1000000000000000000000ffffc0a85a02000102030405060708090a0b11000000ca6cca6c00000000000000000000ffff"
    "0000000002000000030000140078000000000000000000000000ffff0b163700": pcp.PcpRequest(
        pcp.MAP, 3600, WAN, pcp.Mapping(NONCE, 17, 51820, 51820, IPv4Address(0)), FILTERED
    ),
    "0201000000000e1000000000000000000000ffffc0a85a02000102030405060708090a0b0600000020fc20fc00000000000000000000ffff"
    "000000000100001000000000000000000000ffffc0a85a32": pcp.PcpRequest(
        pcp.MAP,
        3600,
        WAN,
        pcp.Mapping(NONCE, 6, 8444, 8444, IPv4Address(0)),
        (pcp.third_party(IPv4Address("192.168.90.50")),),
    ),
}
RECORDED = {
    "028000000000000000009428000000000000000000000000": pcp.PcpResponse(pcp.ANNOUNCE, 0, 0, 0x9428),
    "0281000000000e1000009428000000000000000000000000000102030405060708090a0b0600000020fb20fb00000000000000000000ffff"
    "0b16212c": pcp.PcpResponse(pcp.MAP, 0, 3600, 0x9428, pcp.Mapping(NONCE, 6, 8443, 8443, OUTSIDE)),
    "0281000000000e1000009428000000000000000000000000000102030405060708090a0b11000000ca6cca6c00000000000000000000ffff"
    "0b16212c02000000030000140078000000000000000000000000ffff0b163700": pcp.PcpResponse(
        pcp.MAP, 0, 3600, 0x9428, pcp.Mapping(NONCE, 17, 51820, 51820, OUTSIDE), FILTERED
    ),
    "028100080000001e00009428000000000000000000000000000102030405060708090a0b0600000020fc20fc00000000000000000000ffff"
    "c0a85a02": pcp.PcpResponse(
        pcp.MAP, pcp.NO_RESOURCES, 30, 0x9428, pcp.Mapping(NONCE, 6, 8444, 8444, IPv4Address("192.168.90.2"))
    ),
    "02e300040000000000009428000000000000000000000000": pcp.PcpResponse(99, pcp.UNSUPP_OPCODE, 0, 0x9428),
    "028000010000000000009428000000000000000000000000": pcp.PcpResponse(pcp.ANNOUNCE, pcp.UNSUPP_VERSION, 0, 0x9428),
}


@pytest.mark.parametrize(("data", "request_"), REQUESTS.items())
def test_pcp_requests_that_real_software_took(data: str, request_: pcp.PcpRequest) -> None:
    assert request_.serialize() == bytes.fromhex(data)
    assert pcp.PcpRequest.parse(bytes.fromhex(data)) == request_


@pytest.mark.parametrize(("data", "response"), RECORDED.items())
def test_pcp_answers_as_real_software_gave_them(data: str, response: pcp.PcpResponse) -> None:
    assert pcp.PcpResponse.parse(bytes.fromhex(data)) == response
    assert response.serialize() == bytes.fromhex(data)


def test_pcp_as_sections_7_and_11_draw_it() -> None:
    """Field by field: version, R and opcode, reserved, lifetime, client; nonce, protocol, ports, address."""
    whole = pcp.PcpRequest(
        pcp.MAP, 7200, IPv6Address("2001:db8:44::5"), pcp.Mapping(NONCE, 17, 1, 2, OUTSIDE)
    ).serialize()
    assert whole[:4] == bytes((2, 1, 0, 0))
    assert int.from_bytes(whole[4:8], "big") == 7200
    assert IPv6Address(whole[8:24]) == IPv6Address("2001:db8:44::5")
    assert whole[24:36] == NONCE
    assert whole[36:40] == bytes((17, 0, 0, 0))
    assert whole[40:44] == bytes((0, 1, 0, 2))
    assert IPv6Address(whole[44:60]).ipv4_mapped == OUTSIDE
    assert len(whole) == 60


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"", "length"),
        (bytes(20), "length"),
        (bytes.fromhex("028000000000000000009428000000000000000000000000") + b"xyz", "length"),
        (bytes(1104), "length"),
        (bytes.fromhex("018000000000000000009428000000000000000000000000"), "version"),
        (bytes.fromhex("020000000000000000009428000000000000000000000000"), "opcode"),
        (bytes.fromhex("028100000000000000009428000000000000000000000000"), "MAP"),
        (bytes.fromhex("028000000000000000009428000000000000000000000000") + b"\x03\0\0\x14", "option length"),
    ],
)
def test_pcp_answers_that_are_none(data: bytes, why: str) -> None:
    with pytest.raises(WireError) as caught:
        pcp.PcpResponse.parse(data)
    assert caught.value.field == why


@given(
    ADDRESSES, ADDRESSES, st.integers(1, 255), U16, U16, U32, st.integers(0, 255), U32,
    st.lists(st.builds(pcp.Option, st.integers(0, 255), st.binary(max_size=40)), max_size=4),
)  # fmt: skip
def test_pcp_round_trip(
    client: IPv4Address | IPv6Address,
    outside: IPv4Address | IPv6Address,
    protocol: int,
    inside_port: int,
    outside_port: int,
    lifetime: int,
    result: int,
    epoch: int,
    options: list[pcp.Option],
) -> None:
    mapping = pcp.Mapping(NONCE, protocol, inside_port, outside_port, outside)
    asked = pcp.PcpRequest(pcp.MAP, lifetime, client, mapping, tuple(options))
    assert pcp.PcpRequest.parse(asked.serialize()) == asked
    answer = pcp.PcpResponse(pcp.MAP, result, lifetime, epoch, mapping, tuple(options))
    assert pcp.PcpResponse.parse(answer.serialize()) == answer
    assert len(answer.serialize()) % 4 == 0


@given(st.ip_addresses(v=4), st.integers(0, 32), U16)
def test_pcp_filters(address: IPv4Address, length: int, port: int) -> None:
    network = IPv4Network((address, length), strict=False)
    assert pcp.source_filter(network, port).filter() == (network, port)


def test_pcp_options_of_section_13() -> None:
    assert pcp.third_party(IPv4Address("10.44.7.30")).third_party() == IPv4Address("10.44.7.30")
    assert pcp.source_filter(None).filter() == (None, 0)
    six = IPv6Network("2001:db8::/32")
    assert pcp.source_filter(six, 7).filter() == (six, 7)
    assert pcp.Option(pcp.FILTER).mandatory
    assert not pcp.Option(200).mandatory
    for wrong in (
        pcp.Option(pcp.FILTER, b"\0\xff" + bytes(18)),
        pcp.Option(pcp.FILTER, b"\0\x10" + bytes(12) + b"\xff" * 6),
    ):
        with pytest.raises(WireError):
            wrong.filter()
    with pytest.raises(WireError):
        pcp.Option(pcp.THIRD_PARTY, b"x").third_party()
    with pytest.raises(ValueError, match="no filter"):
        pcp.source_filter(IPv6Network("::/0"))


@pytest.mark.parametrize(
    ("before", "now", "elapsed", "lost"),
    [
        (100, 110, 10, False),
        (100, 99, 0, False),  # one second back is allowed
        (100, 98, 0, True),
        (1000, 1050, 100, True),  # too slow by far
        (1000, 1095, 100, False),
        (1000, 1200, 100, True),  # too fast
    ],
)
def test_pcp_epochs(before: int, now: int, elapsed: float, lost: bool) -> None:
    """Section 8.5."""
    assert pcp.lost_state(before, now, elapsed) is lost


# --- STUN with RFC 5780

COTURN = bytes.fromhex(
    "010100482112a442000102030405060708090a0b002000080001a53d2a04856e000100080001842f0b16212c802b000800010d960b163707"
    "802c000800010d970b16370880220014436f7475726e2d342e362e312027476f72737427"
)


def test_stun_with_another_address_as_a_real_server_gives_it() -> None:
    got = stun.Message.parse(COTURN)
    assert got.mapped_address() == (OUTSIDE, 0x842F)
    assert got.other_address() == (IPv4Address("11.22.55.8"), 3479)
    assert got.origin() == (IPv4Address("11.22.55.7"), 3478)
    assert got.serialize() == COTURN
    old = stun.Message(stun.BINDING_SUCCESS, NONCE, (stun.plain_address(stun.CHANGED_ADDRESS, WAN, 1),))
    assert stun.Message.parse(old.serialize()).other_address() == (WAN, 1)  # as RFC 3489 named it


@pytest.mark.parametrize(
    ("address", "port", "flags"), [(False, False, 0), (True, False, 4), (False, True, 2), (True, True, 6)]
)
def test_the_change_request_of_rfc_5780_section_7_2(address: bool, port: bool, flags: int) -> None:
    name, value = stun.change_request(address=address, port=port)
    assert (name, value) == (3, bytes((0, 0, 0, flags)))
    message = stun.Message.parse(stun.Message(stun.BINDING_REQUEST, NONCE, ((name, value),)).serialize())
    assert message.wished_change() == (address, port)


def test_stun_refusals() -> None:
    made = stun.Message(stun.BINDING_ERROR, NONCE, (stun.refusal(420, "Unknown Attribute"),))
    assert stun.Message.parse(made.serialize()).error() == (420, "Unknown Attribute")
    with pytest.raises(WireError):
        stun.Message(stun.BINDING_ERROR, NONCE, ((stun.ERROR_CODE, b"\0"),)).error()


# --- notices, the kernel's tables, damage


@pytest.mark.parametrize("kind", ["alive", "update", "byebye"])
def test_notices_of_coming_and_going(kind: ssdp.Kind) -> None:
    told = ssdp.Notice(kind, "" if kind == "byebye" else "http://10.44.7.1:5000/d.xml", "upnp:rootdevice", "uuid:1")
    assert ssdp.parse_notice(ssdp.serialize_notice(told)) == told
    assert b"NTS: ssdp:" + kind.encode() in ssdp.serialize_notice(told)
    with pytest.raises(WireError):
        ssdp.parse_notice(ssdp.serialize_search(ssdp.TARGETS[0], ssdp.GROUP, wait_s=1))


def test_a_neighbour_as_the_kernel_tells_it() -> None:
    """linux/neighbour.h: ndmsg, then NDA_DST and NDA_LLADDR; one that failed is left out."""
    body = bytes.fromhex("02000000 05000000 0200 00 01 0800 0100 0a2c0701 0a00 0200 02005e440701 0000".replace(" ", ""))
    header = (16 + len(body)).to_bytes(4, "little") + (28).to_bytes(2, "little") + bytes(10)
    got = rtnetlink.parse(header + body)
    assert got.neighbours == (rtnetlink.NeighbourMessage(5, IPv4Address("10.44.7.1"), "02:00:5e:44:07:01"),)
    failed = body[:8] + b"\x20\0" + body[10:]
    assert rtnetlink.parse(header + failed).neighbours == ()
    with pytest.raises(WireError):
        rtnetlink.parse(b"\xff\0\0\0" + bytes(12))


@pytest.mark.parametrize("name", TARGETS)
def test_damaged_input_gives_a_value_or_the_codecs_own_error(name: str) -> None:
    """A short run of `python -m fuzz.run`."""
    values = sum(outcome(TARGETS[name], data) for data in damaged(TARGETS[name].seeds, 400, 7))
    assert values > 0


@pytest.mark.parametrize("name", READERS)
def test_what_strangers_hand_over_is_read_or_refused_within_bounds(name: str) -> None:
    """The same for profiles, pages, packs, results and requests; time, memory and descriptors are bounded."""
    assert trial(name, READERS[name], 100, 7)


LONG = 256 * 1024


@pytest.mark.parametrize(
    "data",
    [
        b"<title" * (LONG // 6),
        b"<a>" * (LONG // 3),
        b"<" * LONG,
        b"&#" * (LONG // 2),
        b"<a" + b" a='1'" * (LONG // 6),
        b"<a>x" * (LONG // 4),
    ],
    ids=["titles", "deep", "open", "entities", "attributes", "texts"],
)
def test_long_nonsense_takes_no_long_time(data: bytes) -> None:
    start = time.process_time()
    for name in ("description", "soap-action", "soap-response"):
        with suppress(WireError):
            TARGETS[name].decode(data)
    head.page_title(data)
    assert time.process_time() - start < 5


@given(st.sampled_from(sorted(TARGETS)), st.binary(max_size=200))
def test_any_bytes_at_all(name: str, data: bytes) -> None:
    with suppress(*TARGETS[name].allowed):
        TARGETS[name].decode(data)
