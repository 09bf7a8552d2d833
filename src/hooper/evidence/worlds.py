"""What each thing that can be wrong would show in each look: one table, and what follows from it. Pure.

A thing that is wrong makes a world; nothing being wrong is one too. Each world has, for each look, the outcomes that
the look could have in it. What was seen rules worlds out, and all else follows from those that are left:
- certain: one cause is in all of them, and a look has shown it itself (what is merely left over is likely at most);
- likely, possible, rare: by the weights of those that are left;
- well: the world in which nothing is wrong is left, and it was reached, or nothing that was seen is unusual in it;
- odd: none is left, not even with two things wrong at once: two looks contradict each other, or it is nothing that
  anybody wrote down here. That is never a pass, and never certain;
- what decides: the look that leaves least, whatever it shows.
So nothing is certain by forgetting a cause, and a further cause is one row. A look that was not made rules nothing out;
one that is older than the last change of what it is about is not to be put in.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from itertools import combinations
from typing import Literal, NamedTuple

Outcome = str
Look = str  # an aspect, or one at a router: rule@KEY, wan@KEY
Seen = Mapping[Look, Collection[Outcome]]  # what each look showed; several: one of these


class Footing(NamedTuple):
    """What of the plan, and of how it was looked, decides what can be wrong.

    routers: that need a rule, outermost first. public: it is to be reached from outside over IPv4. vpn: it was looked
    through one. both: it is planned for both transports. leaf: its device is none of the routers. tunnel: it is the
    server of one. entered: the routers at which Hooper has entered its rule; None: that may be any. way: over
    IPv4; over IPv6, of a service that runs, as was seen over IPv4, or that may not; or from the server of a tunnel to
    what lies behind it. without: what cannot be wrong here.
    """

    routers: tuple[str, ...]
    public: bool = True
    vpn: bool = True
    both: bool = True
    leaf: bool = True
    tunnel: bool = True
    entered: tuple[str, ...] | None = None
    way: Literal["four", "six", "six-runs", "behind"] = "four"
    without: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Row:
    """One thing that can be wrong. at: how far along the way from outside it acts: where two are wrong, what acts first
    hides what lies behind it. weight: how common it is beside the others. shows: the looks that come out otherwise than
    where nothing is wrong, each outcome with how usual it is there. gateway: the router that it is about.
    """

    code: str
    at: float
    weight: float
    shows: Mapping[Look, Mapping[Outcome, float]]
    gateway: str | None = None


World = tuple[Row, ...]  # from outside inward
UNUSUAL = 0.3  # of an outcome with a ? behind it
UNLIKELY = 0.05  # how much less likely two things at once are
SOUND = 10.0  # the weight of nothing being wrong
# Of a look at the service: same, kind, other: what answered; stuck: it took the connection, and no more came; faulty:
# the service, with something wrong about it; ours: another device of the site; router: a router's page; nobody: a
# router says that no device is there; forbidden: somebody behind the line says that it is not allowed; barred, stopped:
# somebody before the line says so, or that there is no way. Of one at the device itself, alone: it answers itself, and
# refuses its network. The last part is what people are asked.
ELSEWHERE = ("others", "host-reached")  # looks at other services
WELL = {
    "outside": "same kind",
    "inside": "same",
    "transports": "all",
    "loopback": "same",
    "mac": "planned other?",  # a Wi-Fi repeater shows its own
    "host-at": "planned",
    "mac-at": "planned",
    "line": "public unclear",
    "asked-out": "yes no?",
    "listed": "no yes?",
    "others": "yes no?",  # they may be broken by themselves
    "host-reached": "yes no",
    "hairpin": "same not",
    "stand-in": "reached not",  # it may have lacked rules of its own
    "name": "right",
    "server-key": "right",
    "server-peer": "known",
    "power": "yes", "program": "yes", "listens": "yes", "strangers": "yes", "way-out": "yes", "itself": "yes",
    "joined": "yes",
    "way-in": "lan", "goes-by": "site", "mask": "yes", "mtu": "yes",
    "rules": "yes", "anew": "yes", "remote": "yes", "wan-equal": "yes", "online": "yes", "shared": "yes no",
    "number": "no", "elsewhere": "yes", "vpn": "yes",
    "outside6": "same", "inside6": "same", "through": "same", "route": "ticked open none",
}  # fmt: skip


def _shows(looks: Mapping[Look, str]) -> dict[Look, dict[Outcome, float]]:
    return {
        look.replace("_", "-"): {word.rstrip("?"): UNUSUAL if word.endswith("?") else 1.0 for word in words.split()}
        for look, words in looks.items()
    }


_WELL = _shows(WELL)


def _row(code: str, at: float, weight: float, **looks: str) -> Row:
    return Row(code, at, weight, _shows(looks))


LINE = {"others": "no", "host_reached": "no", "wan_equal": "no"}
GONE = {"loopback": "absent", "outside": "silent nobody refused other ours", "host_reached": "no", "inside": "silent"}
NAMES = {"number": "yes", "elsewhere": "no", "others": "no yes?"}
PUBLIC = (
    _row("name-stale", 0.5, 2, name="stale", **NAMES),
    _row("name-contested", 0.5, 0.3, name="stale contested", **NAMES),
    _row("name-private", 0.5, 0.5, name="private", **NAMES),
    _row("name-missing", 0.5, 1, name="missing", **NAMES),
    _row("name-has-others", 0.5, 0.3, name="others right", **NAMES),
    _row("name-other-family", 0.5, 0.3, name="family right", **NAMES),
    _row("resolver-broken", 0.5, 0.5, name="right resolver stale missing", **NAMES | {"elsewhere": "yes"}),
    _row("public-address-wrong", 0.6, 0.3, outside="silent refused other", hairpin="not", **LINE),
    _row("line-not-reached", 0.7, 1.5, outside="silent? stopped barred?",
         **LINE | {"others": "no yes?", "wan_equal": "yes"}),
    _row("line-down", 0.7, 1, outside="silent stopped refused?", line="none unclear public", hairpin="not same",
         asked_out="no", online="no", **LINE),
    _row("port-blocked", 1, 1, outside="silent barred refused? stopped?", stand_in="not", listed="yes no"),
    _row("provider-answers", 1, 0.6, outside="refused other kind stuck?", stand_in="not", hairpin="same not"),
    _row("carrier-nat", 1.5, 1.3, outside="silent refused? stopped? other?", line="carrier unclear public?",
         hairpin="not same", stand_in="not", shared="no", **LINE),
    _row("shared-ports", 1.5, 0.2, outside="silent refused? stopped? other?", line="shared unclear",
         stand_in="not", shared="yes", **LINE | {"others": "no yes", "host_reached": "no yes"}),
    _row("packets-too-large", 0.8, 0.5, outside="stuck", mtu="no"),
    _row("host-without-way-out", 4.5, 0.9, outside="silent", host_reached="no", way_out="no"),
    _row("host-wrong-mask", 4.5, 0.25, outside="silent", host_reached="no", mask="no"),
    _row("own-line", 0.1, 0.3, goes_by="other", others="no yes"),
    _row("host-filters-strangers", 4.5, 1, outside="silent refused? forbidden", strangers="no"),
)  # fmt: skip
ALWAYS = (
    _row("own-tunnel", 0.05, 0.3, way_in="tunnel", inside="silent refused other", mac="none planned"),
    _row("host-off", 4, 2, mac="none", host_at="none planned?", power="no", program="no", **GONE),
    _row("host-moved", 4, 2, mac="none other", host_at="elsewhere", mac_at="elsewhere planned", hairpin="not",
         **GONE | {"inside": "silent refused? other? ours"}),
    _row("host-isolated", 4, 0.7, mac="none", host_at="apart planned", hairpin="not", joined="no", **GONE),
    _row("address-taken", 4, 0.2, inside="other ours same refused silent", mac="other planned", hairpin="not same",
         outside="same kind other ours refused silent", host_reached="no yes", loopback="absent"),
    _row("host-filters-all", 4.2, 0.7, inside="silent", outside="silent refused forbidden", hairpin="not",
         strangers="no"),
    _row("service-stopped", 5, 2, inside="refused silent?", loopback="refused silent", outside="refused silent other?",
         hairpin="not", program="no"),
    _row("service-loopback", 5, 0.7, inside="refused silent?", loopback="same alone", outside="refused silent other?",
         hairpin="not", listens="no"),
    _row("service-other", 5, 0.7, inside="other", outside="other same kind refused silent", hairpin="not",
         itself="no"),
    _row("service-faulty", 5, 0.5, inside="faulty same", outside="faulty other", hairpin="not same"),
)  # fmt: skip
VPN = _row("asker-tunnel", 0.1, 1, outside="silent refused stopped barred other", others="no yes",
           host_reached="no yes", vpn="no")  # fmt: skip
BOTH = _row("transport-unused", 5, 0.3, transports="one", outside="silent refused same kind")
TUNNEL = (
    _row("tunnel-key-other", 5, 1, inside="silent other", outside="silent other", server_key="other",
         server_peer="unknown known"),
    _row("tunnel-peer-missing", 5, 1, inside="silent", outside="silent", server_peer="unknown"),
)  # fmt: skip
SIX = (  # nothing is translated there: the device's own address and the openings count
    _row("opening-missing", 2, 3, outside6="silent refused?"),
    _row("host-six-moved", 4, 1.5, outside6="silent refused? other?", inside6="silent"),
    _row("host-filters-all", 4.2, 0.7, outside6="silent refused?", inside6="silent"),
    _row("host-filters-strangers", 4.5, 1, outside6="silent refused?"),
    _row("service-four-only", 5, 1, outside6="refused silent", inside6="refused"),
    _row("service-other", 5, 0.5, outside6="other", inside6="other same"),
)
SIX_STOPPED = (
    _row("host-off", 4, 1, outside6="silent", inside6="silent"),
    _row("host-isolated", 4, 0.3, outside6="silent", inside6="silent"),
    _row("service-stopped", 5, 1, outside6="refused silent", inside6="refused"),
    _row("service-loopback", 5, 0.4, outside6="refused silent", inside6="refused"),
)
BEHIND = (  # seen through the tunnel, whose server answers in it
    _row("server-not-forwarding", 1, 1.5, through="silent"),
    _row("no-way-back", 2, 2, through="silent", route="open ticked?"),
    _row("host-filters-strangers", 4.5, 1, through="silent"),
    _row("host-off", 4, 2, through="silent", inside="silent"),
    _row("host-moved", 4, 1.5, through="silent", inside="silent"),
    _row("host-filters-all", 4.2, 0.7, through="silent", inside="silent"),
    _row("service-stopped", 5, 2, through="refused", inside="refused"),
)
WAYS_OUT = ("host-without-way-out", "host-wrong-mask")  # which a router has
RULES = {  # what a router's list says of the rule, what is seen from outside then, of other services, and the weight
    "missing": ("missing unseen ticked?", "silent refused? other?", "yes no?", 3.0),
    "off": ("off unseen ticked?", "silent refused? other?", "yes no?", 0.4),
    "limited": ("limited unseen ticked?", "silent refused?", "yes no?", 0.3),
    "wrong-transport": ("transport unseen ticked?", "silent refused?", "yes", 0.4),
    "ended": ("ended unseen ticked?", "silent refused?", "yes no?", 0.3),
    "lost": ("lost unseen", "silent refused? other?", "yes no", 0.3),
    "wrong-interface": ("interface unseen there ticked?", "silent refused?", "yes no?", 0.1),
    "wrong-host": ("wrong-host unseen ticked?", "other ours kind refused silent? nobody forbidden? stuck?", "yes", 1.0),
    "wrong-port": ("wrong-port unseen ticked?", "other? refused silent?", "yes", 0.5),
    "not-enforced": ("there unseen ticked", "silent refused? other? ours? nobody?", "yes no?", 0.2),
}


@cache
def rows(footing: Footing) -> tuple[Row, ...]:
    """All that can be wrong in this footing, from outside inward."""
    other = {"six": (*SIX, *SIX_STOPPED), "six-runs": SIX, "behind": BEHIND}.get(footing.way)
    if other is not None:
        return tuple(row for row in other if row.code not in footing.without)
    every = list(ALWAYS)
    if footing.public:
        every += [row for row in PUBLIC if footing.leaf or row.code not in WAYS_OUT]
        every += _at_routers(footing)
        every += [VPN] if footing.vpn else []
    every += [BOTH] if footing.both else []
    return tuple(sorted((*every, *(TUNNEL if footing.tunnel else ())), key=lambda row: row.at))


def _at_routers(footing: Footing) -> Iterator[Row]:
    for number, key in enumerate(footing.routers):
        for kind, (listed, outside, others, weight) in RULES.items():
            if kind == "lost" and key not in (footing.entered if footing.entered is not None else footing.routers):
                continue
            code = f"rule-{kind}"
            if kind == "missing":
                code += "-outer" if number == 0 else "-inner"
            looks = {"outside": outside, f"rule@{key}": listed, "others": others, "hairpin": "not"}
            looks |= {"anew": "no"} if kind == "not-enforced" else {"rules": "no"}
            yield Row(code, 2 + number, weight, _shows(looks), key)
        if number:
            looks = {"outside": "silent nobody refused? other?", f"wan@{key}": "moved", "others": "no yes?",
                     "hairpin": "not", "host_reached": "no"}  # fmt: skip
            yield Row("inner-wan-moved", 1.9 + number, 1.0, _shows(looks), key)
        looks = {"outside": "other? router", f"rule@{key}": "there unseen", "hairpin": "not", "remote": "no"}
        yield Row("gateway-answers", 1.8 + number, 0.5, _shows(looks), key)


def outcomes(world: World, look: Look) -> Mapping[Outcome, float]:
    """What a look could show in a world: what acts first decides, and hides what lies behind it. A look at something
    else passes by it, and may meet what comes after.
    """
    shown: Mapping[Outcome, float] | None = None
    for row in world:
        if (own := row.shows.get(look)) is not None:
            shown = (
                own if shown is None else {word: max(shown.get(word, 0), own.get(word, 0)) for word in {*shown, *own}}
            )
            if look not in ELSEWHERE:
                break
    if shown is not None:
        return shown
    part, at, _ = look.partition("@")
    if at:
        return {"there": 1.0, "ticked": 1.0, "unseen": UNUSUAL} if part == "rule" else {"planned": 1.0}
    return _WELL[look]


def every_outcome(footing: Footing, look: Look) -> frozenset[Outcome]:
    """All that a look can show."""
    return frozenset().union(outcomes((), look), *(outcomes((row,), look) for row in rows(footing)))


@dataclass(frozen=True)
class Weighed:
    """What the worlds that are left come to. well: that in which nothing is wrong is left, and nothing speaks against
    it. causes: each with its share of their weights, the largest first. where: the routers that these are about.
    certain: what is in all of them. odd: none was left.
    """

    well: bool
    causes: tuple[tuple[str, float], ...]
    where: Mapping[str, str | None]
    certain: frozenset[str]
    odd: bool


def left_by(footing: Footing, seen: Seen, most: int = 1, old: Collection[Look] = ()) -> list[tuple[World, float]]:
    """The worlds in which all of it could have been seen, with so many things wrong at once, and their weights.

    old: looks that rule nothing out any more.
    """
    real, looks = rows(footing), tuple(seen)

    def fits(world: World, look: Look) -> float:
        could = outcomes(world, look)
        best = max((could.get(value, 0.0) for value in seen[look]), default=1.0)
        return max(best, UNUSUAL) if look in old else best

    sound = {look: fits((), look) for look in looks}
    alone = [{look: fits((row,), look) for look in looks if look in row.shows} for row in real]
    # What was seen and is not so where all is well has to be shown by one of a world's rows: most fall by that alone.
    odd = [look for look in looks if not sound[look]]
    explains = [sum(1 << bit for bit, look in enumerate(odd) if own.get(look)) for own in alone]
    everything = (1 << len(odd)) - 1
    left: list[tuple[World, float]] = []
    for size in range(most + 1):
        for combo in combinations(range(len(real)), size):
            explained = 0
            for place in combo:
                explained |= explains[place]
            if explained != everything:
                continue
            world = tuple(real[place] for place in combo)
            weight = UNLIKELY ** (size - 1) if world else SOUND
            for row in world:
                weight *= row.weight
            for look in looks:
                own = [alone[place][look] for place in combo if look in alone[place]]
                weight *= sound[look] if not own else own[0] if len(own) == 1 else fits(world, look)
            if weight:
                left.append((world, weight))
    return left


def judged(footing: Footing, seen: Seen, old: Collection[Look] = ()) -> Weighed:
    """What was seen, by look, held against all worlds; two things at once only where one explains nothing.

    old: looks that rule nothing out any more.
    """
    left = left_by(footing, seen, 1, old) or left_by(footing, seen, 2, old)
    weights: dict[str, float] = {}
    rows_of: dict[str, tuple[float, str | None]] = {}
    for world, weight in left:
        for row in world:
            if weight > rows_of.get(row.code, (0.0, None))[0]:
                rows_of[row.code] = weight, row.gateway
        for code in {row.code for row in world}:
            weights[code] = weights.get(code, 0.0) + weight
    total = sum(weights.values()) or 1.0
    sound = sum(weight for world, weight in left if not world)
    certain = _in_all([world for world, _ in left]) if left and not sound else frozenset[str]()
    ordered = sorted(weights.items(), key=lambda item: -item[1])  # else the outermost first
    return Weighed(
        sound == SOUND or (sound > 0 and not {"same", "kind"}.isdisjoint(seen.get("outside", ()))),
        tuple((code, weight / total) for code, weight in ordered),
        {code: gateway for code, (_, gateway) in rows_of.items()},
        frozenset(code for code in certain if _shown_itself(footing, seen, code)),
        not left,
    )


def hidden(footing: Footing, seen: Seen, old: Collection[Look], named: Collection[str]) -> tuple[str, ...]:
    """What is possible only beside something else that is wrong too: what acts first hides what lies behind it.

    named: what is known to be possible by itself.
    """
    left = left_by(footing, seen, 2, old)
    codes = dict.fromkeys(row.code for world, _ in sorted(left, key=lambda item: -item[1]) for row in world)
    return tuple(code for code in codes if code not in named)


def _in_all(left: Collection[World]) -> frozenset[str]:
    return frozenset.intersection(*(frozenset(row.code for row in world) for world in left))


def _shown_itself(footing: Footing, seen: Seen, code: str) -> bool:
    """Whether a look came out as it does with this cause alone, and not where it is merely what is left over."""
    others: list[World] = [(), *((row,) for row in rows(footing) if row.code != code)]
    return any(
        not any(value in outcomes(world, look) for value in values for world in others) for look, values in seen.items()
    )
