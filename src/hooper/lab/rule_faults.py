"""The faults that the routers' rules can have, and what else the routers do with a port."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from ipaddress import IPv4Address, IPv4Network
from typing import Any

from hooper.lab.boathouse import CLUB, SERVICES
from hooper.lab.certificates import self_signed
from hooper.lab.devices import secured, web
from hooper.lab.fault import Apply, Fault, NothingToBreak, Undo, both, changed, placed
from hooper.lab.things import Attachment, Box, FirewallOpening, Machine, Rule
from hooper.lab.town import Town


def _rule(town: Town, gateway: str, service: str) -> tuple[Box, Rule]:
    _, transport, _, outside = SERVICES[service]
    box = town.boxes[gateway]
    here = [rule for rule in box.rules if rule.outside[0] <= outside <= rule.outside[1]]
    for rule in sorted(here, key=lambda rule: rule.transport not in (transport, "both")):
        return box, rule  # for the other transport, where that is what was broken before
    raise NothingToBreak(f"{gateway} has no rule for {service}")


def _missing(gateway: str) -> Apply:
    def apply(town: Town, service: str) -> Undo:
        box, rule = _rule(town, gateway, service)
        place = box.rules.index(rule)
        box.rules.remove(rule)

        def undo() -> None:
            if not any(old.outside == rule.outside and old.transport == rule.transport for old in box.rules):
                box.rules.insert(min(place, len(box.rules)), rule)

        return undo

    return apply


def _changed_rule(field: str, value: Callable[[Rule], Any]) -> Apply:
    """The club's router has the rule, and something about it is not as it should be."""

    def apply(town: Town, service: str) -> Undo:
        _, rule = _rule(town, "club-router", service)
        return changed(rule, **{field: value(rule)})

    return apply


def _wrong_host(town: Town, service: str) -> Undo:
    """The rule names another device: if one listens on the same port, that one."""
    _, rule = _rule(town, "club-router", service)
    host, transport, port, _ = SERVICES[service]
    others = [town.nodes[key] for key, *_ in SERVICES.values() if key != host]
    tables = [(node, node.tcp if transport == "tcp" else node.udp) for node in others]
    wrong = next((node for node, table in tables if port in table), others[0])
    return changed(rule, target=wrong.address)


def copy_of(town: Town, node: Machine, address: IPv4Address) -> Machine:
    """Another device of the same make: all is the same but its MAC, and the certificate that such a device makes."""
    attached = Attachment("eth0", CLUB, address, "02:00:5e:99:99:77", node.attachments[0].gateway)
    twin = Machine(f"{node.key}-twin", [attached])
    twin.tcp, twin.udp = dict(node.tcp), dict(node.udp)
    if node.key in town.identities:
        own = self_signed(f"{twin.key}.local", town.now() - timedelta(days=30))
        for port in set(twin.tcp) - {22}:
            twin.tcp[port] = secured(own, web("Race films", node.key.replace("-", " ")))
    return twin


def _to_twin(town: Town, service: str) -> Undo:
    """There are two of the same make, and the rule names the other one."""
    _, rule = _rule(town, "club-router", service)
    twin = copy_of(town, town.nodes[SERVICES[service][0]], IPv4Address("10.44.7.177"))
    return both(placed(town.nodes, twin.key, twin), changed(rule, target=twin.address))


def _ended(town: Town, service: str) -> Undo:
    """The entry was made for a month, and the page still shows it."""
    _, rule = _rule(town, "club-router", service)
    return changed(rule, until=town.now() - timedelta(hours=3))


def _outside_port(service: str) -> int:
    _, transport, _, outside = SERVICES[service]
    if transport != "tcp":
        raise NothingToBreak(f"{service} has no port of TCP", remedy="Choose another service.")
    return outside


def provider_answers(town: Town, service: str) -> Undo:
    """The provider sends what is for this port to a page of its own, and the line hears nothing of it."""
    outside, box = _outside_port(service), town.boxes["fibre-box"]
    return placed(box.remote, outside, web("This port is not part of your contract", "portal"))


def _answers_itself(town: Town, service: str) -> Undo:
    """Somebody has let the provider's box show its page to the internet, at this port."""
    outside, box = _outside_port(service), town.boxes["fibre-box"]
    page = secured(self_signed("fibre-box.home.arpa", town.now() - timedelta(days=500)), web("fibre-box", box.key))
    return both(placed(box.tcp, 443, page), placed(box.remote, outside, page))


def opening_for(town: Town, service: str) -> FirewallOpening:
    """What the club's router has for a service over IPv6. Raises: NothingToBreak."""
    host, transport, port, _ = SERVICES[service]
    address = town.nodes[host].attachments[0].address6
    for one in town.boxes["club-router"].openings:
        if one.address == address and one.transport in (transport, "both") and one.ports[0] <= port <= one.ports[1]:
            return one
    raise NothingToBreak(
        f"club-router has no opening for {service}",
        remedy="Plan it over IPv6 first, by `address6` of its host, and enter the sheet.",
    )


def _opening_missing(town: Town, service: str) -> Undo:
    """The club's router has lost its opening for IPv6."""
    box, opening = town.boxes["club-router"], opening_for(town, service)
    box.openings.remove(opening)

    def undo() -> None:
        if opening not in box.openings:
            box.openings.append(opening)

    return undo


RULE_FAULTS = (
    Fault("forward-missing-outer", _missing("fibre-box")),
    Fault("forward-missing-inner", _missing("club-router")),
    Fault("forward-wrong-host", _wrong_host),
    Fault("forward-to-twin", _to_twin),
    Fault("forward-not-enforced", _changed_rule("enforced", lambda rule: False)),
    Fault(
        "forward-wrong-port",
        _changed_rule("target_ports", lambda rule: (rule.target_ports[0] + 1, rule.target_ports[1] + 1)),
    ),
    Fault(
        "forward-wrong-transport", _changed_rule("transport", lambda rule: {"udp": "tcp"}.get(rule.transport, "udp"))
    ),
    Fault("forward-off", _changed_rule("enabled", lambda rule: False)),
    Fault("forward-ended", _ended),
    Fault("forward-limited", _changed_rule("sources", lambda rule: (IPv4Network("192.0.2.99/32"),))),
    Fault("forward-wrong-interface", _changed_rule("interface", lambda rule: "television")),
    Fault("opening-missing", _opening_missing, needs_six=True),
    Fault("gateway-answers", _answers_itself),
)
