"""The faults that the town can have. Each has exactly one cause, by the code that a diagnosis must come to."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Interface
from typing import Any

from hooper import deeds
from hooper.chosen import chosen
from hooper.errors import UsageError
from hooper.lab.boathouse import CLUB, GUEST, INTERNET, NAME, PHONE, SERVICES, SHARED
from hooper.lab.certificate_faults import CERTIFICATE_FAULTS
from hooper.lab.fault import Apply, Fault, NothingToBreak, Undo, both, changed, placed, setting
from hooper.lab.name_faults import NAME_FAULTS, recorded
from hooper.lab.rule_faults import RULE_FAULTS, copy_of, opening_for, provider_answers
from hooper.lab.things import Attachment, Box, Machine
from hooper.lab.town import Town
from hooper.lab.tunnel_faults import TUNNEL_FAULTS


def _device(town: Town, service: str) -> Machine:
    return town.nodes[SERVICES[service][0]]


def _left(town: Town, attachment: Attachment, **values: Any) -> Undo:
    """A device is not at its address any more. Machines go on sending to it for a while."""
    old = attachment.address
    town.leave(attachment)
    return both(lambda: town.gone.pop(old, None), changed(attachment, **values))


def _moved(town: Town, service: str) -> Undo:
    """The device took another address, out of the pool."""
    taken = {a.address for node in town.nodes.values() for a in node.attachments}
    network = town.segments[CLUB].network_address
    free = next(a for n in range(132, 200) if (a := IPv4Address(int(network) + n)) not in taken)
    return _left(town, _device(town, service).attachments[0], address=free)


def _address_taken(town: Town, service: str) -> Undo:
    """Another device of its make has its address too, and answers first."""
    node = _device(town, service)
    twin = copy_of(town, node, node.address)
    town.nodes = {twin.key: twin, **town.nodes}
    return lambda: town.nodes.pop(twin.key)


def _six_moved(town: Town, service: str) -> Undo:
    """The prefix is the same, and the device makes itself a new address each day."""
    attachment = _device(town, service).attachments[0]
    assert attachment.address6 is not None
    return changed(attachment, address6=attachment.address6 + 0x4000)


def _off(town: Town, service: str) -> Undo:
    """Somebody has pulled the plug."""
    node = _device(town, service)
    return both(changed(node, off=True), _left(town, node.attachments[0]))


def _isolated(town: Town, service: str) -> Undo:
    """The device has found the Wi-Fi for guests, which the router keeps apart."""
    attachment = _device(town, service).attachments[0]
    there = IPv4Address(int(town.segments[GUEST].network_address) + int(attachment.address) % 256)
    return _left(town, attachment, segment=GUEST, address=there)


def _line(town: Town, service: str) -> Box:
    return town.boxes["fibre-box"]


def _false_wan(town: Town, service: str) -> Undo:
    """The club's router was told to say that it has the line's public address, though it stands behind another NAT."""
    return changed(town.boxes["club-router"], claims=town.boxes["fibre-box"].wan)


def _of_program(table: str) -> Apply:
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
    box, old, outside = town.boxes["fibre-box"], town.boxes["fibre-box"].wan, IPv4Address("203.0.113.5")
    carrier = Box("provider-nat", INTERNET, outside, SHARED, IPv4Interface("100.64.44.1/24"), is_router=False)
    ways = [placed(town.boxes, carrier.key, carrier), changed(box, outer=SHARED, wan=IPv4Address("100.64.44.9"))]
    if town.zone.address(NAME) == old:
        ways.append(recorded(town, "A", [str(outside)]))
    return both(*ways)


def _led_by(town: Town, box: Box, *, tunnel: bool) -> Undo:
    """What goes out over the phone, by the laptop's cable to it, goes by another NAT than the carrier's."""
    usb = next(one for one in town.nodes["here"].attachments if one.name == "usb0")
    return both(
        placed(town.boxes, box.key, box),
        placed(town.segments, box.inner, box.lan.network),
        changed(usb, segment=box.inner, address=box.lan.ip + 1, gateway=box.lan.ip, tunnel=tunnel),
    )


def _at_home(town: Town, service: str) -> Undo:
    """The phone has joined the Wi-Fi, and hands the laptop's packets back into the house."""
    lan = IPv4Interface("192.168.42.129/24")
    return _led_by(town, Box("phone", CLUB, PHONE["home"][2], "tether", lan, is_router=False), tunnel=False)


def _in_vpn(town: Town, service: str) -> Undo:
    """A VPN that lets out what browsers need."""
    allowed = frozenset({("udp", 53), ("udp", 3478), ("tcp", 80)})
    lan = IPv4Interface("100.80.2.1/24")
    exit_ = Box("vpn", INTERNET, IPv4Address("198.51.100.201"), "vpn", lan, is_router=False, lets_out=allowed)
    return _led_by(town, exit_, tunnel=True)


