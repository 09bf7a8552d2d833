"""The letter to the provider, for a box that the user may not change. Pure."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.planning.documents import Letter, Sheet
from hooper.planning.paths import CANNOT_FORWARD
from hooper.planning.values import EVERYTHING, Forward
from hooper.ports import ports_text

if TYPE_CHECKING:
    from hooper.site.model import Site


SHARED: dict[str | None, str] = {
    "carrier-nat": "it is behind your carrier-grade NAT",
    "shared-ports": "it shares its IPv4 address with other customers",
    "no-ipv4": "it has no IPv4 address at all",
}


def letters(site: Site, sheets: tuple[Sheet, ...]) -> tuple[Letter, ...]:
    """One for each gateway that the provider manages, and one for each line that has no address to itself."""
    out = []
    for sheet in sheets:
        if site.gateways[sheet.gateway].managed_by == "provider":
            out.append(Letter(sheet.gateway, _subject(site), _paragraphs(site, sheet), sheet.rules))
    asked = [key for key, line in site.lines.items() if line.situation in CANNOT_FORWARD]
    return (*out, *(address_letter(site, line) for line in asked))


def address_letter(site: Site, line: str) -> Letter:
    """The letter that asks for an address that the line has to itself, whoever manages the boxes."""
    outermost = next((key for key, gateway in site.gateways.items() if line in gateway.line), line)
    title = site.site.title or "our connection"
    shared = SHARED.get(site.lines[line].situation, "we cannot tell whether its IPv4 address is ours alone")
    paragraphs = (
        "Dear Sir or Madam,",
        f"we would like to reach devices at our site from outside, and as far as we can measure it, {shared}: nothing"
        " that we set on our routers can be reached. Would you please give the line one of these:",
        "1. a public IPv4 address of its own, dynamic or fixed, without carrier NAT;",
        "2. or else a range of ports on the shared address that is handed to our router (port control, RFC 6887);",
        "3. and in any case an IPv6 prefix of /56 or /60, if the line does not have one yet.",
        "Please tell us also what each costs, whether the address changes, and whether you block any ports inbound.",
        "With kind regards",
    )
    return Letter(outermost, f"A public address for our line: {title}", paragraphs, ())


def _subject(site: Site) -> str:
    title = site.site.title or "our connection"
    return f"Port forwarding on the router that you manage: {title}"


def _paragraphs(site: Site, sheet: Sheet) -> tuple[str, ...]:
    inner = [key for key, gateway in site.gateways.items() if sheet.gateway in gateway.behind]
    network = site.gateways[sheet.gateway].lan.network
    out = [
        "Dear Sir or Madam,",
        f"at our site your router (its LAN is {network}) leads to the internet, and we have no access to its"
        " settings, or its pages have no such rules. Would you please enter the following there, or give us access:",
        *(_sentence(number, rule) for number, rule in enumerate(sheet.rules, 1)),
    ]
    for key in inner:
        wan = site.gateways[key].wan_behind(sheet.gateway)
        out.append(
            f"{wan} is our own router, {key}. Please make sure that it keeps this address (a reservation, or outside"
            " of the range that your router hands out)."
        )
        out.append(
            f"If single rules are not possible, one of these would serve us as well: handing everything that arrives"
            f" to {wan} (exposed host, DMZ), or bridge mode on your router, so that our router gets the public"
            " address itself."
        )
    asked = ["Please tell us also: Is our IPv4 address a public one, or shared with other customers (carrier NAT)?"]
    asked.append("Does it change? Do you block any ports inbound?")
    out += [" ".join(asked), "With kind regards"]
    return tuple(out)


def _sentence(number: int, rule: Forward) -> str:
    who = f", only from {', '.join(rule.sources)}" if rule.sources else ""
    if rule.service == EVERYTHING:
        return f"{number}. Everything that arrives and that no other rule takes, to {rule.target_address}."
    if rule.outside_ports is None:
        return f"{number}. The IP protocol {rule.transport} to {rule.target_address}{who}."
    transport = {"both": "TCP and UDP"}.get(rule.transport, rule.transport.upper())
    if rule.kind == "pinhole":
        opened = f"let {transport} port {ports_text(rule.outside_ports)} in to {rule.target_address}"
        return f"{number}. IPv6 firewall: {opened}{who}."
    ports = f"{transport} port {ports_text(rule.outside_ports)}"
    return f"{number}. {ports} to {rule.target_address}, port {ports_text(rule.target_ports)}{who}."
