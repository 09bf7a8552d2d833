"""What counts of the past: random times of looks, visits, deeds and edits, held against a god's view of each."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from random import Random
from types import SimpleNamespace
from typing import Any, NamedTuple

import pytest

from hooper.check.results import Evidence, Result, Verdict
from hooper.check.wish import Outcome
from hooper.evidence.observations import service_subject
from hooper.gateways.documents import ChangedRule, RuleChange
from hooper.keep.metrics import exposition
from hooper.places import Place
from hooper.ports import Ports
from hooper.site.load import SiteFile
from hooper.store.state import State
from hooper.usecases.prepare.lists import audit
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import GONE, OUTDATED
from hooper.usecases.watch.conditions import how_all_stands, keep_changes
from hooper.usecases.watch.reporting import report
from hooper.usecases.watch.status import status
from hooper.words.said import NOTHING, quoted
from support.model_worlds import NOW
from support.sites import ONE_BOX, site

SERVICE = "hub-page"
OUTSIDE = (Place("interface", "usb0"), Place("interface", "usb1"))
TEXT = ONE_BOX + f'[services.{SERVICE}]\nhost = "hub"\nspeaks = "https"\nreach = "public"\nport = '
FILES = {port: site(f"{TEXT}{port}\n") for port in (8443, 8444)}
MOVES = ("look", "look", "look", "here", "visit", "home", "deed", "edit", "breaks", "wait")


class Look(NamedTuple):
    """What god knows of one: when it was made, from where, what it came to, by which port, and after which deeds."""

    at: datetime
    place: Place
    came_to: Verdict
    port: int

    @property
    def told(self) -> bool:
        return self.came_to != "unproven"


class Past:
    """A service that works or not, what was done about it, and Hooper's state beside it."""

    def __init__(self, rng: Random, state: State) -> None:
        self.rng, self.state, self.at = rng, state, NOW
        self.port, self.works, self.changed = 8443, True, NOW - timedelta(days=900)
        self.looks: list[Look] = []
        self.away: list[tuple[Look, Run, Result]] = []

    @property
    def file(self) -> SiteFile:
        return FILES[self.port]

    def run(self) -> Run:
        door: Any = SimpleNamespace(clock=SimpleNamespace(now=lambda: self.at))
        return Run(self.file, self.at, door=door, state=self.state)

    def move(self) -> str:
        what = self.rng.choice(MOVES)
        self.at += self.rng.choice((timedelta(minutes=1), timedelta(hours=5), timedelta(days=3)))
        if what == "look":
            self._look(self.rng.choice(OUTSIDE))
        elif what == "here":
            self._look(Place("here"))
        elif what == "visit":
            look, result = self._seen(Place("visit", "café"))
            self.away.append((look, self.run(), result))
        elif what == "home" and self.away:
            look, then, result = self.away.pop()
            bases = {service_subject(SERVICE): then.basis(service_subject(SERVICE))}
            run = self.run()
            run.at = look.at
            keep_look(run, Outcome(look.place, True, [result]), seen_at=look.at, bases=bases)
            self.looks.append(look)
        elif what == "deed":
            self.works, self.changed = self.rng.random() < 0.5, self.at
            rule = ChangedRule(SERVICE, "tcp", Ports(443, 443), "10.44.7.50", Ports(8443, 8443), None)
            keep_changes(self.run(), [RuleChange("box", "open", rule, "added", None, NOTHING)])
        elif what == "edit":
            self.port = 8443 + 8444 - self.port
        elif what == "breaks":
            self.works = not self.works
        return what

    def _seen(self, place: Place) -> tuple[Look, Result]:
        came_to: Verdict = "answered" if self.works else "silent"
        came_to = "unproven" if self.rng.random() < 0.25 else came_to
        result = Result(
            SERVICE, "reachable", came_to == "answered", came_to, (), "ipv4", "203.0.113.44", "tcp", 443, 5, None,
            Evidence(), quoted("d"), identity="proven" if came_to == "answered" else "none",
        )  # fmt: skip
        return Look(self.at, place, came_to, self.port), result

    def _look(self, place: Place) -> None:
        look, result = self._seen(place)
        keep_look(self.run(), Outcome(place, place.kind != "here", [result]))
        self.looks.append(look)

    # --- god's view

    @property
    def counting(self) -> list[Look]:
        """The looks that say something of how it is now."""
        return [look for look in self.looks if look.at >= self.changed and look.port == self.port]

    def newest(self) -> dict[str, Look]:
        """What was last told of it from each place; from inside only where nobody looked from outside."""
        told = sorted((look for look in self.counting if look.told), key=lambda look: look.at)
        outside = any(look.place.kind != "here" for look in self.looks)
        return {str(look.place): look for look in told if look.place.kind != "here" or not outside}