def _own_tunnel(town: Town, service: str) -> Undo:
    """This computer has a VPN whose far network is that of the club."""
    here = town.nodes["here"]
    vpn = Attachment("tun1", "far", IPv4Address("10.44.7.253"), "", None, 1, tunnel=True)
    here.attachments.append(vpn)
    return both(placed(town.segments, "far", town.segments[CLUB]), lambda: here.attachments.remove(vpn))


def _own_line(town: Town, service: str) -> Attachment:
    """Somebody has brought a router of his own, and this computer has taken it for its gateway."""
    return next(one for one in town.nodes["here"].attachments if one.segment == CLUB)


def _forgets(town: Town, service: str) -> Undo:
    """The router was started anew: what programs had entered is gone, and what was typed on its page is not."""
    rules = town.boxes["club-router"].rules
    entered = [one for one in rules if one.owner != "page"]
    if not entered:
        raise NothingToBreak(
            "no program has entered a rule at club-router", remedy=f"`{deeds.OPEN}` enters them first."
        )
    for one in entered:
        rules.remove(one)
    return lambda: rules.extend(one for one in entered if one not in rules)


def _mute(town: Town, service: str) -> Undo:
    """Somebody has switched UPnP off in the router's pages; what it holds stays."""
    router = town.igd["club-router"]
    way = changed(router, mute=True)
    router.listen()
    return both(router.listen, way)


FAULTS: dict[str, Fault] = {
    fault.name: fault
    for fault in (
        *RULE_FAULTS,
        Fault("host-moved", _moved, touches="the device's address"),
        Fault("address-taken", _address_taken, touches="the device's address"),
        Fault("host-off", _off),
        Fault("host-isolated", _isolated, touches="the device's address"),
        Fault("host-filters-strangers", setting(_device, hears="lan"), touches="the device's firewall"),
        Fault("host-filters-all", setting(_device, hears="nobody"), touches="the device's firewall"),
        Fault("host-without-way-out", setting(_device, way_out=False), touches="the device's way out"),
        Fault("host-wrong-mask", setting(_device, way_out=False), touches="the device's way out"),
        Fault("service-stopped", _of_program("stopped")),
        Fault("service-loopback", _of_program("loopback_only")),
        Fault("service-four-only", _of_program("four_only"), needs_six=True),
        Fault("host-six-moved", _six_moved, needs_six=True),
        Fault("provider-blocks-port", _blocked),
        Fault("provider-answers", provider_answers, usual="hub-page"),
        Fault("carrier-nat", _carrier_nat, touches="the line"),
        # A while later the line comes back with the same address.
        Fault("line-down", setting(_line, wan=IPv4Address(0)), touches="the line"),
        # The provider gives the line another address over night, and nobody keeps the name up.
        Fault("outer-wan-moved", setting(_line, wan=IPv4Address("203.0.113.61")), touches="the line"),
        # The provider's box gives the club's router another address than its rules lead to.
        Fault("inner-wan-moved", setting(lambda town, _: town.boxes["club-router"], wan=IPv4Address("192.168.90.77"))),
        Fault("false-wan", _false_wan, look=f"{deeds.SURVEY}"),
        *NAME_FAULTS,
        *CERTIFICATE_FAULTS,
        # A way to the outside that takes small packets, and an ICMP that is dropped.
        Fault("packets-too-large", setting(lambda town, _: town, widest=500), touches="the line"),
        Fault("own-tunnel", _own_tunnel, touches="this computer"),
        Fault("own-line", setting(_own_line, gateway=IPv4Address("10.44.7.99")), touches="this computer"),
        Fault("router-forgets", _forgets, look=f"{deeds.TABLES}"),
        Fault("phone-at-home", _at_home, touches="the phone"),
        Fault("phone-in-vpn", _in_vpn, touches="the phone"),
        Fault("router-strict", setting(lambda town, _: town.igd["club-router"], strict=True), look=f"{deeds.OPEN}"),
        Fault("router-mute", _mute, look=f"{deeds.TABLES}"),
        Fault(
            "provider-busy",
            setting(lambda town, _: town.provider, busy=True),
            look=f"{deeds.BREAK('name-stale')}; {deeds.PUBLISH}",
        ),
        Fault(
            "provider-refuses",
            setting(lambda town, _: town.provider, closed=True),
            look=f"{deeds.BREAK('name-stale')}; {deeds.PUBLISH}",
        ),
        Fault("ca-refuses", setting(lambda town, _: town.acme, refuses=True), look=f"{deeds.ORDER_ANEW}"),
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
