"""What to ask somebody on site, so that each answer halves what is left. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from hooper.evidence.worlds import Footing, Look, Outcome, Row, every_outcome, outcomes, rows
from hooper.planning.topology import Topology
from hooper.planning.typed import typed, typed_inside
from hooper.planning.values import Forward, Plan
from hooper.ports import ports_text
from hooper.why.router_rules import rules_for
from hooper.words.said import Said, Value, fields, say, together

UNREAD = ("unseen", "ticked")  # outcomes of a look at a rule that is none of a person


@dataclass(frozen=True, slots=True)
class SiteQuestion:
    """A question that is answered by yes or no. key: what the answer is kept by. text: as it is asked, in plain words.

    look: what it looks at. yes: the outcomes of that look that a yes means; a no means all others.
    """

    key: str
    text: Said
    look: Look
    yes: frozenset[Outcome]

    def fits(self, row: Row, answer: str) -> bool:
        """Whether somebody usually answers so if this is what is wrong."""
        shown = [word for word, usual in outcomes((row,), self.look).items() if usual == 1 and word not in UNREAD]
        return any((word in self.yes) == (answer == "yes") for word in shown)


def questions(topology: Topology, plan: Plan, service: str) -> Iterator[SiteQuestion]:
    """All that can be asked about a public service."""
    site, entry = topology.site, topology.site.services[service]
    chain = topology.chain(service).gateways
    lan = site.gateways[chain[-1]].lan
    asks = _Asking(
        {"service": service, "host": entry.host, "inner": typed_inside(topology, service).text, "ip": lan.ip,
         "address": site.devices[entry.host].address, "network": lan.network, "netmask": lan.network.netmask,
         "router": chain[-1], "outer": chain[0]}
    )  # fmt: skip
    yield asks("inside", "inside", "same")
    yield asks("anything", "inside", "same", "other", "ours", "faulty")
    yield asks("itself")
    yield asks("address", "host-at", "planned")
    yield asks("whose", "mac", "planned")
    yield asks("network", "joined")
    yield asks("on", "power")
    yield asks("program")
    yield asks("listens")
    yield from _of_rules(asks, plan, topology.bearer(service), tuple(key for key in chain if key != entry.host))
    yield from _of_the_line(asks, topology, service, chain)
    yield asks("vpn")
    yield asks("strangers")
    yield asks("gateway", "way-out")
    yield asks("mtu")
    yield asks("mask")


class _Asking(NamedTuple):
    """values: what the words of questions name."""

    values: Mapping[str, Value]

    def __call__(self, key: str, look: Look | None = None, *yes: Outcome, of: str = "", **more: Value) -> SiteQuestion:
        """look: else of the name of the question. yes: what a yes means; else "yes". of: a router, in the key too."""
        code = f"ask.{key}"
        every = {**self.values, **more}
        text = say(code, **{name: every[name] for name in fields(code)})
        return SiteQuestion(f"{key}-{of}" if of else key, text, look or key, frozenset(yes or ("yes",)))


def _of_rules(asks: _Asking, plan: Plan, service: str, chain: tuple[str, ...]) -> Iterator[SiteQuestion]:
    """About the routers' lists: all of them at once, then each."""
    there = {gateway: rules for gateway in chain if (rules := rules_for(plan, gateway, service))}
    shown = {gateway: together(map(_rule, rules)) for gateway, rules in there.items()}
    some = ("there", "wrong-host", "wrong-port", "transport", "limited", "interface")
    for gateway, rule in shown.items():
        look = f"rule@{gateway}"
        yield asks("there", look, *some, of=gateway, gateway=gateway)
        led = (word for word in some if word != "wrong-host")
        yield asks("to", look, *led, "off", of=gateway, gateway=gateway, target=there[gateway][0].target_address)
        yield asks("rule", look, "there", of=gateway, gateway=gateway, rule=rule)
    if shown:
        yield asks("anew", gateway=chain[-1])
    if len(shown) > 1:
        yield asks("rules", rules=tuple(say("rule-on", gateway=key, rule=rule) for key, rule in shown.items()))


def _of_the_line(asks: _Asking, topology: Topology, service: str, chain: tuple[str, ...]) -> Iterator[SiteQuestion]:
    """About the line, the routers' outer addresses, the name."""
    site = topology.site
    if len(chain) > 1 and (wan := site.gateways[chain[-1]].wan_behind(chain[-2])) is not None:
        yield asks("inner-wan", f"wan@{chain[-1]}", "planned", gateway=chain[-1], wan=wan)
    if chain[0] != site.services[service].host:
        yield asks("remote")
    yield asks("wan", "wan-equal")
    yield asks("online")
    yield asks("shared")
    host = site.services[service].host
    others = [
        key
        for key in topology.ways
        if site.services[key].host != host and topology.lines[key] == topology.lines[service]
    ]
    if others and (what := typed(topology, others[0])) is not None:
        yield asks("others", other=others[0], text=what.text)
    shown = typed(topology, service)
    if shown is not None and shown.name is not None:
        yield asks("number", name=shown.name)
        yield asks(
            "named", "name", "right", "stale", "contested", "others", "family", "resolver", "private", name=shown.name
        )
        yield asks("elsewhere", name=shown.name)


def _rule(rule: Forward) -> Said:
    outside, inside = ports_text(rule.outside_ports), ports_text(rule.target_ports)
    transport = rule.transport.upper()
    return say("rule-as-typed", transport=transport, outside=outside, target=rule.target_address, inside=inside)


def answered(
    footing: Footing, asked: Iterable[SiteQuestion], answers: Mapping[str, str]
) -> Iterator[tuple[Look, frozenset[Outcome]]]:
    """The answers as looks, each with the outcomes that it means."""
    for question in asked:
        answer = answers.get(question.key)
        if answer in ("yes", "no"):
            other = every_outcome(footing, question.look) - question.yes - {*UNREAD}
            yield question.look, question.yes if answer == "yes" else other


def left_by(
    footing: Footing, asked: Collection[SiteQuestion], answers: Mapping[str, str], codes: Collection[str]
) -> list[Row]:
    """What the answers leave of these causes. One that contradicts the others is not counted."""
    left = [row for row in rows(footing) if row.code in codes]
    for question in asked:
        answer = answers.get(question.key)
        if answer in ("yes", "no"):
            left = [row for row in left if question.fits(row, answer)] or left
    return left


def next_question(
    footing: Footing, asked: Collection[SiteQuestion], answers: Mapping[str, str], codes: Collection[str]
) -> SiteQuestion | None:
    """The question that leaves least whatever the answer is; None: one cause is left, or none of them tells more."""
    left = left_by(footing, asked, answers, codes)
    best: tuple[tuple[int, int], SiteQuestion] | None = None
    for question in asked if len({row.code for row in left}) > 1 else ():
        if question.key not in answers:
            sizes = [sum(question.fits(row, answer) for row in left) for answer in ("yes", "no")]
            if max(sizes) < len(left) and (best is None or (max(sizes), sum(sizes)) < best[0]):
                best = (max(sizes), sum(sizes)), question
    return best[1] if best is not None else None
