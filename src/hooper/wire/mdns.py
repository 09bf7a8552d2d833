"""What devices tell everyone on their network: names and services (RFC 6762, and RFC 6763 section 9)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rdataclass
import dns.rdatatype

from hooper.errors import WireError

GROUP, PORT = "224.0.0.251", 5353  # RFC 6762 section 3
EVERY_KIND = "_services._dns-sd._udp.local."  # RFC 6763 section 9
KEPT = 32  # records of one answer; a device of a home has a few


@dataclass(frozen=True, slots=True)
class LocalAnswer:
    """What one device says. host: its own name, without the domain; empty: not told. kinds: the types of its services,
    as "_ipp._tcp". instances: how it calls them, for people.
    """

    host: str = ""
    kinds: tuple[str, ...] = ()
    instances: tuple[str, ...] = ()


def serialize_questions(names: Iterable[str], number: int = 0) -> bytes:
    """Questions for pointers, all in one message (RFC 6762 section 5.3). number: 0, but for who asks from another port
    than 5353 (section 6.7).
    """
    message = dns.message.Message(id=number)
    message.flags = dns.flags.Flag(0)
    for name in names:
        absolute = dns.name.from_text(name)
        message.find_rrset(message.question, absolute, dns.rdataclass.IN, dns.rdatatype.PTR, create=True)
    return message.to_wire()


def parse_questions(data: bytes) -> tuple[str, ...]:
    """The names that are asked for; empty: this is an answer. Raises: WireError."""
    message = _message(data)
    answer = bool(message.flags & dns.flags.QR)
    return () if answer else tuple(rrset.name.to_text() for rrset in message.question)


def serialize_answer(told: LocalAnswer, address: bytes, number: int = 0) -> bytes:
    """An answer of a device. address: its IPv4 address, four bytes. number: of the question, where it had one."""
    from dns.rrset import from_text

    message = dns.message.Message(id=number)
    message.flags = dns.flags.QR | dns.flags.AA
    for kind in told.kinds:
        message.answer.append(from_text(EVERY_KIND, 4500, "IN", "PTR", f"{kind}.local."))
        for instance in told.instances:
            label = dns.name.Name([instance.encode()[:63]]).concatenate(dns.name.from_text(f"{kind}.local."))
            message.answer.append(from_text(f"{kind}.local.", 4500, "IN", "PTR", label.to_text()))
    if told.host:
        message.additional.append(from_text(f"{told.host}.local.", 120, "IN", "A", ".".join(map(str, address))))
    return message.to_wire()


def parse_answer(data: bytes) -> LocalAnswer:
    """Read what a device says. Raises: WireError: it is no answer, or damaged."""
    message = _message(data)
    if not message.flags & dns.flags.QR:
        raise WireError("answer", 2, "this is a question")
    records = (*message.answer, *message.additional)[:KEPT]
    kinds: dict[str, None] = {}
    instances: dict[str, None] = {}
    host = ""
    for rrset in records:
        if rrset.rdtype == dns.rdatatype.PTR:
            for target in _targets(rrset):
                if rrset.name == _EVERY_KIND:
                    kinds |= dict.fromkeys(_kind(target))
                elif found := [*_kind(rrset.name)]:
                    kinds |= dict.fromkeys(found)
                    instances[target.labels[0].decode("utf-8", "replace")] = None
        elif rrset.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA) and len(rrset.name.labels) == 3:
            host = host or rrset.name.labels[0].decode("utf-8", "replace")
    return LocalAnswer(host, tuple(kinds)[:KEPT], tuple(instances)[:KEPT])


_EVERY_KIND = dns.name.from_text(EVERY_KIND)


def _targets(rrset: Iterable[object]) -> Iterator[dns.name.Name]:
    for record in rrset:
        target = getattr(record, "target", None)
        if isinstance(target, dns.name.Name) and len(target.labels) > 1:
            yield target


def _kind(name: dns.name.Name) -> Iterator[str]:
    """The type that a name such as _ipp._tcp.local. is of (RFC 6763 section 4.1.2)."""
    labels = [label.decode("ascii", "replace") for label in name.labels]
    if len(labels) == 4 and labels[0].startswith("_") and labels[1] in ("_tcp", "_udp") and labels[2] == "local":
        yield f"{labels[0]}.{labels[1]}".lower()


def _message(data: bytes) -> dns.message.Message:
    try:
        return dns.message.from_wire(data)
    except (dns.exception.DNSException, ValueError, LookupError) as exc:
        raise WireError("message", 0, f"no DNS message: {exc}") from None
