"""Findings on ports and rules: what is refused and why, and what a protocol needs besides."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.facts import Facts
from hooper.planning.findings import finding
from hooper.planning.paths import RULES_FOR_A_RANGE, RefusedWay, Way
from hooper.planning.ports import OuterSide
from hooper.planning.typed import WEB, typed, unnamed
from hooper.planning.values import Finding
from hooper.ports import Blocked, Ports, blocking, ports_text, single

if TYPE_CHECKING:
    from hooper.site.model import Service


WIDE = 100  # ports in one rule; more is hardly ever needed
L2TP = 1701  # RFC 2661 section 8.1; inside IPsec by RFC 3193


def find(facts: Facts) -> Iterator[Finding]:
    """All findings on ports."""
    better = _Proposals(facts)
    for key, way in facts.ways.items():
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

    def __call__(self, key: str) -> str:
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
            return "one that is free"
        side.take(key, service.used_transport, choice)
        text = ports_text(choice)
        return text if text.isdigit() else f'"{text}"'


def _refusal(facts: Facts, key: str, refused: RefusedWay, better: Callable[[str], str]) -> Finding:
    """Why a service gets no rule."""
    service, subject = facts.site.services[key], f"services.{key}"
    way = facts.ways.get(key)
    chain = way.gateways if way is not None else facts.hosts[service.host][0].gateways
    through = ", ".join(chain)
    can = any(facts.site.gateways[gateway].form.translate for gateway in chain)
    move = f"make {service.host} itself listen on another port, as no gateway on the way ({through}) can translate"
    wanted = service.outside_port or (service.used_ports if service.has_ports else None)
    if refused.code == "port-clash":
        what = f"port {refused.port}/{refused.transport}" if refused.port else f"the IP protocol {refused.transport}"
        message = f"{refused.by} has the outside {what} on {refused.gateway} already"
        if way is None or way.refused is not refused:
            message = f"{refused.by} opens the same ports of {service.host} over IPv6 in another way"
            remedy = "Give both the same ports and sources, or join them."
        elif not refused.port:
            remedy = 'One host only can have it: make one of them `reach = "tunnel"`.'
        elif can:
            remedy = f"Give one of them another: `outside_port = {better(key)}` for {key}."
        else:
            remedy = f"For one of the two, {move}."
        return finding("port-clash", subject, message, remedy)
    if refused.code == "port-kept":
        message = f"{refused.gateway} keeps port {refused.port}/{refused.transport} for itself"
        remedy = f"Choose another: `outside_port = {better(key)}`." if can else f"So {move}."
        return finding("port-kept", subject, message, remedy)
    if refused.code == "cannot-translate":
        message = f"outside port {wanted} must become {service.used_ports}, but no gateway on the way ({through}) can"
        remedy = f"Make {service.host} itself listen on {wanted}, or leave outside_port out."
        return finding("cannot-translate", subject, f"{message} translate ports", remedy)
    if refused.code == "no-port-left":
        message = f"{refused.gateway} has no port left for {service.used_ports}/{refused.transport}"
        if not refused.port:
            return finding("no-port-left", subject, message)
        # whatever people type, it arrives there with the inside port
        who = f"{refused.by} has" if refused.by else "it keeps"
        message = f"{refused.gateway} cannot translate, and {who} its port {refused.port}/{refused.transport}"
        remedy = f"Make {service.host} itself listen on another port, or use a router there that can translate."
        return finding("no-port-left", subject, message, remedy)
    if refused.code == "too-many-rules":
        length = service.used_ports.size
        message = f"{refused.gateway} takes single ports only, and {wanted} would be {length} rules"
        remedy = f"Narrow the range on {service.host} to at most {RULES_FOR_A_RANGE} ports."
        return finding("too-many-rules", subject, message, remedy)
    if refused.code == "protocol-not-passed":
        message = f"{refused.gateway} has no rules for the IP protocol {refused.transport}"
        remedy = "Use a tunnel that runs over UDP, or a gateway whose form has `protocols`."
        return finding("protocol-not-passed", subject, message, remedy)
    if refused.code == "address-not-on-line":
        line = facts.lines[key]
        has = ", ".join(map(str, facts.site.lines[line].address)) or "a dynamic address"
        message = f"{service.outside_address} is not an address of {line}, which has {has}"
        return finding("address-not-on-line", subject, message)
    message = f"no gateway on the way ({through}) can limit a rule to {', '.join(map(str, service.sources))}"
    remedy = (
        f'One of these: limit it on {service.host} itself and remove `sources` here; make it `reach = "tunnel"`; or'
        " use a gateway whose form has `sources`. It is not opened to all in the meantime."
    )
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
        yield finding(
            "port-chosen",
            subject,
            f"its own port {ports_text(inside)} cannot be used outside, so {shown} was chosen",
            f"Write it down, so that it stays: `outside_port = {written}`, or `{deeds.PIN}`.",
        )
    usual = WEB.get(service.speaks)
    if usual is not None and outside[0] != usual:
        found = typed(facts.topology, key)
        why = ""
        blocked = _met(facts, way.line, "tcp", single(usual))
        if blocked is not None:
            why = f" ({usual} is blocked by the provider of {way.line})"
        yield finding(
            "port-in-url",
            subject,
            f"the URL needs the port: {found.text if found else unnamed(facts.topology, key)}{why}",
            f"Type it so, and enter it as base URL in the settings of {service.host}.",
        )
    if outside != inside and facts.has_pinhole(key):
        yield finding(
            "port-by-family",
            subject,
            f"outside it is port {shown} over IPv4, but {ports_text(inside)} over IPv6, where nothing translates",
            f"Make {service.host} listen on {shown}, or limit it to one `family`.",
        )


def _met(facts: Facts, line: str, transport: str, ports: Ports) -> Blocked | None:
    return blocking(facts.site.lines[line].blocked, transport, ports)


def _blocked(facts: Facts, key: str, way: Way, better: Callable[[str], str]) -> Iterator[Finding]:
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
    follows = " Links then need the port." if service.speaks in WEB else ""
    yield finding(
        "port-blocked",
        f"services.{key}",
        f"the provider of {way.line} drops {met.transport} {met.ports} inbound",
        f"Choose another outside port, such as `outside_port = {better(key)}`.{follows}"
        if can
        else f"Make {service.host} itself listen on another port: no gateway on the way can translate.",
    )


def _protocol(facts: Facts, key: str, service: Service) -> Iterator[Finding]:
    """What the protocol itself asks for."""
    subject, speech, transport = f"services.{key}", service.speech, service.used_transport
    if service.has_ports and service.used_ports.size > WIDE:
        yield finding(
            "range-too-wide",
            subject,
            f"{service.used_ports.size} ports are open: {service.used_ports}",
            f"Narrow the range in the settings of {service.host}; a few dozen are enough for most.",
        )
    if (
        service.transport is not None
        and not speech.either
        and transport not in (speech.transport, "both")
        and speech.transport != "both"
    ):
        yield finding(
            "transport-wrong",
            subject,
            f"{speech.title} runs over {_named(speech.transport)}, not over {_named(transport)}",
            f'Write `transport = "{speech.transport}"`, or leave it out.',
        )
    if transport == "both" and speech.transport in ("tcp", "udp") and not speech.either and service.speaks != "unknown":
        yield finding(
            "transport-unused",
            subject,
            f"{speech.title} uses {speech.transport} only, and its rule is for both transports",
            f'Write `transport = "{speech.transport}"`, or leave it out.',
        )
    if (
        transport in ("udp", "both")
        and service.has_ports
        and service.used_ports.first <= L2TP <= service.used_ports.last
    ):
        yield finding(
            "inside-ipsec",
            subject,
            f"UDP {L2TP} (L2TP) travels inside IPsec and is never seen on the line",
            "Remove this service; L2TP over IPsec needs UDP 500 and 4500, nothing else.",
        )
    more, needed = speech.more, speech.more_ports
    if service.speaks == "rtsp" and transport in ("udp", "both"):
        more, needed = "a range of UDP ports for its film (RTP)", ("udp", 0)
    if more and not _has(facts, key, service.host, *needed):
        yield finding(
            "ports-missing",
            subject,
            f"{speech.title} needs more than this: {more}",
            f"Add a public service for that on {service.host}"
            + (", the same ports as in its settings." if needed[1] == 0 else "."),
        )


def _has(facts: Facts, key: str, host: str, transport: str, port: int) -> bool:
    """Whether another public service of the host has this port, or for 0 a range of ports or the IP protocol."""
    for other in facts.public:
        service = facts.site.services[other]
        if other == key or service.host != host or service.used_transport not in (transport, "both"):
            continue
        if not service.has_ports or (port == 0 and service.used_ports.size > 1):
            return True
        if port and service.used_ports.first <= port <= service.used_ports.last:
            return True
    return False


def _named(transport: str) -> str:
    return f"the IP protocol {transport}" if transport.isdigit() else transport.upper()
