"""What probes say and hear in FTP, SMB, RFB, RTSP, DNS, NTP and SIP, by the standards' bytes."""

from __future__ import annotations

import struct
from ipaddress import IPv4Address, ip_address

import anyio
import dns.flags
import dns.message
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.check.more_talks import dns_question, is_ntp, note_dns, ntp_question, sip_question
from hooper.check.probes import _TALKS, Recorder
from hooper.check.results import Seen
from hooper.check.targets import Target
from hooper.errors import WireError
from hooper.lab.pipe import pipe
from hooper.net.types import Endpoint
from hooper.wire import ftp, rfb, smb2

OUTSIDE, INSIDE = ip_address("203.0.113.44"), IPv4Address("10.44.7.30")


def target(speaks: str, address: object = OUTSIDE) -> Target:
    return Target("films", speaks, "tcp", "fibre", address, 21, (INSIDE, 21), "reachable")  # type: ignore[arg-type]


async def _talked(speaks: str, at: object, script: list[bytes | None]) -> Seen:
    """The script is what the server says; None: it waits for something first."""
    near, far = pipe()
    seen = Seen(verdict="connected")

    async def server() -> None:
        for words in script:
            if words is None:
                await far.receive()
            else:
                await far.send(words)
        await far.aclose()

    try:
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(server)
            await _TALKS[speaks](Recorder(near), target(speaks, at), seen)
    finally:
        await near.aclose()
        await far.aclose()
    return seen


def talked(speaks: str, *script: bytes | None, at: object = OUTSIDE) -> Seen:
    return anyio.run(_talked, speaks, at, list(script))


# --- FTP


def test_a_passive_address_that_nobody_outside_reaches() -> None:
    said = (b"220-Films\r\n220 ready\r\n", None, b"227 Entering Passive Mode (10,44,7,30,195,80).\r\n")
    seen = talked("ftp", *said)
    assert (seen.verdict, seen.problems, seen.greeting) == ("answered", ["passive-private"], "Films")
    assert "10.44.7.30" in str(seen.detail)
    assert talked("ftp", *said, at=INSIDE).problems == []
    right = talked("ftp", b"220 ready\r\n", None, b"227 =203,0,113,44,195,80\r\n")
    assert (right.verdict, right.problems) == ("answered", [])
    login = talked("ftp", b"220 ready\r\n", None, b"530 Please login with USER and PASS.\r\n")
    assert (login.verdict, login.problems) == ("answered", [])


def test_replies_as_rfc_959_section_4_2_has_them() -> None:
    lines = (b"123-First line", b"Second line", b"  234 A line beginning with numbers", b"123 The last line", b"X")
    assert ftp.split_reply(b"\r\n".join(lines)) == (123, "First line", b"X")
    assert ftp.split_reply(b"220 rea") is None
    assert ftp.split_reply(b"22") is None
    with pytest.raises(WireError):
        ftp.split_reply(b"SSH-2.0-x\r\n")
    assert ftp.passive_address(227, "(1,2,3,4,1,0)") == (IPv4Address("1.2.3.4"), 256)
    assert ftp.passive_address(227, "(1,2,3,444,1,0)") is None


@given(st.binary(max_size=200))
def test_any_bytes_are_a_reply_or_none(data: bytes) -> None:
    try:
        found = ftp.split_reply(data)
    except WireError:
        return
    assert found is None or data.endswith(found[2])


# --- SMB


def answer(dialect: int = 0x0311, security: int = 3, guid: bytes = bytes(range(16)), status: int = 0) -> bytes:
    """As [MS-SMB2] 2.2.4 draws it."""
    header = b"\xfeSMB" + struct.pack("<HHIHHIIQIIQ16s", 64, 0, status, 0, 1, 1, 0, 0, 0, 0, 0, bytes(16))
    body = struct.pack("<HHHH16sIIIIQQHHI", 65, security, dialect, 0, guid, 0, 65536, 65536, 65536, 0, 0, 128, 0, 0)
    return struct.pack(">I", len(header + body)) + header + body


