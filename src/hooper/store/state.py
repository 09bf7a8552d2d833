"""The state store: results of checks, and what services looked like from inside."""

from __future__ import annotations

import hashlib
import json
import os
import re
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from hooper.certs.started import Started
from hooper.check.results import From, InsideSeen, Result
from hooper.clock import rfc3339
from hooper.errors import MachineError, StateError
from hooper.files import make_folder
from hooper.gateways.rules import Entered, Key
from hooper.gateways.tables import LiveRule
from hooper.jsonform import plain
from hooper.names.rows import LastUpdate
from hooper.secret import redact
from hooper.sourced import Sourced, as_told

if TYPE_CHECKING:
    from hooper.site.load import SiteFile

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
)
BUSY_SECONDS = 5.0
RESULTS_KEPT = 50_000


def state_folder(given: Path | None) -> Path:
    """Where state stands: --state, else beside the lab, else the platform's folder for it."""
    if given is not None:
        return given
    lab = os.environ.get("HOOPER_LAB")
    if lab:
        return Path(lab).parent / "state"
    from platformdirs import user_state_path

    return user_state_path("hooper", appauthor=False)


def store_name(file: SiteFile) -> str:
    """The file's name: by the site's id, else by where the site file stands, so that two sites never share one."""
    key = file.site.site.id or str(Path(file.name).resolve())
    readable = re.sub(r"[^a-z0-9]+", "-", (file.site.site.id or Path(file.name).stem).lower()).strip("-")[:40]
    return f"{readable or 'site'}-{hashlib.sha256(key.encode()).hexdigest()[:12]}.sqlite3"


