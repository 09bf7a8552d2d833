"""Ask one DNS server over a door; the messages themselves are dnspython's."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import ip_address

import dns.exception
import dns.message
import dns.rcode
import dns.rdatatype

from hooper.addresses import IPAddress
from hooper.errors import WireError
from hooper.net.exchange import exchange
from hooper.net.types import Datagram, Door, Endpoint

SCHEDULE = (0.0, 1.0, 2.0)  # seconds; RFC 1035 section 4.2.1 leaves the times to the asker


async def ask_dns(door: Door, server: Endpoint, message: dns.message.Message, deadline: float) -> dns.message.Message:
    """The server's answer (RFC 1035). Raises: NoAnswer, ConnectFailed."""

    def matches(came: Datagram) -> bool:
        try:
            return bool(message.is_response(dns.message.from_wire(came.data)))
        except (dns.exception.DNSException, ValueError, LookupError):  # damaged, on purpose or not
            return False

    data = message.to_wire()
    came = await exchange(door, server, data, schedule=SCHEDULE, deadline=deadline, matches=matches)
    return dns.message.from_wire(came.data)


async def addresses_by(door: Door, server: IPAddress, name: str, deadline: float) -> Sequence[IPAddress]:
    """The IPv4 addresses that `server` has for `name`; empty: it has none.

    Raises: NoAnswer, ConnectFailed; WireError: it answers with a failure.
    """
    asked = dns.message.make_query(name, dns.rdatatype.A)
    answer = await ask_dns(door, Endpoint(server, 53), asked, deadline)
    if answer.rcode() not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
        raise WireError("answer", 3, f"{server} answers {dns.rcode.to_text(answer.rcode())} for {name}")
    rows = [rrset for rrset in answer.answer if rrset.rdtype == dns.rdatatype.A]
    return [ip_address(record.address) for rrset in rows for record in rrset]
