"""What is quickly known of the line: surroundings, STUN, names, what was told. `measure` looks deeper."""

from __future__ import annotations

from datetime import datetime

import anyio

from hooper.line.facts import LineFacts
from hooper.line.lookup import name_looked_up
from hooper.line.public import public_addresses
from hooper.line.sources import Given, PublicAddress
from hooper.net.types import Door
from hooper.net.whereabouts import connected_surroundings, other_router, standing
from hooper.site.model import Site
from hooper.site.references import chain_of, first_line, names_of_line
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.said import say


async def gather_line(
    here: Door,
    site: Site,
    known: Given,
    deadline: float,
    *,
    now: datetime,
    chain: tuple[str, ...] | None = None,
    line: str | None = None,
) -> LineFacts:
    """What is known of a line.

    Args: known: before anything is asked. deadline: seconds for all servers together. chain: its gateways, outermost
    first; None: those before this computer, or the longest chain where it is not at the site. line: that it comes
    by; None: the first of the chain.
    Raises: NoNetwork.
    """
    around = await connected_surroundings(here)
    interface, at, own = standing(site, around)
    if chain is None:
        chains = [chain_of(site, key) for key in ([at] if at is not None else site.gateways)]
        chain = max(chains, key=len, default=())
    line = line if line is not None else first_line(site, chain)
    names = names_of_line(site, line)
    found: dict[str, SourcedAddress] = {}
    public: dict[str, PublicAddress] = {}

    async def ask_public() -> None:
        public.update(await public_addresses(here, site, (line,), known, deadline))

    async def ask_name(name: str) -> None:
        found[name] = await name_looked_up(here, site, name, deadline)

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(ask_public)
        for name in names:
            tasks.start_soon(ask_name, name)
    return LineFacts(
        now=now,
        line=line,
        chain=chain,
        at=at,
        own=Sourced(own, say("interface", name=interface) if interface else say("this-machine-is-on-none")),
        default_gateway=Sourced(
            around.default_gateway(interface), say("route-by", interface=interface) if interface else say("its-route")
        ),
        public=public[line].address,
        differs=public[line].differs,
        stun_silent=public[line].stun_silent,
        no_way=public[line].no_way,
        goes_by=other_router(site, around),
        wan={key: known.told[f"gateways.{key}/wan"] for key in site.gateways if f"gateways.{key}/wan" in known.told},
        names={name: found[name] for name in names},
    )
