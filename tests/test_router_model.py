"""Whatever happens to a router and to the runs that change it: ours equals the plan, and others' rows are as before."""

from __future__ import annotations

import shutil
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import anyio
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from hooper.gateways.documents import DONE
from hooper.gateways.rules import LABEL, Wanted, is_labelled
from hooper.gateways.work import LEASE_S, Work
from hooper.planning.values import Forward
from hooper.ports import single
from hooper.store.entries import LiveRule
from hooper.store.locking import alone
from hooper.store.state import State
from support.model_router import Killed, MemoryRouter, ModelIgd, driver, without_lease
from support.virtual import VirtualClock, run_virtually

SERVICES, PORTS = ("door", "film", "hub"), (443, 8443)
HOSTS, SOURCES = ("10.44.7.30", "10.44.7.50"), ("", "198.51.100.7", "198.51.100.8")
GAMES = ("10.44.7.40", "10.44.7.41")
places = st.tuples(st.sampled_from(PORTS), st.sampled_from(HOSTS), st.sampled_from(SOURCES))


class Routers(RuleBasedStateMachine):
    """plan: what each service wants. others: the rows of others that should stand; lent: those that were taken
    over, and are put back once ours goes."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp())
        self.plan: dict[str, tuple[int, str, str]] = {}
        self.router = MemoryRouter()
        self.unknown = False  # the state was lost while rules of ours stood

    def teardown(self) -> None:
        shutil.rmtree(self.folder)

    @initialize(
        by_source=st.booleans(),
        sources=st.sampled_from(["kept", "dropped", "refused"]),
        takes=st.booleans(),
        plan=st.dictionaries(st.sampled_from(SERVICES), places, min_size=1),
    )
    def a_router(self, by_source: bool, sources: str, takes: bool, plan: dict[str, tuple[int, str, str]]) -> None:
        self.router = MemoryRouter(by_source and sources == "kept", sources, takes)
        for service, place in plan.items():
            self.edit(service, place)

    # --- what happens

    @rule(service=st.sampled_from(SERVICES), place=st.none() | places)
    def edit_the_plan(self, service: str, place: tuple[int, str, str] | None) -> None:
        self.edit(service, place)

    def edit(self, service: str, place: tuple[int, str, str] | None) -> None:
        """place: None: it is made private."""
        self.plan.pop(service, None)
        if place is not None and place[0] not in {port for port, _, __ in self.plan.values()}:
            self.plan[service] = place  # no plan has two services at one port

    @rule(port=st.sampled_from(PORTS), game=st.sampled_from(GAMES), source=st.sampled_from(SOURCES))
    def another_hand(self, port: int, game: str, source: str) -> None:
        source = source if self.router.sources == "kept" else ""
        theirs = LiveRule("tcp", port, game, 80, source, "a game", enabled=True, lease_s=0)
        if not any(self.router.place(old) == self.router.place(theirs) for old in self.router.table):
            self.router.put(theirs)

    @rule()
    def the_router_restarts(self) -> None:
        self.router.table.clear()

    @rule()
    def the_state_is_lost(self) -> None:
        self.unknown = self.unknown or any(is_labelled(row) for row in self.router.table)
        shutil.rmtree(self.folder)
        self.folder.mkdir()

    @rule(deed=st.sampled_from(["open", "close"]), take_over=st.booleans(), lives=st.integers(0, 25))
    def a_run_is_killed(self, deed: str, take_over: bool, lives: int) -> None:
        self.run_it(driver(self.router, lives), deed, take_over=take_over)

    @rule(take_over=st.booleans(), service=st.sampled_from(SERVICES), place=st.none() | places)
    def edit_and_open(self, take_over: bool, service: str, place: tuple[int, str, str] | None) -> None:
        self.edit(service, place)
        self.open(take_over)

    def open(self, take_over: bool) -> None:
        before = self.theirs()
        work = self.run_it(driver(self.router), "open", take_over=take_over)
        assert work is not None
        self.judge_open(work, before, take_over=take_over)

    def judge_open(self, work: Work, before: list[LiveRule], *, take_over: bool) -> None:
        replaced = any(change.outcome == "replaced" for change in work.changes)
        if not (take_over and replaced):
            put_back = [change for change in work.changes if change.outcome == "put-back"]
            assert put_back or self.theirs() == before, "somebody else's row was touched"
        if work.trouble or any(change.outcome not in DONE for change in work.changes):
            return  # it does not say that all is well
        table = [replace(row, lease_s=0, label="") for row in self.router.table if is_labelled(row)]
        wanted = [replace(one.rule, lease_s=0, label="") for one in self.wanted() if one.rule is not None]
        stands = {(row.key, row.target_address, row.target_port, row.source) for row in self.router.table}
        assert all((one.key, one.target_address, one.target_port, one.source) in stands for one in wanted)
        extra = [row for row in table if row not in wanted]
        assert not extra or self.unknown, extra

    @rule()
    def close(self) -> None:
        work = self.run_it(driver(self.router), "close")
        assert work is not None
        if not work.trouble:
            assert not any(is_labelled(row) for row in self.router.table), "it says that all of ours is gone"

    @rule()
    def close_all_that_is_labelled(self) -> None:
        work = self.run_it(driver(self.router), "close", labelled=True)
        assert work is not None
        if not work.trouble:
            assert not any(is_labelled(row) for row in self.router.table)
            self.unknown = False

    @rule(deeds=st.lists(st.sampled_from(["open", "close"]), min_size=2, max_size=3))
    def several_at_once(self, deeds: list[str]) -> None:
        """Whatever their order came to be: the journal knows all of ours that stands."""

        async def all_of_them() -> None:
            async with anyio.create_task_group() as tasks:
                for deed in deeds:
                    tasks.start_soon(self.one, driver(self.router), deed)

        run_virtually(all_of_them)

    # --- what always holds

    @invariant()
    def what_stands_of_ours_is_known(self) -> None:
        if self.unknown:
            return
        with State(self.folder / "state.sqlite3") as state:
            known = {(entry.rule.transport, entry.rule.outside_port) for entry in state.journal.all()}
        assert all(row.key in known for row in self.router.table if is_labelled(row)), "nobody knows of it"

    @precondition(lambda self: not self.unknown)
    @rule()
    def at_last_everything_is_as_it_was(self) -> None:
        """Closed to its end: none of ours is left, and what was taken over leads where it did."""
        with State(self.folder / "state.sqlite3") as state:
            lent = [row for entry in state.journal.all() for row in entry.before]
        before = self.theirs()
        work = self.run_it(driver(self.router), "close")
        assert work is not None
        if work.trouble:
            return
        now = self.theirs()
        assert all(row in now for row in before)
        for row in lent:
            assert any(other.key == row.key for other in now), "what was replaced is not back"

    # --- how it is done

    def theirs(self) -> list[LiveRule]:
        return without_lease([row for row in self.router.table if not is_labelled(row)])

    def wanted(self) -> list[Wanted]:
        out = []
        for service, (port, host, source) in sorted(self.plan.items()):
            sources = (f"{source}/32",) if source else ()
            forward = Forward(
                "box", "l", "forward", service, "tcp", None, single(port), host, single(port), sources, "igd"
            )
            made = LiveRule("tcp", port, host, port, source, LABEL + service, enabled=True, lease_s=LEASE_S)
            out.append(Wanted(service, forward, made))
        return out

    def run_it(self, box: ModelIgd, deed: str, **more: Any) -> Work | None:
        """One run to its end; None: it was killed."""
        try:
            return run_virtually(lambda: self.one(box, deed, **more))
        except Killed:
            return None
        except BaseExceptionGroup as group:
            assert group.subgroup(Killed) is not None, group
            return None

    async def one(self, box: ModelIgd, deed: str, take_over: bool = False, labelled: bool = False) -> Work:
        clock = VirtualClock()
        with State(self.folder / "state.sqlite3") as state:
            work = Work("box", box, "10.44.7.105", state.journal, clock)
            async with alone(state.lock("router-box"), clock, "is changing box"):
                if deed == "open":
                    await work.open(self.wanted(), take_over=take_over)
                else:
                    await work.close(None, labelled=labelled)
        return work


Routers.TestCase.settings = settings(
    max_examples=40, stateful_step_count=20, deadline=None, suppress_health_check=list(HealthCheck)
)
TestRouters = Routers.TestCase
