"""Dynamic names: do they lead here, and making them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from hooper.addresses import IPAddress
from hooper.errors import HooperError, UsageError
from hooper.names.rows import NamesDocument
from hooper.names.update import Names
from hooper.usecases.looking import keep_addresses
from hooper.usecases.run import Run


@dataclass(frozen=True)
class NamesRequest:
    """names: only these; empty: all. deadline: seconds for each question; patience: for an update to show.

    again: ask the provider also where it said to wait, or never again. dry_run: look only.
    """

    names: tuple[str, ...] = ()
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    deadline: float = 5.0
    patience: float = 0.0
    again: bool = False
    dry_run: bool = True


def _names(run: Run, request: NamesRequest) -> tuple[tuple[str, ...], Names]:
    names = request.names or tuple(run.site.names)
    if not names:
        raise UsageError("the site file has no names", remedy='Add [names."home.example.net"] with its line.')
    memory = run.state.updates if run.state is not None else None
    known = run.given(request.public)
    return names, Names(run.here, run.site, run.base, known, request.deadline, request.patience, memory)


async def list_names(run: Run, request: NamesRequest) -> tuple[NamesDocument, list[HooperError]]:
    """How the names stand. Raises: NoNetwork, UsageError."""
    names, work = _names(run, request)
    rows = await work.look(names)
    keep_addresses(run, work.public.values())
    return NamesDocument(True, tuple(rows), tuple(work.findings)), work.trouble


async def update_names(run: Run, request: NamesRequest) -> tuple[NamesDocument, list[HooperError]]:
    """Update those that do not lead here, and only those. Without a memory nothing is updated.

    Raises: NoNetwork, UsageError, StateError.
    """
    names, work = _names(run, request)
    if work.memory is None:
        rows = await work.look(names)
    else:
        rows = await work.update(names, again=request.again, dry=request.dry_run)
    keep_addresses(run, work.public.values())
    return NamesDocument(request.dry_run, tuple(rows), tuple(work.findings)), work.trouble
