"""Whom a keeper tells, and what a system needs to run one: as the site file has it."""

from __future__ import annotations

import getpass
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.clock import rfc3339
from hooper.errors import HooperError, UsageError
from hooper.planning.meetings import meeting_ends
from hooper.report.units import UnitAsked
from hooper.store.place import state_folder
from hooper.usecases.run import Run
from hooper.visible import is_plain, shown

if TYPE_CHECKING:
    from hooper.site.load import SiteFile


@dataclass(frozen=True)
class NoticesRequest:
    """notices: which."""

    notices: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class NoticeRow:
    """One of [notices].

    notice: its key. about: what is told of. quiet: when nothing is sent; null: never. digest_s: changes are collected
    for so many seconds; null: they are told at once. masked: whether names and addresses are replaced. last_told: RFC
    3339; null: nothing was told yet. test: what came of a test; null: there was none.
    """

    notice: str
    about: tuple[str, ...]
    quiet: str | None
    digest_s: float | None
    masked: bool
    last_told: str | None
    test: str | None = None


@dataclass(frozen=True, slots=True)
class NoticesDocument:
    """`hooper keep notice`. notices: one row each."""

    notices: tuple[NoticeRow, ...]


@dataclass(frozen=True, slots=True)
class UnitDocument:
    """`hooper keep unit`, `hooper witness unit`. system: for which. text: to be installed. steps: what to do then."""

    system: str
    text: str
    steps: tuple[str, ...]


def list_notices(run: Run, request: NoticesRequest) -> tuple[NoticesDocument, list[HooperError]]:
    """Whom a keeper tells. Raises: StateError."""
    return NoticesDocument(tuple(notice_row(run, key) for key in request.notices)), []


def notice_row(run: Run, key: str, test: str | None = None) -> NoticeRow:
    """Raises: StateError."""
    entry = run.site.notices[key]
    told = run.state.history.last_told(key) if run.state is not None else None
    quiet = "-".join(f"{one:%H:%M}" for one in entry.quiet) if entry.quiet is not None else None
    last = rfc3339(told) if told is not None else None
    return NoticeRow(key, entry.about, quiet, entry.digest, entry.masked, last, test)


def witness_unit_asked(command: Sequence[str], folder: Path, user: str | None) -> UnitAsked:
    """What the unit of a witness is made from. command: its words. folder: where it keeps what it has.

    Raises: UsageError.
    """
    program = (sys.executable, "-m", "hooper", *command)
    _plain((*program, user or ""))
    does = "looks back at the sites that ask, from outside"
    return UnitAsked(
        program, (), user or getpass.getuser(), (str(folder.absolute()),), "hooper-witness", does, reloads=False
    )


def _plain(words: Sequence[str]) -> None:
    """Raises: UsageError: one of these cannot stand in such a file."""
    if (wrong := next((word for word in words if not is_plain(word)), None)) is not None:
        message = f"{shown(wrong)} holds signs that cannot stand in such a file"
        raise UsageError(message, remedy="Give the site file, the state or the user another name.")


def unit_asked(
    file: SiteFile, command: Sequence[str], once: Sequence[str], folder: Path | None, user: str | None
) -> UnitAsked:
    """What a unit is made from. command, once: the keeper's words, and those for one round. folder: of the state."""
    state = state_folder(folder).absolute()
    program = (sys.executable, "-m", "hooper", *command)
    base = Path(file.name).absolute().parent
    writes = [state]
    writes += [base / Path(one.give_to).expanduser() for one in file.site.certificates.values() if one.give_to]
    metrics = file.site.keep.metrics or ""
    if metrics.startswith("file:"):
        writes.append((base / Path(metrics[5:]).expanduser()).parent)
    _plain((*program, *map(str, writes), user or ""))
    rights = ("CAP_NET_ADMIN", "CAP_NET_RAW") if meeting_ends(file.site, date.min) else ()  # wg(8), raw(7)
    folders = tuple(dict.fromkeys(map(str, writes)))
    return UnitAsked(program, (*program, *once), user or getpass.getuser(), folders, rights=rights)
