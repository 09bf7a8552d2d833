"""The town's DNS: one zone that can be changed by dynamic update, and resolvers that know it (RFC 1035, RFC 2136)."""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

import anyio
from anyio.abc import ByteStream
from anyio.streams.buffered import BufferedByteStream

from hooper.net.types import Endpoint

if TYPE_CHECKING:
    import dns.message
    import dns.rcode
    import dns.rrset

ZONE, PRIMARY, SECOND_NAME = "heronquay.example", "ns.heronquay.example", "ns2.heronquay.example"
TTL = 60  # seconds
RIVAL = timedelta(seconds=90)  # after which somebody else writes a name over
LIE = "192.0.2.99"
KEY_NAME = "boathouse-key"


class Zone:
    """Records by name and type, as text; a TXT record without its quotes."""

    def __init__(self, secret: bytes, now: Callable[[], datetime] = lambda: datetime.now(UTC)) -> None:
        """secret: of the one key that may change the zone. now: the town's time, by which the second server lags."""
        self.secret, self._now = secret, now
        self.records: dict[tuple[str, str], list[str]] = {}
        self.serial = 1
        self.second_lag: timedelta | None = None  # None: there is no second server
        self.rival: tuple[str, str] | None = None  # a name that somebody else writes too, and the address for it
        self.settle: Callable[[], None] = lambda: None  # what is on its way into the zone, as far as it has arrived
        self._before: deque[tuple[datetime, tuple[str, str], list[str]]] = deque(maxlen=1000)  # newest last

    @property
    def servers(self) -> list[str]:
        """The names of the zone's own servers."""
        return [PRIMARY, SECOND_NAME] if self.second_lag is not None else [PRIMARY]

    def get(self, name: str, kind: str, at: datetime | None = None) -> list[str]:
        """What stands there, or stood there at a moment."""
        self.settle()
        key = (name.rstrip(".").lower(), kind)
        if self.rival is not None and key == (self.rival[0], "A"):
            self._written_over(key, self.rival[1])
        if at is not None:
            for when, changed, before in self._before:
                if when > at and changed == key:
                    return list(before)
        return list(self.records.get(key, ()))

    def _written_over(self, key: tuple[str, str], value: str) -> None:
        """The other hand comes by a while after anybody else did."""
        last = next((when for when, changed, _ in reversed(self._before) if changed == key), None)
        if self.records.get(key) != [value] and last is not None and self._now() - last >= RIVAL:
            self.set(key[0], key[1], [value])

    def set(self, name: str, kind: str, values: list[str]) -> bool:
        """Replace what stands there; whether that changed anything."""
        key = (name.rstrip(".").lower(), kind)
        changed = self.records.get(key, []) != values
        if changed:
            self._before.append((self._now(), key, self.records.get(key, [])))
        self.records[key] = values
        if not values:
            del self.records[key]
        self.serial += changed
        return changed

    def add(self, name: str, kind: str, value: str) -> bool:
        old = self.get(name, kind)
        return value not in old and self.set(name, kind, [*old, value])

    def remove(self, name: str, kind: str, value: str | None) -> bool:
        """Take a value away, or all of them."""
        old = self.get(name, kind)
        return self.set(name, kind, [kept for kept in old if value is not None and kept != value]) if old else False

    def address(self, name: str) -> IPv4Address | None:
        found = self.get(name, "A")
        return IPv4Address(found[0]) if found else None

    # --- DNS

    def authority(self, data: bytes, peer: Endpoint) -> bytes | None:
        """The zone's own server over datagrams."""
        del peer
        return self._answer(data, authoritative=True)

    def second(self, data: bytes, peer: Endpoint) -> bytes | None:
        """The second server of the zone, which is behind and takes no changes."""
        del peer
        if self.second_lag is None:
            return None
        return self._answer(data, authoritative=True, at=self._now() - self.second_lag)

    def resolver(self, data: bytes, peer: Endpoint) -> bytes | None:
        """A resolver: it knows the same, and changes nothing."""
        del peer
        return self._answer(data, authoritative=False)

    def liar(self, data: bytes, peer: Endpoint, about: str | None = None) -> bytes | None:
        """A resolver that gives one address for everything, as some do that block or advertise. about: for this name
        only.
        """
        import dns.message
        import dns.rrset

        honest = self.resolver(data, peer)
        if honest is None:
            return None
        reply = dns.message.from_wire(honest)
        for rrset in reply.answer:
            if rrset.rdtype == 1 and about in (None, rrset.name.to_text(omit_final_dot=True).lower()):
                reply.answer[reply.answer.index(rrset)] = dns.rrset.from_text(rrset.name, TTL, "IN", "A", LIE)
        return reply.to_wire()

    async def stream(self, raw: ByteStream, peer: Endpoint) -> None:
        """The zone's own server over TCP (RFC 1035 section 4.2.2)."""
        del peer
        stream = BufferedByteStream(raw)
        with anyio.move_on_after(30):
            while True:
                (length,) = struct.unpack("!H", await stream.receive_exactly(2))
                answer = self._answer(await stream.receive_exactly(length), authoritative=True)
                if answer is None:
                    return
                await stream.send(struct.pack("!H", len(answer)) + answer)

    def _answer(self, data: bytes, *, authoritative: bool, at: datetime | None = None) -> bytes | None:
        import dns.exception
        import dns.flags
        import dns.message
        import dns.name
        import dns.opcode
        import dns.rcode

        keys = {dns.name.from_text(KEY_NAME): self.secret}
        try:
            asked = dns.message.from_wire(data, keyring=keys)
        except (dns.exception.DNSException, ValueError, LookupError):
            return _not_authorized(data)
        reply = dns.message.make_response(asked, recursion_available=not authoritative)
        if authoritative:
            reply.flags |= dns.flags.AA
        if asked.opcode() == dns.opcode.UPDATE:
            reply.set_rcode(self._update(asked) if authoritative and at is None else dns.rcode.REFUSED)
        elif len(asked.question) == 1:
            self._look(asked, reply, at)
        else:
            return None
        return reply.to_wire()

    def _look(self, asked: dns.message.Message, reply: dns.message.Message, at: datetime | None) -> None:
        import dns.rcode
        import dns.rdatatype
        import dns.rrset

        question = asked.question[0]
        name, kind = question.name.to_text(omit_final_dot=True).lower(), dns.rdatatype.to_text(question.rdtype)
        mine = name == ZONE or name.endswith(f".{ZONE}")
        values = [self._soa()] if (name, kind) == (ZONE, "SOA") else self.get(name, kind, at)
        if values:
            texts = [f'"{value}"' for value in values] if kind == "TXT" else values
            reply.answer.append(dns.rrset.from_text(question.name, TTL, "IN", kind, *texts))
        elif not any(key[0] == name or key[0].endswith(f".{name}") for key in self.records):
            reply.set_rcode(dns.rcode.NXDOMAIN)
        if not values and mine:
            reply.authority.append(dns.rrset.from_text(f"{ZONE}.", TTL, "IN", "SOA", self._soa()))

    def _soa(self) -> str:
        return f"{PRIMARY}. net.{ZONE}. {self.serial} 3600 600 86400 {TTL}"

    def _update(self, asked: dns.message.Message) -> dns.rcode.Rcode:
        """RFC 2136 sections 3.2 and 3.4.2. The signature has been checked."""
        import dns.rcode
        import dns.rdataclass
        import dns.rdatatype

        if not asked.had_tsig:
            return dns.rcode.REFUSED
        if asked.sections[0][0].name.to_text(omit_final_dot=True).lower() != ZONE:
            return dns.rcode.NOTAUTH
        changes = asked.sections[2]
        names = [change.name.to_text(omit_final_dot=True).lower() for change in changes]
        if not all(name == ZONE or name.endswith(f".{ZONE}") for name in names):
            return dns.rcode.NOTZONE
        unmet = self._unmet(asked.sections[1])
        if unmet is not None:
            return unmet
        for name, change in zip(names, changes, strict=True):
            kind = dns.rdatatype.to_text(change.rdtype)
            values = [record.to_text().strip('"') for record in change]
            if change.deleting == dns.rdataclass.ANY:
                self.remove(name, kind, None)
            elif change.deleting == dns.rdataclass.NONE:
                for value in values:
                    self.remove(name, kind, value)
            else:
                for value in values:
                    self.add(name, kind, value)
        return dns.rcode.NOERROR

    def _unmet(self, prerequisites: list[dns.rrset.RRset]) -> dns.rcode.Rcode | None:
        """The first prerequisite that is not met (RFC 2136 section 3.2.5); None: all are."""
        import dns.rcode
        import dns.rdataclass
        import dns.rdatatype

        for one in prerequisites:
            name, kind = one.name.to_text(omit_final_dot=True).lower(), dns.rdatatype.to_text(one.rdtype)
            there = any(key[0] == name for key in self.records) if kind == "ANY" else bool(self.get(name, kind))
            if one.deleting == dns.rdataclass.NONE and there:
                return dns.rcode.YXDOMAIN if kind == "ANY" else dns.rcode.YXRRSET
            if one.deleting == dns.rdataclass.ANY and not there:
                return dns.rcode.NXDOMAIN if kind == "ANY" else dns.rcode.NXRRSET
            wanted = sorted(record.to_text().strip('"') for record in one)
            if one.deleting is None and sorted(self.get(name, kind)) != wanted:
                return dns.rcode.NXRRSET
        return None


