"""The faults that the town can have. Each has exactly one cause, by the code that a diagnosis must come to."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface

from hooper import deeds
from hooper.chosen import chosen
from hooper.errors import UsageError
from hooper.lab.boathouse import CLUB, GUEST, INTERNET, NAME, PHONE, SERVICES, SHARED
from hooper.lab.certificate_faults import CERTIFICATE_FAULTS
from hooper.lab.fault import Fault, NothingToBreak, Undo
from hooper.lab.name_faults import NAME_FAULTS
from hooper.lab.rule_faults import RULE_FAULTS, copy_of, opening_for, provider_answers
from hooper.lab.things import Attachment, Box
from hooper.lab.town import Town
from hooper.lab.tunnel_faults import TUNNEL_FAULTS


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


def _address_taken(town: Town, service: str) -> Undo:
    """Another device of its make has its address too, and answers first."""
    node = town.nodes[SERVICES[service][0]]
    twin = copy_of(town, node, node.address)
    town.nodes = {twin.key: twin, **town.nodes}

    def undo() -> None:
        del town.nodes[twin.key]

    return undo


def _six_moved(town: Town, service: str) -> Undo:
    """The prefix is the same, and the device makes itself a new address each day."""
    attachment = town.nodes[SERVICES[service][0]].attachments[0]
    old = attachment.address6
    assert old is not None
    attachment.address6 = old + 0x4000

    def undo() -> None:
        attachment.address6 = old

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


def _isolated(town: Town, service: str) -> Undo:
    """The device has found the Wi-Fi for guests, which the router keeps apart."""
    attachment = town.nodes[SERVICES[service][0]].attachments[0]
    old = attachment.segment, attachment.address
    town.leave(attachment)
    network = town.segments[GUEST].network_address
    attachment.segment, attachment.address = GUEST, IPv4Address(int(network) + int(old[1]) % 256)

    def undo() -> None:
        attachment.segment, attachment.address = old
        town.gone.pop(old[1], None)

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


def _outer_wan_moved(town: Town, service: str) -> Undo:
    """The provider gives the line another address over night, and nobody keeps the name up."""
    del service
    box, old, new = town.boxes["fibre-box"], town.boxes["fibre-box"].wan, IPv4Address("203.0.113.61")
    box.wan = new

    def undo() -> None:
        if box.wan == new:
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


def _of_program(table: str) -> Callable[[Town, str], Undo]:
    """The program of the service, in one of the machine's tables of ports."""

    def apply(town: Town, service: str) -> Undo:
        host, transport, port, _ = SERVICES[service]
        ports: set[tuple[str, int]] = getattr(town.nodes[host], table)
        ports.add((transport, port))
        return lambda: ports.discard((transport, port))

    return apply


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


def _tether(town: Town) -> Attachment:
    """The laptop's interface that leads over the phone."""
    return next(one for one in town.nodes["here"].attachments if one.name == "usb0")


def _led_by(town: Town, box: Box, *, tunnel: bool) -> Undo:
    """What goes out over the phone goes by another NAT than the carrier's."""
    usb = _tether(town)
    old = usb.segment, usb.address, usb.gateway, usb.tunnel
    town.boxes[box.key] = box
    town.segments[box.inner] = box.lan.network
    usb.segment, usb.address, usb.gateway, usb.tunnel = box.inner, box.lan.ip + 1, box.lan.ip, tunnel

    def undo() -> None:
        del town.boxes[box.key], town.segments[box.inner]
        usb.segment, usb.address, usb.gateway, usb.tunnel = old

    return undo


def _at_home(town: Town, service: str) -> Undo:
    """The phone has joined the Wi-Fi, and hands the laptop's packets back into the house."""
    del service
    lan = IPv4Interface("192.168.42.129/24")
    return _led_by(town, Box("phone", CLUB, PHONE["home"][2], "tether", lan, is_router=False), tunnel=False)


def _in_vpn(town: Town, service: str) -> Undo:
    """A VPN that lets out what browsers need."""
    del service
    allowed = frozenset({("udp", 53), ("udp", 3478), ("tcp", 80)})
    lan = IPv4Interface("100.80.2.1/24")
    exit_ = Box("vpn", INTERNET, IPv4Address("198.51.100.201"), "vpn", lan, is_router=False, lets_out=allowed)
    return _led_by(town, exit_, tunnel=True)


