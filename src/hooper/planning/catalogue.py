"""The finding catalogue: each code with its group and severity, what it is, why it matters, and what to do.

`docs/findings.md` is generated from it: `python -m hooper.planning.catalogue FILE`.
"""

from __future__ import annotations

from typing import NamedTuple

from hooper.planning.values import Finding, Severity


class Entry(NamedTuple):
    """One kind of finding.

    what: in one clause. why: one sentence on what it does to the user. do: the remedy in general.
    acceptable: a person may take the risk. gate: rules are not entered while it stands.
    """

    code: str
    group: str
    severity: Severity
    what: str
    why: str
    do: str
    acceptable: bool = False
    gate: bool = False


GROUPS: dict[str, str] = {
    "line": "The connection to the internet",
    "address": "Addresses inside",
    "port": "Ports and rules",
    "router": "What a router can do",
    "name": "Names",
    "certificate": "Certificates",
    "exposure": "What should not be open",
    "readiness": "Before a device is exposed",
}


def _group(group: str, *rows: tuple[str, Severity, str, str, str]) -> list[Entry]:
    return [Entry(code, group, severity, what, why, do) for code, severity, what, why, do in rows]


def _risks(*rows: tuple[str, Severity, str, str, str], gate: bool = False) -> list[Entry]:
    return [
        Entry(code, "exposure", severity, what, why, do, acceptable=True, gate=gate)
        for code, severity, what, why, do in rows
    ]


