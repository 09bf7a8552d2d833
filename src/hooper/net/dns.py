"""Ask one DNS server over a door; the messages themselves are dnspython's."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from ipaddress import ip_address
from typing import Any

import anyio
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.tsig
from anyio.streams.buffered import BufferedByteStream

from hooper.addresses import IPAddress
from hooper.errors import NoAnswer, WireError
from hooper.net.exchange import exchange
from hooper.net.proxy import close_quietly
from hooper.net.types import Datagram, Door, Endpoint, Family

ADDRESS_RECORDS: dict[Family, str] = {"ipv4": "A", "ipv6": "AAAA"}
ALIASES, RECORDS = 8, 100  # of one answer; no name in use has more
DATAGRAM = 512  # bytes of a datagram, where nothing else was agreed on (RFC 1035 section 2.3.4)
SCHEDULE = (0.0, 1.0, 2.0)  # seconds; RFC 1035 section 4.2.1 leaves the times to the asker


def parse_unchecked(data: bytes) -> dns.message.Message:
    """A message whose signature is not looked at. Raises: dns.exception.DNSException, ValueError, LookupError."""
    return dns.message.from_wire(data, keyring=lambda _, __: False)


async def ask_raw(door: Door, server: Endpoint, message: dns.message.Message, deadline: float) -> bytes:
    """The server's answer as bytes (RFC 1035); over TCP where it, or the question, does not fit a datagram (RFC 7766).

    Raises: NoAnswer, ConnectFailed.
    """
    data = message.to_wire()

    def matches(came: Datagram) -> bool:
        try:
            return bool(message.is_response(parse_unchecked(came.data)))
        except (dns.exception.DNSException, ValueError, LookupError):  # damaged, on purpose or not
            return False

    if len(data) <= DATAGRAM:
        came = await exchange(door, server, data, schedule=SCHEDULE, deadline=deadline, matches=matches)
        if not parse_unchecked(came.data).flags & dns.flags.TC:
            return came.data
    whole = await _over_stream(door, server, data, deadline)
    if not matches(Datagram(whole, server)):
        raise WireError("answer", 0, f"{server} answers another question over TCP")
    return whole


async def _over_stream(door: Door, server: Endpoint, data: bytes, deadline: float) -> bytes:
    try:
        with anyio.fail_after(deadline):
            stream = BufferedByteStream(await door.connect(server.address, server.port))
            try:
                await stream.send(struct.pack("!H", len(data)) + data)
                (length,) = struct.unpack("!H", await stream.receive_exactly(2))
                return await stream.receive_exactly(length)
            finally:
                await close_quietly(stream)
    except (TimeoutError, anyio.EndOfStream, anyio.IncompleteRead, anyio.BrokenResourceError):
        raise NoAnswer(f"no whole answer from {server} over TCP within {deadline:g} s") from None


async def ask_dns(door: Door, server: Endpoint, message: dns.message.Message, deadline: float) -> dns.message.Message:
    """The server's answer, whose signature is not looked at. Raises: NoAnswer, ConnectFailed, WireError."""
    try:
        return parse_unchecked(await ask_raw(door, server, message, deadline))
    except (dns.exception.DNSException, ValueError, LookupError):
        raise WireError("answer", 0, f"{server} answers with a damaged message") from None


def _query(name: str, kind: dns.rdatatype.RdataType) -> dns.message.Message:
    """Raises: WireError: no DNS message can carry such a name (RFC 1035 section 2.3.4)."""
    try:
        return dns.message.make_query(name, kind)
    except dns.exception.DNSException as exc:
        raise WireError("name", 0, f"{name[:60]!r} cannot be asked for: {exc}") from None


def _answers(answer: dns.message.Message, name: dns.name.Name, kind: dns.rdatatype.RdataType) -> list[Any]:
    """The records for exactly that name, and those that it is an alias of (RFC 1034 section 3.6.2), as far as the
    answer holds them: what else stands in it was not asked for.
    """
    for _ in range(ALIASES):
        own = [rrset for rrset in answer.answer if rrset.name == name]
        found = [record for rrset in own if rrset.rdtype == kind for record in rrset]
        alias = next((rrset for rrset in own if rrset.rdtype == dns.rdatatype.CNAME), None)
        if found or alias is None:
            return found[:RECORDS]
        name = next(iter(alias)).target
    return []


async def records(
    door: Door, server: Endpoint, name: str, kind: str, deadline: float, *, recursive: bool = True
) -> tuple[str, ...]:
    """What `server` has for `name` by type ("A", "NS", ...), as text, sorted; a TXT record's parts are joined.

    Aliases are followed as far as the answer holds them. Empty: it has none.
    Raises: NoAnswer, ConnectFailed; WireError: it answers with a failure.
    """
    wanted = dns.rdatatype.from_text(kind)
    asked = _query(name, wanted)
    if not recursive:
        asked.flags &= ~dns.flags.RD
    answer = await ask_dns(door, server, asked, deadline)
    if answer.rcode() not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
        raise WireError("answer", 3, f"{server} answers {dns.rcode.to_text(answer.rcode())} for {name}")
    found = _answers(answer, asked.question[0].name, wanted)
    if kind == "TXT":
        return tuple(sorted(b"".join(record.strings).decode("utf-8", "replace") for record in found))
    if kind == "NS":
        return tuple(sorted(record.target.to_text(omit_final_dot=True).lower() for record in found))
    return tuple(sorted(record.to_text() for record in found))


async def addresses_by(
    door: Door, server: Endpoint, name: str, deadline: float, family: Family = "ipv4"
) -> Sequence[IPAddress]:
    """The addresses of one family that `server` has for `name`; empty: it has none. Raises: as `records`."""
    return [ip_address(text) for text in await records(door, server, name, ADDRESS_RECORDS[family], deadline)]


async def zone_of(door: Door, server: Endpoint, name: str, deadline: float) -> tuple[str, str] | None:
    """The zone that `name` is in and its primary server's name, by SOA (RFC 2308 section 3 puts it into a denial).

    None: the server knows no zone. Raises: as `records`.
    """
    asked = _query(name.removeprefix("*."), dns.rdatatype.SOA)
    answer = await ask_dns(door, server, asked, deadline)
    if answer.rcode() not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
        raise WireError("answer", 3, f"{server} answers {dns.rcode.to_text(answer.rcode())} for {name}")
    for rrset in (*answer.answer, *answer.authority):
        if rrset.rdtype == dns.rdatatype.SOA and asked.question[0].name.is_subdomain(rrset.name):
            zone = rrset.name.to_text(omit_final_dot=True).lower()
            return zone, next(iter(rrset)).mname.to_text(omit_final_dot=True).lower()
    return None
