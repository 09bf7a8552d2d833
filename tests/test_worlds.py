"""The judgement of evidence: whose answer it was, and what is certain, held against all that could be true."""

from __future__ import annotations

import random
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import replace
from itertools import combinations, product
from typing import Any, NamedTuple

import pytest

from hooper.evidence.identity import Identified, LedTo, Signs, identified, target_of
from hooper.evidence.worlds import Footing, World, hidden, judged, outcomes, rows
from hooper.why.questions import left_by as asked_left
from hooper.why.questions import next_question, questions
from hooper.words.catalogue import codes
from hooper.words.said import NOTHING, Said, say
from support.fault_table import FOOTING, PLAN, TOPOLOGY

BOTH = Footing(("outer", "inner"))
FOOTINGS = (
    BOTH, Footing(("only",)), Footing(("outer", "middle", "inner")), Footing((), way="six"),
    Footing((), way="six-runs"), Footing((), way="behind"),
)  # fmt: skip


class Truth(NamedTuple):
    """A world with a god's view. way: who is behind the public port: whoever has the planned address, another device by
    the router's rule, or the provider itself. at: who has the planned address. keys: whether devices of the make have
    none, one each, or one for all. kept: a key of the right device was kept. reset: it has made itself a new one since.
    mac: the plan has its MAC. known: the other device of the make is one of the site's, and its key was seen.
    """

    way: str
    at: str
    keys: str
    kept: bool
    reset: bool
    mac: bool
    known: bool

    @property
    def outside(self) -> str:
        """Who answers the person who types the card."""
        return {"rule-to-twin": "twin", "rule-to-other": "other", "provider": "other"}.get(self.way, self.at)

    def key(self, who: str) -> str | None:
        if who in ("other", "nobody"):
            return "other" if who == "other" else None
        if self.keys == "none":
            return None
        return "make" if self.keys == "one" else f"{who}{'-new' if self.reset and who == 'right' else ''}"

    def kept_key(self) -> str | None:
        if not self.kept or self.keys == "none":
            return None
        return "make" if self.keys == "one" else "right"


def truths() -> Iterator[Truth]:
    both = (False, True)
    ways = ("rule", "rule-to-twin", "rule-to-other", "provider")
    for way, at, keys in product(ways, ("right", "twin", "other", "nobody"), ("none", "each", "one")):
        for kept, reset, mac, known in product(both, both, both, both):
            if keys == "each" or not reset:
                yield Truth(way, at, keys, kept, reset, mac, known)


def seen(truth: Truth, looks: tuple[bool, ...]) -> Signs:
    """What Hooper has of a world. looks: at the inside, at the neighbours, at the routers' tables."""
    inside, near, tables = looks
    out, at = truth.outside, truth.at
    key, inner = truth.key(out), truth.key(at)
    alike = inside and at != "nobody"
    other = alike and {out, at} != {out} and (key != inner or "other" in (out, at))
    led = (
        LedTo("router", "10.0.0.9:80", right=False)
        if truth.way.startswith("rule-to")
        else LedTo("router", "x", right=True)
    )
    away = "10.0.0.8" if truth.mac and near and inside and at in ("twin", "other") else None
    return Signs(
        reached=out != "nobody",
        other=other,
        told=True,
        key=key is not None,
        same=key == inner if alike and key is not None and inner is not None else None,
        kept=key == truth.kept_key() if key is not None and truth.kept_key() is not None else None,
        shared="twin-page" if truth.known and key == truth.key("twin") and key is not None else None,
        inside=("nobody" if at == "nobody" else "there") if inside else None,
        mac=("planned" if at == "right" else "other") if near and truth.mac and alike else None,
        mac_at=away,
        rules=(led,) if tables else (),
    )


