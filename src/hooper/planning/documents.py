"""What commands print beside the plan itself: sheets, lists, edits. Apart from `model`, so that `plan` starts fast."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.planning.values import Finding, Forward, StaticRoute
from hooper.ports import Ports


@dataclass(frozen=True)
class Reservation:
    """An address that the gateway's DHCP server must always give to one device."""

    host: str
    address: str
    mac: str | None


@dataclass(frozen=True)
class OwnService:
    """What a gateway offers itself, and lets in from outside. ports: null for an IP protocol without them. sources: who
    is let in; empty means anyone.
    """

    service: str
    speaks: str
    transport: str
    ports: Ports | None
    sources: tuple[str, ...]


@dataclass(frozen=True)
class Sheet:
    """What to enter by hand on one gateway. own: its own services. routes: the static routes to enter. page: the
    address at which its page opens; empty: it has none.
    """

    gateway: str
    rules: tuple[Forward, ...]
    reservations: tuple[Reservation, ...]
    routes: tuple[StaticRoute, ...]
    notes: tuple[str, ...]
    own: tuple[OwnService, ...] = ()
    page: str = ""

    @property
    def asks(self) -> bool:
        """Whether there is anything to enter on its pages."""
        return bool(self.rules or self.reservations or self.routes or self.own)


@dataclass(frozen=True)
class DeviceService:
    """What a device offers. base_url: what a web server has to know as its own address; null for others."""

    service: str
    speaks: str
    transport: str
    ports: Ports | None
    reach: str
    base_url: str | None


@dataclass(frozen=True)
class DeviceTick:
    """One line of a device's list. said: as ticked; null: nobody has said. item: its key. question: what is asked."""

    item: str
    question: str
    said: bool | None


@dataclass(frozen=True)
class DeviceSheet:
    """What to set on one device.

    outer_side: it is an inner router's form for its outer side (WAN). device: the host's or gateway's name. dns: the
    DNS servers to enter. mask: as dotted numbers, for forms that want them. method: how the device gets its address.
    prefix_length: the same as the mask. ticks: what has to be done once, and whether it is.
    """

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


@dataclass(frozen=True)
class Letter:
    """What is asked of the provider, for a box that the user may not change. paragraphs: its text."""

    gateway: str
    subject: str
    paragraphs: tuple[str, ...]
    rules: tuple[Forward, ...]


@dataclass(frozen=True)
class SheetChange:
    """What is different from the sheet that was ticked off last.

    was: the rule as it stood there; null: none. change: what to do about it.
    """

    gateway: str
    change: Literal["enter", "remove", "alter"]
    rule: Forward
    was: Forward | None


@dataclass(frozen=True)
class ClientLine:
    """A line for the hosts files of devices inside. Several addresses for one name cannot all be right.

    name: the DNS name. needed: without the line the name leads nowhere from inside.
    """

    name: str
    address: str
    services: tuple[str, ...]
    needed: bool


@dataclass(frozen=True)
class Ruleset:
    """A gateway's rules as a file for nftables. text: the file."""

    gateway: str
    text: str


@dataclass(frozen=True)
class WorksheetDocument:
    """`hooper worksheet`: sheets for the routers, or what an option asked for instead.

    never_ticked: the routers no sheet of which was ticked off yet, so that all of it is a change. sheets: one for each
    gateway. letters: to the provider. removals: what to take out again. clients: lines for the hosts files of devices.
    rulesets: the rules as files.
    """

    sheets: tuple[Sheet, ...]
    devices: tuple[DeviceSheet, ...] = ()
    letters: tuple[Letter, ...] = ()
    removals: tuple[Sheet, ...] = ()
    changes: tuple[SheetChange, ...] = ()
    clients: tuple[ClientLine, ...] = ()
    rulesets: tuple[Ruleset, ...] = ()
    never_ticked: tuple[str, ...] = ()


@dataclass(frozen=True)
class Risk:
    """A risk that a person takes. finding: its code. over: its time has passed. until: the last day. service: whose."""

    service: str
    finding: str
    reason: str
    until: str
    over: bool


@dataclass(frozen=True)
class RisksDocument:
    """The risks that are taken. risks: each once, in the order of the file."""

    risks: tuple[Risk, ...]


@dataclass(frozen=True)
class ChangedKey:
    """One key of the site file that was set; null stands for a key that is not there.

    key: the path in the site file. before: as it was. after: as it is now.
    """

    key: str
    before: str | None
    after: str | None


@dataclass(frozen=True)
class EditDocument:
    """What an edit did to the site file.

    follows: what is left to do elsewhere. action: what was done. file: the site file. findings: what the plan says of
    it that it did not say before.
    """

    file: str
    action: str
    subject: str
    changes: tuple[ChangedKey, ...]
    follows: tuple[str, ...]
    dry_run: bool
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True)
class HostRow:
    """One host.

    in_pool: null where the pool is not known. ready: what was ticked, null: nobody has said. address6: its IPv6
    address; null where none is written. address_from: who gives the device its address.
    """

    host: str
    network: str
    address: str
    address6: str | None
    address_from: str
    in_pool: bool | None
    mac: str | None
    services: tuple[str, ...]
    ready: dict[str, bool | None]


@dataclass(frozen=True)
class HostListDocument:
    """`hooper host list`."""

    hosts: tuple[HostRow, ...]


@dataclass(frozen=True)
class SuggestDocument:
    """`hooper host suggest`: free addresses on one network, the best first.

    looked: each was tried, and stayed silent; else this computer is not on that network. answered: those at which
    somebody is whom the site file does not have. addresses: free ones, the best first. pool: what the DHCP server gives
    out; null where it is not known.
    """

    gateway: str
    network: str
    pool: str | None
    addresses: tuple[str, ...]
    looked: bool
    answered: tuple[str, ...]


@dataclass(frozen=True)
class ServiceRow:
    """One service.

    outside_ports: on the public address; null where it is not public or has no ports. name: the DNS name; null where it
    has none. hands_to: of a web server, the service that it hands this name on to; null: none.
    """

    service: str
    host: str
    speaks: str
    transport: str
    ports: Ports | None
    reach: str
    line: str
    outside_ports: Ports | None
    sources: tuple[str, ...]
    name: str | None
    hands_to: str | None = None


@dataclass(frozen=True)
class ServiceListDocument:
    """`hooper service list`."""

    services: tuple[ServiceRow, ...]
