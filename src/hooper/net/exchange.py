"""Ask by datagram and take the answer: the only retransmission loop there is."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from ipaddress import IPv6Address

import anyio

from hooper.errors import NoAnswer
from hooper.net.types import ConnectFailed, Datagram, Door, Endpoint, Refused, Rejected, Unreachable

STUN_SCHEDULE = (0.0, 0.5, 1.5, 3.5)  # seconds after the start, RFC 8489 section 6.2.1 with RTO 500 ms


async def exchange(
    door: Door,
    to: Endpoint,
    data: bytes,
    *,
    schedule: Sequence[float],
    deadline: float,
    matches: Callable[[Datagram], bool],
) -> Datagram:
    """Send `data`, again at each time of `schedule`, until a datagram from `to` comes that `matches`.

    Args: schedule: seconds after the start. deadline: seconds for all of it.
    Raises: NoAnswer: none came in time. Refused, Unreachable: an ICMP error came.
    """
    anywhere = Endpoint(IPv6Address(0), 0) if to.address.version == 6 else None
    async with await door.datagrams(local=anywhere) as socket:
        answer: Datagram | None = None
        problem: ConnectFailed | None = None

        async def receive(scope: anyio.CancelScope) -> None:
            nonlocal answer, problem
            while True:
                came = await socket.receive()
                if isinstance(came, Rejected):
                    if came.to is None or came.to == to:
                        kind = Refused if came.icmp.refuses else Unreachable
                        problem = kind(f"{came.by} says about {to}: {came.icmp.name}", icmp=came.icmp, by=came.by)
                        break
                elif came.sender == to and matches(came):
                    answer = came
                    break
            scope.cancel()

        with anyio.move_on_after(deadline):
            async with anyio.create_task_group() as tasks:
                tasks.start_soon(receive, tasks.cancel_scope)
                waited = 0.0
                for moment in schedule:
                    await anyio.sleep(moment - waited)
                    waited = moment
                    await socket.send(data, to)
        if answer is not None:
            return answer
        if problem is not None:
            raise problem
    raise NoAnswer(f"no answer from {to} within {deadline:g} s")
