"""Rows of the state that are damaged, of an older Hooper, or dated in the future."""

from __future__ import annotations

import json
import random
import sqlite3
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Literal

import pytest

from hooper.clock import rfc3339
from hooper.errors import StateError
from hooper.evidence.observations import ADDRESS, REACH, SURVEY, Observation, inside_aspect
from hooper.line.surveyed import Surveyed, recalled
from hooper.store.database import MIGRATIONS
from hooper.store.entries import Entered, Lent, LiveRule
from hooper.store.kept import Condition, Heard
from hooper.store.state import State
from hooper.store.updates import LastUpdate, Started
from hooper.words.said import quoted

DAMAGED = {
    "observations told": "UPDATE observations SET at = 'nix' WHERE by = 'told'",
    "rules": "UPDATE rules SET rule = '{'",
    "observations reach": "UPDATE observations SET value = X'ff00' WHERE aspect = 'reach'",
    "observations place": "UPDATE observations SET place = 'nowhere:' WHERE aspect = 'reach'",
    "observations inside": """UPDATE observations SET value = '["maybe", "f", null]' WHERE aspect GLOB 'inside*'""",
    "observations heard": "UPDATE observations SET value = '[]' WHERE aspect GLOB 'handshake*'",
    "updates": "UPDATE updates SET at = '2026-01-01T00:00:00'",
    "observations address": """UPDATE observations SET value = '["999.1.1.1", ["", {}]]' WHERE aspect = 'address'""",
    "observations survey": "UPDATE observations SET by = 'magic' WHERE aspect = 'survey'",
    "orders": "UPDATE orders SET names = '{}'",
}


def filled(path: Path, at: datetime) -> State:
    """A state with a row of each kind."""
    state = State(path)
    seen = "services.film-page"
    state.ledger.write((
        Observation(seen, REACH, {"x": 1}, at, "measured", "interface:usb0"),
        Observation(seen, inside_aspect("tcp", 443), ["answered", "f", None], at, "measured", "here"),
        Observation("lines.fibre", ADDRESS, ["203.0.113.44", quoted("STUN").written()], at, "measured"),
        Observation("lines.fibre", SURVEY, {"wan": {}, "way": None}, at, "measured"),
    ))  # fmt: skip
    state.ledger.hear("oars", [Heard("K", "oars", "S", at, None, 0, 0, at)])
    state.ledger.tell(at, {"gateways.box/wan": "203.0.113.44"})
    rule = LiveRule("tcp", 443, "10.44.7.30", 443, "", "hooper film-page", enabled=True, lease_s=0)
    state.journal.write(Entered("box", "film-page", rule, "open", (replace(rule, label="a game"),), None))
    state.updates.save_update("a.example", "A", LastUpdate("1.2.3.4", at, "wait", "busy", at + timedelta(days=9), "m"))
    state.orders.save_started("c", Started("https://ca.example/", None, ("a.example",)), at)
    return state


