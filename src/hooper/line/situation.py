"""What kind of line this is, by all that was measured and told, with what speaks for it. Pure."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Network
from typing import Literal

from hooper.addresses import IPAddress, classify, parse_address
from hooper.line.facts import LineFacts, Measured
from hooper.sourced import Sourced
from hooper.words.said import NOTHING, Said, quoted, say

Situation = Literal["public", "one-nat", "several-nats", "carrier-nat", "shared-ports", "no-ipv4", "unclear"]
_TRANSLATOR = IPv4Network("192.0.0.0/29")  # RFC 6333 section 5.7, RFC 7335


@dataclass(frozen=True, slots=True)
class LineJudged:
    """kind, and whether forwarding can work at all: null is not known. evidence: what speaks for it, in sentences.

    do: what to do next, where it is unclear. box_before: a NAT that is not in the site file stands before the
    outermost gateway, or seems to.
    """

    kind: Situation
    can_forward: bool | None
    evidence: tuple[Said, ...]
    do: Said = NOTHING
    box_before: bool = False


@dataclass(frozen=True, slots=True)
class NatBox:
    """One NAT on the way out, with its outer address as far as it is known."""

    key: str
    name: Said
    wan: IPAddress | None
    told: Sourced[str] | None
    known: bool  # it stands in the site file


def boxes_outward(facts: LineFacts) -> list[NatBox]:
    """The NATs from this computer outward: those of the site file, then what revealed itself before them."""
    out: list[NatBox] = []
    for key in reversed(facts.chain):
        told = facts.wan.get(key)
        out.append(NatBox(key, quoted(key), parse_address(told.value) if told is not None else None, told, True))
    measured = facts.measured or Measured()
    path = {hop for hops in (measured.outward, measured.to_self) if hops is not None for hop in hops.seen}
    for said in measured.revealed:
        if said.address not in path and (said.wan is None or said.wan != facts.outside):
            continue  # another router on this network, by which nothing goes
        told = Sourced(str(said.wan), said.by, facts.now) if said.wan is not None else None
        out.append(NatBox("", say("the-router", address=said.address), said.wan, told, False))
    return out


def judge(facts: LineFacts) -> LineJudged:
    """What kind of line this is. The first that is proven counts; what is only likely says so."""
    for rule in (_this_machine, _shared, _by_numbers, _by_class, _down, _by_hops, _by_mismatch, _by_space):
        if (judged := rule(facts)) is not None:
            return judged
    return _unclear(facts)


def _sentence(box: NatBox, facts: LineFacts) -> Said:
    assert box.told is not None
    return say("router-has-wan", name=box.name, wan=box.wan, words=box.told.words(facts.now))


def _seen(facts: LineFacts) -> Said:
    return say("the-internet-sees", outside=facts.outside, source=facts.public.source)


def _this_machine(facts: LineFacts) -> LineJudged | None:
    own, public = facts.own.value, facts.outside
    if own is None:
        return None
    if own == public:
        return LineJudged("public", True, (say("this-machine-has-itself", own=own), _seen(facts)))
    kind = classify(own)
    if own in _TRANSLATOR:
        said = say("this-machine-has-it", own=own, source=kind.source)
        return LineJudged("no-ipv4", False, (said,))
    if kind.key == "carrier" and facts.at is None:
        said = say("this-machine-has-which", own=own, meaning=kind.meaning, source=kind.source)
        return LineJudged("carrier-nat", False, (said,))
    return None


def _shared(facts: LineFacts) -> LineJudged | None:
    """Ports in common, unless carrier NAT proper stands there: that gives out ports in blocks too."""
    nat = facts.measured.nat if facts.measured is not None else None
    if nat is None or nat.own_ports is None or _by_class(facts) is not None:
        return None
    return LineJudged("shared-ports", False, (say("all-outside-ports-that", own_ports=nat.own_ports), _seen(facts)))


def _by_numbers(facts: LineFacts) -> LineJudged | None:
    """A NAT whose outer address is the public one: it is the outermost."""
    public = facts.outside
    boxes = boxes_outward(facts)
    nats = facts.measured.nats if facts.measured is not None else None
    for count, box in enumerate(boxes, 1):
        if box.wan is None or box.wan != public or not classify(box.wan).reachable:
            continue
        if nats is not None and nats[0] > count:
            continue  # it says so, and the hops go on behind it
        beyond = [box for box in boxes[count:] if box.known]
        evidence = [_sentence(box, facts), _seen(facts)]
        if beyond:
            evidence.append(say("so-of-the-site", beyond=tuple(box.name for box in beyond)))
        return LineJudged("one-nat" if count == 1 else "several-nats", True, tuple(evidence), box_before=not box.known)
    outermost = boxes[-1] if boxes else None
    if public is None and outermost is not None and outermost.wan is not None and classify(outermost.wan).reachable:
        kind: Situation = "one-nat" if len(boxes) == 1 else "several-nats"
        return LineJudged(kind, True, (_sentence(outermost, facts), say("nobody-outside-was-asked")))
    return None


def _by_class(facts: LineFacts) -> LineJudged | None:
    """What the outermost known address is by itself (RFC 6598, RFC 6333)."""
    for box in reversed(boxes_outward(facts)):
        if box.wan is None:
            continue
        kind = classify(box.wan)
        if kind.key == "carrier":
            said = say("which-is", sentence=_sentence(box, facts), meaning=kind.meaning, source=kind.source)
            return LineJudged("carrier-nat", False, (said,))
        if kind.key == "dual-stack-lite":
            said = say("which-is", sentence=_sentence(box, facts), meaning=kind.meaning, source=kind.source)
            return LineJudged("shared-ports", False, (said,))
        break
    public = facts.outside
    if public is not None and classify(public).key == "carrier":
        kind = classify(public)
        return LineJudged(
            "carrier-nat", False, (say("which-is", sentence=_seen(facts), meaning=kind.meaning, source=kind.source),)
        )
    return None


def _down(facts: LineFacts) -> LineJudged | None:
    """The outermost box says that it has no IPv4 address, and nobody outside has seen one."""
    if facts.outside is not None and facts.public.how in ("given", "measured"):
        return None
    boxes = boxes_outward(facts)
    outermost = boxes[-1] if boxes else None
    if outermost is None:
        return None
    said = facts.measured.boxes.get(outermost.key) if facts.measured is not None else None
    if outermost.wan is not None and int(outermost.wan) == 0:
        return LineJudged("no-ipv4", False, (_sentence(outermost, facts),))
    if said is not None and said.down and outermost.wan is None:
        return LineJudged("no-ipv4", False, (say("says-that-it-has-no", name=outermost.name),))
    if facts.no_way is not None and outermost.wan is None:
        return LineJudged("no-ipv4", False, (say("says-that-there-is", no_way=facts.no_way),))
    return None


def _by_hops(facts: LineFacts) -> LineJudged | None:
    """How many NATs stand before the public address, counted on the path."""
    measured, public = facts.measured, facts.outside
    if measured is None or measured.nats is None or measured.to_self is None or public is None or facts.at is None:
        return None
    least, most = measured.nats
    chain, boxes = len(facts.chain), boxes_outward(facts)
    outermost = next((box for box in reversed(boxes) if box.known), None)
    paths = (measured.to_self, *([measured.outward] if measured.outward is not None else []))
    extra = list(dict.fromkeys(hop for path in paths for hop in path.seen[chain:least] if hop is not None))
    if least > chain:
        hops = say("the-way-to-goes", public=public, least=least, chain=chain)
        kinds = [classify(hop) for hop in extra]
        if any(kind.key == "dual-stack-lite" for kind in kinds):
            return LineJudged(
                "shared-ports",
                False,
                (hops, say("is-the-providers-translator", extra=extra[-1], source=kinds[-1].source)),
            )
        shown = f": {', '.join(map(str, extra))}" if extra else ""
        if any(kind.key == "carrier" or kind.reachable for kind in kinds) or _far_out(facts):
            return LineJudged("carrier-nat", False, (hops, say("the-providers-stand-before", shown=shown)))
        do = _before(facts)
        if least > chain + 1:
            return LineJudged("carrier-nat", None, (hops, say("so-many-are-rarely", shown=shown)), do, True)
        return LineJudged("unclear", None, (hops, say("the-one-that-is")), do, True)
    if least == most and outermost is not None and (outermost.wan is None or not classify(outermost.wan).reachable):
        if most < chain:
            beyond_file = ", ".join(facts.chain[: chain - most])
            said = say("the-public-address-is-hop", most=most, more="s" if most > 1 else "", beyond_file=beyond_file)
            return LineJudged("one-nat" if most == 1 else "several-nats", True, (said, _seen(facts)))
        if most == chain and outermost.wan is None:
            said = say("the-way-to-ends", public=public, most=most, name=outermost.name)
            return LineJudged("one-nat" if most == 1 else "several-nats", True, (said, _seen(facts)))
    return None


def _far_out(facts: LineFacts) -> bool:
    """The outermost gateway's own address is public, and yet more routers follow before the public address."""
    boxes = [box for box in boxes_outward(facts) if box.known]
    return bool(boxes) and boxes[-1].wan is not None and classify(boxes[-1].wan).reachable


