"""What the planner says: forwards, findings, sheets. The field names are those of the JSON contract."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple

from hooper.ports import Ports
from hooper.words.catalogue import Severity
from hooper.words.said import Said, say

EVERYTHING = "*"  # in place of a service: a gateway's one entry for all that no other rule takes


@dataclass(frozen=True)
class Forward:
    """One rule on one gateway, as it is entered there.

    kind: a port forward, or a pinhole in an IPv6 firewall. service: its key, or "*" for the one entry that hands on all
    that no other rule takes. transport: "tcp", "udp", "both", or an IP protocol's number, then the ports are null.
    outside_address: null while unknown. sources: empty means anyone. by: how it gets there, as the gateway's `control`.
    """

    gateway: str
    line: str
    kind: Literal["forward", "pinhole"]
    service: str
    transport: str
    outside_address: str | None
    outside_ports: Ports | None
    target_address: str
    target_ports: Ports | None
    sources: tuple[str, ...]
    by: str


@dataclass(frozen=True)
class Finding:
    """What is wrong or worth knowing.

    subject: the path in the site file, such as services.desk. severity: how bad it is.
    """

    code: str
    severity: Severity
    subject: str
    message: Said
    remedy: Said


class Plan(NamedTuple):
    """The forwards, outermost gateway first, and the findings, most severe first.

    feasible: no finding is an error.
    """

    forwards: tuple[Forward, ...]
    findings: tuple[Finding, ...]

    @property
    def feasible(self) -> bool:
        return not any(finding.severity == "error" for finding in self.findings)


@dataclass(frozen=True)
class StaticRoute:
    """A static route that a gateway needs. prefix: the network that it leads to. via: the next hop."""

    prefix: str
    via: str


Possible = Literal["yes", "no", "unknown"]


@dataclass(frozen=True)
class Entering:
    """How the rules of one service can be put on one gateway.

    from_here: by a protocol from this computer. from_device: by a protocol, if the device itself asks. by_hand: on
    the gateway's own pages, which always works; false where they come with the files of a tunnel. protocol: the one
    meant; null where no protocol enters them.
    """

    gateway: str
    service: str
    protocol: str | None
    from_here: Possible
    from_device: Possible
    by_hand: bool
    reason: str


@dataclass(frozen=True)
class Compared:
    """One rule of a gateway, as planned and as it was found in the table that was given.

    state: same, missing (planned only), different (the outside port leads elsewhere), unknown (not planned), not-known
    (it may be there, or be switched off: that could not be read). planned: where the plan has the rule lead. found:
    where it leads. place: where in the table it stands.
    """

    gateway: str
    state: Literal["same", "missing", "different", "unknown", "not-known"]
    service: str | None
    transport: str
    outside_ports: Ports | None
    planned: str | None
    found: str | None
    place: str


@dataclass(frozen=True)
class HeldBack:
    """A service whose rules are not entered yet. reason: what stands against it. remedy: what lets it through."""

    service: str
    reason: str
    remedy: str


@dataclass(frozen=True)
class HandedName:
    """A name that a web server hands on. name: the DNS name. service: reached by it. by: whose rule leads to its port.
    server: the host that hands it on. hands_to: the service of the device behind. host: that device.
    """

    service: str
    name: str
    by: str
    server: str
    hands_to: str
    host: str


@dataclass(frozen=True)
class PageUnderstood:
    """A saved page of a router, as it was understood.

    gateway: whose it is; null: that was not said. rules: how many were read. guessed: the places of those without
    headings, read by how their values look. wan_address: that it shows; null: none. pool: what its DHCP hands out,
    first and last; null: it does not show that. reservations: MAC and address. not_understood: what looks like a rule
    and could not be read, in words. differs: where it contradicts the site file, in words. file: its path.
    """

    gateway: str | None
    file: str
    rules: int
    guessed: tuple[str, ...]
    wan_address: str | None
    pool: tuple[str, str] | None
    reservations: tuple[tuple[str, str], ...]
    not_understood: tuple[str, ...]
    differs: tuple[str, ...]


@dataclass(frozen=True)
class PlanDocument:
    """`hooper plan`.

    against: the rules of a table that was given, held against the plan. pinned: what was written. entering: how each
    rule can be put on its gateway. feasible: no finding says that it cannot work. forwards: the rules, one row each.
    held_back: the services whose rules are not entered before their device is ready, or a risk is accepted. understood:
    what the saved pages of routers were understood to say. by_name: what a web server hands on, told apart by name.
    """

    forwards: tuple[Forward, ...]
    findings: tuple[Finding, ...]
    feasible: bool
    entering: tuple[Entering, ...] = ()
    against: tuple[Compared, ...] = ()
    pinned: tuple[str, ...] = ()
    held_back: tuple[HeldBack, ...] = ()
    understood: tuple[PageUnderstood, ...] = ()
    by_name: tuple[HandedName, ...] = ()


class LeftOver(NamedTuple):
    """An entry of ours that stands in a router's own table, by what Hooper remembers, and that the plan does not have.

    outside: as transport and port. target: where it leads. host: whose address that is; empty: nobody's in the file.
    """

    service: str
    gateway: str
    outside: str
    target: str
    host: str

    def words(self) -> Said:
        """As people write it."""
        return say("rule-still-stands.says", gateway=self.gateway, outside=self.outside, target=self.target)

    def remedy(self) -> Said:
        """How it goes away."""
        return say("rule-still-stands.do", gateway=self.gateway)
