"""What STUN servers see of this computer, asked over datagrams or a connection (RFC 8489)."""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Sequence

import anyio
from anyio.streams.buffered import BufferedByteStream

from hooper.addresses import IPAddress
from hooper.errors import HooperError, NoAnswer, WireError
from hooper.net.exchange import STUN_SCHEDULE, exchange
from hooper.net.proxy import close_quietly
from hooper.net.types import Datagram, Door, Endpoint
from hooper.wire import stun

STUN_DEADLINE = 2.0  # seconds at most for all servers together, less where the whole check has less


def new_transaction() -> bytes:
    """A transaction id that nobody can guess (RFC 8489 section 5)."""
    return os.urandom(12)


async def ask_stun(door: Door, server: Endpoint, deadline: float) -> IPAddress:
    """The address that `server` sees. Raises: as `stun_answer`."""
    mapped = (await stun_answer(door, server, deadline)).mapped_address()
    assert mapped is not None
    return mapped[0]


async def stun_answer(door: Door, server: Endpoint, deadline: float) -> stun.Message:
    """The answer to a binding request, with a mapped address (RFC 8489).

    Raises: NoAnswer, ConnectFailed, WireError.
    """
    transaction_id = new_transaction()
    request = stun.Message(stun.BINDING_REQUEST, transaction_id).serialize()

    def matches(came: Datagram) -> bool:
        try:
            return stun.Message.parse(came.data).transaction_id == transaction_id
        except WireError:
            return False

    if door.place.kind == "proxy":
        data = await _over_stream(door, server, request, deadline)
    else:
        came = await exchange(door, server, request, schedule=STUN_SCHEDULE, deadline=deadline, matches=matches)
        data = came.data
    message = stun.Message.parse(data)
    mapped = message.mapped_address()
    if message.kind != stun.BINDING_SUCCESS or message.transaction_id != transaction_id or mapped is None:
        raise WireError("answer", 0, f"{server} gives no mapped address")
    return message


async def _over_stream(door: Door, server: Endpoint, request: bytes, deadline: float) -> bytes:
    """RFC 8489 section 6.2.2: over TCP the length in the header ends the message."""
    try:
        with anyio.fail_after(deadline):
            stream = BufferedByteStream(await door.connect(server.address, server.port))
            try:
                await stream.send(request)
                start = await stream.receive_exactly(stun.HEADER.size)
                (length,) = struct.unpack_from("!H", start, 2)
                return start + (await stream.receive_exactly(length) if length else b"")
            finally:
                await close_quietly(stream)
    except (TimeoutError, anyio.EndOfStream, anyio.IncompleteRead, anyio.BrokenResourceError):
        raise NoAnswer(f"no answer from {server} within {deadline:g} s") from None


async def mapped_by(
    door: Door, servers: Sequence[Endpoint], deadline: float, *, heard: Callable[[HooperError], None] | None = None
) -> tuple[IPAddress, Endpoint] | None:
    """The first IPv4 answer of any of `servers`, asked side by side; None: none answered, and `heard` is told why."""
    found: list[tuple[IPAddress, Endpoint]] = []

    async def one(server: Endpoint, scope: anyio.CancelScope) -> None:
        try:
            address = await ask_stun(door, server, deadline)
        except HooperError as exc:
            if heard is not None:
                heard(exc)
            return
        if address.version != 4:
            return
        found.append((address, server))
        scope.cancel()

    async with anyio.create_task_group() as tasks:
        for server in servers:
            tasks.start_soon(one, server, tasks.cancel_scope)
    return found[0] if found else None
