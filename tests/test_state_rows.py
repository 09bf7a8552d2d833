"""Rows of the state that are damaged, of an older Hooper, or dated in the future."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import pytest

from hooper.clock import rfc3339
from hooper.line.surveyed import Surveyed, recalled
from hooper.store.checks import Looked, StoredInside
from hooper.store.entries import Entered, LiveRule
from hooper.store.orders import Started
from hooper.store.state import State
from hooper.store.updates import LastUpdate
from hooper.words.said import quoted

DAMAGED = {
    "told": "UPDATE told SET at = 'nix'",
    "rules": "UPDATE rules SET rule = '{'",
    "results": "UPDATE results SET document = X'ff00'",
    "inside": "UPDATE inside SET verdict = 'maybe'",
    "updates": "UPDATE updates SET at = '2026-01-01T00:00:00'",
    "seen": "UPDATE seen SET address = '999.1.1.1'",
    "surveys": "UPDATE surveys SET document = '3'",
    "orders": "UPDATE orders SET names = '{}'",
}


def filled(path: Path, at: datetime) -> State:
    """A state with a row of each kind."""
    state = State(path)
    looked = Looked("film-page", "tcp", 443, "answered", True, False, {"x": 1})
    inside = {("film-page", "tcp", 443): StoredInside("answered", "f", None, rfc3339(at))}
    state.checks.save(at, ("interface", "usb0", True), [looked], inside)
    state.values.tell(at, {"wan:box": "203.0.113.44"})
    state.values.saw(at, "fibre", ip_address("203.0.113.44"), quoted("STUN"))
    state.values.surveyed(at, "fibre", {"wan": {}, "way": None})
    rule = LiveRule("tcp", 443, "10.44.7.30", 443, "", "hooper film-page", enabled=True, lease_s=0)
    state.journal.write(Entered("box", "film-page", rule, "open", (replace(rule, label="a game"),), None))
    state.updates.save_update("a.example", "A", LastUpdate("1.2.3.4", at, "wait", "busy", at + timedelta(days=9), "m"))
    state.orders.save_started("c", Started("https://ca.example/", None, ("a.example",)), at)
    return state


def everything(state: State, now: datetime) -> list[Any]:
    return [
        list(state.values.told(now)), list(state.values.seen(now)), list(state.values.surveys()),
        state.journal.all(), state.checks.outside_since(now - timedelta(days=1), now, "film-page"),
        [state.checks.inside("film-page", "tcp", 443)], [state.updates.last_update("a.example", "A", now)],
        [state.orders.started("c")],
    ]  # fmt: skip


@pytest.mark.parametrize("part", DAMAGED)
def test_rows_that_cannot_be_read_are_set_aside_and_the_rest_works(tmp_path: Path, part: str) -> None:
    now = datetime(2026, 5, 1, 12, tzinfo=UTC)
    path = tmp_path / "s.sqlite3"
    filled(path, now).close()
    with sqlite3.connect(path) as raw:
        raw.execute(DAMAGED[part])
    raw.close()
    with State(path) as state:
        read = everything(state, now)
        assert sum(bool(rows and rows != [None]) for rows in read) == len(read) - 1, "the others are all there"
        assert state.aside == {part: 1}
    with State(path) as state:
        everything(state, now)
        assert state.aside == {}, "it is said once"
    with sqlite3.connect(path) as raw:
        assert raw.execute("SELECT part FROM aside").fetchall() == [(part,)]
    raw.close()


def test_what_is_dated_in_the_future_is_not_known(tmp_path: Path) -> None:
    """A clock that was wrong once: nothing is "seen just now" for years, and no update waits for them."""
    now = datetime(2026, 5, 1, 12, tzinfo=UTC)
    with filled(tmp_path / "s.sqlite3", now + timedelta(days=3650)) as state:
        assert not state.values.told(now)
        assert not state.values.seen(now)
        assert state.checks.outside_since(now - timedelta(days=1), now, "film-page") == []
        assert state.updates.last_update("a.example", "A", now) is None
        assert recalled({}, {"fibre": (now + timedelta(days=1), Surveyed({}, None))}, now) == ({}, {})


def test_an_entry_that_an_older_hooper_kept_is_read(tmp_path: Path) -> None:
    """Its journal had one entry of another hand, not several."""
    now = datetime(2026, 5, 1, 12, tzinfo=UTC)
    path = tmp_path / "s.sqlite3"
    filled(path, now).close()
    with sqlite3.connect(path) as raw:
        (before,) = raw.execute("SELECT before FROM rules").fetchone()
        raw.execute("UPDATE rules SET before = ?", (json.dumps(json.loads(before)[0]),))
    raw.close()
    with State(path) as state:
        ((entry,)) = state.journal.all()
        assert [one.label for one in entry.before] == ["a game"]