AGO = say("min-ago", minutes=5)
TABLE = LedTo("box", "10.0.0.9:443", right=False)
SEEN: list[tuple[dict[str, Any], str, tuple[Said, ...], str | None]] = [
    ({"reached": False, "secret": True, "told": True}, "none", (), None),
    ({"other": True, "secret": True}, "other", (), None),
    ({"secret": True, "otherwise": True}, "proven", (), None),
    ({"vouched": True, "mac": "other"}, "proven", (), None),
    ({"otherwise": True, "mac_at": "10.0.0.8"}, "other", (say("against-speech"),), None),
    ({"mac_at": "10.0.0.8", "mac": "other"}, "other", (say("against-mac-at", at="10.0.0.8"),), "address-taken"),
    ({"mac": "other", "inside": "refused"}, "other", (say("against-mac"),), "address-taken"),
    ({"inside": "refused", "rules": (TABLE,)}, "other", (say("against-inside.refused"),), None),
    ({"inside": "nobody", "key": True, "kept": True}, "other", (say("against-inside.nobody"),), None),
    ({"rules": (LedTo("in", "10.0.0.2:443", right=True), TABLE)}, "other",
     (say("against-rule", gateway="box", at="10.0.0.9:443", whose=NOTHING),), None),
    ({"rules": (replace(TABLE, whose="hub"),), "kept": True, "key": True}, "other",
     (say("against-rule", gateway="box", at="10.0.0.9:443", whose=say("against-rule-of", whose="hub")),), None),
    ({"rules": (replace(TABLE, port=True, whose="hub"),)}, "other",
     (say("against-rule.port", gateway="box", at="10.0.0.9:443"),), None),
    ({"rules": (replace(TABLE, ago=AGO, port=True),), "key": True, "kept": True}, "none",
     (say("against-rule-before", gateway="box", at="10.0.0.9:443", ago=AGO),), None),
    ({"key": True, "kept": False, "same": True}, "other", (say("against-kept"),), "identity-changed"),
    ({"key": True, "kept": False, "same": True, "mac": "planned"}, "none", (say("against-kept"),), "identity-changed"),
    ({"kept": False, "told": True}, "kind", (), None),  # it has no key
    ({"page_kept": False, "key": True, "kept": True}, "none", (say("against-page"),), None),
    ({"page_kept": False, "key": True, "kept": True, "mac": "planned"}, "proven", (), None),
    ({"key": True, "kept": True, "inside": "silent"}, "proven", (), None),
    ({"key": True, "same": True, "mac": "planned"}, "proven", (), None),
    ({"key": True, "same": True, "told": True}, "kind", (), None),
    ({"key": True, "same": False, "mac": "planned", "told": True}, "kind", (), None),
    ({"kept": True, "told": True}, "kind", (), None),
    ({"key": True, "kept": True, "shared": "ear", "told": True}, "kind", (), None),
    ({"key": True, "kept": None, "told": True}, "kind", (), None),
    ({"inside": "silent", "told": True}, "none", (say("against-inside.silent"),), None),
    ({"inside": "there", "told": True}, "kind", (), None),
    ({}, "none", (), None),
]  # fmt: skip


@pytest.mark.parametrize(("signs", "identity", "against", "code"), SEEN)
def test_what_each_sign_comes_to(
    signs: dict[str, Any], identity: str, against: tuple[Said, ...], code: str | None
) -> None:
    """In the order in which they count: each row but the first has a sign that would count after it."""
    assert identified(Signs(**{"reached": True, **signs})) == Identified(identity, against, code)  # type: ignore[arg-type]


def test_where_a_rule_is_told_to_lead() -> None:
    assert [target_of(told) for told in ("10.0.0.9", "10.0.0.9:443", "10.0.0.9:")] == [
        ("10.0.0.9", ""), ("10.0.0.9", "443"), ("10.0.0.9", ""),
    ]  # fmt: skip


