"""The probes: connect, say as little as the protocol needs, and read enough to tell who answered."""

from __future__ import annotations

import base64
import os
import re
import ssl
from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress
from datetime import UTC
from email.utils import parsedate_to_datetime
from typing import Any

import anyio
from anyio.abc import ByteStream
from anyio.streams.tls import TLSAttribute, TLSStream

from hooper.check.certificates import note_chain
from hooper.check.datagrams import datagrams
from hooper.check.handshake_keys import ControlKeys, PinnedKey, StandInKey
from hooper.check.more_talks import read_until, talk_dns, talk_ftp, talk_smb, talk_vnc
from hooper.check.openvpn import OverTcp, control_channel
from hooper.check.redirects import followed
from hooper.check.results import IcmpSeen, PageSeen, Seen
from hooper.check.stand_in import ask_stream
from hooper.check.targets import Target
from hooper.clock import rfc3339
from hooper.errors import WireError
from hooper.net.tls import chain_of, start_tls
from hooper.net.types import Door, Endpoint, NoRoute, ProxyTrouble, Refused, Unreachable
from hooper.site.protocols import SPEECHES
from hooper.wire import head, ssh, sshkex, x224
from hooper.wire.icmp import Icmp
from hooper.wire.recognise import recognise
from hooper.words.said import Said, quoted, say

BODY_LIMIT = 256 * 1024  # bytes of a page that are read to find its title, or the expected text
DESCRIBED = 1.0  # seconds for what a camera says of its film
FIRST_WORD = 0.4  # seconds that a server of an unknown protocol may take to speak first
# how servers say it that got a request in clear text where TLS was meant
_WANTS_TLS = re.compile(rb"https|\bssl\b|\btls\b", re.I)
_ENDED = (anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError)


class Recorder(ByteStream):
    """A stream that keeps the first bytes that came in, to tell what spoke when it was not what was expected."""

    def __init__(self, inner: ByteStream) -> None:
        self.inner, self.first = inner, b""

    async def receive(self, max_bytes: int = 65536) -> bytes:
        data = await self.inner.receive(max_bytes)
        if len(self.first) < 512:
            self.first += data[: 512 - len(self.first)]
        return data

    async def send(self, item: bytes) -> None:
        await self.inner.send(item)

    async def send_eof(self) -> None:
        await self.inner.send_eof()

    async def aclose(self) -> None:
        await self.inner.aclose()

    @property
    def extra_attributes(self) -> Mapping[Any, Callable[[], Any]]:
        return self.inner.extra_attributes


async def probe(door: Door, target: Target, deadline: float) -> Seen:
    """Probe one target from one place. deadline: seconds for all of it. Never raises for what the network does."""
    assert target.address is not None
    seen, start = Seen(), door.clock.monotonic()
    if target.transport.isdigit():
        seen.verdict, seen.detail = "unproven", say("protocol-not-sent", transport=target.transport)
    elif target.transport == "udp":
        await datagrams(door, target, seen, deadline)
    else:
        await _stream(door, target, seen, deadline)
        seen = await _followed(door, target, seen, start + deadline)
    seen.took_ms = round((door.clock.monotonic() - start) * 1000)
    return seen


async def _followed(door: Door, target: Target, seen: Seen, end: float) -> Seen:
    """The page at the end of where the first one sends people on. end: by the door's clock."""

    async def ask(further: Target, into: Seen) -> None:
        left = end - door.clock.monotonic()
        if left > 0:
            await _stream(door, further, into, left)

    return await followed(target, seen, ask)


# A signature of the handshake does not fit the certificate (RFC 8446 section 4.4.3, RFC 5246 section 7.4.3).
NAME_REFUSED = "TLSV1_UNRECOGNIZED_NAME"  # RFC 6066 section 3
OTHER_KEY = ("BAD_SIGNATURE", "WRONG_SIGNATURE_TYPE")
_STRANGE = (ValueError, LookupError, TypeError, ArithmeticError, RecursionError)


