"""The faults that the town can have. Each has exactly one cause, by the code that a diagnosis must come to."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import Any

from hooper import deeds
from hooper.errors import UsageError
from hooper.lab.boathouse import CLUB, INTERNET, NAME, SERVICES, SHARED
from hooper.lab.fault import Fault, NothingToBreak, Undo
from hooper.lab.identity import Identity, self_signed
from hooper.lab.things import Box, Rule
from hooper.lab.town import Town
from hooper.lab.tunnel_faults import TUNNEL_FAULTS
from hooper.site.words import chosen

HUB = "hub-page"


def _rule(town: Town, gateway: str, service: str) -> tuple[Box, Rule]:
    _, transport, _, outside = SERVICES[service]
    box = town.boxes[gateway]
    for rule in box.rules:
        if rule.transport in (transport, "both") and rule.outside[0] <= outside <= rule.outside[1]:
            return box, rule
    raise NothingToBreak(f"{gateway} has no rule for {service}")


def _missing(gateway: str) -> Callable[[Town, str], Undo]:
    def apply(town: Town, service: str) -> Undo:
        box, rule = _rule(town, gateway, service)
        place = box.rules.index(rule)
        box.rules.remove(rule)

        def undo() -> None:
            if not any(old.outside == rule.outside and old.transport == rule.transport for old in box.rules):
                box.rules.insert(min(place, len(box.rules)), rule)

        return undo

    return apply


def _changed_rule(field: str, value: Callable[[Rule], Any]) -> Callable[[Town, str], Undo]:
    """The club's router has the rule, and something about it is not as it should be."""

    def apply(town: Town, service: str) -> Undo:
        _, rule = _rule(town, "club-router", service)
        before, after = getattr(rule, field), value(rule)
        setattr(rule, field, after)

        def undo() -> None:
            if getattr(rule, field) == after:
                setattr(rule, field, before)

        return undo

    return apply


def _wrong_host(town: Town, service: str) -> Undo:
    """The rule names another device: if one listens on the same port, that one."""
    _, rule = _rule(town, "club-router", service)
    host, transport, port, _ = SERVICES[service]
    others = [town.nodes[key] for key, *_ in SERVICES.values() if key != host]
    tables = [(node, node.tcp if transport == "tcp" else node.udp) for node in others]
    wrong = next((node for node, table in tables if port in table), others[0])
    right, wrong_address = rule.target, wrong.address
    rule.target = wrong_address

    def undo() -> None:
        if rule.target == wrong_address:
            rule.target = right

    return undo


def _moved(town: Town, service: str) -> Undo:
    """The device took another address, out of the pool."""
    attachment = town.nodes[SERVICES[service][0]].attachments[0]
    old, taken = attachment.address, {a.address for node in town.nodes.values() for a in node.attachments}
    network = town.segments[CLUB].network_address
    town.leave(attachment)
    attachment.address = next(a for n in range(132, 200) if (a := IPv4Address(int(network) + n)) not in taken)

    def undo() -> None:
        attachment.address = old
        town.gone.pop(old, None)

    return undo


def _off(town: Town, service: str) -> Undo:
    """Somebody has pulled the plug. Machines go on sending to it for a while."""
    node = town.nodes[SERVICES[service][0]]
    node.off = True
    town.leave(node.attachments[0])

    def undo() -> None:
        node.off = False
        town.gone.pop(node.address, None)

    return undo


def _of_host(name: str, value: object) -> Callable[[Town, str], Undo]:
    """Another setting of the device."""

    def apply(town: Town, service: str) -> Undo:
        node = town.nodes[SERVICES[service][0]]
        old = getattr(node, name)
        setattr(node, name, value)
        return lambda: setattr(node, name, old)

    return apply


def _line_down(town: Town, service: str) -> Undo:
    """The provider's line has no address any more; a while later it comes back with the same."""
    del service
    box, old = town.boxes["fibre-box"], town.boxes["fibre-box"].wan
    box.wan = IPv4Address(0)

    def undo() -> None:
        if not int(box.wan):
            box.wan = old

    return undo


def _inner_wan_moved(town: Town, service: str) -> Undo:
    """The provider's box gives the club's router another address than its rules lead to."""
    del service
    box, old = town.boxes["club-router"], town.boxes["club-router"].wan
    box.wan = IPv4Address("192.168.90.77")

    def undo() -> None:
        box.wan = old

    return undo


def _false_wan(town: Town, service: str) -> Undo:
    """The club's router was told to say that it has the line's public address, though it stands behind another NAT."""
    del service
    club, fibre = town.boxes["club-router"], town.boxes["fibre-box"]
    club.claims = fibre.wan

    def undo() -> None:
        club.claims = None

    return undo


