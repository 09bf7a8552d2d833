"""What is quickly known of the line: surroundings, STUN, names, what was told. `measure` looks deeper."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

import anyio

from hooper.addresses import parse_address
from hooper.errors import HooperError
from hooper.line.facts import Known, LineFacts, Told
from hooper.net.stun import connected_surroundings, mapped_by, standing
from hooper.net.types import Door, Endpoint
from hooper.site.model import Site
from hooper.site.references import chain_of, first_line


async def gather_line(
    here: Door,
    site: Site,
    told: Mapping[str, Told],
    deadline: float,
    *,
    now: datetime,
    chain: tuple[str, ...] | None = None,
    line: str | None = None,
) -> LineFacts:
    """What is known of a line.

    Args: told: as the store keeps it. deadline: seconds for all servers together. chain: its gateways, outermost
    first; None: those before this machine, or the longest chain where it is not at the site. line: that it comes
    by; None: the first of the chain.
    Raises: NoNetwork.
    """
    around = await connected_surroundings(here)
    interface, at, own = standing(site, around)
    if chain is None:
        chains = [chain_of(site, key) for key in ([at] if at is not None else site.gateways)]
        chain = max(chains, key=len, default=())
    line = line if line is not None else first_line(site, chain)
    names = [name for name, entry in site.names.items() if entry.line == line and not name.startswith("*.")]
    found: dict[str, Known] = {}
    public: list[tuple[Known, bool]] = []

    async def ask_public() -> None:
        public.append(await _public(here, site, line, interface, told, deadline, now))

    async def ask_name(name: str) -> None:
        found[name] = await _name(here, site, name, deadline)

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(ask_public)
        for name in names:
            tasks.start_soon(ask_name, name)
    return LineFacts(
        now=now,
        line=line,
        chain=chain,
        at=at,
        own=Known(own, f"interface {interface}" if interface else "this machine is on none of the site's networks"),
        default_gateway=Known(around.default_gateway(interface), f"route by {interface}" if interface else "its route"),
        public=public[0][0],
        stun_silent=public[0][1],
        wan={key: told[f"wan:{key}"] for key in site.gateways if f"wan:{key}" in told},
        names={name: found[name] for name in names},
    )


async def _public(
    here: Door, site: Site, line: str, interface: str | None, told: Mapping[str, Told], deadline: float, now: datetime
) -> tuple[Known, bool]:
    """The public address: measured from the site, else as told, else fixed; and whether all STUN servers are silent."""
    servers = [Endpoint(address, port) for address, port in site.measure.stun]
    tried, unanswered = "no STUN server is named in [measure]", False
    if servers and interface is not None:
        mapped = await mapped_by(here.through(interface), servers, deadline)
        if mapped is not None:
            return Known(mapped[0], f"STUN server {mapped[1]}"), False
        tried, unanswered = "no STUN server answered", True
    elif servers:
        tried = "this machine is not at the site"
    if (said := told.get(f"public:{line}")) is not None:
        return Known(parse_address(said.value), f"told {said.age(now)}"), unanswered
    if line in site.lines and site.lines[line].address:
        return Known(site.lines[line].address[0], "site file"), unanswered
    return Known(None, tried), unanswered


async def _name(here: Door, site: Site, name: str, deadline: float) -> Known:
    """A name's address: from the resolvers in [measure], else from this machine's own."""
    from hooper.net.dns import addresses_by

    for address, port in site.measure.resolvers:
        server = Endpoint(address, port)
        with anyio.move_on_after(deadline):
            try:
                addresses = await addresses_by(here, server, name, deadline)
            except HooperError:
                continue
            source = f"resolver {server if port != 53 else address}"
            return Known(addresses[0] if addresses else None, source, absent=not addresses)
    with anyio.move_on_after(deadline):
        try:
            addresses = await here.lookup(name, "ipv4")
        except HooperError as exc:
            return Known(None, exc.message)
        return Known(addresses[0] if addresses else None, "this machine's resolver", absent=not addresses)
    return Known(None, "no resolver answered")
