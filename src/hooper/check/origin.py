"""Where a check is made from: here, an interface of this machine, a SOCKS5 proxy."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import anyio

from hooper.addresses import parse_address
from hooper.errors import UsageError
from hooper.net.proxy import ProxyDoor, ProxyFailed, close_quietly
from hooper.net.types import Door, Endpoint
from hooper.secret import SecretRef

GREETED_WITHIN = 3.0  # seconds, or as long as a probe may take


@dataclass(frozen=True)
class Origin:
    """A place to look from. name: of the interface, or the proxy's host. password: of the proxy's user."""

    kind: str  # here, interface, proxy
    name: str = ""
    port: int = 0
    user: str | None = None
    password: SecretRef | None = None


async def open_origin(here: Door, origin: Origin, base: Path, deadline: float) -> Door:
    """The door of that place. base: the site file's folder. Raises: UsageError, MachineError, ProxyFailed."""
    if origin.kind == "interface":
        return here.through(origin.name)
    try:
        address = parse_address(origin.name)
    except ValueError:
        found = await here.lookup(origin.name, "ipv4")
        if not found:
            raise ProxyFailed(f"the proxy's name {origin.name} has no address") from None
        address = found[0]
    password = origin.password.read(base) if origin.password is not None else None
    if origin.user is not None and password is None:
        raise UsageError("the proxy's user needs a password", remedy="Give a reference to it: env:NAME or file:PATH.")
    door = ProxyDoor(here, Endpoint(address, origin.port), origin.user, password)
    try:
        with anyio.fail_after(max(deadline, GREETED_WITHIN)):
            await close_quietly(await door.greet())
    except TimeoutError:
        raise ProxyFailed(f"the proxy {door.proxy} does not answer") from None
    return door
