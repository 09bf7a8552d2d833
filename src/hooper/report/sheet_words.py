"""The sentences of the sheets, the same in the terminal, in Markdown and on the printed page. Pure."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.documents import DeviceSheet, OwnService, Sheet, SheetChange
from hooper.planning.values import EVERYTHING, Forward
from hooper.planning.worksheet import labels
from hooper.ports import ports_text
from hooper.site.protocols import SPEECHES

if TYPE_CHECKING:
    from hooper.site.model import Site

WORDS = (
    ("outside port", "also called WAN, external, public, service or start port"),
    ("inside address", "also LAN, internal, private or server address; some pages show a list of devices instead"),
    ("inside port", "also LAN, internal, private or destination port"),
    ("only from", "also source, remote or allowed address; for `anyone` leave the field as it is"),
)
PAGES = "port forwarding, port sharing, virtual servers, NAT rules or applications"
PROOF = (
    "On each router: save or apply, then look at its list once more: every rule is there and switched on.",
    "Prove it from outside. A test from the same network proves nothing. Join this computer to a phone's mobile data"
    f" by cable and run `{deeds.LOOK_FROM_PHONE}`.",
)
RESERVE = "On the page for DHCP, LAN or network, reserve these addresses:"
LABEL_MAC = "see the device's label"


def routes(*, removing: bool) -> str:
    """The step for a router's static routes."""
    return f"On the page for static routes or routing, {'delete' if removing else 'enter'}:"


def login(sheet: Sheet, site: Site) -> str:
    """The first step at a router."""
    return f"Open http://{site.gateways[sheet.gateway].lan.ip}/ in a browser and log in."


def enter(sheet: Sheet, *, removing: bool = False) -> str:
    """The sentence above a router's rules."""
    many = "this rule" if len(forwards(sheet)) == 1 else "these rules"
    return f"Find the page for {PAGES}, and {'take away' if removing else 'enter'} {many}:"


def forwards(sheet: Sheet) -> list[Forward]:
    """The rules of a sheet that stand in its table of forwards."""
    return [rule for rule in sheet.rules if rule.kind == "forward" and rule.service != EVERYTHING]


def pinholes(sheet: Sheet) -> list[Forward]:
    """The openings for IPv6."""
    return [rule for rule in sheet.rules if rule.kind == "pinhole"]


def openings(*, removing: bool = False) -> str:
    """The sentence above the openings for IPv6."""
    page = "On the page for the IPv6 firewall (also pinholes, IPv6 port sharing)"
    return f"{page}, take away what lets in:" if removing else f"{page}, let in:"


def steps(sheet: Sheet, *, removing: bool = False) -> list[str]:
    """What is no row of a table: the gateway's own services, and the entry that hands everything on."""
    if removing:
        own = [f"Switch {one.service} off on this router itself ({_let_in(one)})." for one in sheet.own]
        return own + [
            "Find the page for DMZ host, exposed host or default server, and switch it off: nothing is handed to"
            f" {rule.target_address} any more. Where the router was made a bridge, make it a router again."
            for rule in sheet.rules
            if rule.service == EVERYTHING
        ]
    own = [
        f"Here runs {one.service} itself ({SPEECHES[one.speaks].title}): switch it on, and let {_let_in(one)} in"
        f" from {', '.join(one.sources) or 'outside'}. It is no port forward."
        for one in sheet.own
    ]
    return own + [
        f"Find the page for DMZ host, exposed host or default server, and hand everything to {rule.target_address}."
        " Where the router can be a bridge (also PPPoE passthrough), that is as good: then the inner router logs in."
        for rule in sheet.rules
        if rule.service == EVERYTHING
    ]


def _let_in(one: OwnService) -> str:
    return f"{transport(one.transport)} {ports_text(one.ports)}" if one.ports else transport(one.transport)


def columns(sheet: Sheet, site: Site, rules: list[Forward]) -> tuple[str, ...]:
    """The columns of a router's table, cut to what its page has."""
    form, out = site.gateways[sheet.gateway].form, ["label"]
    if form.source_zone:
        out.append("from zone")
    if form.outside_interface:
        out.append("interface")
    out += ["transport", "outside port", "inside address", "inside port"]
    if len({rule.outside_address for rule in rules}) > 1:
        out.insert(out.index("outside port"), "outside address")
    if any(rule.sources for rule in rules):
        out.append("only from")
    return tuple(out)


