"""A diagnosis held against worlds with a god's view; `python -m fuzz.worlds` tries 20,000 of them."""

from __future__ import annotations

from random import Random

import pytest

from hooper.why.case import WhyDocument
from hooper.why.diagnosis import diagnose
from hooper.why.facts import ServiceFacts
from hooper.why.tunnel import diagnose_peer
from support.fault_table import PLAN, TOPOLOGY
from support.model_peers import CAUSES, PeerWorld
from support.model_peers import PLAN as PEER_PLAN
from support.model_peers import TOPOLOGY as PEERS
from support.model_worlds import ANSWERS, TIMELY, World

ANSWERS_ALL_THE_SAME = {"address-taken"}  # and so may be reached


def wrong_about(world: World) -> str | None:
    """What a diagnosis says wrongly of some looks at a world; None: nothing."""
    facts = world.facts()
    document = diagnose(TOPOLOGY, PLAN, facts)
    found = {one.code: one.certainty for one in document.causes}
    certain = {code for code, certainty in found.items() if certainty == "certain"}
    outside, six_fails, four = facts.outside, facts.outside6 and not facts.outside6.ok, world.causes - {world.six}
    if not certain <= world.causes:
        return f"certain and wrong: {certain}"
    if not four and not six_fails and (found or document.ok is False):
        return f"nothing is wrong, and {found}"
    if not four and not six_fails and outside is not None and document.ok is not True:
        return "it works, and that is not said"
    if outside is None and document.ok:
        return "well, and nobody looked"
    if (four - ANSWERS_ALL_THE_SAME or six_fails) and outside is not None and document.ok:
        return "well, and it is not"
    if six_fails and world.acts_over_six not in {*found, *document.rare}:
        return f"the cause over IPv6 is lost: {found}, {document.rare}"
    hidden = {*TIMELY} if len(four) > 1 else set()  # a certificate that nobody saw is not known to have ended
    hidden |= ANSWERS_ALL_THE_SAME if {*TIMELY, *ANSWERS} & four or (outside is not None and outside.ok) else set()
    hidden |= {"rule-not-enforced"} if world.true_rules & {*found, *document.rare} else set()  # whose list was not read
    hidden |= {*ANSWERS} if len(four) > 1 else set()
    looked = outside or not (six_fails or {*TIMELY, *ANSWERS} & {*found})
    if found and looked and not four - hidden <= {*found, *document.rare}:
        return f"the cause is lost: {found}, {document.rare}"
    return _undecided(world, facts, document)


def _undecided(world: World, facts: ServiceFacts, document: WhyDocument) -> str | None:
    """Where what was read just now decides, it is decided."""
    for key, kind in world.rules.items():
        told = facts.rules.get(key)
        enforced = kind != "not-enforced" and key not in world.lying
        if len(world.causes) > 1 or told is None or told.at != facts.line.now or not enforced:
            continue
        code = next(iter(world.causes))
        if {one.code: one.certainty for one in document.causes} != {code: "certain"}:
            return f"{code} was read, and {[(one.code, one.certainty) for one in document.causes]}"
    return None


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("most", [1, 2])
def test_nothing_is_said_wrongly_and_what_decides_decides(seed: int, most: int) -> None:
    rng = Random(f"{seed} {most}")
    for number in range(150):
        world = World.random(rng, most)
        assert wrong_about(world) is None, (number, world.causes)


@pytest.mark.parametrize("seed", range(3))
def test_nothing_is_said_wrongly_of_a_peer(seed: int) -> None:
    """What is certain is so, where it works that is said, and what is wrong is named."""
    rng = Random(seed)
    for number in range(600):
        world = PeerWorld(rng, rng.choice(CAUSES))
        facts = world.facts()
        found = {one.code: one.certainty for one in diagnose_peer(PEERS, PEER_PLAN, facts).causes}
        document = diagnose_peer(PEERS, PEER_PLAN, facts)
        certain = {code for code, certainty in found.items() if certainty == "certain"}
        assert certain <= {world.cause}, (number, world.cause, found)
        assert (document.ok is True) == (world.cause is None and facts.through is not None), (world.cause, found)
        if facts.through is not None and world.cause is not None:
            assert document.ok is False
            assert world.cause in found, (number, world.cause, found)
