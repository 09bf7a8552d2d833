"""Findings on ports and rules: what is refused and why, and what a protocol needs besides."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from hooper.planning.facts import Facts
from hooper.planning.findings import finding, finds
from hooper.planning.free_ports import OuterSide
from hooper.planning.paths import RULES_FOR_A_RANGE, RefusedWay, Way
from hooper.planning.typed import WEB, typed, unnamed
from hooper.planning.values import Finding
from hooper.ports import Blocked, Ports, blocking, ports_text, single
from hooper.words.said import NOTHING, Said, quoted, say

if TYPE_CHECKING:
    from hooper.site.model import Service


WIDE = 100  # ports in one rule; more is hardly ever needed
L2TP = 1701  # RFC 2661 section 8.1; inside IPsec by RFC 3193


def find(facts: Facts) -> Iterator[Finding]:
    """All findings on ports."""
    better = _Proposals(facts)
    for key, way in facts.ways.items():
        if facts.topology.bearer(key) != key:
            continue  # as that is
        if way.refused is not None and way.refused.code:
            yield _refusal(facts, key, way.refused, better)
        else:
            yield from _chosen(facts, key, way)
        yield from _blocked(facts, key, way, better)
    for key, refused in facts.no_pinhole.items():
        if refused.code != "no-pinhole":
            yield _refusal(facts, key, refused, better)
    for key in facts.public:
        yield from _protocol(facts, key, facts.site.services[key])


class _Proposals:
    """Outside ports to propose, each only once."""

    def __init__(self, facts: Facts) -> None:
        self.facts = facts
        self.sides: dict[str, OuterSide] = {}

    def __call__(self, key: str) -> Said:
        """How to write a free outside port for a service: 13389, or "15000-15010"."""
        service, line = self.facts.site.services[key], self.facts.lines[key]
        side = self.sides.get(line)
        if side is None:
            side = self.sides[line] = OuterSide()
            for name, way in self.facts.ways.items():
                if way.line == line and way.ports:
                    side.take(name, self.facts.site.services[name].used_transport, way.ports[0])
            for blocked in self.facts.site.lines[line].blocked:
                side.close(blocked.transport, blocked.ports.first, blocked.ports.last)
            for gateway in self.facts.hosts[service.host][0].gateways:
                for kept in self.facts.site.gateways[gateway].form.own_ports:
                    side.close(kept.transport, kept.ports.first, kept.ports.last)
        choice = next(side.choices(service.used_transport, service.used_ports), None)
        if choice is None:
            return say("one-that-is-free")
        side.take(key, service.used_transport, choice)
        text = ports_text(choice)
        return quoted(text if text.isdigit() else f'"{text}"')


def _clash(facts: Facts, key: str, refused: RefusedWay, better: Callable[[str], Said] | None, move: Said) -> Finding:
    """Two services want the same. better: proposes another port; None: nothing can translate, so it has to move."""
    way, subject = facts.ways.get(key), f"services.{key}"
    if way is None or way.refused is not refused:
        message = say("opens-the-same-ports", by=refused.by, host=facts.site.services[key].host)
        return finding("port-clash", subject, message, say("give-both-the-same"))
    if not refused.port:
        what = say("the-ip-protocol", transport=refused.transport)
        remedy = say("one-host-only-can")
    else:
        what = say("port", port=refused.port, transport=refused.transport)
        give_way = say("give-one-of-them", better=better(key), key=key) if better is not None else None
        remedy = give_way or say("for-one-of-the", move=move)
    message = say("has-the-outside-on", by=refused.by, what=what, gateway=refused.gateway)
    return finding("port-clash", subject, message, remedy)


def _refusal(facts: Facts, key: str, refused: RefusedWay, better: Callable[[str], Said]) -> Finding:
    """Why a service gets no rule."""
    service, subject = facts.site.services[key], f"services.{key}"
    way = facts.ways.get(key)
    chain = way.gateways if way is not None else facts.hosts[service.host][0].gateways
    through = ", ".join(chain)
    can = any(facts.site.gateways[gateway].form.translate for gateway in chain)
    move = say("make-itself-listen-on", host=service.host, through=through)
    wanted = service.outside_port or (service.used_ports if service.has_ports else None)
    if refused.code == "port-clash":
        return _clash(facts, key, refused, better if can else None, move)
    if refused.code == "port-kept":
        message = say("keeps-port-for-itself", gateway=refused.gateway, port=refused.port, transport=refused.transport)
        remedy = say("choose-another-outside-port", better=better(key)) if can else say("so", move=move)
        return finding("port-kept", subject, message, remedy)
    if refused.code == "cannot-translate":
        message = say("outside-port-must-become", wanted=wanted, used_ports=service.used_ports, through=through)
        remedy = say("make-itself-listen-on-or", host=service.host, wanted=wanted)
        return finding("cannot-translate", subject, say("cannot-translate.says", message=message), remedy)
    if refused.code == "no-port-left":
        message = say(
            "has-no-port-left", gateway=refused.gateway, used_ports=service.used_ports, transport=refused.transport
        )
        if not refused.port:
            return finding("no-port-left", subject, message)
        # whatever people type, it arrives there with the inside port
        who = say("has", by=refused.by) if refused.by else say("it-keeps")
        message = say(
            "cannot-translate-and-its", gateway=refused.gateway, who=who, port=refused.port, transport=refused.transport
        )
        remedy = say("make-itself-listen-on-another", host=service.host)
        return finding("no-port-left", subject, message, remedy)
    if refused.code == "too-many-rules":
        length = service.used_ports.size
        message = say("takes-single-ports-only", gateway=refused.gateway, wanted=wanted, length=length)
        remedy = say("narrow-the-range-on", host=service.host, rules_for_a_range=RULES_FOR_A_RANGE)
        return finding("too-many-rules", subject, message, remedy)
    if refused.code == "protocol-not-passed":
        message = say("has-no-rules-for", gateway=refused.gateway, transport=refused.transport)
        remedy = say("use-a-tunnel-that")
        return finding("protocol-not-passed", subject, message, remedy)
    if refused.code == "address-not-on-line":
        line = facts.lines[key]
        has = facts.site.lines[line].address or say("a-dynamic-address")
        message = say("is-not-an-address", outside_address=service.outside_address, line=line, has=has)
        return finding("address-not-on-line", subject, message)
    message = say("no-gateway-on-the", through=through, sources=service.sources)
    remedy = say("one-of-these-limit", host=service.host)
    return finding("sources-not-kept", subject, message, remedy)


def _chosen(facts: Facts, key: str, way: Way) -> Iterator[Finding]:
    """What follows from the outside port."""
    service, subject = facts.site.services[key], f"services.{key}"
    if not way.ports:
        return
    outside, inside = way.ports[0], way.ports[-1]
    shown = ports_text(outside)
    if way.chosen:
        written = shown if shown.isdigit() else f'"{shown}"'
        yield finds("port-chosen", subject, ports_text=ports_text(inside), shown=shown, written=written)
    usual = WEB.get(service.speaks)
    if usual is not None and outside[0] != usual:
        found = typed(facts.topology, key)
        why = NOTHING
        blocked = _met(facts, way.line, "tcp", single(usual))
        if blocked is not None:
            why = say("is-blocked-by-the", usual=usual, line=way.line)
        yield finds(
            "port-in-url",
            subject,
            text=found.text if found else unnamed(facts.topology, key),
            why=why,
            host=service.host,
        )
    if outside != inside and facts.has_pinhole(key):
        yield finds("port-by-family", subject, shown=shown, ports_text=ports_text(inside), host=service.host)


def _met(facts: Facts, line: str, transport: str, ports: Ports) -> Blocked | None:
    return blocking(facts.site.lines[line].blocked, transport, ports)


def _blocked(facts: Facts, key: str, way: Way, better: Callable[[str], Said]) -> Iterator[Finding]:
    """A port that the provider drops, where it was written down or nothing can translate."""
    service = facts.site.services[key]
    if not service.has_ports:
        return
    wanted = service.outside_port or service.used_ports
    ports = way.ports[0] if way.ports else wanted
    met = _met(facts, way.line, service.used_transport, ports)
    if met is None:
        return
    can = any(facts.site.gateways[gateway].form.translate for gateway in way.gateways)
    follows = say("links-then-need-the") if service.speaks in WEB else ""
    yield finds(
        "port-blocked.blocked",
        f"services.{key}",
        do=say("port-blocked.do", better=better(key), follows=follows)
        if can
        else say("port-blocked.blocked.do", host=service.host),
        line=way.line,
        transport=met.transport,
        ports=met.ports,
    )


def _protocol(facts: Facts, key: str, service: Service) -> Iterator[Finding]:
    """What the protocol itself asks for."""
    subject, speech, transport = f"services.{key}", service.speech, service.used_transport
    if service.has_ports and service.used_ports.size > WIDE:
        yield finds(
            "range-too-wide", subject, size=service.used_ports.size, used_ports=service.used_ports, host=service.host
        )
    if (
        service.transport is not None
        and not speech.either
        and transport not in (speech.transport, "both")
        and speech.transport != "both"
    ):
        yield finds(
            "transport-wrong",
            subject,
            title=speech.title,
            named=_named(speech.transport),
            named2_named=_named(transport),
            transport=speech.transport,
        )
    if transport == "both" and speech.transport in ("tcp", "udp") and not speech.either and service.speaks != "unknown":
        yield finds("transport-unused.protocol", subject, title=speech.title, transport=speech.transport)
    if (
        transport in ("udp", "both")
        and service.has_ports
        and service.used_ports.first <= L2TP <= service.used_ports.last
    ):
        yield finds("inside-ipsec", subject, l2tp=L2TP)
    more, needed = quoted(speech.more), speech.more_ports
    if service.speaks == "rtsp" and transport in ("udp", "both"):
        more, needed = say("a-range-of-udp"), ("udp", 0)
    if more and not _has(facts, key, service.host, *needed):
        yield finds(
            "ports-missing",
            subject,
            do=say("ports-missing.do", host=service.host)
            + (say("ports-missing.protocol.do") if needed[1] == 0 else "."),
            title=speech.title,
            more=more,
        )


def _has(facts: Facts, key: str, host: str, transport: str, port: int) -> bool:
    """Whether another public service of the host has this port, or for 0 a range of ports or the IP protocol."""
    there = facts.topology.public_ports.get((host, transport))
    if there is None:
        return False
    return any(name != key for name in (there.meeting(single(port)) if port else (name for _, name in there.ranges)))


def _named(transport: str) -> Said:
    return say("the-ip-protocol", transport=transport) if transport.isdigit() else quoted(transport.upper())