def _zone_down(town: Town, service: str) -> Undo:
    """The zone's own server is down, and what resolvers still have is last week's address."""
    stale = _name_stale(town, service)
    node = town.nodes["name-server"]
    node.off = True

    def undo() -> None:
        node.off = False
        stale()

    return undo


def _stopped(town: Town, service: str) -> Undo:
    host, transport, port, _ = SERVICES[service]
    town.nodes[host].stopped.add((transport, port))
    return lambda: town.nodes[host].stopped.discard((transport, port))


def _blocked(town: Town, service: str) -> Undo:
    _, transport, _, outside = SERVICES[service]
    blocked = (transport, outside, outside)
    box = town.boxes["fibre-box"]
    if box.blocks(transport, outside):
        raise NothingToBreak(f"the provider blocks {transport} {outside} already", remedy="Choose another service.")
    box.blocked.add(blocked)
    return lambda: box.blocked.discard(blocked)


def _carrier_nat(town: Town, service: str) -> Undo:
    """The provider moves the line behind a NAT of its own; the name follows, as the device keeps it current."""
    del service
    box, old = town.boxes["fibre-box"], town.boxes["fibre-box"].wan
    outside = IPv4Address("203.0.113.5")
    carrier = Box("provider-nat", INTERNET, outside, SHARED, IPv4Interface("100.64.44.1/24"), is_router=False)
    town.boxes[carrier.key] = carrier
    box.outer, box.wan = SHARED, IPv4Address("100.64.44.9")
    current = town.zone.address(NAME) == old
    if current:
        town.zone.set(NAME, "A", [str(outside)])

    def undo() -> None:
        del town.boxes[carrier.key]
        box.outer, box.wan = INTERNET, old
        if current and town.zone.address(NAME) == outside:
            town.zone.set(NAME, "A", [str(old)])

    return undo


def _name_stale(town: Town, service: str) -> Undo:
    """The name still has the address of last week, which is somebody else's now."""
    del service
    current, stale = town.zone.get(NAME, "A"), ["203.0.113.40"]
    town.zone.set(NAME, "A", stale)

    def undo() -> None:
        if town.zone.get(NAME, "A") == stale:  # else it was updated meanwhile
            town.zone.set(NAME, "A", current)

    return undo


def _shows(make: Callable[[Town, str], Identity]) -> Callable[[Town, str], Undo]:
    """The device shows another certificate."""

    def apply(town: Town, service: str) -> Undo:
        host = SERVICES[service][0]
        identity = town.identities.get(host)
        if identity is None:
            raise NothingToBreak(f"{service} shows no certificate", remedy="Choose hub-page, film-page or a desktop.")
        old, new = identity.context, make(town, host).context
        identity.context = new

        def undo() -> None:
            if identity.context is new:  # else somebody has given it another one meanwhile
                identity.context = old

        return undo

    return apply


def _ended(town: Town, host: str) -> Identity:
    return town.acme.authority.identity([NAME], town.now() - timedelta(days=97), days=90)


def _other(town: Town, host: str) -> Identity:
    return town.acme.authority.identity(["regatta.heronquay.example"], town.now() - timedelta(days=7), days=90)


def _own(town: Town, host: str) -> Identity:
    if host != "hub":  # the others have shown certificates of their own making all along
        raise NothingToBreak(f"{host} shows a certificate of its own making already", remedy="Choose hub-page.")
    return self_signed(f"{host}.local", town.now() - timedelta(days=100))


def _switch(what: Callable[[Town], object], switch: str) -> Callable[[Town, str], Undo]:
    """A machine of the town behaves in another way while the switch is on."""

    def apply(town: Town, service: str) -> Undo:
        del service
        machine = what(town)
        setattr(machine, switch, True)
        return lambda: setattr(machine, switch, False)

    return apply


def _mute(town: Town, service: str) -> Undo:
    """Somebody has switched UPnP off in the router's pages; what it holds stays."""
    del service
    router = town.igd["club-router"]
    router.mute = True
    router.listen()

    def undo() -> None:
        router.mute = False
        router.listen()

    return undo