def wrong_about_the_past(past: Past, last: str) -> str | None:
    """What Hooper says wrongly of how it stands now; None: nothing. last: what has just been done."""
    run = past.run()
    (row,) = [one for one in status(run)[0].rows if one.kind == "service"]
    (exposed,) = report(run, past.at - timedelta(days=900))[0].exposed
    (audited,) = audit(run)[0].exposed
    text = exposition(run.site, "site", how_all_stands(run), {}, past.at).decode()
    shown = {line.split(" ")[-1] for line in text.splitlines() if line.startswith("hooper_well{")
             and f'subject="{SERVICE}"' in line and 'aspect=""' in line}  # fmt: skip
    if len({row.state, exposed.state, audited.state}) > 1:
        return f"different words: {row.state}, {exposed.state}, {audited.state}"
    if shown != {"well": {"1.0"}, "wrong": {"0.0"}}.get(row.level, set()):
        return f"metrics say {shown}, and status {row.level}"
    counting, newest = past.counting, past.newest()
    words = {look.came_to for look in newest.values()}
    seen = {(one.at, one.place) for one in run.seen_outside(SERVICE, timedelta(days=900))}
    if seen != {(look.at, str(look.place)) for look in counting if look.place.kind != "here"}:
        return "why takes other looks for evidence than those that count"
    if not past.looks and row.state != "not-looked-at":
        return f"{row.state}, and nobody looked"
    if not counting and row.level != "unknown":
        return f"{row.level}, and nobody has looked since it was changed"
    if row.level == "well" and all(look.place.kind == "here" for look in past.looks):
        return "well, and nobody looked from outside"
    if row.level == "well" and "answered" not in words:
        return "well, and nobody saw it so since it was changed"
    if row.level == "wrong" and "silent" not in words:
        return "wrong, and nobody saw it so since it was changed"
    if last == "look" and row.state == OUTDATED:
        return "not checked since it was changed, and it was just looked at"
    if last != "look" or past.looks[-1].came_to == "unproven":
        return None
    if row.level == "unknown":
        return f"{row.state}, and it was just looked at"
    if row.level == "well" and not past.works:
        return "well, and it does not work"
    lately = [look for look in newest.values() if past.at - look.at < GONE]
    if row.level == "wrong" and past.works and all(look.came_to == "answered" for look in lately):
        return "wrong, and it works wherever it was looked at"
    return None


def wrong_along(rng: Random, state: State, moves: int = 14) -> str | None:
    """What is said wrongly at any moment of a random past; None: nothing."""
    past, done = Past(rng, state), list[str]()
    for _ in range(moves):
        done.append(past.move())
        if (wrong := wrong_about_the_past(past, done[-1])) is not None:
            return f"{wrong}: {', '.join(done)}: {past.looks}"
    return None


@pytest.mark.parametrize("seed", range(4))
def test_only_what_counts_speaks(seed: int, tmp_path: Path) -> None:
    rng = Random(seed)
    for number in range(12):
        with State(tmp_path / f"{number}.sqlite3") as state:
            assert wrong_along(rng, state) is None, number


def test_what_is_brought_home_takes_nothing_that_was_told_since(tmp_path: Path) -> None:
    """A visit of two days ago, and an answer of yesterday."""
    with State(tmp_path / "state.sqlite3") as state:
        run, told = Run(FILES[8443], NOW, state=state), {f"services.{SERVICE}/rule@box": "missing"}
        state.ledger.tell(NOW - timedelta(days=1), told)
        for days, left in ((2, told), (0, {})):
            then = NOW - timedelta(days=days)
            past = Past(Random(0), state)
            past.at = then
            look, result = past._seen(Place("visit", "café"))
            past.at = NOW
            keep_look(replace(past.run(), at=then), Outcome(look.place, True, [result]), seen_at=then)
            assert {key: said.value for key, said in run.told().items()} == left
