"""Runs that are killed at any point and started again: they end right, and nothing of anybody else's is touched."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from datetime import date
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

import pytest

from hooper.certs.order import Ordering
from hooper.certs.store import CertificateStore
from hooper.gateways.find import find_routers
from hooper.gateways.rules import wanted_rules
from hooper.gateways.work import LEASE_S, Work
from hooper.lab.switchboard import Switchboard
from hooper.lab.things import Rule
from hooper.line.sources import Given
from hooper.names.update import Names
from hooper.planning.plan import make_plan
from hooper.site.load import SiteFile
from hooper.store.place import store_name
from hooper.store.state import State
from support.mortal import MortalDoor, lived, town
from support.virtual import run_virtually

# a run that is killed leaves its sockets to the system; here there is none to take them
pytestmark = pytest.mark.filterwarnings("ignore::ResourceWarning", "ignore::pytest.PytestUnraisableExceptionWarning")
GAME = Rule("a game", "tcp", (443, 443), IPv4Address("10.44.7.40"), (80, 80), owner="10.44.7.40")
LAST_STEP = 400  # no run here takes more


def in_town(tmp_path: Path, work: Callable[[Switchboard, MortalDoor, SiteFile], Awaitable[None]]) -> None:
    async def main() -> None:
        async with town(tmp_path) as (board, door, file):
            await work(board, door, file)

    run_virtually(main)


def table(board: Switchboard) -> list[tuple[Any, ...]]:
    rules = board.town.boxes["club-router"].live_rules(board.now())
    return sorted((r.transport, r.outside, str(r.target), r.target_ports, r.label, r.owner) for r in rules)


def state_of(file: SiteFile, folder: Path) -> State:
    return State(folder / store_name(file))


def steps_until_done(stride: int) -> range:
    return range(0, LAST_STEP, stride)


@pytest.mark.parametrize("stride", [3])
def test_opening_and_closing_rules(tmp_path: Path, stride: int) -> None:
    """Somebody else has a rule at one of our ports and one elsewhere; the first is taken over and put back."""

    async def work(board: Switchboard, door: MortalDoor, file: SiteFile) -> None:
        plan = make_plan(file, date(2026, 5, 1))
        box = board.town.boxes["club-router"]
        other = Rule("a song", "udp", (6000, 6000), IPv4Address("10.44.7.40"), (6000, 6000), owner="10.44.7.40")
        box.rules = [GAME, other]
        before = table(board)
        found = await find_routers(door, file.site, ["club-router"], 2)
        all_rules = wanted_rules(found.routers["club-router"], plan.forwards, "club-router", LEASE_S)
        wanted = [one for one in all_rules if one.service in ("film-page", "gate")]

        async def change(deed: str) -> list[str]:
            with state_of(file, tmp_path / "state") as state:
                job = Work("club-router", found.routers["club-router"], str(found.own), state.journal, door.clock)
                await (job.open(wanted, take_over=True) if deed == "open" else job.close(None))
                assert not job.trouble, job.trouble[0].message
                return [change.outcome for change in job.changes]

        finished = {"open": False, "close": False}
        for steps in steps_until_done(stride):
            for deed in ("open", "close"):
                finished[deed] = await lived(door, steps, partial(change, deed))
                await change(deed)  # again, to its end
                await change(deed)  # and once more: nothing is left to do
                if deed == "open":
                    ours = {row[1][0]: row[2] for row in table(board) if row[5] == "10.44.7.105"}
                    assert ours == {443: "10.44.7.30", 51820: "10.44.7.60"}
                    assert other in box.rules
                else:
                    after = [(*row[:5], "") for row in table(board)]
                    assert after == [(*row[:5], "") for row in before], steps
                    box.rules = [GAME, other]
            if all(finished.values()):
                return
        raise AssertionError("it never came to its end")

    in_town(tmp_path, work)


def test_ordering_a_certificate(tmp_path: Path) -> None:
    """However often the run is killed, the authority issues once, and no record is left behind."""

    async def work(board: Switchboard, door: MortalDoor, file: SiteFile) -> None:
        for steps in steps_until_done(7):
            folder = tmp_path / f"state-{steps}"
            issued = board.town.acme.issued

            async def order(folder: Path = folder) -> str:
                with state_of(file, folder) as state:
                    store = CertificateStore(state.certificates)
                    ordering = Ordering(door, file.site, tmp_path, store, state.orders, 5, 20)
                    return (await ordering.order("boathouse", anew=False)).state

            done = await lived(door, steps, order)
            assert await order() in ("ordered", "current")
            assert await order() == "current"
            assert board.town.acme.issued == issued + 1, steps
            assert not board.town.zone.get("_acme-challenge.boathouse.heronquay.example", "TXT"), steps
            if done:
                return
        raise AssertionError("it never came to its end")

    in_town(tmp_path, work)


def test_updating_a_name(tmp_path: Path) -> None:
    async def work(board: Switchboard, door: MortalDoor, file: SiteFile) -> None:
        name = "boathouse.heronquay.example"
        for steps in steps_until_done(1):
            board.town.zone.set(name, "A", ["203.0.113.40"])

            async def update(steps: int = steps) -> str:
                with state_of(file, tmp_path / f"state-{steps}") as state:
                    names = Names(door, file.site, tmp_path, Given(), 2, 5, state.updates)
                    (row,) = await names.update(await names.look([name]), again=False)
                    assert not names.trouble
                    return row.action

            done = await lived(door, steps, update)
            assert await update() in ("updated", "current")
            assert board.town.zone.get(name, "A") == ["203.0.113.44"]
            if done:
                return
        raise AssertionError("it never came to its end")

    in_town(tmp_path, work)