def _own_tunnel(town: Town, service: str) -> Undo:
    """This computer has a VPN whose far network is that of the club."""
    del service
    here = town.nodes["here"]
    town.segments["far"] = town.segments[CLUB]
    vpn = Attachment("tun1", "far", IPv4Address("10.44.7.253"), "", None, 1, tunnel=True)
    here.attachments.append(vpn)

    def undo() -> None:
        here.attachments.remove(vpn)
        del town.segments["far"]

    return undo


def _own_line(town: Town, service: str) -> Undo:
    """Somebody has brought a router of his own, and this computer has taken it for its gateway."""
    del service
    lan = next(one for one in town.nodes["here"].attachments if one.segment == CLUB)
    old, lan.gateway = lan.gateway, IPv4Address("10.44.7.99")

    def undo() -> None:
        lan.gateway = old

    return undo


def _narrow(town: Town, service: str) -> Undo:
    """A way to the outside that takes small packets, and an ICMP that is dropped."""
    del service
    town.widest = 500

    def undo() -> None:
        town.widest = None

    return undo


def _forgets(town: Town, service: str) -> Undo:
    """The router was started anew: what programs had entered is gone, and what was typed on its page is not."""
    del service
    rules, entered = (
        town.boxes["club-router"].rules,
        [one for one in town.boxes["club-router"].rules if one.owner != "page"],
    )
    if not entered:
        raise NothingToBreak(
            "no program has entered a rule at club-router", remedy=f"`{deeds.OPEN}` enters them first."
        )
    for one in entered:
        rules.remove(one)
    return lambda: rules.extend(one for one in entered if one not in rules)


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
        *RULE_FAULTS,
        Fault("host-moved", _moved, touches="the device's address"),
        Fault("address-taken", _address_taken, touches="the device's address"),
        Fault("host-off", _off),
        Fault("host-isolated", _isolated, touches="the device's address"),
        Fault("host-filters-strangers", _of_host("hears", "lan"), touches="the device's firewall"),
        Fault("host-filters-all", _of_host("hears", "nobody"), touches="the device's firewall"),
        Fault("host-without-way-out", _of_host("way_out", False), touches="the device's way out"),
        Fault("host-wrong-mask", _of_host("way_out", False), touches="the device's way out"),
        Fault("service-stopped", _of_program("stopped")),
        Fault("service-loopback", _of_program("loopback_only")),
        Fault("service-four-only", _of_program("four_only"), needs_six=True),
        Fault("host-six-moved", _six_moved, needs_six=True),
        Fault("provider-blocks-port", _blocked),
        Fault("provider-answers", provider_answers, usual="hub-page"),
        Fault("carrier-nat", _carrier_nat, touches="the line"),
        Fault("line-down", _line_down, touches="the line"),
        Fault("outer-wan-moved", _outer_wan_moved, touches="the line"),
        Fault("inner-wan-moved", _inner_wan_moved),
        Fault("false-wan", _false_wan, look=f"{deeds.SURVEY}"),
        *NAME_FAULTS,
        *CERTIFICATE_FAULTS,
        Fault("packets-too-large", _narrow, touches="the line"),
        Fault("own-tunnel", _own_tunnel, touches="this computer"),
        Fault("own-line", _own_line, touches="this computer"),
        Fault("router-forgets", _forgets, look=f"{deeds.TABLES}"),
        Fault("phone-at-home", _at_home, touches="the phone"),
        Fault("phone-in-vpn", _in_vpn, touches="the phone"),
        Fault("router-strict", _switch(lambda town: town.igd["club-router"], "strict"), look=f"{deeds.OPEN}"),
        Fault("router-mute", _mute, look=f"{deeds.TABLES}"),
        Fault(
            "provider-busy",
            _switch(lambda town: town.provider, "busy"),
            look=f"{deeds.BREAK('name-stale')}; {deeds.PUBLISH}",
        ),
        Fault(
            "provider-refuses",
            _switch(lambda town: town.provider, "closed"),
            look=f"{deeds.BREAK('name-stale')}; {deeds.PUBLISH}",
        ),
        Fault("ca-refuses", _switch(lambda town: town.acme, "refuses"), look=f"{deeds.ORDER_ANEW}"),
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
        touched = FAULTS[name].touches
        rival = next((one for one in self.active if touched and FAULTS[one].touches == touched), None)
        if rival is not None:
            raise UsageError(
                f"{rival} has broken {touched} already, so that {name} cannot",
                remedy=f"Mend that first: `{deeds.MEND(rival)}`.",
            )
        if FAULTS[name].needs_six:
            opening_for(self.town, hit)
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
