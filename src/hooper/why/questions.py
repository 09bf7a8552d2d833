"""What to ask somebody on site, so that each answer halves what is left. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace

from hooper.planning.topology import Topology
from hooper.planning.typed import typed, typed_inside
from hooper.planning.values import EVERYTHING, Forward, Plan
from hooper.ports import ports_text
from hooper.why.case import Cause, WhyDocument
from hooper.words.catalogue import meaning

INSIDE = frozenset({
    "host-off", "host-moved", "host-isolated", "host-filters-all", "service-stopped", "service-loopback",
    "service-other", "service-faulty", "transport-unused",
})  # fmt: skip
NAT = frozenset({"carrier-nat", "shared-ports"})
LINE = NAT | {"line-down", "line-not-reached", "public-address-wrong"}
ANSWERS = frozenset({"service-other", "service-faulty", "transport-unused"})  # something does
RULES = frozenset({
    "rule-missing-outer", "rule-missing-inner", "rule-wrong-host", "rule-wrong-port", "rule-wrong-transport",
    "rule-wrong-interface", "rule-off", "rule-ended", "rule-limited", "gateway-answers",
})  # fmt: skip
STRANGERS = frozenset({"host-filters-strangers", "host-without-way-out"})
NAMES = frozenset({
    "name-stale", "name-missing", "name-has-others", "name-contested", "name-other-family", "resolver-broken",
})  # fmt: skip
# What can be behind a public service that does not answer, as far as nothing was looked at.
LOOKED = frozenset({  # told by a look alone
    "line-not-reached", "public-address-wrong", "transport-unused", "rule-off", "rule-limited", "rule-wrong-port",
    "rule-wrong-transport", "rule-wrong-interface", "rule-ended", "gateway-answers", "name-has-others",
    "name-contested", "name-other-family", "resolver-broken", "asker-tunnel", "provider-answers", "address-taken",
    "rule-not-enforced",
})  # fmt: skip
ALL = (INSIDE | LINE | STRANGERS | NAMES | RULES | {"inner-wan-moved", "port-blocked"}) - LOOKED
ASKED = ALL | LOOKED  # of others no question tells anything
# The steps of a diagnosis that, where they are sound, leave these out.
SOUND = {
    "host": frozenset({"host-off", "host-moved", "host-isolated", "host-filters-all"}),
    "service": INSIDE,
    "public-address": LINE,
    "name": NAMES,
}


@dataclass(frozen=True, slots=True)
class SiteQuestion:
    """A question that is answered by yes or no. key: what the answer is kept by. text: as it is asked, in plain words.

    yes: the causes that a yes leaves, of all; no: those that a no leaves. None: the answer leaves all but those of the
    other one.
    """

    key: str
    text: str
    yes: frozenset[str]
    no: frozenset[str]

    def left(self, codes: Collection[str], answer: str) -> frozenset[str]:
        """Of these causes, those that the answer leaves."""
        side = self.yes if answer == "yes" else self.no
        return frozenset(code for code in codes if code in side or code not in ASKED)


def questions(topology: Topology, plan: Plan, service: str) -> Iterator[SiteQuestion]:
    """All that can be asked about a public service."""
    site, entry = topology.site, topology.site.services[service]
    name, inner = entry.host, typed_inside(topology, service).text
    chain = topology.chain(service).gateways
    yield _splits("inside", f"In the house, on the same network: does {inner} work?", INSIDE)
    words = f"In the house: does anything at all come at {inner}, such as another page or a message of the device?"
    yield SiteQuestion("anything", words, ASKED - (INSIDE - ANSWERS), ASKED - ANSWERS)
    words = f"Is what comes in the house at {inner} the page or the program of {service} itself, with something wrong?"
    yield SiteQuestion("itself", words, ASKED - {"service-other"}, ASKED - {"service-faulty"})
    words = f"Does {name} itself, or its router's list of devices, show the address {site.devices[name].address}?"
    yield _splits("address", words, {"host-moved", "host-off", "host-isolated"})
    words = f"In its router's list of devices: does {site.devices[name].address} stand beside {name}, and nobody else?"
    yield _splits("whose", words, {"address-taken"})
    network = site.gateways[chain[-1]].lan.network
    words = f"Does {name} itself show an address of the network {network}, and not that of a guest Wi-Fi?"
    yield _splits("network", words, {"host-isolated"})
    yield _splits("on", f"Is {name} switched on, and is the lamp at its network socket lit?", {"host-off"})
    yield _splits("program", f"On {name} itself: is the program for {service} started?", {"service-stopped"})
    words = f"In the settings of {service} on {name}: does it listen at all addresses, and not at localhost alone?"
    yield _splits("listens", words, {"service-loopback"})
    yield from _of_rules(plan, service, tuple(key for key in chain if key != name))
    yield from _of_the_line(topology, service, chain)
    yield _splits("vpn", "Is every VPN off on the machine that was looked from?", {"asker-tunnel"})
    words = f"In the firewall of {name}: is {service} let in from every address, and not from its own network alone?"
    yield _splits("strangers", words, {"host-filters-strangers", "host-filters-all"})
    router = site.gateways[chain[-1]].lan.ip
    words = f"In the network settings of {name}: is {router} its gateway (router)?"
    yield _splits("gateway", words, {"host-without-way-out"})


def _of_rules(plan: Plan, service: str, chain: tuple[str, ...]) -> Iterator[SiteQuestion]:
    """About the routers' lists: all of them at once, then each."""
    shown = {gateway: "; ".join(map(_rule, rules)) for gateway in chain if (rules := _rules(plan, gateway, service))}
    for gateway, rule in shown.items():
        inner = gateway == chain[-1] and len(chain) > 1
        wrong = {"rule-missing-inner" if inner else "rule-missing-outer"}
        if gateway == chain[-1]:
            words = f"Is there any rule for {service} in {gateway}'s list, switched on?"
            yield _splits(f"there-{gateway}", words, wrong)
            wrong |= {"rule-wrong-host"}
        yield _splits(f"rule-{gateway}", f"Does {gateway}'s list of rules show, switched on: {rule}?", wrong)
    if shown:
        words = f"{chain[-1]} was started anew, and its rules are still there: is it still not reached?"
        yield _splits("anew", words, {"rule-not-enforced"})
    if len(shown) > 1:
        words = ", and ".join(f"on {gateway} {rule}" for gateway, rule in shown.items())
        yield _splits("rules", f"Do the routers' lists of rules show, switched on: {words}?", RULES)


