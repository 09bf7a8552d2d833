"""One run at one site: what every use case is given beside its request."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from contextlib import ExitStack, asynccontextmanager, contextmanager
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from functools import cached_property, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.errors import HooperError, StateError
from hooper.jsonform import read_if
from hooper.planning.topology import Topology
from hooper.secret import Secrets, secrets_in_use

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.evidence.observations import LastChange, Observation
    from hooper.line.sources import Given
    from hooper.net.types import Door
    from hooper.planning.values import Plan
    from hooper.site.load import SiteFile
    from hooper.site.model import Site
    from hooper.sourced import Sourced
    from hooper.store.kept import Happening
    from hooper.store.ledger import Ledger
    from hooper.store.state import State


@dataclass(frozen=True)
class RisksTaken:
    """What was accepted: service and finding, each; until when; why, by service."""

    risks: tuple[tuple[str, str], ...]
    until: date
    reasons: Mapping[str, str]


@lru_cache(2)  # the next run, or the end of this one, may be about the same file
def _topology(file: SiteFile) -> Topology:
    return Topology(file.site)


@lru_cache(2)
def _plan(file: SiteFile, today: date) -> Plan:
    from hooper.planning.plan import make_plan

    return make_plan(file, today, _topology(file))


@dataclass
class Run:
    """The site file and where it stands, the place to look from, the state, the time, the trouble met on the way.

    door: None for use cases that ask nobody. state: None where none is kept, or where it cannot be used, then the
    reason stands in `trouble`. detail: is told what is being done, for whoever wants to know. progress: is told
    how far it is, each time something has come. accepted: the risks that
    were taken in this run. changed: what is not any more as it was when it was last looked at. twin: another file of
    the same id, which was the last to use the state. secrets: those that it comes to know.
    """

    file: SiteFile
    at: datetime
    path: Path = Path("site.toml")
    door: Door | None = None
    state: State | None = None
    trouble: list[HooperError] = field(default_factory=list)
    detail: Callable[[str], None] = lambda text: None
    progress: Callable[[str], None] = lambda text: None
    accepted: RisksTaken | None = None
    changed: list[Happening] = field(default_factory=list)
    twin: str | None = None
    secrets: Secrets = field(default_factory=lambda: Secrets(secrets_in_use()))

    @property
    def site(self) -> Site:
        return self.file.site

    @property
    def base(self) -> Path:
        """The site file's folder, from which the files that it names are found."""
        return Path(self.file.name).parent

    @property
    def here(self) -> Door:
        """The place to look from."""
        assert self.door is not None
        return self.door

    @property
    def kept(self) -> State:
        """The state, for what is not done without. Raises: StateError: there is none; why was told."""
        if self.state is None:
            raise StateError(
                "without its state this cannot be done", code="state-missing", remedy="Set the state right."
            )
        return self.state

    @cached_property
    def topology(self) -> Topology:
        return _topology(self.file)

    @cached_property
    def plan(self) -> Plan:
        """The plan of today."""
        return _plan(self.file, self.at.date())

    def use(self, file: SiteFile) -> None:
        """Go on with an edited site file."""
        self.file = file
        self.__dict__.pop("topology", None)
        self.__dict__.pop("plan", None)

    @contextmanager
    def keeping(self) -> Iterator[State | None]:
        """The state to write to; what goes wrong there is trouble, and does not end the run."""
        try:
            yield self.state
        except StateError as exc:
            self.trouble.append(exc)

    @property
    def memory(self) -> Ledger | None:
        """What was seen before; None: no state is kept."""
        return self.state.ledger if self.state is not None else None

    def changes(self) -> Mapping[str, LastChange]:
        """By service, since when it is what it is now: what was seen before is history. Raises: StateError."""
        from hooper.evidence.observations import CHANGED, LastChange, service_subject

        changed = self.state.ledger.newest("services.*", CHANGED, self.at) if self.state is not None else []
        at = {one.subject: one.at for one in changed}
        subjects = {key: service_subject(key) for key in self.site.services}
        return {key: LastChange(at.get(subject), self.basis(subject)) for key, subject in subjects.items()}

    def seen_outside(self, service: str, lately: timedelta) -> list[Observation]:
        """The looks at a service from outside that still count, newest first. Raises: StateError."""
        from hooper.evidence.observations import CHANGED, REACH, LastChange, service_subject

        if self.state is None:
            return []
        subject, ledger = service_subject(service), self.state.ledger
        seen = ledger.newest(subject, REACH, self.at, self.at - lately)
        changed = next((one.at for one in ledger.newest(subject, CHANGED, self.at)), None) if seen else None
        since = LastChange(changed, self.basis(subject))
        return [one for one in seen if not since.outdates(one.at, one.basis)]

    def told(self) -> dict[str, Sourced[str]]:
        """All that people told. Raises: StateError."""
        return self.state.ledger.told(self.at, self._counts) if self.state is not None else {}

    def basis(self, subject: str) -> str:
        """What the site file of today says of how a service is reached; empty: the subject is none."""
        from hooper.evidence.observations import basis_of

        table, _, key = subject.partition(".")
        return basis_of(self.topology, key) if table == "services" and key in self.site.services else ""

    def _counts(self, one: Observation) -> bool:
        return one.basis in ("", self.basis(one.subject))

    def given(
        self, public: Mapping[str, IPAddress] | None = None, told: Mapping[str, Sourced[str]] | None = None
    ) -> Given:
        """What is known of the lines before anything is asked: told, or measured by a survey within the hour.

        public: from the command line, by line. told: None: what is stored. Raises: StateError.
        """
        from hooper.line.sources import Given

        if self.state is None:
            return Given(public or {}, told or {})
        from hooper.evidence.observations import SURVEY
        from hooper.line.surveyed import Surveyed, recalled

        kept = self.state.ledger.newest("lines.*", SURVEY, self.at)
        read = {one.subject.partition(".")[2]: (one.at, read_if(Surveyed, one.value)) for one in kept}
        surveys = {line: (at, said) for line, (at, said) in read.items() if said is not None}
        return Given(public or {}, *recalled(self.told() if told is None else told, surveys, self.at))


