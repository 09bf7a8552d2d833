"""When what is kept is looked at again. Pure: it reads no clock, every moment is handed in.

Each task has a pace. It runs at that pace while all is well, sooner when something happened that concerns it, and later
after a failure, each time twice as late, up to a limit. What a laptop's sleep or a clock that was set has made overdue
is done once, not as often as it was missed.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Literal

from hooper.store.kept import Turn

Outcome = Literal["well", "failed", "stopped"]
MOST_HELD = timedelta(days=7)  # a provider that says to wait longer is asked again all the same


@dataclass(frozen=True, slots=True)
class Pace:
    """How often a task is done.

    every: between two runs while all is well. soonest: between two runs at least, whatever happens. retry: after the
    first failure; it doubles with each further one. latest: at most, however many failures. spread: the share of an
    interval by which it may be later, so that many sites do not ask at the same moment. wakes: the events after which
    it is done, each with how long it is waited for things to settle.
    """

    every: timedelta
    soonest: timedelta = timedelta(seconds=1)
    retry: timedelta = timedelta(seconds=30)
    latest: timedelta = timedelta(hours=1)
    spread: float = 0.1
    wakes: Mapping[str, timedelta] = field(default_factory=dict)

    @property
    def longest(self) -> timedelta:
        """Nothing that is not stopped is further away than this."""
        return max(self.every, self.latest) * (1 + self.spread)


class Schedule:
    """The turns of all tasks.

    paces: of the tasks, by their keys. kept: their turns from an earlier run. Tasks without one are due at once, and
    with `anew` all of which the last run was well: much may have happened since.
    """

    def __init__(
        self, paces: Mapping[str, Pace], now: datetime, kept: Mapping[str, Turn] | None = None, *, anew: bool = False
    ) -> None:
        self._paces = dict(paces)
        before = dict(kept or {})
        if anew:
            well = {key: turn for key, turn in before.items() if turn.due is not None and not turn.failures}
            before |= {key: turn._replace(due=now) for key, turn in well.items()}
        self._turns = {key: self._fitting(key, before.get(key, Turn(now)), now) for key in paces}

    @property
    def turns(self) -> dict[str, Turn]:
        """Where each task stands, to be kept."""
        return dict(self._turns)

    def due(self, now: datetime) -> tuple[str, ...]:
        """The tasks that are to be done now, the one that waits longest first."""
        self._turns = {key: self._fitting(key, turn, now) for key, turn in self._turns.items()}
        waiting = [(turn.due, key) for key, turn in self._turns.items() if turn.due is not None and turn.due <= now]
        return tuple(key for _, key in sorted(waiting))

    def next(self) -> datetime | None:
        """When the next task is due; None: all are stopped."""
        return min((turn.due for turn in self._turns.values() if turn.due is not None), default=None)

    def ended(
        self, task: str, now: datetime, outcome: Outcome, *, again: datetime | None = None, hold: datetime | None = None
    ) -> None:
        """A task was done.

        outcome: stopped: no use before what it goes by has changed. again: it is wanted sooner than its pace says, such
        as at half of a lease. hold: not before that, whatever happens.
        """
        pace, turn = self._paces[task], self._turns[task]
        failures = turn.failures + 1 if outcome == "failed" else 0
        turn = Turn(None, now, failures, hold, turn.runs + 1)
        if outcome != "stopped":
            wait = self._later(task, turn, pace.every)
            if outcome == "failed":
                doubled = min(pace.latest, pace.retry * 2 ** min(failures - 1, 32))
                wait = self._later(task, turn, doubled)
            due = now + wait if again is None else min(now + wait, again)
            turn = turn._replace(due=due)
        self._turns[task] = self._fitting(task, turn, now)

    def happened(self, event: str, now: datetime) -> tuple[str, ...]:
        """Something happened: whom it concerns is done soon. Returns their keys."""
        concerned = []
        for key, pace in self._paces.items():
            turn = self._turns[key]
            if event in pace.wakes and turn.due is not None:
                self._turns[key] = self._fitting(key, turn._replace(due=min(turn.due, now + pace.wakes[event])), now)
                concerned.append(key)
        return tuple(concerned)

    def soon(self, task: str, now: datetime) -> None:
        """A task is wanted again as soon as its pace lets it, since something happened while it was done."""
        turn = self._turns[task]
        if turn.due is not None:
            self._turns[task] = self._fitting(task, turn._replace(due=now), now)

    def changed(self, paces: Mapping[str, Pace], now: datetime) -> None:
        """What the tasks go by has changed, such as the site file: all are done anew, those that were stopped too."""
        turns = {key: self._turns.get(key, Turn(now))._replace(due=now, failures=0, hold=None) for key in paces}
        self._paces = dict(paces)
        self._turns = {key: self._fitting(key, turn, now) for key, turn in turns.items()}

    def _fitting(self, task: str, turn: Turn, now: datetime) -> Turn:
        """The turn within its pace: not too soon after the last run, not before what holds it, never out of reach.

        Moments that lie further ahead than any pace allows come from a clock that was wrong, and do not count.
        """
        pace = self._paces[task]
        if turn.last is not None and turn.last > now:
            turn = turn._replace(last=now)
        if turn.hold is not None and turn.hold > now + max(pace.longest, MOST_HELD):
            turn = turn._replace(hold=None)
        if turn.due is None:
            return turn
        due = turn.due
        if due > now + pace.longest:
            due = now + self._later(task, turn, pace.every)
        if turn.last is not None:
            due = max(due, turn.last + pace.soonest)
        if turn.hold is not None:
            due = max(due, turn.hold)
        return turn._replace(due=due)

    def _later(self, task: str, turn: Turn, wait: timedelta) -> timedelta:
        """`wait`, and a part of the spread: another one for each task and run, and the same for the same."""
        digest = hashlib.sha256(f"{task} {turn.runs}".encode()).digest()
        return wait * (1 + self._paces[task].spread * digest[0] / 256)