def _of_the_line(topology: Topology, service: str, chain: tuple[str, ...]) -> Iterator[SiteQuestion]:
    """About the line, the routers' outer addresses, the name."""
    site = topology.site
    if len(chain) > 1 and (wan := site.gateways[chain[-1]].wan_behind(chain[-2])) is not None:
        words = f"Does the status page of {chain[-1]} show {wan} as its WAN address?"
        yield _splits("inner-wan", words, {"inner-wan-moved"})
    if chain[0] != site.services[service].host:
        words = f"On {chain[0]}: is its own page kept from the internet (remote access off)?"
        yield _splits("remote", words, {"gateway-answers"})
    words = f"Does the status page of {chain[0]} show the WAN address that a page on the internet says you have?"
    yield _splits("wan", words, LINE)
    yield _splits("online", f"Does the status page of {chain[0]} say that the internet is connected?", {"line-down"})
    words = f"Does the status page of {chain[0]}, or the contract, speak of DS-Lite or of a shared IPv4 address?"
    yield SiteQuestion("shared", words, ASKED - {"carrier-nat"}, ASKED - {"shared-ports"})
    host = site.services[service].host
    others = [
        key
        for key in topology.ways
        if site.services[key].host != host and topology.lines[key] == topology.lines[service]
    ]
    if others and (what := typed(topology, others[0])) is not None:
        words = f"On a phone with its Wi-Fi off: does another one work, such as {others[0]} ({what.text})?"
        yield _splits("others", words, LINE | {"inner-wan-moved"} | NAMES)
    shown = typed(topology, service)
    if shown is not None and shown.name is not None:
        words = f"On a phone with its Wi-Fi off: does it work with the number in place of the name {shown.name}?"
        yield SiteQuestion("number", words, NAMES, ASKED - NAMES)
        words = f"Does {shown.name} have any address at all, says a page that looks up names?"
        yield _splits("named", words, {"name-missing"})
        words = (
            f"On a page that looks names up on the internet: has {shown.name} the WAN address that {chain[0]} shows?"
        )
        yield SiteQuestion("elsewhere", words, ASKED - (NAMES - {"resolver-broken"}), ASKED - {"resolver-broken"})