async def _stream(door: Door, target: Target, seen: Seen, deadline: float) -> None:
    assert target.address is not None
    stream: Recorder | None = None
    try:
        with anyio.fail_after(deadline):
            stream = Recorder(await door.connect(target.address, target.port))
            seen.verdict = "connected"
            seen.detail = say("accepts")
            await _talk(door, stream, target, seen)
    except Refused as exc:
        seen.verdict, seen.icmp, seen.detail = "refused", _icmp(exc.icmp, exc.by), quoted(exc.message)
    except Unreachable as exc:
        seen.verdict, seen.icmp, seen.detail = "silent", _icmp(exc.icmp, exc.by), quoted(exc.message)
        seen.nobody = exc.icmp is None
    except (NoRoute, ProxyTrouble) as exc:
        seen.verdict, seen.detail = "unproven", quoted(exc.message)
    except TimeoutError:
        if stream is None:
            seen.verdict, seen.detail = "silent", say("nothing-came", seconds=deadline)
        elif seen.verdict == "connected":
            _cut_short(stream, target, seen, say("accepts-silent", speaks=target.speaks, seconds=deadline))
    except _ENDED:
        assert stream is not None
        if seen.verdict == "connected":
            _cut_short(stream, target, seen, say("accepts-wordless", speaks=target.speaks))
    except (WireError, ssl.SSLError) as exc:
        assert stream is not None
        if isinstance(exc, ssl.SSLError) and exc.reason in (None, "UNEXPECTED_EOF_WHILE_READING"):
            _cut_short(stream, target, seen, say("accepts-half-tls"))
        else:
            _not_understood(stream, target, seen, exc)
    except _STRANGE as exc:  # whatever a stranger sends, it is what it sent that is at fault
        assert stream is not None
        _not_understood(stream, target, seen, WireError("answer", 0, f"it cannot be understood ({type(exc).__name__})"))
    finally:
        if stream is not None:
            if seen.verdict in ("connected", "mismatched") and stream.first:
                seen.first_bytes = stream.first[:32].hex(" ")
            with anyio.CancelScope(shield=True):
                await anyio.aclose_forcefully(stream)


async def _talk(door: Door, stream: Recorder, target: Target, seen: Seen) -> None:
    """As its protocol has it."""
    if isinstance(target.keys, StandInKey):
        await ask_stream(stream, target.keys, seen)
    elif target.speaks == "openvpn":
        keys = target.keys if isinstance(target.keys, ControlKeys) else None
        await control_channel(OverTcp(stream), door.clock, keys, seen)
    else:
        await _TALKS.get(SPEECHES[target.speaks].probe, _tcp)(stream, target, seen)


def _icmp(icmp: Icmp | None, by: object) -> IcmpSeen | None:
    return IcmpSeen(icmp.type, icmp.code, icmp.name, str(by) if by else None) if icmp else None


def _cut_short(stream: Recorder, target: Target, seen: Seen, how: Said) -> None:
    """Connected, but no whole answer came."""
    spoke = recognise(stream.first)
    if spoke is not None and spoke != target.speaks and not (spoke == "tls" and target.speaks in ("https", "rdp")):
        _speaks_other(seen, target, spoke)
    else:
        seen.detail = how


def _not_understood(stream: Recorder, target: Target, seen: Seen, exc: Exception) -> None:
    """Something answered that is not the protocol."""
    spoke = recognise(stream.first)
    if isinstance(exc, ssl.SSLError) and spoke == "http" and target.speaks == "https":
        seen.verdict, seen.detail = "answered", say("clear-text")
        seen.problems.append("clear-text")
    elif isinstance(exc, ssl.SSLError) and spoke == "tls":
        reason = (exc.reason or "handshake failed").lower().replace("_", " ")
        seen.verdict, seen.detail = "answered", say("tls-fails", reason=reason)
        problem = "certificate-key-other" if exc.reason in OTHER_KEY else "tls-failed"
        if exc.reason in OTHER_KEY:
            seen.detail = say("tls-other-key")
        elif exc.reason == NAME_REFUSED and target.server_name is not None:
            seen.detail, problem = say("tls-name-refused", name=target.server_name), "name-refused"
        seen.problems.append(problem)
    elif seen.fingerprint is not None:
        seen.verdict, seen.detail = "mismatched", say("tls-other-inside", speaks=target.speaks)
    elif spoke is not None and spoke != target.speaks:
        _speaks_other(seen, target, spoke)
    else:
        seen.verdict, seen.detail = "mismatched", say("answers-not-as", speaks=target.speaks)


