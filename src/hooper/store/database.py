"""The database of one site: opening it, bringing it up to date, its errors in our words."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

from hooper import deeds
from hooper.errors import MachineError, StateError
from hooper.files import make_folder

T = TypeVar("T")

# Each step takes the store from its number to the next; a step that was released is never changed.
MIGRATIONS: tuple[str, ...] = (
    """
    CREATE TABLE results (
        id INTEGER PRIMARY KEY, at TEXT NOT NULL, from_kind TEXT NOT NULL, from_name TEXT NOT NULL,
        proves_outside INTEGER NOT NULL, service TEXT NOT NULL, transport TEXT NOT NULL, port INTEGER NOT NULL,
        verdict TEXT NOT NULL, ok INTEGER NOT NULL, document TEXT NOT NULL
    );
    CREATE INDEX results_by_service ON results (service, at);
    CREATE TABLE inside (
        service TEXT NOT NULL, transport TEXT NOT NULL, port INTEGER NOT NULL, verdict TEXT NOT NULL,
        fingerprint TEXT, greeting TEXT, at TEXT NOT NULL, PRIMARY KEY (service, transport, port)
    );
    """,
    """
    CREATE TABLE told (key TEXT PRIMARY KEY, value TEXT NOT NULL, at TEXT NOT NULL);
    """,
    """
    CREATE TABLE rules (
        gateway TEXT NOT NULL, transport TEXT NOT NULL, outside_port INTEGER NOT NULL, source TEXT NOT NULL,
        service TEXT NOT NULL, state TEXT NOT NULL, rule TEXT NOT NULL, before TEXT, until TEXT,
        PRIMARY KEY (gateway, transport, outside_port, source)
    );
    CREATE TABLE updates (
        name TEXT NOT NULL, type TEXT NOT NULL, value TEXT NOT NULL, at TEXT NOT NULL, outcome TEXT NOT NULL,
        said TEXT NOT NULL, not_before TEXT, mark TEXT NOT NULL, PRIMARY KEY (name, type)
    );
    CREATE TABLE accounts (directory TEXT PRIMARY KEY, url TEXT NOT NULL);
    CREATE TABLE orders (
        certificate TEXT PRIMARY KEY, directory TEXT NOT NULL, url TEXT, names TEXT NOT NULL, at TEXT NOT NULL
    );
    CREATE TABLE texts (name TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (name, text));
    """,
    """
    CREATE TABLE seen (line TEXT PRIMARY KEY, address TEXT NOT NULL, source TEXT NOT NULL, at TEXT NOT NULL);
    """,
    """
    CREATE TABLE surveys (line TEXT PRIMARY KEY, at TEXT NOT NULL, document TEXT NOT NULL);
    CREATE TABLE aside (at TEXT NOT NULL DEFAULT CURRENT_TIMESTAMP, part TEXT NOT NULL, row TEXT NOT NULL);
    """,
    """
    CREATE TABLE turns (
        task TEXT PRIMARY KEY, due TEXT, last TEXT, failures INTEGER NOT NULL, hold TEXT, runs INTEGER NOT NULL
    );
    CREATE TABLE states (
        kind TEXT NOT NULL, subject TEXT NOT NULL, aspect TEXT NOT NULL, state TEXT NOT NULL, level TEXT NOT NULL,
        since TEXT NOT NULL, at TEXT NOT NULL, detail TEXT NOT NULL, cause TEXT, PRIMARY KEY (kind, subject, aspect)
    );
    CREATE TABLE events (
        id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, aspect TEXT NOT NULL,
        before TEXT, after TEXT NOT NULL, level TEXT NOT NULL, detail TEXT NOT NULL, cause TEXT, seconds REAL
    );
    CREATE TABLE days (
        service TEXT NOT NULL, place TEXT NOT NULL, day TEXT NOT NULL, looks INTEGER NOT NULL, well INTEGER NOT NULL,
        took_ms REAL NOT NULL, timed INTEGER NOT NULL, PRIMARY KEY (service, place, day)
    );
    CREATE TABLE notices (notice TEXT PRIMARY KEY, event INTEGER NOT NULL, at TEXT NOT NULL);
    ALTER TABLE updates ADD COLUMN failures INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE updates ADD COLUMN shown INTEGER NOT NULL DEFAULT 0;
    """,
    """
    CREATE TABLE handed (
        peer TEXT PRIMARY KEY, public_key TEXT NOT NULL, mark TEXT NOT NULL, endpoint TEXT NOT NULL,
        kept INTEGER NOT NULL, at TEXT NOT NULL
    );
    CREATE TABLE made (tunnel TEXT PRIMARY KEY, mark TEXT NOT NULL, at TEXT NOT NULL);
    CREATE TABLE labels (public_key TEXT PRIMARY KEY, label TEXT NOT NULL);
    CREATE TABLE heard (
        public_key TEXT PRIMARY KEY, tunnel TEXT NOT NULL, server TEXT NOT NULL, handshake TEXT, came_from TEXT,
        received INTEGER NOT NULL, sent INTEGER NOT NULL, at TEXT NOT NULL
    );
    """,
    """
    CREATE TABLE lent (
        gateway TEXT NOT NULL, transport TEXT NOT NULL, outside_port INTEGER NOT NULL, rule TEXT NOT NULL,
        before TEXT NOT NULL, until TEXT, PRIMARY KEY (gateway, transport, outside_port)
    );
    """,
    """
    CREATE TABLE revoked (
        peer TEXT PRIMARY KEY, tunnel TEXT NOT NULL, public_key TEXT NOT NULL, at TEXT NOT NULL, out TEXT,
        how TEXT NOT NULL
    );
    """,
    # Codes and values in the place of sentences, and places in the place of their names. What an earlier Hooper wrote
    # stays as its words; what a survey measured is of use for an hour only, and is measured again.
    """
    CREATE TEMP TABLE was AS
        SELECT from_name AS name,
            CASE max(from_kind) WHEN 'proxy' THEN 'socks5://' ELSE max(from_kind) || ':' END AS kind
        FROM results WHERE from_kind != 'here' GROUP BY from_name;
    UPDATE states SET aspect = coalesce((SELECT kind FROM was WHERE name = aspect), 'elsewhere:') || aspect
        WHERE kind = 'service' AND aspect != 'here';
    UPDATE events SET aspect = coalesce((SELECT kind FROM was WHERE name = aspect), 'elsewhere:') || aspect
        WHERE kind = 'service' AND aspect != 'here';
    UPDATE OR REPLACE days SET place = coalesce((SELECT kind FROM was WHERE name = place), 'elsewhere:') || place
        WHERE place != 'here';
    DROP TABLE was;
    UPDATE states SET aspect = 'service:' || substr(aspect, 4) WHERE kind = 'certificate' AND aspect LIKE 'at %';
    UPDATE events SET aspect = 'service:' || substr(aspect, 4) WHERE kind = 'certificate' AND aspect LIKE 'at %';
    UPDATE states SET state = replace(state, ' ', '-') WHERE kind IN ('tunnel', 'peer', 'certificate', 'keeper');
    UPDATE events SET before = replace(before, ' ', '-'), after = replace(after, ' ', '-')
        WHERE kind IN ('tunnel', 'peer', 'certificate', 'keeper');
    UPDATE states SET detail = CASE detail WHEN '' THEN json_array('', json_object())
        ELSE json_array('kept-before', json_object('words', detail)) END;
    UPDATE events SET detail = CASE detail WHEN '' THEN json_array('', json_object())
        ELSE json_array('kept-before', json_object('words', detail)) END;
    UPDATE seen SET source = json_array('kept-before', json_object('words', source));
    UPDATE results SET document = json_set(document, '$.detail',
        json_array('kept-before', json_object('words', json_extract(document, '$.detail'))))
        WHERE json_valid(document) AND json_type(document, '$.detail') = 'text';
    UPDATE results SET document = json_set(document, '$.evidence.public_address.source',
        json_array('kept-before', json_object('words', json_extract(document, '$.evidence.public_address.source'))))
        WHERE json_valid(document) AND json_type(document, '$.evidence.public_address.source') = 'text';
    UPDATE results SET document = json_set(document, '$.evidence.place_address.source',
        json_array('kept-before', json_object('words', json_extract(document, '$.evidence.place_address.source'))))
        WHERE json_valid(document) AND json_type(document, '$.evidence.place_address.source') = 'text';
    UPDATE results SET document = json_set(document, '$.evidence.certificate.browsers_warn',
        json_array('kept-before', json_object('words', json_extract(document, '$.evidence.certificate.browsers_warn'))))
        WHERE json_valid(document) AND json_type(document, '$.evidence.certificate.browsers_warn') = 'text';
    DELETE FROM surveys;
    UPDATE revoked SET how = CASE how WHEN 'seen at its server' THEN 'seen'
        WHEN 'its server has loaded its files' THEN 'loaded' ELSE how END
    """,
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
            self._db.text_factory = lambda data: data.decode("utf-8", "replace")
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

    def many(self, change: str, rows: list[tuple[Any, ...]]) -> None:
        """The same change for many rows, inside of `writing`."""
        self._db.executemany(change, rows)

    def close(self) -> None:
        self._db.close()


def _mark_of(found: os.stat_result) -> tuple[int, int]:
    """By what a file is known, whatever its name."""
    return found.st_dev, found.st_ino