def _splits(key: str, text: str, if_not: Collection[str]) -> SiteQuestion:
    """A question whose yes rules these causes out, and whose no leaves them alone."""
    return SiteQuestion(key, text, ASKED - set(if_not), frozenset(if_not))


def _rules(plan: Plan, gateway: str, service: str) -> list[Forward]:
    mine = [rule for rule in plan.forwards if rule.gateway == gateway and rule.kind == "forward"]
    return [rule for rule in mine if rule.service == service] or [rule for rule in mine if rule.service == EVERYTHING]


def _rule(rule: Forward) -> str:
    ports, inner = ports_text(rule.outside_ports), ports_text(rule.target_ports)
    return f"{rule.transport.upper()} port {ports} to {rule.target_address}, port {inner}"


def candidates(document: WhyDocument) -> frozenset[str]:
    """The causes that the evidence leaves: those that the diagnosis names; where it had too little, all but those of
    links that are sound.
    """
    named = frozenset(cause.code for cause in document.causes if cause.code != "unexplained")
    if named:
        return named
    sound = {step.step for step in document.steps if step.state in ("ok", "skipped")}
    out = set(ALL)
    for step, codes in SOUND.items():
        out -= codes if step in sound else set()
    rules = [step for step in document.steps if step.step.startswith("rule:")]
    if rules and rules[-1].state == "ok":
        out.discard("rule-missing-outer")
    if rules and rules[0].state == "ok":
        out.discard("rule-missing-inner")
    return frozenset(out)


def left_by(asked: Collection[SiteQuestion], answers: Mapping[str, str], codes: frozenset[str]) -> frozenset[str]:
    """What the answers leave of these causes. One that contradicts the others, or the evidence, is not counted."""
    for question in asked:
        answer = answers.get(question.key)
        if answer in ("yes", "no"):
            rest = question.left(codes, answer)
            codes = rest or codes
    return codes


def next_question(
    asked: Collection[SiteQuestion], answers: Mapping[str, str], codes: frozenset[str]
) -> SiteQuestion | None:
    """The question that leaves least whatever the answer is; None: one cause is left, or none of them tells more."""
    best: tuple[int, SiteQuestion] | None = None
    for question in asked:
        if question.key in answers:
            continue
        worst = max(len(question.left(codes, answer)) for answer in ("yes", "no"))
        least = min(len(question.left(codes, answer)) for answer in ("yes", "no"))
        if least and worst < len(codes) and (best is None or worst < best[0]):
            best = worst, question
    return best[1] if best is not None else None


def with_answers(document: WhyDocument, left: frozenset[str]) -> WhyDocument:
    """The diagnosis with what answers have left of its causes."""
    kept = [cause for cause in document.causes if cause.code in left]
    if len(left) == 1:
        kept = [replace(cause, certainty="likely") if cause.certainty == "possible" else cause for cause in kept]
    for code in sorted(left - {cause.code for cause in kept}):
        entry, certainty = meaning("cause", code), "likely" if len(left) == 1 else "possible"
        kept.append(Cause(code, certainty, f"{entry.what}, by what was answered", entry.do, None))  # type: ignore[arg-type]
    return replace(document, causes=tuple(kept), ok=False)