def test_no_device_is_taken_for_another() -> None:
    """Over all worlds and all that may have been looked at: what is proven is the device, what passes could be it, and
    what speaks against it is heard; where the evidence decides, it is decided.

    That two devices have one key for all is told only where both were seen.
    """
    possible: dict[Signs, set[bool]] = defaultdict(set)
    fair: dict[Signs, set[bool]] = defaultdict(set)
    count = 0
    for truth in truths():
        for looks in product((False, True), repeat=3):
            signs = seen(truth, looks)
            possible[signs].add(truth.outside == "right")
            if truth.keys != "one" or truth.known:
                fair[signs].add(truth.outside == "right")
            count += 1
    assert count == 4096
    for signs, right in possible.items():
        found = identified(signs)
        passed = signs.reached and not found.against and found.identity in ("proven", "kind", "none")
        if found.identity == "proven":
            assert fair[signs] <= {True}, signs
        if passed:
            assert True in right, signs
        if signs.reached and right == {True}:
            assert passed or found.code == "identity-changed", signs
        if right == {False}:
            assert not passed, signs


@pytest.mark.parametrize("seed", range(3))
def test_random_signs_never_pass_with_something_against_them(seed: int) -> None:
    rng = random.Random(seed)
    for _ in range(20_000):
        signs = Signs(
            reached=rng.random() < 0.9,
            other=rng.random() < 0.1,
            told=rng.random() < 0.8,
            secret=rng.random() < 0.05,
            vouched=rng.random() < 0.05,
            key=(key := rng.random() < 0.5),
            otherwise=rng.random() < 0.05,
            same=rng.choice((None, True)) if key else None,
            kept=rng.choice((None, True, False)) if key else None,
            shared=rng.choice((None, None, "desk")) if key else None,
            inside=rng.choice((None, "there", "refused", "silent", "nobody")),
            mac=rng.choice((None, "planned", "other")),
            rules=(LedTo("router", "10.0.0.9:80", right=rng.random() < 0.7),),
        )
        found = identified(signs)
        speaks = (
            signs.otherwise or signs.mac == "other" or signs.inside in ("refused", "nobody") or not signs.rules[0].right
        )
        if not signs.reached:
            assert found == Identified("none")
        elif signs.secret or signs.vouched:
            assert signs.other or found.identity == "proven"
        elif speaks or signs.other:
            assert found.identity == "other"
        elif found.identity == "proven":
            assert signs.key
            assert signs.shared is None
            assert signs.kept or (signs.same and signs.mac == "planned")
            assert signs.kept is not False


def combos(footing: Footing) -> list[World]:
    real = rows(footing)
    return [combo for size in (0, 1, 2) for combo in combinations(real, size)]


def looks_of(footing: Footing) -> list[str]:
    return sorted({look for row in rows(footing) for look in row.shows})


@pytest.mark.parametrize("footing", FOOTINGS, ids=lambda footing: "+".join((*footing.routers, footing.way)))
def test_the_truth_is_never_ruled_out_and_nothing_is_certain_that_is_not_so(footing: Footing) -> None:
    """Looks at random, in each world of one thing wrong and in many of two."""
    rng, every = random.Random(len(footing.routers)), looks_of(footing)
    worlds = combos(footing)
    single = [world for world in worlds if len(world) < 2]
    for world in single * 12 + rng.sample(worlds, min(60, len(worlds))):
        made = rng.sample(every, rng.randint(1, len(every)))
        assert judged(footing, {look: [*outcomes((), look)][:1] for look in made}).well
        told = judged(footing, {look: (rng.choice(sorted(outcomes(world, look))),) for look in made})
        truth = {row.code for row in world}
        assert not told.odd, (truth, made)
        if len(world) < 2:
            assert truth <= {code for code, _ in told.causes}
            assert not told.certain or truth == told.certain, (truth, told)
            assert world or not told.certain