def test_a_negotiation_as_the_specification_draws_it() -> None:
    asked = smb2.serialize_negotiate(bytes(16))
    assert asked[:4] == struct.pack(">I", len(asked) - 4)
    assert asked[4:12] == b"\xfeSMB" + bytes.fromhex("4000 0000")
    assert asked[16:20] == bytes.fromhex("0000 0100")  # NEGOTIATE, one credit
    assert asked[68:72] == bytes.fromhex("2400 0400")  # StructureSize 36, four dialects
    assert asked[-8:] == bytes.fromhex("0202 1002 0003 0203")
    seen = talked("smb", None, answer())
    assert (seen.verdict, str(seen.detail)) == ("answered", "SMB 3.1.1, every message signed")
    assert seen.greeting == "SMB server 000102030405060708090a0b0c0d0e0f"
    old = talked("smb", None, struct.pack(">I", 40) + b"\xffSMB" + bytes(36))
    assert (old.verdict, old.problems) == ("answered", ["smb-1"])
    for wrong in (
        answer(status=0xC00000BB),
        b"\x83\0\0\x01\x8f",
        struct.pack(">I", 4) + b"HTTP",
        b"HTTP/1.1 200 OK\r\n",
    ):
        with pytest.raises(ExceptionGroup) as raised:
            talked("smb", None, wrong)
        assert raised.group_contains(WireError)


@given(st.binary(max_size=300))
def test_any_bytes_are_a_negotiation_or_none(data: bytes) -> None:
    for whole in (data, struct.pack(">I", len(data)) + data):
        try:
            smb2.parse_negotiated(whole)
        except WireError:
            continue


# --- RFB, RTSP


def test_a_screen_for_anybody() -> None:
    seen = talked("vnc", b"RFB 003.008\n", None, b"\x02\x01\x02")
    assert (seen.verdict, seen.problems, seen.greeting) == ("answered", ["no-login"], "RFB 003.008")
    assert talked("vnc", b"RFB 003.008\n", None, b"\x02\x02\x13").problems == []
    assert talked("vnc", b"RFB 003.003\n", None, b"\0\0\0\x01").problems == ["no-login"]
    assert talked("vnc", b"RFB 003.008\n", None, b"\x01\x01", at=INSIDE).problems == []
    assert talked("vnc", b"RFB 003.889\n").verdict == "answered"  # it hangs up, and the version is told
    assert rfb.answer_version("RFB 003.889") == b"RFB 003.008\n"


def test_a_film_for_anybody() -> None:
    told = b"RTSP/1.0 200 OK\r\nCSeq: 1\r\nServer: cam\r\n\r\n"
    assert "anybody can watch" in str(talked("rtsp", None, told, None, b"RTSP/1.0 200 OK\r\nCSeq: 2\r\n\r\n").detail)
    assert "wants a login" in str(
        talked("rtsp", None, told, None, b"RTSP/1.0 401 Unauthorized\r\nCSeq: 2\r\n\r\n").detail
    )
    assert talked("rtsp", None, told).verdict == "answered"


# --- DNS, NTP, SIP


def resolved(*, recursion: bool, empty: bool = False) -> bytes:
    query = dns.message.from_wire(QUERY)
    said = dns.message.make_response(query, recursion_available=recursion)
    if not empty:
        said.answer.append(dns.rrset.from_text(".", 60, "IN", "NS", "a.root.example."))
    return said.to_wire()


QUERY = dns_question()


@pytest.mark.parametrize(
    ("data", "answers", "problems"),
    [
        (resolved(recursion=True), True, ["open-resolver"]),
        (resolved(recursion=False), True, []),
        (resolved(recursion=True, empty=True), True, []),
        (QUERY, False, []),
        (b"\0" * 12, False, []),
        (b"x", False, []),
    ],
    ids=["open", "for its own", "for nobody", "a question", "zeros", "a letter"],
)
def test_a_name_server_that_looks_things_up_for_strangers(data: bytes, answers: bool, problems: list[str]) -> None:
    seen = Seen()
    assert note_dns(data, QUERY, target("dns"), seen) is answers
    assert seen.problems == problems
    inside = Seen()
    note_dns(data, QUERY, target("dns", INSIDE), inside)
    assert inside.problems == []


def test_time_and_telephony() -> None:
    asked = ntp_question()
    assert (len(asked), asked[0]) == (48, 0b00_100_011)  # RFC 5905: no warning, version 4, mode 3
    right = b"\x24\x02" + bytes(22) + asked[40:48] + bytes(16)
    assert is_ntp(right, asked)
    assert not is_ntp(right[:47], asked)
    assert not is_ntp(b"\x24\x02" + bytes(46), asked)
    text = sip_question(Endpoint(OUTSIDE, 5060), Endpoint(INSIDE, 5070)).decode()
    assert text.startswith("OPTIONS sip:203.0.113.44:5060 SIP/2.0\r\nVia: SIP/2.0/UDP 10.44.7.30:5070;branch=z9hG4bK")
    assert text.endswith("Content-Length: 0\r\n\r\n")