def _not_authorized(data: bytes) -> bytes | None:
    """RFC 8945 section 5.2: a signature that does not fit. None: this is no question at all."""
    import dns.exception
    import dns.message
    import dns.rcode

    from hooper.net.dns import parse_unchecked

    try:
        asked = parse_unchecked(data)
        error = dns.rcode.BADSIG if asked.tsig and asked.tsig.name.to_text().startswith(KEY_NAME) else dns.rcode.BADKEY
        reply = dns.message.make_response(asked)
        reply.set_rcode(dns.rcode.NOTAUTH)
        if asked.tsig is None:
            return None
        bare = reply.to_wire()
        return _with_unsigned_tsig(bare, asked, error) if bare is not None else None
    except (dns.exception.DNSException, ValueError, LookupError):
        return None


def _with_unsigned_tsig(bare: bytes, asked: dns.message.Message, error: int) -> bytes:
    """RFC 8945 section 5.3.2: an error about the key is told with a TSIG record that is not signed."""
    assert asked.tsig is not None
    (old,) = asked.tsig
    body = bytes(old.algorithm.to_wire()) + struct.pack("!HIHHHHH", 0, old.time_signed & 0xFFFFFFFF, old.fudge, 0,
                                                 asked.id, error, 0)  # fmt: skip
    owner = asked.tsig.name.to_wire()
    assert owner is not None
    record = bytes(owner) + struct.pack("!HHIH", 250, 255, 0, len(body)) + body
    return bare[:10] + struct.pack("!H", 1) + bare[12:] + record
