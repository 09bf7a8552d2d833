"""What each thing that can be wrong would show in each look: one table, and what follows from it. Pure.

A thing that is wrong makes a world; nothing being wrong is one too. Each world has, for each look, the outcomes that
the look could have in it. What was seen rules worlds out, and all else follows from those that are left:
- certain: one cause is in all of them;
- likely, possible: by the weights of those that are left;
- well: the world in which nothing is wrong is left, and what answered was reached;
- odd: none is left, not even with two things wrong at once: two looks contradict each other, or it is nothing that
  anybody wrote down here. That is never a pass, and never certain.
So nothing is certain by forgetting another cause, and a further cause is one row of `rows`. A look that was not made
rules nothing out; one that is older than the last change of what it is about is not to be put in.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from itertools import combinations
from typing import NamedTuple

Outcome = str
Look = str  # an aspect, or one at a router: rule@KEY, wan@KEY


class Footing(NamedTuple):
    """What of the plan decides what looks can show. routers: that need a rule, outermost first."""

    routers: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Row:
    """One thing that can be wrong. at: how far along the way from outside it acts: where two are wrong, what acts first
    hides what lies behind it. weight: how common it is beside the others. shows: the looks that come out otherwise than
    where nothing is wrong.
    """

    code: str
    at: float
    weight: float
    shows: Mapping[Look, frozenset[Outcome]]


World = tuple[Row, ...]
# Of a look at the service: same, kind, other: what answered; ours: another device of the site; router: a router's page;
# nobody: a router says that no device is there; forbidden: somebody behind the line says that it is not allowed;
# stopped: somebody before the line says anything.
ANSWERS = "same kind"
WELL: dict[Look, str] = {
    "outside": ANSWERS,
    "inside": "same",
    "loopback": "same",
    "mac": "planned unseen",
    "host-at": "planned",
    "mac-at": "planned",
    "line": "public unclear",
    "others": "yes",
    "host-reached": "yes no",
    "hairpin": "same not",
    "stand-in": "reached not",  # it may have lacked rules of its own
    "name": "right",
}
BLIND = "silent refused"


def _row(code: str, at: float, weight: float, **shows: str) -> Row:
    told = {look.replace("_", "-"): frozenset(words.split()) for look, words in shows.items()}
    return Row(code, at, weight, told)


GONE = {"loopback": "absent", "outside": "silent nobody refused other ours", "host_reached": "no"}
ROWS = (
    _row("asker-tunnel", 0.1, 0.3, outside="silent refused stopped other", others="no yes",
         host_reached="no yes"),
    _row("name-stale", 0.5, 2, name="stale"),
    _row("name-contested", 0.5, 0.5, name="stale contested"),
    _row("name-missing", 0.5, 1, name="missing"),
    _row("name-has-others", 0.5, 0.5, name="others right"),
    _row("name-other-family", 0.5, 0.3, name="family right"),
    _row("resolver-broken", 0.5, 0.3, name="right resolver stale missing"),
    _row("public-address-wrong", 0.6, 0.5, outside="silent refused other", others="no", hairpin="not",
         host_reached="no"),
    _row("line-not-reached", 0.7, 0.5, outside="silent stopped", others="no", host_reached="no"),
    _row("line-down", 0.7, 1, outside="silent stopped", line="none unclear public", others="no",
         hairpin="not same", host_reached="no"),
    _row("port-blocked", 1, 1, outside="silent stopped refused", stand_in="not"),
    _row("provider-answers", 1, 0.2, outside="refused other kind", stand_in="not"),
    _row("carrier-nat", 1.5, 1, outside="silent refused stopped other", line="carrier unclear public",
         others="no", hairpin="not same", stand_in="not", host_reached="no"),
    _row("shared-ports", 1.5, 0.5, outside="silent refused stopped other", line="shared unclear",
         others="no yes", stand_in="not", host_reached="no yes"),
    _row("host-off", 4, 2, inside="silent", mac="unseen none planned", host_at="none", **GONE),
    _row("host-moved", 4, 2, inside="silent refused other ours", mac="unseen none other", hairpin="not",
         host_at="elsewhere", mac_at="elsewhere planned", **GONE),
    _row("host-isolated", 4, 0.7, inside="silent", mac="unseen none planned",
         host_at="apart planned", hairpin="not", **GONE),
    _row("address-taken", 4, 0.3, inside="other ours same refused silent", mac="other planned", hairpin="not same",
         outside="same kind other refused silent", host_reached="no yes", loopback="absent"),
    _row("host-filters-all", 4.2, 0.5, inside="silent", outside="silent refused forbidden", hairpin="not"),
    _row("host-without-way-out", 4.5, 0.7, outside="silent", host_reached="no"),
    _row("host-filters-strangers", 4.5, 1, outside="silent refused forbidden"),
    _row("service-stopped", 5, 2, inside="refused silent", loopback="refused silent",
         outside="refused silent other", hairpin="not"),
    _row("service-loopback", 5, 0.5, inside="refused silent", loopback="same", outside="refused silent other",
         hairpin="not"),
    _row("service-other", 5, 0.7, inside="other", outside="other same kind refused silent", hairpin="not"),
    _row("transport-unused", 5, 0.3, outside="silent refused"),
)  # fmt: skip
RULES = {  # what a router's list says of the rule, and what is seen from outside then
    "missing": ("missing unseen", "silent refused other", 3.0),
    "off": ("off unseen", BLIND + " other", 0.5),
    "limited": ("limited unseen", BLIND, 0.3),
    "wrong-transport": ("transport unseen", BLIND, 0.5),
    "ended": ("ended unseen", BLIND, 0.3),
    "wrong-interface": ("interface unseen there", BLIND, 0.2),
    "wrong-host": ("wrong-host unseen", "other ours kind refused silent nobody forbidden", 1.0),
    "wrong-port": ("wrong-port unseen", "other refused silent", 0.7),
    "not-enforced": ("there unseen", BLIND, 0.1),
}


@cache
def rows(footing: Footing) -> tuple[Row, ...]:
    """All that can be wrong in this footing."""
    return (*ROWS, *_at_routers(footing.routers))


def _at_routers(routers: tuple[str, ...]) -> Iterator[Row]:
    for number, key in enumerate(routers):
        for kind, (listed, outside, weight) in RULES.items():
            code = f"rule-{kind}"
            if kind == "missing":
                code += "-outer" if number == 0 else "-inner"
            shows = {"outside": outside.split(), f"rule@{key}": listed.split(), "hairpin": ["not"]}
            yield Row(code, 2 + number, weight, {look: frozenset(words) for look, words in shows.items()})
        if number:
            shows = {"outside": ["silent", "nobody", "refused", "other"], f"wan@{key}": ["moved"], "others": ["no"],
                     "hairpin": ["not"], "host-reached": ["no"]}  # fmt: skip
            yield Row("inner-wan-moved", 1.9 + number, 0.7, {look: frozenset(words) for look, words in shows.items()})
        shows = {"outside": ["other", "router"], f"rule@{key}": ["there", "unseen"], "hairpin": ["not"]}
        yield Row("gateway-answers", 1.8 + number, 0.3, {look: frozenset(words) for look, words in shows.items()})


def outcomes(world: World, look: Look) -> frozenset[Outcome]:
    """What a look could show in a world: what acts first decides, and nothing behind it is seen through it."""
    for row in sorted(world, key=lambda row: row.at):
        if (shown := row.shows.get(look)) is not None:
            return shown
    part, at, _ = look.partition("@")
    if at:
        return frozenset(("there", "unseen", "ticked") if part == "rule" else ("planned",))
    return frozenset(WELL[look].split())


@dataclass(frozen=True, slots=True)
class Weighed:
    """What the worlds that are left come to. well: that in which nothing is wrong is left. causes: each with its share
    of their weights, the largest first. certain: what is in all of them. odd: none was left.
    """

    well: bool
    causes: tuple[tuple[str, float], ...]
    certain: frozenset[str]
    odd: bool


UNLIKELY = 0.05  # how much less likely two things at once are


def left_by(footing: Footing, seen: Mapping[Look, Outcome], most: int = 1) -> list[World]:
    """The worlds in which all of it could have been seen, with so many things wrong at once."""
    real = rows(footing)
    every: Iterable[World] = (combo for size in range(most + 1) for combo in combinations(real, size))
    return [world for world in every if all(value in outcomes(world, look) for look, value in seen.items())]


def judged(footing: Footing, seen: Mapping[Look, Outcome]) -> Weighed:
    """What was seen, by look, held against all worlds; two things at once only where one explains nothing."""
    left = left_by(footing, seen) or left_by(footing, seen, 2)
    weights: dict[str, float] = {}
    for world in left:
        weight = UNLIKELY ** max(len(world) - 1, 0)
        for row in world:
            weight *= row.weight
        for code in {row.code for row in world}:
            weights[code] = weights.get(code, 0.0) + weight
    total = sum(weights.values()) or 1.0
    certain = _in_all(left) if left and () not in left else frozenset[str]()
    ordered = sorted(weights.items(), key=lambda item: (-item[1], item[0]))
    return Weighed(() in left, tuple((code, weight / total) for code, weight in ordered), certain, not left)


def _in_all(worlds: Collection[World]) -> frozenset[str]:
    codes = ({row.code for row in world} for world in worlds)
    return frozenset(set.intersection(*codes))
