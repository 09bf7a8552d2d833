"""What to ask somebody on site, so that each answer halves what is left. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass

from hooper.judging.worlds import Footing, Look, Outcome, Row, every_outcome, outcomes, rows
from hooper.planning.topology import Topology
from hooper.planning.typed import typed, typed_inside
from hooper.planning.values import Forward, Plan
from hooper.ports import ports_text
from hooper.why.rules import rules_for

UNREAD = ("unseen", "ticked")  # outcomes of a look at a rule that is none of a person


@dataclass(frozen=True, slots=True)
class SiteQuestion:
    """A question that is answered by yes or no. key: what the answer is kept by. text: as it is asked, in plain words.

    look: what it looks at. yes: the outcomes of that look that a yes means; a no means all others.
    """

    key: str
    text: str
    look: Look
    yes: frozenset[Outcome]

    def fits(self, row: Row, answer: str) -> bool:
        """Whether somebody usually answers so if this is what is wrong."""
        shown = [word for word, usual in outcomes((row,), self.look).items() if usual == 1 and word not in UNREAD]
        return any((word in self.yes) == (answer == "yes") for word in shown)


def questions(topology: Topology, plan: Plan, service: str) -> Iterator[SiteQuestion]:
    """All that can be asked about a public service."""
    site, entry = topology.site, topology.site.services[service]
    name, inner = entry.host, typed_inside(topology, service).text
    chain = topology.chain(service).gateways
    address, lan = site.devices[name].address, site.gateways[chain[-1]].lan
    yield _asks("inside", f"In the house, on the same network: does {inner} work?", "inside", "same")
    words = f"In the house: does anything at all come at {inner}, such as another page or a message of the device?"
    yield _asks("anything", words, "inside", "same", "other", "ours", "faulty")
    words = f"Is what comes in the house at {inner} the page or the program of {service} itself, with something wrong?"
    yield _asks("itself", words)
    words = f"Does {name} itself, or its router's list of devices, show the address {address}?"
    yield _asks("address", words, "host-at", "planned")
    words = f"In its router's list of devices: does {address} stand beside {name}, and nobody else?"
    yield _asks("whose", words, "mac", "planned")
    words = f"Is {name} joined to the main Wi-Fi, or by cable to {chain[-1]} ({lan.network}), and to no guest Wi-Fi?"
    yield _asks("network", words, "joined")
    yield _asks("on", f"Is {name} switched on, and is the lamp at its network socket lit?", "power")
    yield _asks("program", f"On {name} itself: is the program for {service} started?")
    words = f"In the settings of {service} on {name}: does it listen at all addresses, and not at localhost alone?"
    yield _asks("listens", words)
    yield from _of_rules(plan, service, tuple(key for key in chain if key != name))
    yield from _of_the_line(topology, service, chain)
    yield _asks("vpn", "Is every VPN off on the machine that was looked from?")
    words = f"In the firewall of {name}: is {service} let in from every address, and not from its own network alone?"
    yield _asks("strangers", words)
    yield _asks("gateway", f"In the network settings of {name}: is {lan.ip} its gateway (router)?", "way-out")
    yield _asks("mtu", f"With the MTU of {name} set to 1280 for a moment: is {service} still not reached?")
    yield _asks("mask", f"In the network settings of {name}: is {lan.network.netmask} its network mask?")


def _asks(key: str, text: str, look: Look | None = None, *yes: Outcome) -> SiteQuestion:
    return SiteQuestion(key, text, look or key, frozenset(yes or ("yes",)))


def _of_rules(plan: Plan, service: str, chain: tuple[str, ...]) -> Iterator[SiteQuestion]:
    """About the routers' lists: all of them at once, then each."""
    shown = {gateway: "; ".join(map(_rule, rules)) for gateway in chain if (rules := rules_for(plan, gateway, service))}
    for gateway, rule in shown.items():
        words = f"Is there any rule for {service} in {gateway}'s list, switched on?"
        some = ("there", "wrong-host", "wrong-port", "transport", "limited", "interface")
        yield _asks(f"there-{gateway}", words, f"rule@{gateway}", *some)
        target = rules_for(plan, gateway, service)[0].target_address
        words = f"Does a rule for {service} in {gateway}'s list lead to {target}?"
        yield _asks(f"to-{gateway}", words, f"rule@{gateway}", *(word for word in some if word != "wrong-host"), "off")
        words = f"Does {gateway}'s list of rules show, switched on: {rule}?"
        yield _asks(f"rule-{gateway}", words, f"rule@{gateway}", "there")
    if shown:
        words = f"{chain[-1]} was started anew, and its rules are still there: is it still not reached?"
        yield _asks("anew", words)
    if len(shown) > 1:
        words = ", and ".join(f"on {gateway} {rule}" for gateway, rule in shown.items())
        yield _asks("rules", f"Do the routers' lists of rules show, switched on: {words}?")


def _of_the_line(topology: Topology, service: str, chain: tuple[str, ...]) -> Iterator[SiteQuestion]:
    """About the line, the routers' outer addresses, the name."""
    site = topology.site
    if len(chain) > 1 and (wan := site.gateways[chain[-1]].wan_behind(chain[-2])) is not None:
        words = f"Does the status page of {chain[-1]} show {wan} as its WAN address?"
        yield _asks("inner-wan", words, f"wan@{chain[-1]}", "planned")
    if chain[0] != site.services[service].host:
        yield _asks("remote", f"On {chain[0]}: is its own page kept from the internet (remote access off)?")
    words = f"Does the status page of {chain[0]} show the WAN address that a page on the internet says you have?"
    yield _asks("wan", words, "wan-equal")
    yield _asks("online", f"Does the status page of {chain[0]} say that the internet is connected?")
    words = f"Does the status page of {chain[0]}, or the contract, speak of DS-Lite or of a shared IPv4 address?"
    yield _asks("shared", words)
    host = site.services[service].host
    others = [
        key
        for key in topology.ways
        if site.services[key].host != host and topology.lines[key] == topology.lines[service]
    ]
    if others and (what := typed(topology, others[0])) is not None:
        words = f"On a phone with its Wi-Fi off: does another one work, such as {others[0]} ({what.text})?"
        yield _asks("others", words)
    shown = typed(topology, service)
    if shown is not None and shown.name is not None:
        words = f"On a phone with its Wi-Fi off: does it work with the number in place of the name {shown.name}?"
        yield _asks("number", words)
        words = f"Does {shown.name} have any address at all, says a page that looks up names?"
        yield _asks("named", words, "name", "right", "stale", "contested", "others", "family", "resolver")
        words = (
            f"On a page that looks names up on the internet: has {shown.name} the WAN address that {chain[0]} shows?"
        )
        yield _asks("elsewhere", words)


def _rule(rule: Forward) -> str:
    ports, inner = ports_text(rule.outside_ports), ports_text(rule.target_ports)
    return f"{rule.transport.upper()} port {ports} to {rule.target_address}, port {inner}"


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