def everything(state: State, now: datetime) -> list[Any]:
    return [
        list(state.ledger.told(now)), list(state.ledger.addresses(now)), state.ledger.newest("lines.*", SURVEY, now),
        state.journal.all(), state.ledger.newest("services.film-page", REACH, now, now - timedelta(days=1)),
        [state.ledger.inside("film-page", "tcp", 443)], list(state.ledger.heard()),
        [state.updates.last_update("a.example", "A", now)],
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
    (table, *_) = part.split(" ")
    with State(path) as state:
        read = everything(state, now)
        assert sum(bool(rows and rows != [None]) for rows in read) == len(read) - 1, "the others are all there"
        assert state.aside == {table: 1}
    with State(path) as state:
        everything(state, now)
        assert state.aside == {}, "it is said once"
    with sqlite3.connect(path) as raw:
        assert raw.execute("SELECT part FROM aside").fetchall() == [(table,)]
    raw.close()


def test_what_is_dated_in_the_future_is_not_known(tmp_path: Path) -> None:
    """A clock that was wrong once: nothing is "seen just now" for years, and no update waits for them."""
    now = datetime(2026, 5, 1, 12, tzinfo=UTC)
    with filled(tmp_path / "s.sqlite3", now + timedelta(days=3650)) as state:
        assert not state.ledger.told(now)
        assert not state.ledger.addresses(now)
        assert state.ledger.newest("services.film-page", REACH, now, now - timedelta(days=1)) == []
        assert state.updates.last_update("a.example", "A", now) is None
        assert recalled({}, {"fibre": (now + timedelta(days=1), Surveyed({}, None))}, now) == ({}, {})


def test_an_entry_that_an_older_hooper_kept_is_read(tmp_path: Path) -> None:
    """Its journal had one entry of somebody else, not several."""
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


OLD_TOLD = {  # as an earlier Hooper named what it was told, and where that is now
    "wan:box": "gateways.box/wan", "public:fibre": "lines.fibre/public", "at:hub": "hosts.hub/at",
    "rule:film-page:box": "services.film-page/rule@box", "sheet:box": "gateways.box/sheet",
    "entered:box": "gateways.box/entered", "way:film-page:tcp": "services.film-page/way@tcp",
    "answer:film-page:vpn": "services.film-page/answer@vpn", "saw:film-page": "services.film-page/saw",
}  # fmt: skip


def test_what_an_earlier_hooper_was_told_is_in_the_ledger(tmp_path: Path) -> None:
    now, path = datetime(2026, 5, 1, 12, tzinfo=UTC), tmp_path / "s.sqlite3"
    with closing(sqlite3.connect(path)) as raw:
        for steps in MIGRATIONS[:10]:
            raw.executescript(steps)
        raw.executemany("INSERT INTO told VALUES (?, ?, ?)", [(key, f"'{key}\"", rfc3339(now)) for key in OLD_TOLD])
        raw.execute("INSERT INTO told VALUES ('visit:x', 'sealed', ?)", (rfc3339(now),))
        raw.execute("INSERT INTO heard VALUES ('K', 'oars', 'S', NULL, '10.0.0.1:5', 3, 4, ?)", (rfc3339(now),))
        raw.execute("INSERT INTO seen VALUES ('fibre', '203.0.113.44', 'no JSON', ?)", (rfc3339(now),))
        raw.execute("PRAGMA user_version = 10")
        raw.commit()
    with State(path) as state:
        told = state.ledger.told(now)
        assert {key: said.value for key, said in told.items()} == {new: f"'{old}\"" for old, new in OLD_TOLD.items()}
        assert {said.at for said in told.values()} == {now}
        assert state.ledger.heard() == {"K": Heard("K", "oars", "S", None, "10.0.0.1:5", 3, 4, now)}
        assert state.values.value("visit:x") == "sealed"
        assert (state.ledger.addresses(now), state.aside) == ({}, {"observations": 1}), "its source was no source"


def test_an_observation_takes_the_place_of_the_older_one(tmp_path: Path) -> None:
    """Of the same aspect, place and source; looks from outside are all kept."""
    now = datetime(2026, 5, 1, 12, tzinfo=UTC)
    with State(tmp_path / "s.sqlite3") as state:
        for step, by in enumerate(("measured", "told", "measured")):
            at = now + timedelta(minutes=step)
            state.ledger.write([Observation("gateways.box", "wan", step, at, by)])  # type: ignore[arg-type]
            state.ledger.write([Observation("services.a", REACH, {"n": step}, at, "measured", "interface:usb0")])
        later = now + timedelta(hours=1)
        assert [(one.value, one.by) for one in state.ledger.newest("gateways.box", "wan", later)] == [
            (2, "measured"), (1, "told"),
        ]  # fmt: skip
        assert [one.value["n"] for one in state.ledger.newest("services.a", REACH, later)] == [2, 1, 0]
        state.ledger.forget(["gateways.box/wan"])
        assert state.ledger.newest("gateways.box", "wan", later) == []


def test_what_was_seen_earlier_and_is_told_later_takes_nothing_from_what_stands(tmp_path: Path) -> None:
    """Two visits to one place, brought home in the other order."""
    now = datetime(2026, 5, 1, 12, tzinfo=UTC)
    with State(tmp_path / "s.sqlite3") as state:
        for hours, kind in ((0, "answers"), (-5, "broken"), (1, "broken")):
            level = "well" if kind == "answers" else "wrong"
            one = Condition("service", "film-page", "visit:the café", kind, level)  # type: ignore[arg-type]
            changed = state.history.note(now + timedelta(hours=hours), [one], past=True)
            assert bool(changed) == (hours != -5)
        ((stood,)) = state.history.conditions()
        assert (stood.condition.state, stood.at) == ("broken", now + timedelta(hours=1))


def drawn_rule(chance: random.Random) -> LiveRule:
    port = chance.randrange(440, 446)
    return LiveRule(
        chance.choice(("tcp", "udp")), port, f"10.44.7.{chance.randrange(9)}", port + chance.randrange(2),
        chance.choice(("", "198.51.100.7")), chance.choice(("hooper film-page", "Bühne", "")),
        enabled=chance.random() < 0.8, lease_s=chance.choice((0, 3600)),
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(6))
def test_the_journal_is_what_was_written_and_not_forgotten(tmp_path: Path, seed: int) -> None:
    """Against a dictionary, over restarts; so are the rules that stand for a test."""
    chance, path, end = random.Random(seed), tmp_path / "state.sqlite3", datetime(2026, 12, 1, 9, 30, 12, tzinfo=UTC)
    rules: dict[tuple[Any, ...], Entered] = {}
    lent: dict[tuple[Any, ...], Lent] = {}
    for _ in range(60):
        with State(path) as state:
            gateway, rule = chance.choice(("box", "attic", "shed")), drawn_rule(chance)
            until = chance.choice((None, end + timedelta(hours=chance.randrange(9))))
            before = tuple(drawn_rule(chance) for _ in range(chance.randrange(3)))
            if chance.random() < 0.7:
                word: Literal["opening", "open", "closing"] = chance.choice(("opening", "open", "closing"))
                entries = [Entered(gateway, chance.choice(("films", "shell")), rule, word, before, until),
                           Entered(gateway, "films", drawn_rule(chance), "open", (), None)]  # fmt: skip
                state.journal.write(*entries)
                rules |= {(gateway, *one.key): one for one in entries}
                state.lent.write(Lent(gateway, rule, before, until))
                lent[gateway, *rule.key] = Lent(gateway, rule, before, until)
            else:
                gone = chance.sample(sorted(rules), min(2, len(rules)))
                state.journal.forget(gateway, [key for _, *key in gone])  # type: ignore[misc]
                for key in gone:
                    rules.pop((gateway, *key[1:]), None)
                for one in [*lent.values()][:1]:
                    state.lent.forget(one)
                    del lent[one.gateway, *one.rule.key]
            found = state.journal.all()
            assert {(one.gateway, *one.key): one for one in found} == rules
            assert len(found) == len(rules)
            assert [(one.gateway, one.rule.outside_port) for one in found] == sorted((key[0], key[2]) for key in rules)
            for name in ("box", "attic", "shed"):
                own = {one.key: one for key, one in rules.items() if key[0] == name}
                assert state.journal.entries(name) == own
                assert state.lent.all(name) == [lent[key] for key in in_order(lent) if key[0] == name]
            assert state.lent.all() == [lent[key] for key in in_order(lent)]


def in_order(lent: dict[tuple[Any, ...], Lent]) -> list[tuple[Any, ...]]:
    """By gateway, port and transport."""
    return sorted(lent, key=lambda key: (key[0], key[2], key[1]))


def test_a_journal_takes_all_of_it_or_nothing(tmp_path: Path) -> None:
    rule = LiveRule("tcp", 443, "10.44.7.30", 443, "", "", enabled=True, lease_s=0)
    with State(tmp_path / "state.sqlite3") as state:
        good, bad = Entered("box", "films", rule, "open", (), None), Entered(None, "x", rule, "open", (), None)  # type: ignore[arg-type]
        with pytest.raises(StateError):
            state.journal.write(good, bad)
        assert state.journal.all() == []
        state.journal.write(good)
        with pytest.raises(StateError):
            state.journal.forget("box", [good.key, ("tcp", object(), "")])  # type: ignore[list-item]
        assert state.journal.all() == [good]


def test_a_row_of_the_journal_in_no_known_state_is_told(tmp_path: Path) -> None:
    rule = LiveRule("tcp", 443, "10.44.7.30", 443, "", "", enabled=True, lease_s=0)
    with State(tmp_path / "state.sqlite3") as state:
        state.journal.write(Entered("box", "films", rule, "closed", (), None))  # type: ignore[arg-type]
        assert state.journal.all() == []
        assert state.aside == {"rules": 1}
        state.lent.write(Lent("box", rule, (), None))
    with closing(sqlite3.connect(tmp_path / "state.sqlite3")) as file:
        file.execute("UPDATE lent SET rule = '{}'")
        file.commit()
    with State(tmp_path / "state.sqlite3") as state:
        assert state.lent.all() == []
        assert state.aside == {"lent": 1}
        assert state.lent.all() == [], "it is set aside for good"
        assert state.aside == {"lent": 1}