def _speaks_other(seen: Seen, target: Target, spoke: str) -> None:
    seen.verdict, seen.detail = "mismatched", say("speaks-other", spoke=spoke, speaks=target.speaks)
    if (target.speaks, spoke) == ("http", "tls"):
        seen.problems.append("https-needed")
        seen.detail += say("wants-https")


def page_says(protocol: str, status: int, title: str | None) -> Said:
    """What a page answers, with its title or the name of its server where it has one."""
    if title:
        return say("page-named", protocol=protocol, status=status, title=title)
    return say("page-status", protocol=protocol, status=status)


async def _tcp(stream: Recorder, target: Target, seen: Seen) -> None:
    """A protocol that is not known: it answers, and whatever it says first is kept to compare it."""
    del target
    seen.detail = say("accepts-unknown")
    with anyio.move_on_after(FIRST_WORD):
        try:
            await stream.receive()
        except anyio.EndOfStream:
            seen.detail = say("accepts-hangs-up")
    seen.greeting = recognise(stream.first) or (f"bytes {stream.first[:8].hex(' ')}" if stream.first else None)


async def _tls(stream: Recorder, target: Target, seen: Seen) -> TLSStream:
    wrapped = await start_tls(stream, target.server_name)
    seen.tls_version = str(wrapped.extra(TLSAttribute.tls_version))
    seen.chain = chain_of(wrapped)
    note_chain(seen, seen.chain)
    return wrapped


async def _tls_only(stream: Recorder, target: Target, seen: Seen) -> None:
    await _tls(stream, target, seen)
    seen.verdict, seen.detail = "answered", say("tls")


def _date(got: head.Head) -> str | None:
    """The device's own time (RFC 9110 section 6.6.1, RFC 2326 section 12.18)."""
    try:
        moment = parsedate_to_datetime(got.get("date") or "")
    except (ValueError, TypeError, IndexError):
        return None
    return rfc3339(moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC))


async def _web(stream: ByteStream, target: Target, seen: Seen) -> None:
    """Ask for the page; its head is enough, its body is read for the title and the expected text."""
    host = target.server_name or str(Endpoint(target.inner[0], target.inner[1]))
    fields = (("Host", host), ("User-Agent", "hooper"), ("Accept", "*/*"), ("Connection", "close"))
    await stream.send(head.serialize_request("GET", target.path, "HTTP/1.1", fields))
    got, body = await read_until(stream, head.split_head)
    if got.protocol != "HTTP" or not got.status:
        raise WireError("first line", 0, "no HTTP status")
    body = await _body(stream, body, target.expect)
    page = PageSeen(got.status, got.get("server"), head.page_title(body), got.get("location"), _date(got))
    seen.page = page
    realm = re.search(r'realm="([^"]*)"', got.get("www-authenticate") or "")  # the rest changes with each answer
    seen.greeting = " | ".join(part for part in (page.server, realm and realm[1]) if part) or None
    seen.verdict, seen.detail = "answered", page_says("HTTP", got.status, page.title)
    if target.speaks == "http" and got.status == 400 and _WANTS_TLS.search(body[:4096]):
        seen.problems.append("https-needed")
        seen.detail = say("wants-https-here")
    if target.expect is not None and target.expect.encode() not in body:
        seen.verdict, seen.detail = "mismatched", say("page-lacks", expect=target.expect)


async def _body(stream: ByteStream, body: bytes, expect: str | None) -> bytes:
    wanted = expect.encode() if expect is not None else b"</title"
    patience = 30.0 if expect is not None else 1.0  # seconds; a title is nice to have, the deadline ends both
    with anyio.move_on_after(patience):
        while len(body) < BODY_LIMIT and wanted not in body:
            try:
                body += await stream.receive()
            except (*_ENDED, ssl.SSLError):
                break
    return body


async def _http(stream: Recorder, target: Target, seen: Seen) -> None:
    await _web(stream, target, seen)


async def _https(stream: Recorder, target: Target, seen: Seen) -> None:
    wrapped = await _tls(stream, target, seen)
    seen.detail = say("tls-there")
    await _web(wrapped, target, seen)


