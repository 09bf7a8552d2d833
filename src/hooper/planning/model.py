"""What the planner says: forwards, findings, sheets. The field names are those of the JSON contract."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Severity = Literal["error", "warning", "note"]
PortPair = tuple[int, int]  # first and last, both included
EVERYTHING = "*"  # in place of a service: a gateway's one entry for all that no other rule takes


@dataclass(frozen=True, slots=True)
class Forward:
    """One rule on one gateway, as it is entered there.

    service: its key, or "*" for the one entry that hands on all that no other rule takes. transport: "tcp", "udp",
    "both", or an IP protocol's number, then the ports are null. outside_address: null while unknown. sources: empty
    means anyone. by: hand, auto, igd, pcp or natpmp.
    """

    gateway: str
    line: str
    kind: Literal["forward", "pinhole"]
    service: str
    transport: str
    outside_address: str | None
    outside_ports: PortPair | None
    target_address: str
    target_ports: PortPair | None
    sources: tuple[str, ...]
    by: str


@dataclass(frozen=True, slots=True)
class Finding:
    """What is wrong or worth knowing. subject: the path in the site file, such as services.desk."""

    code: str
    severity: Severity
    subject: str
    message: str
    remedy: str


@dataclass(frozen=True, slots=True)
class Plan:
    """The forwards, outermost gateway first, and the findings, most severe first.

    feasible: no finding is an error.
    """

    forwards: tuple[Forward, ...]
    findings: tuple[Finding, ...]

    @property
    def feasible(self) -> bool:
        return not any(finding.severity == "error" for finding in self.findings)


@dataclass(frozen=True, slots=True)
class Reservation:
    """An address that the gateway's DHCP server must always give to one device."""

    host: str
    address: str
    mac: str | None


@dataclass(frozen=True, slots=True)
class Route:
    """A static route that a gateway needs."""

    prefix: str
    via: str


@dataclass(frozen=True, slots=True)
class Sheet:
    """What to enter by hand on one gateway."""

    gateway: str
    rules: tuple[Forward, ...]
    reservations: tuple[Reservation, ...]
    routes: tuple[Route, ...]
    notes: tuple[str, ...]


Possible = Literal["yes", "no", "unknown"]


@dataclass(frozen=True, slots=True)
class Entering:
    """How the rules of one service can be put on one gateway.

    from_here: by a protocol from this machine. from_device: by a protocol, if the device itself asks. by_hand: on
    the gateway's own pages, which always works. protocol: the one meant; null where it is only by hand.
    """

    gateway: str
    service: str
    protocol: str | None
    from_here: Possible
    from_device: Possible
    by_hand: bool
    reason: str


@dataclass(frozen=True, slots=True)
class Compared:
    """One rule of a gateway, as planned and as it was found in the table that was given.

    state: same, missing (planned only), different (the outside port leads elsewhere), unknown (not planned).
    """

    gateway: str
    state: Literal["same", "missing", "different", "unknown"]
    service: str | None
    transport: str
    outside_ports: PortPair | None
    planned: str | None
    found: str | None
    place: str


@dataclass(frozen=True, slots=True)
class PlanDocument:
    """`hooper plan`. against: the rules of a table that was given, held against the plan. pinned: what was written."""

    forwards: tuple[Forward, ...]
    findings: tuple[Finding, ...]
    feasible: bool
    entering: tuple[Entering, ...] = ()
    against: tuple[Compared, ...] = ()
    pinned: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class DeviceService:
    """What a device offers. base_url: what a web server has to know as its own address; null for others."""

    service: str
    speaks: str
    transport: str
    ports: PortPair | None
    reach: str
    base_url: str | None


@dataclass(frozen=True, slots=True)
class DeviceTick:
    """One line of a device's list. said: as ticked; null: nobody has said."""

    item: str
    question: str
    said: bool | None


@dataclass(frozen=True, slots=True)
class DeviceSheet:
    """What to set on one device. outer_side: it is an inner router's form for its outer side (WAN)."""

    device: str
    outer_side: bool
    method: str
    address: str
    mask: str
    prefix_length: int
    gateway: str
    dns: tuple[str, ...]
    services: tuple[DeviceService, ...]
    ticks: tuple[DeviceTick, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Letter:
    """What is asked of the provider, for a box that the user may not change."""

    gateway: str
    subject: str
    paragraphs: tuple[str, ...]
    rules: tuple[Forward, ...]


@dataclass(frozen=True, slots=True)
class SheetChange:
    """What is different from the sheet that was ticked off last. was: the rule as it stood there; null: none."""

    gateway: str
    change: Literal["enter", "remove", "alter"]
    rule: Forward
    was: Forward | None


@dataclass(frozen=True, slots=True)
class ClientLine:
    """A line for the hosts files of devices inside. Several addresses for one name cannot all be right."""

    name: str
    address: str
    services: tuple[str, ...]
    needed: bool


@dataclass(frozen=True, slots=True)
class Ruleset:
    """A gateway's rules as a file for nftables."""

    gateway: str
    text: str


@dataclass(frozen=True, slots=True)
class WorksheetDocument:
    """`hooper worksheet`: sheets for the routers, or what an option asked for instead."""

    sheets: tuple[Sheet, ...]
    devices: tuple[DeviceSheet, ...] = ()
    letters: tuple[Letter, ...] = ()
    removals: tuple[Sheet, ...] = ()
    changes: tuple[SheetChange, ...] = ()
    clients: tuple[ClientLine, ...] = ()
    rulesets: tuple[Ruleset, ...] = ()


def ports_text(ports: PortPair | None) -> str:
    """(80, 80) as 80, (5000, 5010) as 5000-5010, None as a dash."""
    if ports is None:
        return "-"
    return str(ports[0]) if ports[0] == ports[1] else f"{ports[0]}-{ports[1]}"


# --- editing


@dataclass(frozen=True, slots=True)
class ChangedKey:
    """One key of the site file that was set; null stands for a key that is not there."""

    key: str
    before: str | None
    after: str | None


@dataclass(frozen=True, slots=True)
class EditDocument:
    """What an edit did to the site file. follows: what is left to do elsewhere."""

    file: str
    action: str
    subject: str
    changes: tuple[ChangedKey, ...]
    follows: tuple[str, ...]
    dry_run: bool


@dataclass(frozen=True, slots=True)
class HostRow:
    """One host. in_pool: null where the pool is not known. ready: what was ticked, null: nobody has said."""

    host: str
    network: str
    address: str
    address6: str | None
    address_from: str
    in_pool: bool | None
    mac: str | None
    services: tuple[str, ...]
    ready: dict[str, bool | None]


@dataclass(frozen=True, slots=True)
class HostListDocument:
    """`hooper host list`."""

    hosts: tuple[HostRow, ...]


@dataclass(frozen=True, slots=True)
class SuggestDocument:
    """`hooper host suggest`: free addresses on one network, the best first."""

    gateway: str
    network: str
    pool: str | None
    addresses: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ServiceRow:
    """One service. outside_ports: on the public address; null where it is not public or has no ports."""

    service: str
    host: str
    speaks: str
    transport: str
    ports: PortPair | None
    reach: str
    line: str
    outside_ports: PortPair | None
    sources: tuple[str, ...]
    name: str | None


@dataclass(frozen=True, slots=True)
class ServiceListDocument:
    """`hooper service list`."""

    services: tuple[ServiceRow, ...]
