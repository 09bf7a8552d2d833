"""One run at one site: what every use case is given beside its request."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.errors import HooperError, StateError
from hooper.planning.topology import Topology

if TYPE_CHECKING:
    from hooper.line.public import Given
    from hooper.net.types import Door
    from hooper.planning.values import Plan
    from hooper.site.load import SiteFile
    from hooper.site.model import Site
    from hooper.store.state import State


@dataclass
class Run:
    """The site file and where it stands, the place to look from, the state, the time, the trouble met on the way.

    door: None for use cases that ask nobody. state: None where none is kept, or where it cannot be used, the reason then
    stands in `trouble`. detail: is told what is being done, for whoever wants to know.
    """

    file: SiteFile
    at: datetime
    path: Path = Path("site.toml")
    door: Door | None = None
    state: State | None = None
    trouble: list[HooperError] = field(default_factory=list)
    detail: Callable[[str], None] = lambda text: None

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

    @cached_property
    def topology(self) -> Topology:
        return Topology(self.file.site)

    @cached_property
    def plan(self) -> Plan:
        """The plan of today."""
        from hooper.planning.plan import make_plan

        return make_plan(self.file, self.at.date(), self.topology)

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

    def given(self, public: dict[str, object] | None = None) -> Given:
        """What is known of the lines before anything is asked. public: from the command line, by line."""
        from hooper.line.public import Given

        told = self.state.told() if self.state is not None else {}
        return Given(public or {}, told)  # type: ignore[arg-type]


@asynccontextmanager
async def open_run(
    file: SiteFile, at: datetime, path: Path, state: Path | None, detail: Callable[[str], None]
) -> AsyncIterator[Run]:
    """A run with the door that this machine has, or that HOOPER_LAB names, and the state of the site.

    state: the folder that was named; None: the usual one. Raises: LabGone, MachineError.
    """
    from hooper.net.lab import lab_from_environment
    from hooper.net.opening import open_door
    from hooper.store.state import State, state_folder, store_name

    door = await open_door(lab_from_environment())
    run = Run(file, door.clock.now(), path, door, detail=detail)
    try:
        with run.keeping():
            run.state = State(state_folder(state) / store_name(file))
            detail(f"state in {run.state.path}")
        yield run
    finally:
        if run.state is not None:
            run.state.close()