_ALL: list[Entry] = [
    *_group(
        "line",
        (
            "line-not-public",
            "error",
            "a fixed address of the line is not a public one",
            "Nobody outside can send a packet to an address that is not public.",
            "Give the line's public address, or ask the provider for one.",
        ),
        (
            "line-behind-carrier",
            "error",
            "the provider shares one public address among many (carrier NAT)",
            "Packets from outside end at the provider's box.",
            "Take the first of the remaining ways: IPv6, a public address, a tunnel out to a rented machine.",
        ),
        (
            "line-shares-ports",
            "error",
            "the line has only some ports of a shared address",
            "The address belongs to many, and the provider decides on ports.",
            "Ask which ports are yours, or take another way.",
        ),
        (
            "line-without-ipv4",
            "error",
            "the line has no IPv4 address",
            "There is nothing that an IPv4 packet could be sent to.",
            "Use IPv6, or ask the provider for an IPv4 address.",
        ),
        (
            "line-behind-router",
            "warning",
            "another router stands before the outermost one",
            "Every box on the way needs the rule, planned for or not.",
            "Add that router to the site file, or have it bridge.",
        ),
        (
            "line-passed-over",
            "note",
            "a service goes by a later line, since the first cannot be forwarded to",
            "Whoever uses it comes by that line's address and speed.",
            "Write `line` at the service, so that it stays there.",
        ),
        (
            "resolver-unusable",
            "warning",
            "a DNS server that cannot work",
            "Without names no update, no certificate and no clock from the network works.",
            "Give the gateway's address or one of the provider's or another resolver.",
        ),
        (
            "resolver-silent",
            "warning",
            "a DNS server that does not answer",
            "What asks it first waits for seconds, or has no names at all.",
            "Give another one, or see why it does not answer.",
        ),
        (
            "resolver-differs",
            "warning",
            "this machine's DNS server says something else than the others",
            "A name that is right outside is wrong here, or the other way round.",
            "Wait for the TTL after a change; else use another resolver.",
        ),
        (
            "way-out-by-tunnel",
            "warning",
            "this machine goes out through a tunnel",
            "What it shows to the world is the tunnel's end, so a test from here is not one of the line.",
            "Switch the tunnel off while you test.",
        ),
        (
            "address-differs",
            "error",
            "the public address is another than what is written, or than what the router says",
            "People are sent to an address at which nothing of yours answers.",
            "Correct the site file, or what the router was told to say.",
        ),
        (
            "line-has-two-addresses",
            "warning",
            "machines outside see two public addresses",
            "Rules and names are for one of them, and packets may leave by the other.",
            "Find out which line comes in, and let the name lead to that one.",
        ),
        (
            "box-not-in-file",
            "warning",
            "a router on the way is not in the site file",
            "It needs its rules too, and nothing is planned for it.",
            "Add it to the site file.",
        ),
        (
            "gateway-not-on-the-way",
            "warning",
            "a gateway of the site file is not on the way",
            "Rules are planned for a box that no packet passes.",
            "Take it out of the site file, or correct what stands behind what.",
        ),
    ),
    *_group(
        "address",
        (
            "address-clash",
            "error",
            "two devices have one address",
            "Two devices with one address knock each other off the network.",
            "Give one of the two another address.",
        ),
        (
            "address-not-usable",
            "error",
            "the address is the network's own or its broadcast address",
            "No device can have it.",
            "Give the device another address.",
        ),
        (
            "address-in-pool",
            "warning",
            "an address set on the device lies in the DHCP pool",
            "The DHCP server can give this address to another device.",
            "Choose an address outside the pool, or reserve this one.",
        ),
        (
            "address-moves",
            "warning",
            "an address from the pool that nothing keeps",
            "After the next lease the rules point to another device or to none.",
            "Reserve it by the device's MAC address, or set one on the device.",
        ),
        (
            "pool-unknown",
            "note",
            "it is not known which addresses DHCP gives away",
            "An address set on a device may then be given to another one.",
            "Reserve the address, or give the pool.",
        ),
        (
            "pool-holds-gateway",
            "warning",
            "the pool contains the gateway's own address",
            "A device that gets the gateway's address cuts all others off.",
            "Have the pool start after it.",
        ),
        (
            "mac-missing",
            "warning",
            "a reservation without a MAC address",
            "A reservation is made for a MAC address.",
            "Add the MAC from the device's label or network page.",
        ),
        (
            "mac-clash",
            "error",
            "two devices have one MAC address",
            "A reservation can give its address to one device only.",
            "Correct one of the two.",
        ),
        (
            "mac-group",
            "error",
            "the MAC is a group address",
            "No device sends from a group address.",
            "Read the MAC again.",
        ),
        (
            "mac-private",
            "note",
            "a reservation for a MAC that the device made up",
            "Devices that make up their MAC change it, and the reservation is lost.",
            "Switch private addresses off for this network.",
        ),
        (
            "prefix-overlap",
            "error",
            "two networks that a packet passes overlap",
            "A gateway cannot tell on which side of it an address lies.",
            "Give one of them another prefix.",
        ),
        (
            "prefix-common",
            "note",
            "the LAN has a prefix that hotels and home routers use too",
            "A tunnel from such a place cannot tell both networks apart.",
            "Choose a rarer prefix while it is easy.",
        ),
        (
            "route-needed",
            "note",
            "the LAN needs a route back to a tunnel's network",
            "Answers to the tunnel's peers go out to the internet instead.",
            "Enter the route on the gateway.",
        ),
        (
            "address6-missing",
            "error",
            "a service for IPv6 alone, whose host has no IPv6 address",
            "There is nothing that an IPv6 packet could be sent to.",
            "Add the host's `address6`.",
        ),
        (
            "address6-not-public",
            "error",
            "the host's IPv6 address is not a public one",
            "Nobody outside can send a packet to it.",
            "Give the address that starts with the line's prefix.",
        ),
        (
            "address6-elsewhere",
            "error",
            "the host's IPv6 address lies in no prefix of its line or network",
            "Packets for it go to another line.",
            "Read the address again.",
        ),
        (
            "leading-zeros",
            "note",
            "an address is written with leading zeros",
            "Some programs read padded numbers as octal and reach another host.",
            "Write it without them.",
        ),
        (
            "documentation-address",
            "note",
            "an address from the blocks that are kept for examples",
            "Such addresses stand in examples and reach nothing.",
            "Put the real address.",
        ),
    ),
    *_group(
        "port",
        (
            "port-clash",
            "error",
            "two services want one outside port",
            "A gateway sends an outside port to one place only.",
            "Give one of them another outside port.",
        ),
        (
            "port-blocked",
            "error",
            "the provider blocks the outside port",
            "The provider drops what arrives there before the first box sees it.",
            "Choose another outside port.",
        ),
        (
            "port-kept",
            "error",
            "a gateway keeps the port for itself",
            "The gateway answers there itself, and no rule is asked.",
            "Choose another outside port.",
        ),
        (
            "no-port-left",
            "error",
            "no outside port is free",
            "A gateway has 65535 ports for each address.",
            "Remove services, or take a second public address.",
        ),
        (
            "cannot-translate",
            "error",
            "the outside port differs from the inside one, and no gateway can translate",
            "No box on the way can turn the outside port into the inside one.",
            "Make the device listen on the outside port.",
        ),
        (
            "port-chosen",
            "note",
            "the outside port was chosen, since the usual one is taken",
            "It can move when services are added, as long as it is not written down.",
            "Write it down: `hooper plan --pin`.",
        ),
        (
            "port-in-url",
            "note",
            "the port is part of the URL",
            "Without it the browser asks at another port; links that the server makes lack it too.",
            "Type it, and put it into the server's own base URL.",
        ),
        (
            "port-by-family",
            "note",
            "the port differs between IPv4 and IPv6",
            "Over IPv6 nothing translates, so the same name needs another port.",
            "Make the device listen on the outside port.",
        ),
        (
            "too-many-rules",
            "error",
            "a range needs too many rules on a page that takes single ports",
            "A page that takes single ports only would need a rule for each.",
            "Narrow the range on the device.",
        ),
        (
            "range-too-wide",
            "warning",
            "a very wide range of ports is open",
            "Every port is a door that somebody will try.",
            "Narrow the range on the device.",
        ),
        (
            "transport-wrong",
            "warning",
            "the rule is for the other transport than the protocol uses",
            "The packets arrive over the other transport and find no rule.",
            "Correct `transport`.",
        ),
        (
            "ports-missing",
            "warning",
            "the protocol needs further ports",
            "It connects, and then nothing comes.",
            "Add a service for them, on the same host.",
        ),
        (
            "inside-ipsec",
            "warning",
            "UDP 1701 travels inside IPsec and needs no rule",
            "A rule of its own lets people in who skip the encryption.",
            "Remove it, and forward UDP 500 and 4500.",
        ),
        (
            "protocol-not-passed",
            "error",
            "a gateway has no rules for this IP protocol",
            "A rule for TCP or UDP does not carry it.",
            "Use a service over TCP or UDP, or a gateway that can.",
        ),
        (
            "address-not-on-line",
            "error",
            "the service names a public address that its line does not have",
            "Packets for that address go elsewhere.",
            "Correct `outside_address`, or add it to the line.",
        ),
    ),
    *_group(
        "router",
        (
            "rules-over-limit",
            "error",
            "the gateway's table holds fewer rules than are needed",
            "The last rules cannot be entered.",
            "Join ports to ranges, hand everything inward, or use fewer services.",
        ),
        (
            "no-pinhole",
            "error",
            "a firewall on the way cannot be opened for IPv6",
            "IPv6 packets end there.",
            "Use IPv4 alone for it, or a gateway that can.",
        ),
        (
            "everything-impossible",
            "error",
            "`everything_to` is set, but the gateway's form cannot do it",
            "There is no such entry on its page.",
            "Remove it, or correct `form.everything`.",
        ),
        (
            "one-entry-instead",
            "note",
            "one entry could stand in place of all rules of the outer gateway",
            "Each rule that is entered twice can be wrong twice.",
            "Set `everything_to`.",
        ),
        (
            "no-reservations",
            "warning",
            "the gateway cannot reserve addresses",
            "The reservation has nowhere to stand.",
            "Set the address on the device, outside the pool.",
        ),
        (
            "no-hairpin",
            "warning",
            "the public name does not work from inside",
            "At home the same name or address ends at the router.",
            "Give the devices inside the hosts lines, or use the inner address there.",
        ),
    ),
    *_group(
        "name",
        (
            "name-behind",
            "warning",
            "the name leads to another address than the line's",
            "Whoever uses the name reaches another machine, or none.",
            "Have the name updated.",
        ),
        (
            "name-missing",
            "note",
            "the address is dynamic, and no name follows it",
            "When the address changes, nobody outside knows the new one.",
            "Add a name.",
        ),
        (
            "name-unkept",
            "warning",
            "a service's name is kept by nobody in this file",
            "When the address changes, the name stays behind.",
            "Add it to [names].",
        ),
        (
            "name-of-other-line",
            "warning",
            "a service's name belongs to another line",
            "The name leads to a line that has no rule for this service.",
            "Use a name of its line.",
        ),
    ),
    *_group(
        "certificate",
        (
            "certificate-other-name",
            "warning",
            "the certificate does not cover the name that people use",
            "Browsers and apps refuse it, or teach people to click warnings away.",
            "Add the name to the certificate.",
        ),
        (
            "validation-blocked",
            "warning",
            "a proof over port 80 is planned, and port 80 does not come in",
            "The authority cannot look, so there is no certificate.",
            "Use dns-01.",
        ),
        (
            "wildcard-needs-dns",
            "error",
            "a wildcard is to be proven over port 80",
            "A wildcard can be proven by DNS only (RFC 8555 section 8.4 and the authorities' rules).",
            "Use dns-01.",
        ),
    ),
    *_risks(
        (
            "desktop-open",
            "warning",
            "a desktop is reachable from outside",
            "Remote desktops are searched for and attacked all day.",
            "Put it behind a tunnel, or limit it by `sources`.",
        ),
        (
            "sharing-open",
            "warning",
            "file sharing is reachable from outside",
            "File sharing is made for a LAN, and worms look for it.",
            "Put it behind a tunnel, or limit it by `sources`.",
        ),
        (
            "clear-text-open",
            "warning",
            "a service without encryption is open to all",
            "Anyone on the way can read along, passwords too.",
            "Use the encrypted kind, or a tunnel.",
        ),
        gate=True,
    ),
    *_risks(
        (
            "lan-protocol-open",
            "warning",
            "a protocol made for trusted networks is reachable from outside",
            "It asks for no login, or is used to attack others.",
            "Put it behind a tunnel.",
        ),
        (
            "router-page-open",
            "warning",
            "a router's own page is reachable from outside",
            "Who owns the router owns everything behind it.",
            "Put it behind a tunnel.",
        ),
        (
            "unknown-protocol-open",
            "note",
            "a maker's own protocol is reachable from outside",
            "Nobody but its maker can say how safe it is.",
            "Put it behind a tunnel, or keep the firmware current.",
        ),
    ),
    *_group(
        "exposure",
        (
            "sources-not-kept",
            "error",
            "no gateway on the way can limit a rule to the allowed sources",
            "The service would be open to the whole world instead.",
            "Limit them on the device, or use a tunnel.",
        ),
        (
            "acceptance-ended",
            "warning",
            "a risk was accepted until a day that has passed",
            "Nobody has looked at it since.",
            "Remove the risk, or accept it until a new day.",
        ),
        (
            "acceptance-unused",
            "note",
            "a risk is accepted that is not there",
            "An acceptance without its risk hides one that comes later.",
            "Remove it, or correct its `finding`.",
        ),
    ),
    Entry(
        "default-password",
        "readiness",
        "warning",
        "nobody has said that the device's default password is changed",
        "Default passwords are public, and are tried within minutes.",
        "Change it, then tick it off: `hooper host tick`.",
        acceptable=True,
        gate=True,
    ),
    *_group(
        "readiness",
        (
            "no-second-factor",
            "note",
            "a login from anywhere without a second factor",
            "One lost password is then enough.",
            "Switch it on, if the device can.",
        ),
        (
            "no-tls",
            "warning",
            "the device's encryption is known to be off",
            "Passwords travel in clear text.",
            "Switch TLS on in the device's settings.",
        ),
        (
            "no-updates",
            "warning",
            "the device's firmware is known to be old",
            "Known holes are tried on every address of the internet.",
            "Update it, and have it look for updates by itself.",
        ),
        (
            "no-autostart",
            "note",
            "the device does not come up by itself after a power cut",
            "It is gone just when nobody is there.",
            "Switch it on in the device's power settings.",
        ),
        (
            "clock-wrong",
            "warning",
            "the device's clock is known to be wrong",
            "Certificates and second factors fail, and films carry the wrong time.",
            "Set its time zone and a time server.",
        ),
        (
            "dns-wrong",
            "warning",
            "the device's DNS or gateway setting is known to be wrong",
            "It answers inside, but not to the world, and cannot update itself.",
            "Enter the gateway and DNS servers of its sheet.",
        ),
        (
            "base-url-wrong",
            "note",
            "the device does not know its address outside",
            "Links that it makes lead to its inner address.",
            "Enter the base URL of its sheet.",
        ),
    ),
]
CATALOGUE: dict[str, Entry] = {entry.code: entry for entry in _ALL}
GATES = tuple(entry.code for entry in _ALL if entry.gate)
_ORDER: dict[str, int] = {"error": 0, "warning": 1, "note": 2}