@pytest.mark.parametrize("footing", FOOTINGS[:2], ids=lambda footing: "+".join((*footing.routers, footing.way)))
def test_of_two_both_are_named_and_nothing_else_is_certain(footing: Footing) -> None:
    """Looks at random, in many worlds of two things wrong: what hides behind another is named as rare."""
    rng, every = random.Random(1), looks_of(footing)
    for world in rng.sample([world for world in combos(footing) if len(world) == 2], 200):
        made = rng.sample(every, rng.randint(1, len(every)))
        seen = {look: (rng.choice(sorted(outcomes(world, look))),) for look in made}
        told, truth = judged(footing, seen), {row.code for row in world}
        assert not told.certain - truth, (truth, seen)
        alone = {code for code, _ in told.causes}
        assert truth <= alone | {*hidden(footing, seen, (), alone)}, (truth, seen)


def test_a_question_halves_what_is_left() -> None:
    """From all causes on, whatever is answered, by what the table foretells."""
    pool, codes_ = tuple(questions(TOPOLOGY, PLAN, "film-page")), {row.code for row in rows(FOOTING)}
    shares: list[float] = []

    def walk(answers: dict[str, str]) -> None:
        left = {row.code for row in asked_left(FOOTING, pool, answers, codes_)}
        question = next_question(FOOTING, pool, answers, codes_)
        for answer in ("yes", "no") if question is not None else ():
            assert question is not None
            then = {**answers, question.key: answer}
            now = {row.code for row in asked_left(FOOTING, pool, then, codes_)}
            assert now <= left
            if len(left) >= 4:
                shares.append(len(now) / len(left))
            walk(then)

    walk({})
    assert len(shares) > 40
    assert sum(shares) / len(shares) < 0.6


def test_what_two_looks_contradict_is_odd_or_needs_two_causes() -> None:
    told = judged(
        BOTH, {"outside": ("same",), "inside": ("refused",), "rule@inner": ("wrong-host",), "others": ("no",)}
    )
    assert (told.well, told.certain) == (False, frozenset())


def test_each_row_is_a_cause_that_has_words() -> None:
    known = set(codes("cause"))
    for footing in FOOTINGS:
        assert {row.code for row in rows(footing)} <= known
        for row in rows(footing):
            assert all(row.shows.values()), row.code
            assert outcomes((row,), "outside")


# Causes that are no worlds, since they are read off and not concluded: what tells them, and what else would look so.
ANSWER = (
    "certificate-absent",
    "certificate-key-other",
    "certificate-other-name",
    "certificate-untrusted",
    "certificate-revoked",
    "certificate-put-back",
    "root-ended",
    "clear-text",
    "behind-cut-off",
    "behind-down",
    "behind-unheard",
    "handed-to-other",
    "name-refused",
    "https-lost",
    "https-needed",
    "inner-address",
    "no-login",
    "open-resolver",
    "passive-private",
    "port-lost",
    "redirect-circle",
    "smb-1",
    "tls-failed",
    "identity-changed",
)  # a stranger's: test_model_worlds
CLOCKS = ("certificate-expired", "certificate-not-yet-valid", "own-clock")  # each other: test_model_worlds
FILE = (
    "peer-certificate-ended",
    "peer-ended",
    "peer-not-granted",
    "peer-without-key",
    "endpoint-stale",
    "plan-error",
    "profile-outdated",
    "sources-open",
    "open-unplanned",
    "asker-inside",
    "asker-no-way",
    "network-overlap",
)
PEER = (
    "peer-clock",
    "server-rules-old",
    "tunnel-not-started",
    "nats-cannot-meet",
    "other-end-absent",
    "direct-way-blocked",
)  # each other, and what lies behind: model_peers


def test_every_cause_is_held_against_the_others() -> None:
    """Each is a world of the table, or read off an answer, a clock, a file, or what a tunnel's server says."""
    worlds = {row.code for footing in FOOTINGS for row in rows(footing)}
    worlds |= {row.code for row in rows(Footing(("outer", "inner"), vpn=True, both=True, tunnel=True))}
    told = {*ANSWER, *CLOCKS, *FILE, *PEER, "unexplained"}
    assert not told & worlds
    assert {*codes("cause")} == told | worlds
