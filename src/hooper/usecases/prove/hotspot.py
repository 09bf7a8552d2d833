"""A check with one Wi-Fi card: what only home knows is measured there, then this computer itself goes outside."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import anyio

from hooper.check.checking import check_services
from hooper.check.results import CheckDocument
from hooper.check.wish import Wish
from hooper.errors import HooperError, NeedsAPerson
from hooper.line.public import public_addresses
from hooper.net.types import Surroundings
from hooper.net.whereabouts import at_home
from hooper.places import Place
from hooper.planning.unfolded import side_doors
from hooper.usecases.prove.check import CheckRequest, document_of
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.prove.probing import probe_keys, revoked_certificates
from hooper.usecases.run import Run

LOOK_EVERY = 1.0  # seconds, where no change of network is told
SETTLED_S = 1.0  # seconds for a network that has just come up


class StillAtHome(NeedsAPerson):
    """The machine did not leave its network while it was waited for."""

    code = "still-at-home"
    remedy = "Run it again, and join the phone's hotspot when it says so; a cable to the LAN must be unplugged too."


async def from_hotspot(
    run: Run, check: CheckRequest, hold: float, tell: Callable[[str], None] = lambda text: None
) -> tuple[CheckDocument, list[HooperError]]:
    """Look at home, wait until this computer is on the phone's network, look from there.

    check: what is looked at. hold: seconds to wait for the other network. tell: tells the person what to do now.
    Raises: NoNetwork, MachineError, UsageError; StillAtHome: it never left.
    """
    door = run.here
    wish = Wish(
        run.topology, check.services, check.deadline, run.given(check.public), base=run.base,
        doors=tuple(side_doors(run.topology, run.plan.forwards)), heard=run.progress, keys=probe_keys(run),
        revoked=revoked_certificates(run),
    )  # fmt: skip
    if at_home(run.site, await door.surroundings()) is not None:
        tell("Looking at home first: stay on this network.")
        wish = await _home_looked(run, wish)
    tell("Switch the phone's hotspot on, its Wi-Fi off, and let this computer join it now.")
    interface = await _until_away(run, hold)
    outside = door.through(interface) if interface is not None else door
    name = interface or "the phone's hotspot"
    wish = replace(wish, origin=Place("hotspot", name))
    outcome = await check_services(door, wish, outside, run.memory)
    keep_look(run, outcome)
    tell("Looked: go back to the network at home now.")
    return document_of(outcome), outcome.errors


async def _home_looked(run: Run, wish: Wish) -> Wish:
    """What the inside looks like, and the lines' addresses: away nobody tells them."""
    inside = await check_services(run.here, wish, memory=run.memory)
    keep_look(run, inside)
    public = await public_addresses(run.here, run.site, tuple(run.site.lines), wish.known, wish.deadline)
    return replace(wish, public={line: found for line, found in public.items() if found.address.value is not None})


async def _until_away(run: Run, hold: float) -> str | None:
    """Wait until this computer is elsewhere; gives the interface that is, where it is still at home by another one."""
    door, away = run.here, anyio.Event()
    by: list[str | None] = []

    async def look() -> None:
        around = await door.surroundings()
        away_now, interface = _elsewhere(run, around)
        if away_now:
            by.append(interface)
            away.set()

    async def listen() -> None:
        async for _ in door.changes():
            await look()

    async def poll() -> None:
        while True:
            await look()
            await door.clock.sleep(LOOK_EVERY)

    with anyio.move_on_after(hold):
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(listen)
            tasks.start_soon(poll)
            await away.wait()
            tasks.cancel_scope.cancel()
    if not by:
        raise StillAtHome(f"this computer did not join another network within {hold:g} s")
    await door.clock.sleep(SETTLED_S)
    return by[-1]


def _elsewhere(run: Run, around: Surroundings) -> tuple[bool, str | None]:
    """Whether this computer is elsewhere; and by which interface, where it is at home by another one."""
    inside = [gateway.lan.network for gateway in run.site.gateways.values()]
    home = at_home(run.site, around) is not None
    leading = [
        one.name
        for one in around.interfaces
        if one.up and one.ipv4 is not None and not one.loopback and not one.tunnel
        if around.has_default_route(one.name) is not False
        if not home or not any(one.ipv4 in network for network in inside)
    ]
    return bool(leading), leading[0] if leading and home else None
