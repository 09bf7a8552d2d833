"""The entries of one table of the site file, as they are written, and what names them."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from hooper.errors import HooperError
from hooper.planning.edits import leaves
from hooper.site.pointers import users_of
from hooper.usecases.run import Run


@dataclass(frozen=True)
class WrittenKey:
    """One key of an entry. key: its name. value: as it is written."""

    key: str
    value: str


@dataclass(frozen=True)
class WrittenEntry:
    """One entry of a table. keys: those that are written. name: its own. named_by: where else in the file it stands."""

    name: str
    keys: tuple[WrittenKey, ...]
    named_by: tuple[str, ...]


@dataclass(frozen=True)
class EntriesDocument:
    """A table of the site file. entries: all of it, or the one that was asked for. table: its name."""

    table: str
    entries: tuple[WrittenEntry, ...]


def entries_of(run: Run, table: str, only: str | None = None) -> tuple[EntriesDocument, list[HooperError]]:
    """What is written in a table. only: one entry of it."""
    written: Mapping[str, Any] = tomllib.loads(run.file.text).get(table, {})
    names = getattr(run.site, table)
    if not isinstance(names, dict):  # it has no entries: it is one itself
        names, written = {table: names}, {table: written}
    found = []
    for name, (_, keys) in zip(names, written.items(), strict=True):
        if only in (None, name):
            users = (".".join(map(str, one.path)) for one in users_of(run.site, table, name))
            rows = tuple(WrittenKey(key, value) for key, value in leaves(keys))
            found.append(WrittenEntry(name, rows, tuple(users)))
    return EntriesDocument(table, tuple(found)), []