def finding(code: str, subject: str, message: str, remedy: str, *, severity: Severity | None = None) -> Finding:
    """A finding with the severity that the catalogue gives it, unless the case at hand has another one."""
    return Finding(code, severity or CATALOGUE[code].severity, subject, message, remedy)


def rank(item: Finding) -> tuple[int, str, str, str]:
    """Sorting key: most severe first, then by code, subject and message."""
    return _ORDER[item.severity], item.code, item.subject, item.message


def as_markdown() -> str:
    """The catalogue as a page of the docs."""
    lines = [
        "# Findings",
        "",
        "What `hooper plan` and its siblings can say. An **error** means that it cannot work as planned, a **warning**",
        "that it will hurt, a **note** that it is worth knowing. Made from the code; do not edit by hand.",
        "",
        "Marked ⛔: `hooper router open` and the router's sheet leave the service out while it stands; `--accept",
        "REASON` overrules that until a day. Marked ✎: the risk can be accepted in `[services.KEY.accepted]`.",
    ]
    for group, title in GROUPS.items():
        lines += ["", f"## {title} ({group})", "", "| code | severity | what | why | do |", "|---|---|---|---|---|"]
        for entry in _ALL:
            if entry.group == group:
                marks = (" ⛔" if entry.gate else "") + (" ✎" if entry.acceptable else "")
                lines.append(f"| `{entry.code}`{marks} | {entry.severity} | {entry.what} | {entry.why} | {entry.do} |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    import sys
    from pathlib import Path

    Path(sys.argv[1]).write_text(as_markdown(), encoding="utf-8")
