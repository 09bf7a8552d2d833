"""The database of one site: opening it, bringing it up to date, its errors in our words."""

from __future__ import annotations

import os
import re
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

from hooper import deeds
from hooper.errors import MachineError, StateError
from hooper.files import make_folder

T = TypeVar("T")

# Each step takes the store from its number to the next; a step that was released is never changed.
MIGRATIONS: tuple[str, ...] = tuple(
    re.split(
        r"^-- to version \d+$", Path(__file__).with_name("migrations.sql").read_text(encoding="utf-8"), flags=re.M
    )[1:]
)
BUSY_SECONDS = 5.0


class Database:
    """An open SQLite file. Every part of the state writes through it."""

    def __init__(self, path: Path, *, kept: bool = True) -> None:
        """kept: False: in memory alone, in the place of the file that cannot be used.

        Raises: StateError: it cannot be opened, or comes from a newer Hooper.
        """
        self.path, self.kept = path, kept
        self.aside: dict[str, int] = {}  # how many rows of each part could not be read, in this run
        self._mark: tuple[int, int] | None = None
        if kept:
            self._make(path)
        with self.reading():
            self._db = sqlite3.connect(path if kept else ":memory:", timeout=BUSY_SECONDS, isolation_level=None)
        with self.reading():
            try:
                self._migrate()
            except BaseException:
                self._db.close()
                raise

    def _make(self, path: Path) -> None:
        try:
            make_folder(path.parent, private=True)
            descriptor = os.open(path, os.O_CREAT | os.O_RDWR, 0o600)
            self._mark = _mark_of(os.fstat(descriptor))
            os.close(descriptor)
        except MachineError as exc:
            raise StateError(exc.message) from None
        except OSError as exc:
            raise StateError(f"the state {path} cannot be opened: {exc.strerror}") from None

    def prove(self) -> None:
        """Raises: StateError: its file is gone or another, or takes no writing."""
        if not self.kept:
            return
        try:
            there = _mark_of(os.stat(self.path)) == self._mark
        except OSError:
            there = False
        if not there:
            message = f"the state {self.path} was taken away while it was used, with all that it knew"
            raise StateError(message, remedy=f"Put it back; else see with `{deeds.TABLES}` which rules stand where.")
        with self.writing():
            (version,) = self._db.execute("PRAGMA user_version").fetchone()
            self._db.execute(f"PRAGMA user_version = {version}")

    def _migrate(self) -> None:
        (version,) = self._db.execute("PRAGMA user_version").fetchone()
        if version > len(MIGRATIONS):
            raise StateError(
                f"the state {self.path} comes from a newer Hooper (its version is {version}, ours {len(MIGRATIONS)})",
                remedy=f"Update Hooper, or use another folder with {deeds.STATE_FOLDER}.",
            )
        while version < len(MIGRATIONS):
            with self.writing():  # another run may be doing the same: who comes second finds it done
                (version,) = self._db.execute("PRAGMA user_version").fetchone()
                if version < len(MIGRATIONS):
                    for statement in MIGRATIONS[version].split(";"):
                        self._db.execute(statement)
                    version += 1
                    self._db.execute(f"PRAGMA user_version = {version}")

    @contextmanager
    def reading(self) -> Iterator[None]:
        """SQLite's errors in our words."""
        try:
            yield
        except sqlite3.Error as exc:
            words = str(exc)
            remedy = None
            if "not a database" in words or "malformed" in words:
                remedy = f"It is damaged. Move {self.path} away; Hooper then starts a new one."
            elif "locked" in words:
                remedy = "Another Hooper is writing to it. Wait for it to end, then try again."
            raise StateError(f"the state {self.path} cannot be used: {words}", remedy=remedy) from None

    @contextmanager
    def writing(self) -> Iterator[None]:
        """One transaction: all of it or nothing."""
        with self.reading():
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
                self._db.execute("COMMIT")
            except BaseException:
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
                raise

    def rows(self, question: str, *values: Any) -> list[tuple[Any, ...]]:
        """What a query gives; text that is no UTF-8 comes as it can be shown. Raises: StateError."""
        with self.reading():
            try:
                return self._db.execute(question, values).fetchall()
            except sqlite3.OperationalError as exc:
                if "decode" not in str(exc):
                    raise
            self._db.text_factory = lambda data: data.decode("utf-8", "replace")
            return self._db.execute(question, values).fetchall()

    def row(self, question: str, *values: Any) -> tuple[Any, ...] | None:
        """The first row of a query; None: there is none. Raises: StateError."""
        return next(iter(self.rows(question, *values)), None)

    def readable(self, part: str, question: str, read: Callable[[tuple[Any, ...]], T], *values: Any) -> list[T]:
        """What `read` makes of each row of a query. Rows that it cannot read are counted, and set aside for good where
        they are a whole table's.

        read: raises ValueError or TypeError. Raises: StateError.
        """
        found: list[T] = []
        for number, row in self._numbered(question, values):
            try:
                found.append(read(row))
            except (ValueError, TypeError, OverflowError):
                self.aside[part] = self.aside.get(part, 0) + 1
                with self.writing():
                    self._db.execute("INSERT INTO aside (part, row) VALUES (?, ?)", (part, repr(row)))
                    self._db.execute(f"DELETE FROM {part} WHERE rowid = ?", (number,))  # noqa: S608 - a name of ours
        return found

    def _numbered(self, question: str, values: tuple[Any, ...]) -> list[tuple[int, tuple[Any, ...]]]:
        rows = self.rows(question.replace("SELECT ", "SELECT rowid, ", 1), *values)
        return [(row[0], row[1:]) for row in rows]

    def write(self, change: str, *values: Any) -> None:
        """One change. Raises: StateError."""
        with self.writing():
            self._db.execute(change, values)

    def many(self, change: str, rows: Sequence[tuple[Any, ...] | Mapping[str, Any]]) -> None:
        """The same change for many rows, inside of `writing`."""
        self._db.executemany(change, rows)

    def close(self) -> None:
        self._db.close()


def _mark_of(found: os.stat_result) -> tuple[int, int]:
    """By what a file is known, whatever its name."""
    return found.st_dev, found.st_ino
