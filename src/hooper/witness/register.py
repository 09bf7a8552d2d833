"""What a witness keeps: the sites that it knows, when each was there last, and hashes of invitations."""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from hooper.clock import read_moment, rfc3339
from hooper.errors import StateError
from hooper.files import make_folder

MOST_SITES, MOST_INVITED = 1000, 200
COLUMNS = "key, title, joined, seen, address, beat, told, silent, tell, quiet"
TABLES = """
CREATE TABLE IF NOT EXISTS sites (
    key BLOB PRIMARY KEY, title TEXT NOT NULL, joined TEXT NOT NULL, seen TEXT, address TEXT NOT NULL DEFAULT '',
    beat TEXT NOT NULL DEFAULT '{}', told TEXT NOT NULL DEFAULT '', silent TEXT, tell TEXT NOT NULL DEFAULT '',
    quiet TEXT NOT NULL DEFAULT ''
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS invitations (
    hash BLOB PRIMARY KEY, until TEXT NOT NULL, tell TEXT NOT NULL, quiet TEXT NOT NULL
) WITHOUT ROWID;
"""


class KnownSite(NamedTuple):
    """A site. key: its public one. seen: when it was there last; None: never. address: from where. beat: what it said
    then, as JSON. told: what people were told of it last; empty: nothing is wrong. silent: since when it was then;
    None: it was not. tell: who is told, as a reference to a secret; empty: nobody. quiet: when not, as 22:00-07:00.
    """

    key: bytes
    title: str
    joined: datetime
    seen: datetime | None
    address: str
    beat: str
    told: str
    silent: datetime | None
    tell: str
    quiet: str

    @property
    def short(self) -> str:
        """By which people name it."""
        return self.key.hex()[:12]


class Register:
    """The file of a witness. Raises: StateError: whenever it cannot be read or written."""

    def __init__(self, path: Path | None) -> None:
        """path: None: in memory alone."""
        self.path = path
        if path is not None:
            make_folder(path.parent, private=True)
            try:
                path.touch(0o600)
            except OSError as exc:
                raise StateError(f"{path} cannot be opened: {exc.strerror}") from None
        with self._ours():
            self._db = sqlite3.connect(path or ":memory:", timeout=5.0, isolation_level=None, check_same_thread=False)
            self._db.executescript(TABLES)

    @contextmanager
    def _ours(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as exc:
            raise StateError(f"the register {self.path} cannot be used: {exc}", remedy="Is its disk full?") from None

    def close(self) -> None:
        with self._ours():
            self._db.close()

    # --- invitations

    def invite(self, secret: bytes, until: datetime, tell: str, quiet: str, now: datetime) -> None:
        """Expect somebody who has this, once."""
        with self._ours():
            self._db.execute("DELETE FROM invitations WHERE until < ?", (rfc3339(now),))
            (there,) = self._db.execute("SELECT count(*) FROM invitations").fetchone()
            if there >= MOST_INVITED:
                raise StateError(f"{there} invitations are open", remedy="Wait until some of them are over.")
            row = (hashlib.sha256(secret).digest(), rfc3339(until), tell, quiet)
            self._db.execute("INSERT INTO invitations VALUES (?, ?, ?, ?)", row)

    def join(self, secret: bytes, key: bytes, title: str, now: datetime) -> bool:
        """Take a site in that was invited; whether it was. The invitation is over by that."""
        with self._ours():
            marks = hashlib.sha256(secret).digest(), rfc3339(now)
            self._db.execute("BEGIN IMMEDIATE")
            try:
                found = self._db.execute(
                    "DELETE FROM invitations WHERE hash = ? AND until >= ? RETURNING tell, quiet", marks
                ).fetchall()
                (there,) = self._db.execute("SELECT count(*) FROM sites").fetchone()
                if found and there < MOST_SITES:
                    self._db.execute(
                        "INSERT OR REPLACE INTO sites (key, title, joined, tell, quiet) VALUES (?, ?, ?, ?, ?)",
                        (key, title, rfc3339(now), *found[0]),
                    )
            finally:
                self._db.execute("COMMIT")
            return bool(found) and there < MOST_SITES

    # --- sites

    def sites(self) -> list[KnownSite]:
        """All, in the order in which they came."""
        with self._ours():
            rows = self._db.execute(
                f"SELECT {COLUMNS} FROM sites ORDER BY joined, key"  # noqa: S608 - our own words
            ).fetchall()
        return [_known(row) for row in rows]

    def site(self, key: bytes) -> KnownSite | None:
        with self._ours():
            row = self._db.execute(
                "SELECT key, title, joined, seen, address, beat, told, silent, tell, quiet FROM sites WHERE key = ?",
                (key,),
            ).fetchone()
        return _known(row) if row is not None else None

    def heard(self, key: bytes, address: str, beat: str, now: datetime) -> None:
        """That a site was there."""
        with self._ours():
            values = rfc3339(now), address, beat, key
            self._db.execute("UPDATE sites SET seen = ?, address = ?, beat = ? WHERE key = ?", values)

    def tell(self, key: bytes, told: str, silent: datetime | None) -> None:
        """What people were told of it. silent: since when it was; None: it is back."""
        with self._ours():
            since = rfc3339(silent) if silent is not None else None
            self._db.execute("UPDATE sites SET told = ?, silent = ? WHERE key = ?", (told, since, key))

    def forget(self, key: bytes) -> bool:
        """Whether it was known."""
        with self._ours():
            return bool(self._db.execute("DELETE FROM sites WHERE key = ? RETURNING 1", (key,)).fetchall())


def _known(row: tuple[bytes, str, str, str | None, str, str, str, str | None, str, str]) -> KnownSite:
    key, title, joined, seen, address, beat, told, silent, *rest = row
    moments = [read_moment(one) if one else None for one in (seen, silent)]
    return KnownSite(bytes(key), title, read_moment(joined), moments[0], address, beat, told, moments[1], *rest)
