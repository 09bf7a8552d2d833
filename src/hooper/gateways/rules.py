"""What the plan wants of one router's own table, and whose its entries are. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from ipaddress import ip_network
from typing import TYPE_CHECKING

from hooper.addresses import classify, parse_address
from hooper.comparison import Comparison, Side
from hooper.gateways.documents import Owner, RuleRow
from hooper.gateways.driver import Driver
from hooper.planning.free_ports import transports
from hooper.planning.values import Forward
from hooper.ports import single
from hooper.store.entries import Entered, Key, LiveRule, key_of
from hooper.words.said import say

if TYPE_CHECKING:
    from hooper.site.model import Site

LABEL = "hooper "


@dataclass(frozen=True, slots=True)
class Wanted:
    """One entry that the plan needs. rule: None where its protocol cannot say it, then `reason` says why."""

    service: str
    forward: Forward
    rule: LiveRule | None
    reason: str = ""


def wanted_rules(driver: Driver, forwards: Iterable[Forward], gateway: str, lease_s: int) -> Iterator[Wanted]:
    """The entries for one gateway, in the plan's order. lease_s: how long they are to last."""
    for forward in forwards:
        if forward.gateway != gateway:
            continue
        reason = driver.cannot(forward)
        if reason is not None:
            yield Wanted(forward.service, forward, None, reason)
            continue
        for rule in driver.entries(forward, LABEL + forward.service, lease_s):
            yield Wanted(forward.service, forward, rule)


def is_ours(entry: LiveRule, journal: Mapping[Key, Entered], now: datetime) -> bool:
    """Whether this entry is one that the journal has, or what a router made of one."""
    mine = journal.get(key_of(entry))
    if mine is None or not entry.leads_as(mine.rule):
        return any(is_made_of(entry, other.rule) for other in journal.values()) if is_labelled(entry) else False
    ended = mine.until is not None and mine.until < now
    return not ended or is_labelled(entry)  # after its end, somebody else may have made the same


def is_made_of(entry: LiveRule, rule: LiveRule) -> bool:
    """Whether an entry is what a router that drops sources made of a rule of ours."""
    return is_labelled(entry) and entry.source != rule.source and replace(entry, source=rule.source).leads_as(rule)


def is_labelled(entry: LiveRule) -> bool:
    """Whether an entry carries Hooper's label: this one made it, or another, or one that has lost its state."""
    return entry.label.startswith(LABEL)


def labelled_for(entry: LiveRule) -> str:
    """The service that a label of ours names, as far as the router kept it."""
    return entry.label.removeprefix(LABEL)


def is_planned(entry: Entered, forwards: Iterable[Forward]) -> bool:
    """Whether the plan still wants what was entered: the same port, led to the same place, for the same source."""
    rule = entry.rule
    for forward in forwards:
        if forward.gateway != entry.gateway or rule.transport not in transports(forward.transport):
            continue
        outside, inside = forward.outside_ports, forward.target_ports
        if outside is None or inside is None or not outside[0] <= rule.outside_port <= outside[1]:
            continue
        sources = {str(ip_network(network).network_address) for network in forward.sources} or {""}
        right = (forward.target_address, inside[0] + rule.outside_port - outside[0])
        if right == (rule.target_address, rule.target_port) and rule.source in sources:
            return True
    return False


def rows(
    protocol: str,
    table: Sequence[LiveRule],
    wanted: Sequence[Wanted],
    journal: Mapping[Key, Entered],
    now: datetime,
    lent: Collection[tuple[str, int]] = (),
) -> tuple[RuleRow, ...]:
    """A router's table, each entry with its owner and held against the plan. lent: ports that a test has."""
    planned = {(w.rule.key): w for w in wanted if w.rule is not None}
    out = []
    for entry in table:
        plan = planned.get(entry.key)
        meets = any(w.rule is not None and entry.leads_as(w.rule) for w in wanted) and entry.enabled
        owner: Owner = "ours" if is_ours(entry, journal, now) else "labelled" if is_labelled(entry) else "other"
        if entry.key in lent and is_labelled(entry):
            owner = "lent"
        ports = single(entry.outside_port)
        out.append(
            RuleRow(
                service=plan.service if plan is not None else _by_hand(entry, wanted),
                transport=entry.transport,
                outside_ports=ports,
                target_address=entry.target_address,
                target_ports=single(entry.target_port),
                source=entry.source or None,
                label=entry.label,
                enabled=entry.enabled,
                owner=owner,
                meets_plan=meets,
                lease_s=entry.lease_s or None,
                visible_by=protocol,
            )
        )
    return tuple(sorted(out, key=lambda row: (row.outside_ports, row.transport, row.source or "")))


def _by_hand(entry: LiveRule, wanted: Iterable[Wanted]) -> str | None:
    """The service whose outside port this is, where the protocol cannot say its rule."""
    for candidate in wanted:
        ports = candidate.forward.outside_ports
        same = candidate.forward.transport in (entry.transport, "both")
        if candidate.rule is None and ports is not None and same and ports[0] <= entry.outside_port <= ports[1]:
            return candidate.service
    return None


def wan_compared(site: Site, gateway: str, wan: str | None) -> Iterator[Comparison]:
    """What a router says is its outer address against what the rest of the site counts on: the rules of the gateway
    before it, or the line's fixed address.
    """
    entry = site.gateways[gateway]
    said = Side(say("router-wan-address", gateway=gateway), wan, say("it-says-so-itself"))
    for outer in entry.behind:
        planned = entry.wan_behind(outer)
        right = Side(say("in-the-plan"), str(planned) if planned is not None else None, say("site-file"))
        if wan is None or planned is None:
            continue
        same = wan == str(planned)
        there = "" if same else say("they-lead-to-where", planned=planned)
        meaning = say("the-rules-of-lead", outer=outer) if same else say("the-rules-of-miss", outer=outer, there=there)
        yield Comparison(said, right, same, meaning)
    for line in entry.line:
        fixed = [str(address) for address in site.lines[line].address]
        if wan is None:
            continue
        kind = classify(parse_address(wan))
        if not kind.reachable:
            right = Side(say("the-line", line=line), None, say("a-public-address-was"))
            meaning = say("it-is-another-nat", meaning=kind.meaning, source=kind.source)
            yield Comparison(said, right, False, meaning)
        elif fixed:
            right = Side(say("the-line", line=line), ", ".join(fixed), say("site-file"))
            same = wan in fixed
            meaning = say("it-has-the-lines") if same else say("the-provider-has-given-another")
            yield Comparison(said, right, same, meaning)
