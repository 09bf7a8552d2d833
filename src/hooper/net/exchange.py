"""Ask by datagram and take the answer: the only retransmission loop there is."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Sequence
from ipaddress import IPv6Address

import anyio

from hooper.addresses import IPAddress
from hooper.errors import NoAnswer
from hooper.net.types import ConnectFailed, Datagram, Datagrams, Door, Endpoint, Refused, Rejected, Unreachable

STUN_SCHEDULE = (0.0, 0.5, 1.5, 3.5)  # seconds after the start, RFC 8489 section 6.2.1 with RTO 500 ms


async def moments(schedule: Sequence[float]) -> AsyncIterator[None]:
    """Comes by at each time of `schedule`, in seconds after the start."""
    start = anyio.current_time()
    for moment in schedule:
        await anyio.sleep_until(start + moment)
        yield


async def socket_towards(door: Door, to: IPAddress) -> Datagrams:
    """A datagram socket of the family of an address. Raises: MachineError: this computer does not allow it."""
    return await door.datagrams(local=Endpoint(IPv6Address(0), 0) if to.version == 6 else None)


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
    Raises: NoAnswer: none came in time. Refused, Unreachable: an ICMP error came. NoRoute, ProxyTrouble: nothing left.
    """
    async with await socket_towards(door, to.address) as socket:
        return await exchange_by(
            socket,
            to,
            data,
            schedule=schedule,
            deadline=deadline,
            matches=lambda came: came.sender == to and matches(came),
        )


async def exchange_by(
    socket: Datagrams,
    to: Endpoint,
    data: bytes,
    *,
    schedule: Sequence[float],
    deadline: float,
    matches: Callable[[Datagram], bool],
) -> Datagram:
    """The same by a socket that is there, with an answer from wherever it comes. Raises: as `exchange`."""
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
            elif matches(came):
                answer = came
                break
        scope.cancel()

    with anyio.move_on_after(deadline):
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(receive, tasks.cancel_scope)
            async for _ in moments(schedule):
                try:
                    await socket.send(data, to)
                except ConnectFailed as exc:  # a way that takes nothing to there
                    problem = exc
                    tasks.cancel_scope.cancel()
    if answer is not None:
        return answer
    if problem is not None:
        raise problem
    raise NoAnswer(f"no answer from {to} within {deadline:g} s")