PARTS = {
    "rules": "rules entered into routers", "observations": "what was seen and told", "updates": "updates of names",
    "orders": "orders of certificates", "turns": "what was to be done when", "states": "how things stand",
    "events": "what changed", "days": "counted looks", "notices": "notices sent",
    "handed": "profiles that were handed over", "made": "server files", "revoked": "peers that were revoked",
    "lent": "rules that stood for a test",
}  # fmt: skip


def _set_aside(state: State) -> list[HooperError]:
    """What could not be read of the state: said once, since it does not stand in the way any more."""
    if not state.aside:
        return []
    parts = ", ".join(f"{count} of {PARTS.get(part, part)}" for part, count in sorted(state.aside.items()))
    message = f"rows of the state could not be read and were set aside: {parts}"
    remedy = "The rest is used."
    if "rules" in state.aside:
        remedy += f" See with `{deeds.TABLES}` which rules of ours stand where."
    remedy += f" They are kept in {state.path}, table `aside`."
    return [StateError(message, code="state-rows-aside", remedy=remedy)]


@contextmanager
def open_state(run: Run, folder: Path | None, *, looks: bool = False) -> Iterator[State]:
    """The state of a run's site. folder: the one that was named; None: the usual one. looks: nothing is done by it.

    Raises: StateError; SiteCopied: this file is a copy of one that has a state.
    """
    from hooper.store.place import state_path
    from hooper.store.state import State

    path = state_path(folder, run.file)
    if not looks:
        from hooper.usecases.moving import refuse_copy, remember

        run.twin = refuse_copy(run.file, run.path, path)
    with State(path) as state:
        run.state = state
        if not looks:
            remember(run.file, run.path, state, run.at)
        run.detail(f"state in {state.path}")
        yield state
        run.trouble += _set_aside(state)


@contextmanager
def state_if_there(run: Run, folder: Path | None) -> Iterator[None]:
    """The state for what only looks at it: none is made, and what is wrong with it is trouble."""
    from hooper.store.place import state_path

    with ExitStack() as opened:
        if state_path(folder, run.file).exists():
            try:
                opened.enter_context(open_state(run, folder, looks=True))
            except StateError as exc:
                run.trouble.append(exc)
        yield


@asynccontextmanager
async def open_run(
    file: SiteFile,
    path: Path,
    detail: Callable[[str], None],
    *,
    keeps: bool = True,
    state: Path | None = None,
    told: Callable[[str], None] | None = None,
    progress: Callable[[str], None] = lambda text: None,
) -> AsyncIterator[Run]:
    """A run with the door that this computer has, or that HOOPER_LAB names, and the state of the site.

    keeps: whether it has a state at all; what is wrong with that is trouble of the run. state: the folder that was
    named. told: what is asked and answered. progress: how far it is. Raises: LabGone, MachineError.
    """
    from hooper.net.lab_door import lab_from_environment
    from hooper.net.opening import open_door

    door = await open_door(lab_from_environment(), told)
    run = Run(file, door.clock.now(), path, door, detail=detail, progress=progress)
    with ExitStack() as opened:
        opened.enter_context(run.secrets.used())
        if keeps:
            try:
                opened.enter_context(open_state(run, state))
            except StateError as exc:
                run.trouble.append(exc)
        yield run
