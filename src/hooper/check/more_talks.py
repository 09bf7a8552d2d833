"""Talks that tell more of a service than that it is there. None of them logs in, and none changes anything."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from typing import Any

import anyio
from anyio.abc import ByteStream

from hooper.addresses import classify
from hooper.check.results import Seen
from hooper.check.targets import Target
from hooper.errors import WireError
from hooper.net.types import Datagram, Datagrams, Endpoint
from hooper.wire import ftp, ntp, rfb, smb2
from hooper.words.said import Said, quoted, say

PASSIVE_S = 1.0  # seconds for an answer that many servers give to nobody without a login
_ENDED = (anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError)


async def read_until(stream: ByteStream, parse: Callable[[bytes], Any], data: bytes = b"") -> Any:
    """Read until `parse` gives something."""
    while (value := parse(data)) is None:
        data += await stream.receive()
    return value


def from_outside(target: Target) -> bool:
    """Whether strangers get there so: at home much is in order that is none for them."""
    return target.address != target.inner[0]


async def talk_ftp(stream: ByteStream, target: Target, seen: Seen) -> None:
    """The greeting; then where its data would come from, as far as it tells that without a login (RFC 959)."""
    code, text, rest = await read_until(stream, ftp.split_reply)
    if code not in (220, 120):
        raise WireError("greeting", 0, f"code {code} is no greeting")
    seen.greeting = text
    seen.verdict, seen.detail = "answered", say("ftp-greets", text=text) if text else say("ftp")
    with anyio.move_on_after(PASSIVE_S):
        try:
            await stream.send(b"PASV\r\n")
            code, text, _ = await read_until(stream, ftp.split_reply, rest)
        except (WireError, *_ENDED):
            return
        told = ftp.passive_address(code, text)
        if told is not None and not classify(told[0]).reachable and from_outside(target):
            seen.problems.append("passive-private")
            seen.detail += say("ftp-sends-inside", told=told[0])


async def talk_vnc(stream: ByteStream, target: Target, seen: Seen) -> None:
    """The version, and whether it wants a login at all (RFC 6143 sections 7.1.1 and 7.1.2)."""
    version: str = await read_until(stream, rfb.parse_version)
    seen.greeting = version
    seen.verdict, seen.detail = "answered", quoted(version)
    try:
        await stream.send(rfb.answer_version(version))
        offered: tuple[int, ...] = await read_until(stream, lambda data: rfb.parse_security(data, version))
    except _ENDED:
        return
    if rfb.NO_LOGIN in offered and from_outside(target):
        seen.problems.append("no-login")
        seen.detail += say("vnc-without-login")


async def talk_smb(stream: ByteStream, target: Target, seen: Seen) -> None:
    """The negotiation, which tells the version and the server's own GUID."""
    await stream.send(smb2.serialize_negotiate(secrets.token_bytes(16)))
    found: smb2.Negotiated = await read_until(stream, smb2.parse_negotiated)
    seen.verdict = "answered"
    if found.old:
        seen.detail = say("smb-1-alone")
        seen.problems += ["smb-1"] if from_outside(target) else []
        return
    seen.greeting = f"SMB server {found.guid}"
    seen.detail = say("smb-signed" if found.signs else "smb", dialect=found.dialect)


def ntp_question() -> bytes:
    """A client's packet, with a mark that the answer repeats."""
    return ntp.question(secrets.randbits(64))


def is_ntp(data: bytes, asked: bytes) -> bool:
    """Whether it answers that question."""
    try:
        return ntp.NtpAnswer.parse(data).origin == int.from_bytes(asked[40:48], "big")
    except WireError:
        return False


def sip_question(to: Endpoint, own: Endpoint) -> bytes:
    """OPTIONS (RFC 3261 section 11), which changes nothing."""
    branch, tag, call = secrets.token_bytes(6).hex(), secrets.token_bytes(4).hex(), secrets.token_bytes(8).hex()
    lines = (
        f"OPTIONS sip:{to} SIP/2.0",
        f"Via: SIP/2.0/UDP {own};branch=z9hG4bK{branch};rport",
        "Max-Forwards: 70",
        f"From: <sip:hooper@{own}>;tag={tag}",
        f"To: <sip:{to}>",
        f"Call-ID: {call}",
        "CSeq: 1 OPTIONS",
        "Content-Length: 0",
        "",
        "",
    )
    return "\r\n".join(lines).encode()


async def ask_known(socket: Datagrams, to: Endpoint, target: Target, seen: Seen, wait: float) -> Any:
    """Ask in the service's own protocol, twice; gives what came in its place, None where it answered."""
    for _ in range(2):
        question, judge = _question(target, to, socket.local)
        await socket.send(question, to)
        with anyio.move_on_after(wait):
            while True:
                came = await socket.receive()
                if not isinstance(came, Datagram):
                    return came
                if came.sender == to and judge(came.data, seen):
                    seen.verdict = "answered"
                    return None
                seen.detail = say("datagram-not-of", speaks=target.speaks)
    return None


def _question(target: Target, to: Endpoint, own: Endpoint) -> tuple[bytes, Callable[[bytes, Seen], bool]]:
    if target.speaks == "ntp":
        asked = ntp_question()
        return asked, lambda data, seen: is_ntp(data, asked) and _says(seen, say("ntp-answers", stratum=data[1]))
    if target.speaks == "sip":
        return (
            sip_question(to, own),
            lambda data, seen: (
                data.startswith(b"SIP/2.0 ")
                and _says(seen, quoted(data.split(b"\r\n", 1)[0].decode("utf-8", "replace")[:80]))
            ),
        )
    query = dns_question()
    return query, lambda data, seen: note_dns(data, query, target, seen)


def _says(seen: Seen, words: Said) -> bool:
    seen.detail = words
    return True


def dns_question() -> bytes:
    """The name servers of the root, asked for recursively: whoever tells them to a stranger tells him everything."""
    import dns.message

    return dns.message.make_query(".", "NS").to_wire()


def note_dns(data: bytes, asked: bytes, target: Target, seen: Seen) -> bool:
    """Whether it answers that question, and whether it looks things up for strangers (RFC 5358)."""
    import dns.exception
    import dns.flags
    import dns.message
    import dns.rcode

    try:
        answer, question = dns.message.from_wire(data, ignore_trailing=True), dns.message.from_wire(asked)
    except (dns.exception.DNSException, ValueError, IndexError):
        return False
    if not question.is_response(answer):
        return False
    said = dns.rcode.to_text(answer.rcode())
    seen.verdict, seen.detail = "answered", say("dns-answers", said=said)
    looked_up = answer.flags & dns.flags.RA and answer.rcode() == dns.rcode.NOERROR and bool(answer.answer)
    if looked_up and from_outside(target):
        seen.problems.append("open-resolver")
        seen.detail = say("dns-open")
    return True


async def talk_dns(stream: ByteStream, target: Target, seen: Seen) -> None:
    """Over TCP, with two bytes of length before each message (RFC 1035 section 4.2.2)."""
    query = dns_question()
    await stream.send(len(query).to_bytes(2, "big") + query)

    def whole(data: bytes) -> bytes | None:
        size = int.from_bytes(data[:2], "big")
        return data[2 : 2 + size] if 0 < size <= len(data) - 2 else None

    if not note_dns(await read_until(stream, whole), query, target, seen):
        raise WireError("answer", 0, "no DNS")
