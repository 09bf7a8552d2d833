"""What the world can see of a site, the gravest first, with the safer way for each. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import TYPE_CHECKING, Literal

from hooper.planning.access import enforced, into_for
from hooper.planning.findings import entry_of
from hooper.planning.topology import Topology
from hooper.planning.unfolded import side_doors
from hooper.planning.values import EVERYTHING, Finding, Forward, LeftOver, Plan
from hooper.ports import ports_text
from hooper.site.handed import bearers
from hooper.words.catalogue import severity_of
from hooper.words.said import Said, general, quoted, say

if TYPE_CHECKING:
    from hooper.site.model import Service, Site

Risk = Literal["high", "medium", "low"]
HIGH = ("router-page-open", "lan-protocol-open", "sharing-open", "desktop-open", "default-password")
_RISKS: tuple[Risk, ...] = ("high", "medium", "low")


@dataclass(frozen=True, slots=True)
class AcceptedRisk:
    """A risk that a person has taken: why, and until when.

    ended: that day has passed. finding: the code of the finding.
    """

    service: str
    finding: str
    reason: str
    until: date
    ended: bool


@dataclass(frozen=True, slots=True)
class Exposed:
    """One service that can be reached from outside.

    outside: as transport and port, one for each address. open_to: the sources; empty: everyone. findings: codes that
    speak against it, the gravest first. accepted: all of them are accepted. safer: what to do instead. what: the
    service in words. risk: how bad it is if somebody finds it. why: what makes it a risk. state: how it was last seen
    from outside, as `status` has it; seen: when, RFC 3339; null: never.
    """

    service: str
    host: str
    what: Said
    line: Said
    outside: tuple[Said, ...]
    open_to: tuple[str, ...]
    risk: Risk
    accepted: bool
    findings: tuple[str, ...]
    why: Said
    safer: Said
    state: str = "not-looked-at"
    seen: str | None = None


@dataclass(frozen=True, slots=True)
class PeerAccess:
    """A peer that comes in by a tunnel.

    person: whose it is; null: not said. into: what it reaches. enforced: where it is kept to that: by the server, or
    nowhere. until: its last day; null: it has none. ended: that day has passed.
    """

    peer: str
    tunnel: str
    person: str | None
    into: tuple[str, ...]
    enforced: Literal["server", "nowhere"]
    until: date | None
    ended: bool


@dataclass(frozen=True, slots=True)
class AuditDocument:
    """`hooper audit`.

    everything: the gateways that hand all packets inward, so that others behind them filter. exposed: what can be
    reached from outside. accepted: the risks that a person has taken. not_exposed: the services that nobody reaches
    from outside. peers: who comes in by tunnels.
    """

    exposed: tuple[Exposed, ...]
    accepted: tuple[AcceptedRisk, ...]
    everything: tuple[str, ...]
    not_exposed: tuple[str, ...]
    peers: tuple[PeerAccess, ...] = ()


def audit(topology: Topology, plan: Plan, today: date, standing: Sequence[LeftOver] = ()) -> AuditDocument:
    """What the plan lets in, and what stands on routers beside it. today: accepted risks are judged by it."""
    site = topology.site
    against: dict[str, list[Finding]] = {}
    for item in plan.findings:
        if entry_of(item.code).group in ("exposure", "readiness") or item.code in ("range-too-wide", "inside-ipsec"):
            against.setdefault(item.subject.removeprefix("services."), []).append(item)
    outside: dict[str, list[Said]] = {}
    for rule in plan.forwards:
        if rule.service == EVERYTHING or site.gateways[rule.gateway].behind:
            continue  # only what the outermost gateways let in
        address = f"[{rule.outside_address}]" if rule.kind == "pinhole" else rule.outside_address or ""
        outside.setdefault(rule.service, []).append(quoted(f"{address} ") + _ports(rule) if address else _ports(rule))
    handed = {rule.gateway for rule in plan.forwards if rule.service == EVERYTHING}
    for rule in plan.forwards:  # behind a gateway that hands everything on, the next one's rules say it
        if rule.service != EVERYTHING and handed & set(site.gateways[rule.gateway].behind):
            outside.setdefault(rule.service, []).append(_ports(rule))
    ruled = set(outside)
    for key, by in bearers(site).items():  # a web server tells it apart by its name
        if by in ruled:
            outside[key] = outside[by]
    ruled = set(outside)
    for door in side_doors(topology, plan.forwards, allowed=True):
        if door.service not in ruled:  # it has no rule of its own, and is reached all the same
            outside.setdefault(door.service, []).append(say("by-the-rule-of", words=door.words(), by=door.by))
    handed_to = {site.services[key].hands_to for key in outside if key in site.services}
    behind: dict[str, Said] = {}
    for door in side_doors(topology, plan.forwards):
        outside.setdefault(door.service, []).append(say("by-the-rule-of", words=door.words(), by=door.by))
        behind[door.service] = say("the-rule-of-lets", by=door.by)
    exposed = [
        _unmeant(
            _exposed(key, site.services[key], topology.lines[key], tuple(dict.fromkeys(places)), against.get(key, [])),
            behind.get(key),
        )
        for key, places in outside.items()
    ]
    exposed += [_left(topology, service, standing) for service in dict.fromkeys(one.service for one in standing)]
    left = {one.service for one in standing}
    return AuditDocument(
        tuple(sorted(exposed, key=lambda row: (row.accepted, _RISKS.index(row.risk), bool(row.open_to), row.service))),
        tuple(
            AcceptedRisk(key, risk.finding, risk.reason, risk.until, today > risk.until)
            for key, service in sorted(site.services.items())
            for risk in service.accepted
        ),
        tuple(sorted(handed)),
        tuple(sorted(key for key in site.services if key not in outside and key not in left | handed_to)),
        tuple(_peers(site, today)),
    )


def _peers(site: Site, today: date) -> Iterator[PeerAccess]:
    """Who comes in by tunnels: those that have a key."""
    for key, peer in sorted(site.peers.items()):
        if peer.public_key is not None and peer.revoked is None:
            kept = enforced(site.tunnels[peer.tunnel])
            ended = peer.until is not None and peer.until < today
            yield PeerAccess(key, peer.tunnel, peer.person, into_for(site, peer), kept, peer.until, ended)


def _left(topology: Topology, service: str, standing: Sequence[LeftOver]) -> Exposed:
    """A service that entries of ours still let in, though the plan has them no more."""
    mine = [one for one in standing if one.service == service]
    entry = topology.site.services.get(service)
    return Exposed(
        service,
        mine[0].host or mine[0].target,
        quoted(entry.speech.title) if entry is not None else say("a-service-that-the"),
        quoted(topology.lines[service]) if entry is not None else say("any-line"),
        tuple(one.words() for one in mine),
        (),
        "high",
        False,
        ("rule-still-stands",),
        general("finding", "rule-still-stands", "why"),
        mine[0].remedy(),
    )


def _unmeant(row: Exposed, why: Said | None) -> Exposed:
    """A service that comes in by the rule of another one, which is always grave."""
    if why is None:
        return row
    findings = tuple(dict.fromkeys(("open-by-another", *row.findings)))
    remedy = general("finding", "open-by-another", "do")
    return replace(row, risk="high", accepted=False, open_to=(), findings=findings, why=why, safer=remedy)


def _ports(rule: Forward) -> Said:
    if rule.outside_ports is None:
        return say("ip-protocol", transport=rule.transport)
    return quoted(f"{rule.transport.replace('both', 'tcp+udp')} {ports_text(rule.outside_ports)}")


def _exposed(key: str, service: Service, line: str, outside: tuple[Said, ...], found: list[Finding]) -> Exposed:
    open_risks = [item for item in found if not _is_accepted(item, service)]
    speaking = sorted(open_risks or found, key=lambda item: (_weight(item, service), item.code))
    worst = speaking[0] if speaking else None
    risk: Risk = "low"
    if worst is not None:
        risk = _RISKS[_weight(worst, service)]
    return Exposed(
        key,
        service.host,
        quoted(service.speech.title),
        quoted(line),
        outside,
        tuple(map(str, service.sources)),
        risk,
        bool(found) and not open_risks,
        tuple(dict.fromkeys(item.code for item in speaking)),
        general("finding", worst.code, "why") if worst is not None else _fine(service),
        worst.remedy if worst is not None else say("keep-the-devices-firmware"),
    )


def _fine(service: Service) -> Said:
    if service.speech.mute:
        return say("it-answers-nobody-who")
    return say("it-is-encrypted-how")


def _weight(item: Finding, service: Service) -> int:
    """0 for high, 1 for medium, 2 for low. Allowed sources make each risk smaller by one."""
    if item.code in HIGH or (item.code == "clear-text-open"):
        weight = 0
    else:
        weight = {"error": 0, "warning": 1, "note": 2}[severity_of(item.code)]
    if item.code == "unknown-protocol-open":
        weight = 1
    return min(2, weight + bool(service.sources and item.code != "default-password"))


def _is_accepted(item: Finding, service: Service) -> bool:
    return item.severity == "note" and any(risk.finding == item.code for risk in service.accepted)
