"""A keeper: one site, its tasks, what wakes them. It decides nothing that the use cases decide.

Tasks run side by side, each once at a time. What came of one stands in the state before the next is begun, so that a
keeper that was killed goes on where it stopped.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path

import anyio
from anyio.abc import TaskGroup

from hooper.clock import rfc3339
from hooper.errors import HooperError, MachineError, NoAnswer, StateError, flatten
from hooper.files import Lock
from hooper.gateways.refusals import NotRemembered
from hooper.keep.hearing import NAP_S, Ears
from hooper.keep.metrics import MetricsPage, Outlet, exposition, parse_outlet, write
from hooper.keep.schedule import Outcome, Schedule
from hooper.keep.tasks import CHANGED, Ended, Task, tasks_for
from hooper.net.types import Door
from hooper.secret import Secrets, secrets_in_use
from hooper.site.load import SiteFile
from hooper.store.kept import Condition, Subject
from hooper.store.place import state_path
from hooper.store.sitefile import read_site
from hooper.store.state import State
from hooper.usecases.moving import refuse_copy, remember
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import how_all_stands
from hooper.usecases.watch.history import event_row
from hooper.usecases.watch.keeplines import KeepLine, Saying, trouble_of
from hooper.words.said import say

STATE_AGAIN = timedelta(seconds=10)  # until a state that cannot be used is tried again
HEARD_EVERY_S = 1.0  # seconds between two lines about the same kind of event
STATE_ITSELF: tuple[Subject, str, str] = ("keeper", "state", "")
ENDS_WITHIN_S = 10.0  # seconds that what is being done has to come to a safe point


class KeeperRuns(MachineError):
    """Another keeper keeps this site with this state."""

    code = "keeper-running"
    remedy = "One is enough. End the other first, or give this one another state."


@dataclass
class Keeper:
    """One site. say: is given each line and its time. folder: of the state, if one was named. nap_s: as for `Ears`."""

    path: Path
    door: Door
    say: Callable[[KeepLine, datetime], None]
    folder: Path | None = None
    nap_s: float = NAP_S
    file: SiteFile = field(init=False)
    _state: State | None = None  # one in memory alone while that of the site cannot be used
    _lock: Lock | None = None
    _state_due: float = 0.0
    _schedule: Schedule = field(init=False)
    _tasks: dict[str, Task] = field(default_factory=dict)
    _running: set[str] = field(default_factory=set)
    _again: set[str] = field(default_factory=set)
    _bell: anyio.Event = field(init=False)
    _told: set[tuple[str, str]] = field(default_factory=set)  # trouble that was told and has not passed
    _said: dict[str, float] = field(default_factory=dict)  # when each event was last told
    met: list[HooperError] = field(default_factory=list)  # the trouble of one round
    _once: bool = False
    _secrets: Secrets = field(default_factory=lambda: Secrets(secrets_in_use()))
    _outlet: Outlet | None = None
    _shown: MetricsPage = field(default_factory=MetricsPage)
    _ending: bool = False
    _reload: bool = False

    def open(self, *, once: bool = False) -> None:
        """Read the site file, open the state, be the only keeper. once: for one round alone.

        Raises: SiteFileError, SeveralErrors; UsageError; KeeperRuns.
        """
        self._once = once
        self.file = read_site(self.path)
        self._tasks = tasks_for(self.file.site)
        self._outlet = _outlet_of(self.file)
        self._bell = anyio.Event()
        self._open_state()
        now = self.door.clock.now()
        kept = None
        with self._state_used() as state:
            kept = state.turns.all() if state is not None else None
        self._schedule = Schedule({key: task.pace for key, task in self._tasks.items()}, now, kept, anew=not once)

    def close(self) -> None:
        if self._state is not None:
            self._state.close()
        if self._lock is not None:
            self._lock.free()
        self._state = self._lock = None

    # --- the state

    def _open_state(self) -> bool:
        """Whether it can be used; what is wrong with it is told, and the rest goes on. Raises: KeeperRuns."""
        state = None
        path = state_path(self.folder, self.file)
        try:
            if self._state is None:
                refuse_copy(self.file, self.path, path)  # one of the same id is the same site
            state = State(path)
            state.prove()
            lock = state.lock("keeper")
            if not lock.take():
                raise KeeperRuns(f"another keeper runs for {self.path}")
            remember(self.file, self.path, state, self.door.clock.now())
        except MachineError as exc:
            if state is not None:
                state.close()
            if isinstance(exc, KeeperRuns):
                raise
            self._forget_on(exc)
            return False
        before, self._state, self._lock = self._state, state, lock
        if before is not None:
            before.close()
            self._noted(Condition(*STATE_ITSELF, "not-used", "wrong", say("state-was-lost"), "state"))
            self._noted(Condition(*STATE_ITSELF, "used", "well", say("state-came-back")))
        self._well("state")
        return True

    def _forget_on(self, exc: MachineError) -> None:
        """Go on with a memory that lasts as long as this keeper. Each notice is told of it."""
        self._trouble("state", exc)
        self._state_due = self.door.clock.monotonic() + STATE_AGAIN.total_seconds()
        if self._state is not None and not self._state.kept:
            return
        stood = []
        if self._state is not None:
            with suppress(StateError):
                stood = [one.condition for one in self._state.history.conditions()]
            self._state.close()
        if self._lock is not None:
            self._lock.free()
        memory, now = State(state_path(self.folder, self.file), kept=False), self.door.clock.now()
        memory.history.note(now, stood)
        for notice in self.file.site.notices:
            memory.history.told(notice, memory.history.last_event(), now - timedelta(days=1))
        self._state, self._lock = memory, None
        self._noted(Condition(*STATE_ITSELF, "not-used", "wrong", exc.told, "state"))

    def _noted(self, condition: Condition) -> None:
        with self._state_used() as state:
            if state is not None:
                for happening in state.history.note(self.door.clock.now(), [condition]):
                    self._line("changed", task="state", change=event_row(happening))

    def _state_proven(self) -> None:
        """Take up what has become of the state since it was opened: its file gone, its disk full."""
        if self._state is not None and self._state.kept:
            try:
                self._state.prove()
            except StateError as exc:
                self._forget_on(exc)

    @property
    def _forgets(self) -> bool:
        """Whether what is remembered ends with this keeper."""
        return self._state is None or not self._state.kept

    @contextmanager
    def _state_used(self) -> Iterator[State | None]:
        try:
            yield self._state
        except StateError as exc:
            self._trouble("state", exc)
        else:
            if self._state is not None and self._state.kept:
                self._well("state")

    # --- what is said

    def _line(self, said: Saying, **more: object) -> None:
        self.say(KeepLine(str(self.path), said, **more), self.door.clock.now())  # type: ignore[arg-type]

    def _trouble(self, task: str, *problems: HooperError) -> None:
        """Each trouble is told once, until it has passed."""
        for problem in (single for several in problems for single in flatten(several)):
            if (task, problem.message) not in self._told:
                self._told.add((task, problem.message))
                if self._once:
                    self.met.append(problem)
                self._line("trouble", task=task, trouble=trouble_of(problem))

    def _well(self, task: str, still: Sequence[HooperError] = ()) -> None:
        """What a task had to tell before, and has no more, may be told again."""
        there = {single.message for problem in still for single in flatten(problem)}
        self._told = {(key, message) for key, message in self._told if key != task or message in there}

    # --- running

    def heard(self, event: str, who: str) -> None:
        """Something happened."""
        concerned = self._schedule.happened(event, self.door.clock.now())
        self._again |= self._running & set(concerned)
        if concerned:
            now = self.door.clock.monotonic()
            if now - self._said.get(event, -HEARD_EVERY_S) >= HEARD_EVERY_S:  # anybody may send as many as he likes
                self._said[event] = now
                self._line("heard", detail=f"{event}: {who}")
            self._bell.set()

    def reload(self) -> None:
        """Read the site file again, at the next moment that is safe."""
        self._reload = True
        self._bell.set()

    def end(self) -> None:
        """Come to an end, at the next moment that is safe."""
        self._ending = True
        self._bell.set()

    async def run(self) -> None:
        """Keep until `end`; for one round alone: do what is due, and end. The keeper has been opened."""
        with self._secrets.used():
            await self._run()

    async def _run(self) -> None:
        self._line("started", detail=f"{len(self._tasks)} tasks: {', '.join(self._tasks)}")
        async with anyio.create_task_group() as tasks:
            if self._once:
                await self._all_due()
            else:
                await self._go_on(tasks)
            tasks.cancel_scope.cancel()
        self._line("ended")

    async def _all_due(self) -> None:
        async with anyio.create_task_group() as working:
            for key in self._schedule.due(self.door.clock.now()):
                self._running.add(key)
                working.start_soon(self._do, key)

    async def _go_on(self, tasks: TaskGroup) -> None:
        ears = anyio.CancelScope()

        async def listen() -> None:
            nonlocal ears
            while not self._ending:
                with anyio.CancelScope() as ears:
                    try:
                        await Ears(self.door, self.file.site, self.heard, self.nap_s).listen()
                    except Exception as exc:  # a fault of ours: what is not heard is seen at the next look
                        self._trouble("listening", HooperError(f"a fault in listening: {type(exc).__name__}: {exc}"))
                        await self.door.clock.sleep(STATE_AGAIN.total_seconds())

        tasks.start_soon(listen)
        tasks.start_soon(self._serve_metrics)
        async with anyio.create_task_group() as working:
            while not self._ending:
                self._bell = anyio.Event()
                if self._reload:
                    self._reload = False
                    if self._read_again():
                        ears.cancel()
                due = self._forgets and self.door.clock.monotonic() >= self._state_due
                if due and self._open_state():  # what could not be kept is looked at again
                    self._all_anew()
                for key in self._schedule.due(self.door.clock.now()):
                    if key not in self._running:
                        self._running.add(key)
                        working.start_soon(self._do, key)
                await self._pause()
            ears.cancel()
            working.cancel_scope.deadline = self.door.clock.monotonic() + ENDS_WITHIN_S

    async def _pause(self) -> None:
        """Until the next task is due, or something happens. In naps, since the time of day may be set meanwhile."""
        now = self.door.clock.now()
        waiting = [turn.due for key, turn in self._schedule.turns.items() if turn.due and key not in self._running]
        wait = max((min(waiting) - now).total_seconds(), 0.0) if waiting else self.nap_s
        if self._forgets:
            wait = min(wait, max(self._state_due - self.door.clock.monotonic(), 0.0))
        async with anyio.create_task_group() as either:

            async def rung() -> None:
                await self._bell.wait()
                either.cancel_scope.cancel()

            either.start_soon(rung)
            await self.door.clock.sleep(min(wait, self.nap_s) + 0.001)
            either.cancel_scope.cancel()

    def _read_again(self) -> bool:
        """Go by the site file as it is now; by the one before where it is broken."""
        try:
            file = read_site(self.path)
            outlet = _outlet_of(file)
        except HooperError as exc:
            self._trouble("site file", exc)
            self._line("reloaded", detail="the site file is broken: the one before is kept to")
            return False
        moved = state_path(self.folder, file) != state_path(self.folder, self.file)
        if moved or (outlet != self._outlet and "address" in (one.kind for one in (outlet, self._outlet) if one)):
            what = "[site] id" if moved else "the address of [keep] metrics"
            self._line("reloaded", detail=f"{what} is another: that needs a keeper that is begun anew; kept to the old")
            return False
        self._well("site file")
        self.file, self._tasks, self._outlet = file, tasks_for(file.site), outlet
        self._all_anew()
        self._line("reloaded", detail=f"{len(self._tasks)} tasks: {', '.join(self._tasks)}")
        return True

    def _all_anew(self) -> None:
        paces = {key: task.pace for key, task in self._tasks.items()}
        self._schedule.changed(paces, self.door.clock.now())

    async def _do(self, key: str) -> None:
        """One task, from its begin to what is kept of it."""
        task, clock = self._tasks[key], self.door.clock
        start = clock.monotonic()
        self._state_proven()
        enough = not self._forgets or task.needs == "nothing" or (task.needs == "process" and not self._once)
        run = Run(self.file, clock.now(), self.path, self.door, self._state if enough else None)
        with run.secrets.used():
            ended = await self._worked(task, run)
        took = round((clock.monotonic() - start) * 1000)
        trouble = [*run.trouble, *ended.trouble]
        if any(isinstance(one, StateError) and not isinstance(one, NotRemembered) for one in trouble):
            self._state_proven()  # a disk that is full shows itself in the middle of a task
        if self._forgets and task.without:
            without = task.without if enough or task.needs != "process" else "it is not done in one round alone"
            message = f"the state cannot be used, so for the task {key}: {without}"
            trouble.append(StateError(message, code="state-missing", remedy="Set the state right."))
            if not enough or any(isinstance(one, NotRemembered) for one in trouble):
                ended = replace(ended, outcome="failed")
        self._well(key, trouble)
        self._trouble(key, *trouble)
        for happening in run.changed:
            self._line("changed", task=key, change=event_row(happening))
        for who in ended.told:
            self._line("told", task=key, detail=who)
        self._running.discard(key)
        if key not in self._tasks:  # the site file has changed meanwhile
            return
        self._schedule.ended(key, clock.now(), ended.outcome, again=ended.again)
        if key in self._again:
            self._again.discard(key)
            self._schedule.soon(key, clock.now())
        with self._state_used() as state:
            if state is not None:
                state.turns.save(self._schedule.turns)
        if run.changed:
            self._schedule.happened(CHANGED, clock.now())
        self._show_metrics()
        due = self._schedule.turns[key].due
        self._line("done", task=key, outcome=ended.outcome, took_ms=took, next=rfc3339(due) if due else None)
        self._bell.set()

    def _show_metrics(self) -> None:
        """How everything stands, where [keep] metrics wants it."""
        if self._outlet is None:
            return
        with self._state_used() as state:
            stood = how_all_stands(Run(self.file, self.door.clock.now(), self.path, self.door, state))
            site = self.file.site
            called, turns = site.site.id or self.path.stem, self._schedule.turns
            self._shown.text = exposition(site, called, stood, turns, self.door.clock.now())
            try:
                write(self._outlet, self._shown.text)
            except StateError:
                raise
            except MachineError as exc:
                self._trouble("metrics", exc)
            else:
                self._well("metrics")

    async def _serve_metrics(self) -> None:
        if self._outlet is not None and self._outlet.address is not None:
            try:
                await self._shown.serve(self._outlet.address)
            except MachineError as exc:
                self._trouble("metrics", exc)

    async def _worked(self, task: Task, run: Run) -> Ended:
        """What came of a task, whatever happens in it: a keeper does not end with one of its tasks."""
        outcome: Outcome = "failed"
        try:
            with anyio.fail_after(task.limit):
                return await task.work(run)
        except HooperError as exc:
            problem: HooperError = exc
        except TimeoutError:
            problem = NoAnswer(f"it was not done within {task.limit:g} s, and was ended")
        except Exception as exc:  # a fault of ours in one task: the others go on
            problem = HooperError(f"a fault in this task: {type(exc).__name__}: {exc}")
        return Ended(outcome, None, [problem])


def _outlet_of(file: SiteFile) -> Outlet | None:
    """Where the metrics of a site go. Raises: UsageError."""
    written = file.site.keep.metrics
    return parse_outlet(written, Path(file.name).parent) if written is not None else None