def _by_mismatch(facts: LineFacts) -> LineJudged | None:
    """The outermost box says now that it has one public address, and all servers see another."""
    measured, public = facts.measured, facts.outside
    boxes = boxes_outward(facts)
    outermost = boxes[-1] if boxes else None
    if measured is None or public is None or outermost is None or outermost.wan is None or outermost.told is None:
        return None
    if not classify(outermost.wan).reachable or outermost.wan == public:
        return None
    evidence = (_sentence(outermost, facts), _seen(facts))
    seen = {known.value for known in measured.seen}
    exact = measured.nats is not None and measured.nats[0] == measured.nats[1] == len(facts.chain)
    if exact or len(seen) > 1 or not outermost.told.measured or measured.tunnel is not None:
        lines = say("two-public-addresses-two-lines")
        do = say("look-on-the-page", name=outermost.name)
        return LineJudged("unclear", None, (*evidence, lines), do)
    only = say("the-addresses-differ-and")
    return LineJudged("carrier-nat", None, (*evidence, only))


def _before(facts: LineFacts) -> Said:
    return say("if-the-box-before", chain=facts.chain[0]) if facts.chain else NOTHING


def _by_space(facts: LineFacts) -> LineJudged | None:
    """A router of the provider's own space on the way out, where the hops cannot be counted (RFC 6598): likely."""
    measured = facts.measured
    if measured is None or facts.at is None or measured.outward is None:
        return None
    least, most = measured.nats if measured.nats is not None else (1, None)
    near = measured.outward.seen[:most] if least != most else ()
    kinds: dict[str, Situation] = {"carrier": "carrier-nat", "dual-stack-lite": "shared-ports"}
    for hop in near:
        if hop is not None and (kind := kinds.get(classify(hop).key)) is not None:
            said = say("stands-on-the-way", hop=hop, meaning=classify(hop).meaning, source=classify(hop).source)
            return LineJudged(kind, None, (said, say("where-the-public-address")))
    return None


def _unclear(facts: LineFacts) -> LineJudged:
    boxes = boxes_outward(facts)
    outermost = next((box for box in reversed(boxes) if box.known or box.wan is not None), None)
    if facts.at is None and facts.chain:
        return LineJudged("unclear", None, (say("this-machine-is-on"),), say("run-it-again-on"))
    if outermost is None:
        return LineJudged("unclear", None, (say("the-site-file-has"),))
    if outermost.wan is not None and not classify(outermost.wan).reachable:
        kind = classify(outermost.wan)
        said = say("which-is-another-nat", sentence=_sentence(outermost, facts), meaning=kind.meaning)
        return LineJudged("unclear", None, (said,), _before(facts), True)
    if outermost.wan is not None:
        return LineJudged("unclear", None, (_sentence(outermost, facts), _seen(facts)), say("two-lines-a-vpn"))
    evidence = [say("nobody-says-which-wan", name=outermost.name)]
    if facts.outside is None:
        evidence.append(say("the-public-address-is-not-known", source=facts.public.source))
    return LineJudged("unclear", None, tuple(evidence), say("read-the-wan-address-on-the", name=outermost.name))