class State:
    """An open store."""

    def __init__(self, path: Path) -> None:
        """Raises: StateError: it cannot be opened, or comes from a newer Hooper."""
        self.path = path
        try:
            make_folder(path.parent, private=True)
            os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
        except MachineError as exc:
            raise StateError(exc.message) from None
        except OSError as exc:
            raise StateError(f"the state {path} cannot be opened: {exc.strerror}") from None
        with self._trouble():
            self._db = sqlite3.connect(path, timeout=BUSY_SECONDS, isolation_level=None)
        with self._trouble():
            try:
                self._migrate()
            except BaseException:
                self._db.close()
                raise

    def _migrate(self) -> None:
        (version,) = self._db.execute("PRAGMA user_version").fetchone()
        if version > len(MIGRATIONS):
            raise StateError(
                f"the state {self.path} comes from a newer Hooper (its version is {version}, ours {len(MIGRATIONS)})",
                remedy="Update Hooper, or use another folder with --state DIR.",
            )
        for number in range(version, len(MIGRATIONS)):
            script = f"BEGIN IMMEDIATE;{MIGRATIONS[number]};PRAGMA user_version = {number + 1};COMMIT;"
            self._db.executescript(script)

    @contextmanager
    def _trouble(self) -> Iterator[None]:
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
    def _writing(self) -> Iterator[None]:
        """One transaction: all of it or nothing."""
        with self._trouble():
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
                self._db.execute("COMMIT")
            except BaseException:
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
                raise

    def save_check(
        self,
        at: datetime,
        origin: From,
        results: Sequence[Result],
        inside: dict[tuple[str, str, int], InsideSeen],
    ) -> None:
        """Keep the results of a check and what was seen from inside. Raises: StateError; then nothing is kept."""
        rows = [
            (
                rfc3339(at),
                origin.kind,
                origin.name,
                origin.proves_outside,
                result.service,
                result.transport,
                result.port,
                result.verdict,
                result.ok,
                json.dumps(plain(result)),
            )
            for result in results
        ]
        seen = [
            (*key, one.verdict, one.fingerprint, one.greeting, one.at)
            for key, one in inside.items()
            if one.verdict in ("answered", "connected")
        ]
        proven = {r.service for r in results if origin.proves_outside and r.expected == "reachable" and r.ok}
        with self._writing():
            self._db.executemany(
                "INSERT INTO results (at, from_kind, from_name, proves_outside, service, transport, port, verdict, ok,"
                " document) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                rows,
            )
            self._db.executemany("INSERT OR REPLACE INTO inside VALUES (?, ?, ?, ?, ?, ?, ?)", seen)
            for service in proven:  # what was told of its rules before is outdated
                self._db.execute("DELETE FROM told WHERE key GLOB ?", (f"rule:{service}:*",))
            self._db.execute(
                "DELETE FROM results WHERE id <= (SELECT max(id) FROM results) - ?",
                (RESULTS_KEPT,),
            )

    def inside(self, service: str, transport: str, port: int) -> InsideSeen | None:
        """What the service looked like from inside when it was last seen. Raises: StateError."""
        with self._trouble():
            row = self._db.execute(
                "SELECT verdict, fingerprint, greeting, at FROM inside"
                " WHERE service = ? AND transport = ? AND port = ?",
                (service, transport, port),
            ).fetchone()
        return InsideSeen(row[0], row[1], row[2], row[3], stored=True, nobody=False) if row else None

    def tell(self, at: datetime, told: dict[str, str]) -> None:
        """Remember what the user told. Keys: wan:GATEWAY, public:LINE, rule:SERVICE:GATEWAY, at:HOST, sheet:GATEWAY."""
        with self._writing():
            rows = [(key, value, rfc3339(at)) for key, value in told.items()]
            self._db.executemany("INSERT OR REPLACE INTO told VALUES (?, ?, ?)", rows)

    def told(self) -> dict[str, Sourced[str]]:
        """All that the user told, with its date. Raises: StateError."""
        with self._trouble():
            rows = self._db.execute("SELECT key, value, at FROM told").fetchall()
        return {key: as_told(value, datetime.fromisoformat(at)) for key, value, at in rows}

    def fingerprints(self) -> dict[str, str]:
        """The service behind each certificate that was ever seen from inside. Raises: StateError."""
        with self._trouble():
            rows = self._db.execute("SELECT fingerprint, service FROM inside WHERE fingerprint IS NOT NULL").fetchall()
        return dict(rows)

    def outside_since(self, moment: datetime, service: str) -> list[tuple[datetime, dict[str, Any]]]:
        """What was seen of `service` from outside since `moment`, newest first. Raises: StateError."""
        with self._trouble():
            rows = self._db.execute(
                "SELECT at, document FROM results WHERE service = ? AND at >= ? AND proves_outside ORDER BY id DESC",
                (service, rfc3339(moment)),
            ).fetchall()
        return [(datetime.fromisoformat(at), json.loads(document)) for at, document in rows]

    # --- the journal of rules (gateways.work.Journal)

    def entries(self, gateway: str) -> dict[Key, Entered]:
        """Our entries in a router's table, those half done too. Raises: StateError."""
        with self._trouble():
            rows = self._db.execute(
                "SELECT service, state, rule, before, until FROM rules WHERE gateway = ? ORDER BY outside_port",
                (gateway,),
            ).fetchall()
        found = [
            Entered(
                gateway,
                service,
                LiveRule(**json.loads(rule)),
                state,
                LiveRule(**json.loads(before)) if before else None,
                datetime.fromisoformat(until) if until else None,
            )
            for service, state, rule, before, until in rows
        ]
        return {entry.key: entry for entry in found}

    def write(self, entry: Entered) -> None:
        """Keep an entry before or after the deed. Raises: StateError."""
        rule, before = json.dumps(plain(entry.rule)), json.dumps(plain(entry.before)) if entry.before else None
        until = rfc3339(entry.until) if entry.until else None
        row = (entry.gateway, *entry.key, entry.service, entry.state, rule, before, until)
        with self._writing():
            self._db.execute("INSERT OR REPLACE INTO rules VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", row)

    def forget(self, gateway: str, key: Key) -> None:
        """An entry is ours no more. Raises: StateError."""
        with self._writing():
            self._db.execute(
                "DELETE FROM rules WHERE gateway = ? AND transport = ? AND outside_port = ? AND source = ?",
                (gateway, *key),
            )

    # --- updates of names (names.update.Memory)

    def last_update(self, name: str, kind: str) -> LastUpdate | None:
        """What came of the last update of a name. Raises: StateError."""
        with self._trouble():
            row = self._db.execute(
                "SELECT value, at, outcome, said, not_before, mark FROM updates WHERE name = ? AND type = ?",
                (name, kind),
            ).fetchone()
        if row is None:
            return None
        not_before = datetime.fromisoformat(row[4]) if row[4] else None
        return LastUpdate(row[0], datetime.fromisoformat(row[1]), row[2], row[3], not_before, row[5])

    def save_update(self, name: str, kind: str, last: LastUpdate) -> None:
        """Remember what came of an update. Raises: StateError."""
        not_before = rfc3339(last.not_before) if last.not_before else None
        row = (name, kind, last.value, rfc3339(last.at), last.outcome, redact(last.said), not_before, last.mark)
        with self._writing():
            self._db.execute("INSERT OR REPLACE INTO updates VALUES (?, ?, ?, ?, ?, ?, ?, ?)", row)

    # --- accounts and orders of certificates (certs.order.Memory)

    def account(self, directory: str) -> str | None:
        """The URL of our account at an authority. Raises: StateError."""
        with self._trouble():
            row = self._db.execute("SELECT url FROM accounts WHERE directory = ?", (directory,)).fetchone()
        return str(row[0]) if row else None

    def save_account(self, directory: str, url: str) -> None:
        """Raises: StateError."""
        with self._writing():
            self._db.execute("INSERT OR REPLACE INTO accounts VALUES (?, ?)", (directory, url))

    def started(self, certificate: str) -> Started | None:
        """The order for a certificate that has not come to its end. Raises: StateError."""
        with self._trouble():
            row = self._db.execute(
                "SELECT directory, url, names FROM orders WHERE certificate = ?", (certificate,)
            ).fetchone()
        return Started(row[0], row[1], tuple(json.loads(row[2]))) if row else None

    def save_started(self, certificate: str, started: Started | None, at: datetime) -> None:
        """Keep an order that is under way; None: there is none any more. Raises: StateError."""
        with self._writing():
            if started is None:
                self._db.execute("DELETE FROM orders WHERE certificate = ?", (certificate,))
            else:
                row = (certificate, started.directory, started.url, json.dumps(started.names), rfc3339(at))
                self._db.execute("INSERT OR REPLACE INTO orders VALUES (?, ?, ?, ?, ?)", row)

    def texts(self) -> list[tuple[str, str]]:
        """The proofs, by name and text, whose TXT records may still be published. Raises: StateError."""
        with self._trouble():
            return [(name, text) for name, text in self._db.execute("SELECT name, text FROM texts")]

    def save_text(self, name: str, text: str, *, there: bool) -> None:
        """Keep, or forget, that a TXT record is published. Raises: StateError."""
        with self._writing():
            if there:
                self._db.execute("INSERT OR REPLACE INTO texts VALUES (?, ?)", (name, text))
            else:
                self._db.execute("DELETE FROM texts WHERE name = ? AND text = ?", (name, text))

    @property
    def certificates(self) -> Path:
        """The folder for keys and certificates, beside the store."""
        return self.path.with_suffix("") / "certificates"

    def close(self) -> None:
        self._db.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()
