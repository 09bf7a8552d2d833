"""The finding catalogue: each code with its group and severity, why it matters, and whether it can be accepted."""

from __future__ import annotations

from dataclasses import dataclass

from hooper.planning.model import Finding, Severity


@dataclass(frozen=True, slots=True)
class Entry:
    """One kind of finding. why: one sentence on what it does to the user. acceptable: a person may take the risk."""

    code: str
    group: str
    severity: Severity
    why: str
    acceptable: bool = False


CATALOGUE: dict[str, Entry] = {
    entry.code: entry
    for entry in (
        Entry("line-not-public", "line", "error", "Nobody outside can send a packet to an address that is not public."),
        Entry("line-behind-carrier", "line", "error", "Packets from outside end at the provider's box."),
        Entry("line-shares-ports", "line", "error", "The address belongs to many, and the provider decides on ports."),
        Entry("line-without-ipv4", "line", "error", "There is nothing that an IPv4 packet could be sent to."),
        Entry("line-behind-router", "line", "warning", "Every box on the way needs the rule, planned for or not."),
        Entry("name-behind", "name", "warning", "Whoever uses the name reaches another machine, or none."),
        Entry("port-clash", "port", "error", "A gateway sends an outside port to one place only."),
        Entry("port-blocked", "port", "error", "The provider drops what arrives there before the first box sees it."),
        Entry("cannot-translate", "port", "error", "No box on the way can turn the outside port into the inside one."),
        Entry("too-many-rules", "port", "error", "A page that takes single ports only would need a rule for each."),
        Entry("sources-not-kept", "exposure", "error", "The service would be open to the whole world instead."),
        Entry("address-clash", "address", "error", "Two devices with one address knock each other off the network."),
        Entry("address-in-pool", "address", "warning", "The DHCP server can give this address to another device."),
        Entry(
            "address-moves", "address", "warning", "After the next lease the rules point to another device or to none."
        ),
        Entry("mac-missing", "address", "warning", "A reservation is made for a MAC address."),
        Entry("desktop-open", "exposure", "warning", "Remote desktops are searched for and attacked all day.", True),
        Entry("clear-text-open", "exposure", "warning", "Anyone on the way can read along, passwords too.", True),
        Entry("acceptance-ended", "exposure", "warning", "The risk was accepted until a day that has passed."),
        Entry("acceptance-unused", "exposure", "note", "An acceptance without its risk hides one that comes later."),
        Entry("unknown-protocol-open", "exposure", "note", "Nobody but its maker can say how safe it is.", True),
        Entry("leading-zeros", "address", "note", "Some programs read padded numbers as octal and reach another host."),
        Entry("documentation-address", "address", "note", "Such addresses stand in examples and reach nothing."),
    )
}
_ORDER: dict[str, int] = {"error": 0, "warning": 1, "note": 2}


def finding(code: str, subject: str, message: str, remedy: str, *, severity: Severity | None = None) -> Finding:
    """A finding with the severity that the catalogue gives it, unless the case at hand has another one."""
    return Finding(code, severity or CATALOGUE[code].severity, subject, message, remedy)


def rank(item: Finding) -> tuple[int, str, str, str]:
    """Sorting key: most severe first, then by code, subject and message."""
    return _ORDER[item.severity], item.code, item.subject, item.message