def rows(sheet: Sheet, site: Site, rules: list[Forward]) -> Iterable[tuple[str, ...]]:
    """One row a rule, in those columns."""
    form, wanted = site.gateways[sheet.gateway].form, columns(sheet, site, rules)
    letters = form.label_letters == "any"
    for rule, label in zip(rules, labels(rules, form.label_length, dashes=letters), strict=True):
        inside = ports_text(rule.target_ports)
        if form.blank_inside_port and rule.target_ports and rule.target_ports == rule.outside_ports:
            inside = "leave blank"
        cells = {
            "label": label,
            "from zone": form.source_zone or "",
            "interface": form.outside_interface or "",
            "transport": transport(rule.transport),
            "outside address": rule.outside_address or "the line's own",
            "outside port": ports_text(rule.outside_ports),
            "inside address": rule.target_address,
            "inside port": inside,
            "only from": ", ".join(rule.sources) or "anyone",
        }
        yield tuple(cells[name] for name in wanted)


def transport(word: str) -> str:
    """As the pages write it."""
    return {"tcp": "TCP", "udp": "UDP", "both": "TCP+UDP"}.get(word, f"protocol {word}")


def pinhole_rows(rules: list[Forward]) -> Iterable[tuple[str, ...]]:
    """Label, transport, port, address, sources."""
    for rule in rules:
        who = ", ".join(rule.sources) or "anyone"
        yield rule.service, transport(rule.transport), ports_text(rule.outside_ports), rule.target_address, who


PINHOLE_COLUMNS = ("label", "transport", "port", "IPv6 address", "only from")


def meanings(sheets: Iterable[Sheet]) -> list[tuple[str, str]]:
    """The columns and what the pages call them, as far as the sheets have them."""
    limited = any(rule.sources for sheet in sheets for rule in sheet.rules)
    return [(word, meaning) for word, meaning in WORDS if word != "only from" or limited]


def device_title(sheet: DeviceSheet) -> str:
    return f"{sheet.device}, its outer side (WAN)" if sheet.outer_side else sheet.device


def device_page(sheet: DeviceSheet) -> str:
    """Where on the device."""
    if sheet.outer_side:
        return "On its page for internet, WAN or connection, choose a fixed (static) address and enter:"
    return "On its page for network, LAN, Ethernet or IPv4, enter:"


def device_rows(sheet: DeviceSheet) -> list[tuple[str, str]]:
    """What its network page asks for."""
    dns = list(sheet.dns)
    return [
        ("method", sheet.method),
        ("address", sheet.address),
        ("mask", f"{sheet.mask} (prefix length {sheet.prefix_length})"),
        ("gateway", f"{sheet.gateway} (also router or default route)"),
        ("first DNS server", dns[0]),
        ("second DNS server", dns[1] if len(dns) > 1 else "leave empty, or the same"),
    ]


SERVICE_COLUMNS = ("service", "port on the device", "base URL to enter")


def reservation_rows(sheet: Sheet) -> list[tuple[str, str, str]]:
    """Host, address and MAC."""
    return [(one.host, one.address, one.mac or LABEL_MAC) for one in sheet.reservations]


def route_rows(sheet: Sheet) -> list[tuple[str, str]]:
    """Network, and by which address."""
    return [(one.prefix, one.via) for one in sheet.routes]


def device_services(sheet: DeviceSheet) -> list[tuple[str, str, str]]:
    """Service, port, and what to enter as its own address."""
    out = []
    for service in sheet.services:
        port = (
            f"{transport(service.transport)} {ports_text(service.ports)}"
            if service.ports
            else transport(service.transport)
        )
        out.append((f"{service.service} ({service.speaks})", port, service.base_url or "-"))
    return out


def changed(change: SheetChange) -> str:
    """One difference as a step."""
    rule, was = change.rule, change.was
    if change.change == "alter" and was is not None:
        return f"{_said(rule)}: change to {_leads(rule)}; it was {_leads(was)}"
    word = "enter" if change.change == "enter" else "take away"
    return f"{word} {_said(rule)} to {_leads(rule)}"


def _said(rule: Forward) -> str:
    what = "everything else" if rule.service == EVERYTHING else rule.service
    return f"{what}: {transport(rule.transport)} {ports_text(rule.outside_ports)}"


def _leads(rule: Forward) -> str:
    who = f", only from {', '.join(rule.sources)}" if rule.sources else ""
    return f"{rule.target_address} port {ports_text(rule.target_ports)}{who}"