async def _ssh(stream: Recorder, target: Target, seen: Seen) -> None:
    """The greeting, and the host key by which a server is told apart: others greet in the same words. No login."""
    data = b""
    while (greeting := ssh.parse_identification(data)) is None:
        data += await stream.receive()
    seen.greeting = greeting
    seen.verdict, seen.detail = "answered", quoted(greeting)
    talk = sshkex.HostKeyTalk(ssh.OURS, greeting, os.urandom)
    try:
        await stream.send(f"{ssh.OURS}\r\n".encode() + talk.start())
        line = re.search(rb"^SSH-[^\n]*\n", data, re.MULTILINE)
        answer = talk.receive(data[line.end() :] if line is not None else b"")
        while talk.host_key is None:
            if answer:
                await stream.send(answer)
            answer = talk.receive(await stream.receive())
    except (WireError, *_ENDED) as exc:
        why = quoted(exc.message) if isinstance(exc, WireError) else say("hangs-up")
        seen.detail += say("host-key-not-proven", why=why)
        return
    seen.fingerprint = talk.host_key.fingerprint
    seen.host_key = f"{talk.host_key.kind} {base64.b64encode(talk.host_key.blob).decode()}"
    seen.detail += say("host-key-kind", kind=talk.host_key.kind)
    if isinstance(target.keys, PinnedKey):
        if target.keys.fingerprint == seen.fingerprint:
            seen.detail += say("host-key-planned", tunnel=target.keys.tunnel)
        elif target.keys.kind == talk.host_key.kind:
            seen.verdict = "mismatched"
            seen.detail += say("host-key-other", tunnel=target.keys.tunnel)


async def _rtsp(stream: Recorder, target: Target, seen: Seen) -> None:
    """RFC 2326 sections 10.1, 10.2: OPTIONS needs no login; DESCRIBE tells whether one is wanted."""
    host = Endpoint(target.inner[0], target.inner[1])
    fields = (("CSeq", "1"), ("User-Agent", "hooper"))
    await stream.send(head.serialize_request("OPTIONS", f"rtsp://{host}{target.path}", "RTSP/1.0", fields))
    got, _ = await read_until(stream, head.split_head)
    if got.protocol != "RTSP" or not got.status:
        raise WireError("first line", 0, "no RTSP status")
    seen.page = PageSeen(got.status, got.get("server"), None, got.get("location"), _date(got))
    seen.greeting = got.get("server")
    seen.verdict, seen.detail = "answered", page_says("RTSP", got.status, seen.greeting)
    asked = (("CSeq", "2"), ("User-Agent", "hooper"), ("Accept", "application/sdp"))
    with anyio.move_on_after(DESCRIBED), suppress(WireError, *_ENDED):
        await stream.send(head.serialize_request("DESCRIBE", f"rtsp://{host}{target.path}", "RTSP/1.0", asked))
        said, _ = await read_until(stream, head.split_head)
        if said.protocol == "RTSP" and said.status == 200:
            seen.detail += say("film-open")
        elif said.protocol == "RTSP" and said.status == 401:
            seen.detail += say("film-login")


async def _rdp(stream: Recorder, target: Target, seen: Seen) -> None:
    await stream.send(x224.serialize_request())
    confirm: x224.Confirm = await read_until(stream, x224.parse_confirm)
    seen.verdict = "answered"
    if confirm.failure is not None:
        seen.detail = say("rdp-fails", get=x224.FAILURES.get(confirm.failure, f"failure {confirm.failure}"))
        seen.problems.append("tls-failed")
        return
    if not confirm.protocol & (x224.TLS | x224.HYBRID | x224.HYBRID_EX):
        seen.detail = say("rdp-without-tls")
        seen.problems.append("clear-text")
        return
    seen.detail = say("rdp-tls-not-up")
    await _tls(stream, target, seen)
    seen.detail = say("rdp-tls")


_TALKS: dict[str, Callable[[Recorder, Target, Seen], Awaitable[None]]] = {
    "tcp": _tcp,
    "tls": _tls_only,
    "http": _http,
    "https": _https,
    "ssh": _ssh,
    "vnc": talk_vnc,
    "ftp": talk_ftp,
    "smb": talk_smb,
    "dns": talk_dns,
    "rtsp": _rtsp,
    "rdp": _rdp,
}
