"""How everything stands and since when, what changed, and how often a service was looked at with what success."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import Any, get_args

from hooper.clock import read_moment, rfc3339
from hooper.places import Place
from hooper.secret import redact
from hooper.store.database import Database
from hooper.store.kept import Condition, DayOfLooks, Happening, Level, Stood, Subject
from hooper.words.said import as_text, from_text

SUBJECTS, LEVELS = frozenset(get_args(Subject)), frozenset(get_args(Level))
EVENTS_KEPT = 100_000
DAYS_KEPT = timedelta(days=800)


class History:
    def __init__(self, database: Database) -> None:
        self._db = database

    def note(self, at: datetime, conditions: Sequence[Condition], *, past: bool = False) -> list[Happening]:
        """Keep how things stand; what is not as it was becomes an event.

        past: it was seen before now, and takes nothing from what was seen since; else this computer's clock may have
        been set back. Raises: StateError; then nothing is kept.
        """
        if not conditions:
            return []
        known = {(s.condition.kind, s.condition.subject, s.condition.aspect): s for s in self.conditions()}
        fresh: list[tuple[Condition, str | None]] = []
        rows: list[tuple[Any, ...]] = []
        for one in conditions:
            before = known.get((one.kind, one.subject, one.aspect))
            if before is not None and (one.steady or (past and at < before.at)):
                continue
            same = before is not None and before.condition.state == one.state
            since = before.since if before is not None and same else at
            cause = (before.condition.cause or one.cause) if before is not None and same else one.cause
            rows.append(
                (one.kind, one.subject, one.aspect, one.state, one.level, rfc3339(since), rfc3339(at),
                 as_text(one.detail, redact), cause, one.basis)
            )  # fmt: skip
            known[one.kind, one.subject, one.aspect] = Stood(one, since, at)
            if not same:
                fresh.append((one, before.condition.state if before is not None else None))
        with self._db.writing():
            self._db.many("INSERT OR REPLACE INTO states VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", rows)
            last = self._last()
            self._db.many(
                "INSERT INTO events (at, kind, subject, aspect, before, after, level, detail, cause, seconds)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                [
                    (rfc3339(at), one.kind, one.subject, one.aspect, before, one.state, one.level,
                     as_text(one.detail, redact), one.cause, one.seconds)
                    for one, before in fresh
                ],
            )  # fmt: skip
        return self.events(after=last) if fresh else []

    def forget(self, gone: Iterable[tuple[Subject, str, str]]) -> None:
        """Things that are no more: kind, subject, aspect. Raises: StateError."""
        rows = list(gone)
        if rows:
            with self._db.writing():
                self._db.many("DELETE FROM states WHERE kind = ? AND subject = ? AND aspect = ?", rows)

    def subjects(self) -> list[str]:
        """What there is a past of. Raises: StateError."""
        found = self._db.rows("SELECT subject FROM states UNION SELECT subject FROM events ORDER BY subject")
        return [str(subject) for (subject,) in found]

    def conditions(self) -> list[Stood]:
        """How all things stand. Raises: StateError."""
        columns = "kind, subject, aspect, state, level, since, at, detail, cause, basis"
        return self._db.readable("states", f"SELECT {columns} FROM states ORDER BY rowid", _stood)  # noqa: S608 - ours

    def events(
        self, *, after: int = 0, since: datetime | None = None, kinds: Sequence[Subject] = (), most: int = EVENTS_KEPT
    ) -> list[Happening]:
        """What changed, in its order; the newest `most`. Raises: StateError."""
        question = (
            "SELECT id, at, kind, subject, aspect, before, after, level, detail, cause, seconds FROM events"
            " WHERE id > ? AND at >= ?"
        )
        values: list[Any] = [after, rfc3339(since) if since is not None else ""]
        if kinds:
            question += f" AND kind IN ({', '.join('?' * len(kinds))})"
            values += kinds
        found = self._db.readable("events", f"{question} ORDER BY id DESC LIMIT {most:d}", _event, *values)
        return found[::-1]

    def last_event(self) -> int:
        """The number of the newest event; 0: there was none. Raises: StateError."""
        return self._last()

    def _last(self) -> int:
        row = self._db.row("SELECT max(id) FROM events")
        return int(row[0] or 0) if row is not None else 0

    # --- looks

    def looked(self, at: datetime, looks: Iterable[tuple[str, str, bool, int | None]]) -> None:
        """Count looks: service, place, whether it was well, milliseconds. Raises: StateError."""
        day = rfc3339(at)[:10]
        rows = [
            (service, place, day, int(well), took if well and took else 0, int(bool(well and took)))
            for service, place, well, took in looks
        ]
        with self._db.writing():
            self._db.many(
                "INSERT INTO days VALUES (?, ?, ?, 1, ?, ?, ?) ON CONFLICT (service, place, day) DO UPDATE SET"
                " looks = looks + 1, well = well + excluded.well, took_ms = took_ms + excluded.took_ms,"
                " timed = timed + excluded.timed",
                rows,
            )

    def days(self, since: datetime) -> list[DayOfLooks]:
        """The looks at all services by day. Raises: StateError."""
        question = (
            "SELECT service, place, day, looks, well, took_ms, timed FROM days WHERE day >= ?"
            " ORDER BY service, place, day"
        )

        def read(row: tuple[Any, ...]) -> DayOfLooks:
            service, place, day, looks, well, took, timed = row
            Place.read(place)  # it is shown as one
            return DayOfLooks(service, place, str(day), int(looks), int(well), took / timed if timed else None)

        return self._db.readable("days", question, read, rfc3339(since)[:10])

    # --- notices

    def told_until(self, notice: str) -> int | None:
        """The last event that was told of by a notice; None: none was yet. Raises: StateError."""
        row = self._db.row("SELECT event FROM notices WHERE notice = ?", notice)
        return int(row[0]) if row is not None else None

    def told(self, notice: str, event: int, at: datetime) -> None:
        """Events up to this one have been told of. Raises: StateError."""
        self._db.write("INSERT OR REPLACE INTO notices VALUES (?, ?, ?)", notice, event, rfc3339(at))

    def last_told(self, notice: str) -> datetime | None:
        """When it was last told of anything. Raises: StateError."""
        found = self._db.readable(
            "notices", "SELECT at FROM notices WHERE notice = ?", lambda r: read_moment(r[0]), notice
        )
        return next(iter(found), None)

    def prune(self, now: datetime) -> None:
        """Let go of what is too old to be of use. Raises: StateError."""
        with self._db.writing():
            self._db.many("DELETE FROM days WHERE day < ?", [(rfc3339(now - DAYS_KEPT)[:10],)])
            self._db.many("DELETE FROM events WHERE id <= (SELECT max(id) FROM events) - ?", [(EVENTS_KEPT,)])
            self._db.many("DELETE FROM aside WHERE rowid <= (SELECT max(rowid) FROM aside) - ?", [(1000,)])


def _checked(kind: str, level: str, aspect: str) -> tuple[Subject, Level]:
    if kind == "service":
        Place.read(aspect)
    if kind not in SUBJECTS or level not in LEVELS:
        raise ValueError(f"no such kind or level: {kind!r}, {level!r}")
    return kind, level  # type: ignore[return-value]


def _stood(row: tuple[Any, ...]) -> Stood:
    """Raises: ValueError, TypeError: the row is damaged."""
    kind, subject, aspect, state, level, since, at, detail, cause, basis = row
    checked = _checked(kind, level, aspect)
    condition = Condition(checked[0], subject, aspect, state, checked[1], from_text(detail), cause, basis=basis)
    return Stood(condition, read_moment(since), read_moment(at))


def _event(row: tuple[Any, ...]) -> Happening:
    """Raises: ValueError, TypeError: the row is damaged."""
    number, at, kind, subject, aspect, before, after, level, detail, cause, seconds = row
    checked = _checked(kind, level, aspect)
    took = float(seconds) if seconds is not None else None
    moment = read_moment(at)
    return Happening(
        int(number), moment, checked[0], subject, aspect, before, after, checked[1], from_text(detail), cause, took
    )
