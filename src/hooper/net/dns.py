"""Asking DNS over a door: one server, or all of a zone, since resolvers keep what is old. dnspython has the forms."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
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
from hooper.errors import HooperError, NoAnswer, WireError
from hooper.net.exchange import exchange
from hooper.net.proxy import close_quietly
from hooper.net.types import Datagram, Door, Endpoint, Family

ADDRESS_RECORDS: dict[Family, str] = {"ipv4": "A", "ipv6": "AAAA"}
ALIASES, RECORDS = 8, 100  # of one answer; no name in use has more
DATAGRAM = 512  # bytes of a datagram, where nothing else was agreed on (RFC 1035 section 2.3.4)
QUESTION_S = 3.0  # seconds for one question to one server; more does not help
GRACE_S = 0.5  # seconds for further servers once one has answered
SERVERS = 13  # of a zone; more fit into no referral (RFC 1035 section 2.3.4), and are not asked
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


@dataclass(frozen=True)
class Published:
    """What is published. source: who says so; None in `values`: nobody could be asked."""

    values: tuple[str, ...] | None
    source: str


@dataclass(frozen=True)
class ZoneServers:
    """Where to ask about a name. zone: None where none was found; then `servers` are resolvers."""

    zone: str | None
    servers: tuple[Endpoint, ...]

    @property
    def authoritative(self) -> bool:
        return self.zone is not None


async def authority_of(door: Door, resolvers: Sequence[Endpoint], name: str, deadline: float) -> ZoneServers:
    """The servers of the zone that `name` is in. deadline: seconds for each question. Never raises for the network."""
    for resolver in resolvers:
        try:
            found = await zone_of(door, resolver, name, deadline)
            if found is None:
                continue
            zone, primary = found
            names = await records(door, resolver, zone, "NS", deadline) or (primary,)
            servers = await _addresses(door, resolver, names, deadline)
        except HooperError:
            continue
        if servers:
            # one that was named as resolver is asked at the port that was named
            known = {resolver.address: resolver for resolver in resolvers}
            return ZoneServers(zone, tuple(known.get(address, Endpoint(address, 53)) for address in servers))
    return ZoneServers(None, tuple(resolvers))


async def _addresses(door: Door, resolver: Endpoint, names: Sequence[str], deadline: float) -> list[IPAddress]:
    """The IPv4 address of each server; one that has none is left out."""
    found: dict[str, list[IPAddress]] = {}

    async def one(name: str) -> None:
        try:
            found[name] = [ip_address(text) for text in await records(door, resolver, name, "A", deadline)]
        except HooperError:
            found[name] = []

    async with anyio.create_task_group() as tasks:
        for name in names[:SERVERS]:
            tasks.start_soon(one, name)
    return list(dict.fromkeys(address for name in names[:SERVERS] for address in found[name][:4]))[:SERVERS]


async def published(door: Door, where: ZoneServers, name: str, kind: str, deadline: float) -> Published:
    """What the first server that answers has for `name`. Never raises for the network."""
    problem = "no server for this name is known"
    with anyio.move_on_after(2 * deadline):  # for all of them; the first that is silent leaves time for another
        for server in where.servers:
            try:
                values = await records(door, server, name, kind, deadline, recursive=not where.authoritative)
            except HooperError as exc:
                problem = exc.message
                continue
            kind_of_server = "authoritative server" if where.authoritative else "resolver"
            return Published(values, f"{kind_of_server} {server.address}")
    return Published(None, problem)


async def all_show(
    door: Door, where: ZoneServers, name: str, kind: str, deadline: float, grace: float = GRACE_S
) -> dict[Endpoint, tuple[str, ...] | None]:
    """What each server has for `name`; None: it does not answer. Never raises for the network.

    deadline: seconds for the first answer; grace: for the others after it.
    """
    shown: dict[Endpoint, tuple[str, ...] | None] = dict.fromkeys(where.servers)

    async def one(server: Endpoint, scope: anyio.CancelScope) -> None:
        try:
            shown[server] = await records(door, server, name, kind, deadline, recursive=not where.authoritative)
        except HooperError:
            return
        scope.deadline = min(scope.deadline, door.clock.monotonic() + grace)

    async with anyio.create_task_group() as tasks:
        tasks.cancel_scope.deadline = door.clock.monotonic() + deadline
        for server in where.servers:
            tasks.start_soon(one, server, tasks.cancel_scope)
    return shown


async def shown_by_all(
    door: Door, where: ZoneServers, name: str, kind: str, value: str, deadline: float
) -> bool | None:
    """Whether every server that answers has `value` for `name`; None: none answers."""
    shown = await all_show(door, where, name, kind, deadline, deadline)
    answers = [value in values for values in shown.values() if values is not None]
    return all(answers) if answers else None
