"""The keeper's schedule: nothing is forgotten, nothing runs too often, and no clock confuses it."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from hooper.keep.schedule import Pace, Schedule
from hooper.keep.tasks import by_life
from hooper.store.kept import Turn

START = datetime(2026, 5, 1, 9, 30, tzinfo=UTC)
SECOND, MINUTE, HOUR, DAY = (timedelta(seconds=s) for s in (1, 60, 3600, 86_400))
PACES = {
    "names": Pace(5 * MINUTE, soonest=2 * SECOND, wakes={"address": 0 * SECOND, "awake": 3 * SECOND}),
    "rules": Pace(HOUR, wakes={"router": SECOND}),
    "certificates": Pace(12 * HOUR, retry=10 * MINUTE, latest=6 * HOUR),
}


def test_all_is_done_at_once_and_then_at_its_pace() -> None:
    schedule = Schedule(PACES, START)
    assert set(schedule.due(START)) == set(PACES)
    for task in PACES:
        schedule.ended(task, START, "well")
    assert schedule.due(START + 4 * MINUTE) == ()
    assert schedule.due(START + 6 * MINUTE) == ("names",)
    assert set(schedule.due(START + 14 * HOUR)) == set(PACES)


def test_an_event_is_answered_at_once_and_not_twice_in_a_breath() -> None:
    schedule = Schedule(PACES, START)
    schedule.ended("names", START, "well")
    assert schedule.happened("address", START + MINUTE) == ("names",)
    assert "names" in schedule.due(START + MINUTE)
    schedule.ended("names", START + MINUTE, "well")
    schedule.happened("address", START + MINUTE + SECOND)
    assert "names" not in schedule.due(START + MINUTE + SECOND)
    assert "names" in schedule.due(START + MINUTE + 2 * SECOND)
    assert schedule.happened("nothing known", START) == ()


def test_failures_are_tried_again_later_and_later_up_to_a_limit() -> None:
    schedule, now, waits = Schedule(PACES, START), START, []
    for _ in range(12):
        schedule.ended("names", now, "failed")
        due = schedule.turns["names"].due
        assert due is not None
        waits.append(due - now)
        now = due
    assert 30 * SECOND <= waits[0] <= 33 * SECOND
    assert all(one <= other * 1.2 for one, other in pairwise(waits))
    assert HOUR <= waits[-1] <= 1.1 * HOUR
    schedule.ended("names", now, "well")
    assert schedule.turns["names"].failures == 0


def test_what_a_provider_holds_is_held_whatever_happens() -> None:
    schedule = Schedule(PACES, START)
    schedule.ended("names", START, "failed", hold=START + 20 * MINUTE)
    schedule.happened("address", START + MINUTE)
    assert "names" not in schedule.due(START + 19 * MINUTE)
    assert "names" in schedule.due(START + 20 * MINUTE)


def test_what_is_stopped_waits_for_a_change() -> None:
    schedule = Schedule(PACES, START)
    for task in PACES:
        schedule.ended(task, START, "stopped")
    assert schedule.next() is None
    assert schedule.happened("address", START + DAY) == ()
    schedule.changed({"names": PACES["names"]}, START + DAY)
    assert schedule.due(START + DAY) == ("names",)
    assert set(schedule.turns) == {"names"}


def test_half_of_a_lease_is_sooner_than_the_pace() -> None:
    schedule = Schedule(PACES, START)
    schedule.ended("rules", START, "well", again=START + 10 * MINUTE)
    assert "rules" in schedule.due(START + 10 * MINUTE)


def test_a_laptop_that_slept_for_days_does_each_once() -> None:
    schedule = Schedule(PACES, START)
    for task in PACES:
        schedule.ended(task, START, "well")
    woken = START + 4 * DAY
    assert set(schedule.due(woken)) == set(PACES)
    for task in PACES:
        schedule.ended(task, woken, "well")
    assert schedule.due(woken + MINUTE) == ()


@given(st.timedeltas(min_value=-4000 * DAY, max_value=4000 * DAY), st.integers(0, 60))
def test_turns_that_were_kept_with_a_wrong_clock_come_within_reach(wrong: timedelta, failures: int) -> None:
    kept = {key: Turn(START + wrong, START + wrong, failures, START + wrong, 7) for key in PACES}
    schedule = Schedule(PACES, START, kept)
    for key, turn in schedule.turns.items():
        assert turn.due is not None
        assert turn.due <= START + max(PACES[key].longest, 7 * DAY)


class Keeping(RuleBasedStateMachine):
    """Anything may happen in any order, and the clock may be set."""

    def __init__(self) -> None:
        super().__init__()
        self.now = START
        self.schedule = Schedule(PACES, START)
        self.ran: dict[str, datetime] = {}

    @rule(wait=st.timedeltas(min_value=0 * SECOND, max_value=3 * DAY))
    def time_passes(self, wait: timedelta) -> None:
        self.now += wait

    @rule(step=st.timedeltas(min_value=-3 * DAY, max_value=0 * SECOND))
    def the_clock_is_set_back(self, step: timedelta) -> None:
        self.now += step
        self.ran.clear()

    @rule(event=st.sampled_from(["address", "awake", "router", "else"]))
    def happens(self, event: str) -> None:
        self.schedule.happened(event, self.now)

    @rule()
    def restart(self) -> None:
        self.schedule = Schedule(PACES, self.now, self.schedule.turns)

    @precondition(lambda self: self.schedule.due(self.now))
    @rule(outcome=st.sampled_from(["well", "well", "failed"]), lease=st.none() | st.timedeltas(0 * SECOND, DAY))
    def run(self, outcome: str, lease: timedelta | None) -> None:
        task = self.schedule.due(self.now)[0]
        last = self.ran.get(task)
        assert last is None or self.now - last >= PACES[task].soonest, "never in the same breath"
        self.ran[task] = self.now
        again = self.now + lease if lease is not None else None
        self.schedule.ended(task, self.now, outcome, again=again)  # type: ignore[arg-type]
        assert task not in self.schedule.due(self.now)

    @invariant()
    def nothing_is_forgotten(self) -> None:
        self.schedule.due(self.now)
        for key, turn in self.schedule.turns.items():
            assert turn.due is not None
            assert turn.due <= self.now + PACES[key].longest


TestKeeping = Keeping.TestCase


@pytest.mark.parametrize(
    ("left", "wanted"),
    [
        (timedelta(days=90), timedelta(days=2.25)),  # later than the pace, which then counts
        (timedelta(days=6), timedelta(hours=3.6)),
        (timedelta(hours=10), timedelta(minutes=15)),
        (timedelta(minutes=10), timedelta(minutes=5)),
        (timedelta(days=-1), timedelta(minutes=5)),
    ],
)
def test_certificates_are_looked_at_by_the_life_they_have_left(left: timedelta, wanted: timedelta) -> None:
    assert by_life([START + left, START + timedelta(days=365)], START) == START + wanted
    assert by_life([], START) is None