FAULTS: dict[str, Fault] = {
    fault.name: fault
    for fault in (
        Fault(
            "forward-missing-outer",
            "rule-missing-outer",
            "the provider's box has no rule for it",
            _missing("fibre-box"),
        ),
        Fault(
            "forward-missing-inner",
            "rule-missing-inner",
            "the club's router has no rule for it",
            _missing("club-router"),
        ),
        Fault("forward-wrong-host", "rule-wrong-host", "the club's router sends it to another device", _wrong_host),
        Fault(
            "forward-wrong-port",
            "rule-wrong-port",
            "the club's router sends it to another port of the device",
            _changed_rule("target_ports", lambda rule: (rule.target_ports[0] + 1, rule.target_ports[1] + 1)),
        ),
        Fault(
            "forward-off",
            "rule-off",
            "the club's router has its rule switched off",
            _changed_rule("enabled", lambda rule: False),
        ),
        Fault(
            "forward-limited",
            "rule-limited",
            "the club's router keeps its rule to one source",
            _changed_rule("sources", lambda rule: (IPv4Network("192.0.2.99/32"),)),
        ),
        Fault("host-moved", "host-moved", "the device has taken another address", _moved),
        Fault("service-stopped", "service-stopped", "the program on the device has stopped", _stopped),
        Fault("provider-blocks-port", "port-blocked", "the provider drops what comes in there", _blocked),
        Fault("carrier-nat", "carrier-nat", "the provider puts a NAT of its own before the line", _carrier_nat),
        Fault("host-off", "host-off", "the device is unplugged", _off),
        Fault(
            "host-filters-strangers",
            "host-filters-strangers",
            "the device's own firewall answers its own network only",
            _of_host("hears", "lan"),
        ),
        Fault(
            "host-filters-all",
            "host-filters-all",
            "the device's own firewall drops what comes in",
            _of_host("hears", "nobody"),
        ),
        Fault(
            "host-without-way-out",
            "host-without-way-out",
            "the device has no gateway, or a wrong one",
            _of_host("way_out", False),
        ),
        Fault("line-down", "line-down", "the provider's line has no address", _line_down),
        Fault(
            "inner-wan-moved",
            "inner-wan-moved",
            "the club's router has taken another address on the provider's box",
            _inner_wan_moved,
        ),
        Fault(
            "false-wan",
            "",
            "the club's router tells a public address that it does not have",
            _false_wan,
            look=f"{deeds.SURVEY}",
        ),
        Fault("name-stale", "name-stale", "the name still has last week's address", _name_stale),
        Fault(
            "zone-down",
            "name-stale",
            "the zone's own server is down, and resolvers still have last week's address",
            _zone_down,
            look=f"{deeds.NAMES}",
        ),
        Fault(
            "router-strict",
            "router-strict",
            "the club's router opens ports only for the device that asks",
            _switch(lambda town: town.igd["club-router"], "strict"),
            look=f"{deeds.OPEN}",
        ),
        Fault(
            "router-mute",
            "router-mute",
            "the club's router speaks no protocol any more",
            _mute,
            look=f"{deeds.TABLES}",
        ),
        Fault(
            "certificate-expired", "certificate-expired", "the device's certificate has expired", _shows(_ended), HUB
        ),
        Fault(
            "certificate-other-name",
            "certificate-other-name",
            "the device's certificate is for another name",
            _shows(_other),
            HUB,
        ),
        Fault(
            "certificate-own",
            "certificate-absent",
            "the device was reset and shows a certificate of its own making",
            _shows(_own),
            HUB,
        ),
        Fault(
            "provider-busy",
            "updater-busy",
            "the name provider asks to wait",
            _switch(lambda town: town.provider, "busy"),
            look=f"{deeds.BREAK('name-stale')}; {deeds.PUBLISH}",
        ),
        Fault(
            "provider-refuses",
            "updater-refused",
            "the name provider has closed the account",
            _switch(lambda town: town.provider, "closed"),
            look=f"{deeds.BREAK('name-stale')}; {deeds.PUBLISH}",
        ),
        Fault(
            "ca-refuses",
            "ca-refused",
            "the certificate authority takes no order",
            _switch(lambda town: town.acme, "refuses"),
            look=f"{deeds.ORDER_ANEW}",
        ),
        *TUNNEL_FAULTS,
    )
}


class Breakages:
    """The faults that are active, each with the service it was applied to and the way back."""

    def __init__(self, town: Town) -> None:
        self.town = town
        self.active: dict[str, tuple[str, Undo]] = {}

    def break_(self, name: str, service: str | None) -> str:
        """Apply a fault; returns the service. Raises: UsageError, NothingToBreak."""
        chosen((name,), FAULTS, "fault")
        (hit,) = chosen((service or FAULTS[name].usual,), SERVICES, "service")
        if name in self.active:
            raise UsageError(
                f"{name} is active already, for {self.active[name][0]}", remedy=f"Mend it: `{deeds.MEND(name)}`."
            )
        self.active[name] = (hit, FAULTS[name].apply(self.town, hit))
        return hit

    def mend(self, name: str | None) -> list[str]:
        """Take a fault back, or all of them; returns their names. Raises: UsageError: it is not active."""
        chosen((name,) if name is not None else (), FAULTS, "fault")
        if name is not None and name not in self.active:
            raise UsageError(f"{name} is not active", remedy=f"`{deeds.FAULTS}` lists those that are.")
        names = [name] if name is not None else list(reversed(self.active))
        for fault in names:
            self.active.pop(fault)[1]()
        return names
