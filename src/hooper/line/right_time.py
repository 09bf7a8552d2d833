"""Is this computer's clock right? A server of time is asked (RFC 5905): a wrong clock breaks codes, TLS and tunnels."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hooper.addresses import IPAddress
from hooper.errors import CounterpartError, HooperError
from hooper.line.facts import ClockRow
from hooper.net.exchange import exchange
from hooper.net.types import Datagram, Door, Endpoint
from hooper.net.whereabouts import standing
from hooper.wire.ntp import NtpAnswer, offset, question

if TYPE_CHECKING:
    from hooper.site.model import Site

PORT = 123
SCHEDULE = (0.0, 0.5, 1.5)  # seconds after the start


class NoTime(CounterpartError):
    """A server of time declines, or has no time itself."""

    code = "no-time"
    remedy = "Name another in [measure] `ntp`."


async def clock_by(door: Door, server: IPAddress, deadline: float) -> ClockRow:
    """Ask one server. Raises: NoAnswer, ConnectFailed; NoTime."""
    mark = secrets.randbits(64)
    found: list[NtpAnswer] = []

    def matches(came: Datagram) -> bool:
        try:
            answer = NtpAnswer.parse(came.data)
        except HooperError:
            return False
        if answer.origin == mark:
            found.append(answer)
        return answer.origin == mark

    sent = door.clock.now().timestamp()
    to = Endpoint(server, PORT)
    await exchange(door, to, question(mark), schedule=SCHEDULE, deadline=deadline, matches=matches)
    came = door.clock.now().timestamp()
    answer = found[-1]
    if not answer.tells:
        why = f" ({answer.reason})" if answer.reason else ""
        raise NoTime(f"{server} has no time to tell{why}")
    behind, within = offset(answer, sent, came)
    return ClockRow(str(server), round(behind, 3), round(within, 3))


async def time_servers(door: Door, site: Site) -> list[IPAddress]:
    """Whom to ask for the time: who is named; else the router of this network, as many routers tell it."""
    named: list[IPAddress] = [one for one in site.measure.ntp if one.version == 4]
    place = standing(site, await door.surroundings())
    return named or ([site.gateways[place.gateway].lan.ip] if place.gateway is not None else [])


async def clock_now(door: Door, servers: Sequence[IPAddress], deadline: float) -> ClockRow | None:
    """What the first server that tells says; None: none does. deadline: seconds for each."""
    for server in servers:
        try:
            return await clock_by(door, server, deadline)
        except HooperError:
            continue
    return None
