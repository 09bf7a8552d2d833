"""What the lab's commands and the demo print."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from typing_extensions import TypedDict  # pydantic brings it, and takes no other before Python 3.12

from hooper.planning.documents import Reservation
from hooper.ports import Ports


@dataclass(frozen=True, slots=True)
class LabEnvironment:
    """The environment variables that lead other commands into a lab.

    HOOPER_LAB: where the lab answers. HOOPER_SITE: its site file.
    """

    HOOPER_LAB: str
    HOOPER_SITE: str


@dataclass(frozen=True, slots=True)
class LabRunDocument:
    """The first line of `hooper lab run --json`. env: what other commands need in their environment."""

    env: LabEnvironment


@dataclass(frozen=True, slots=True)
class FaultRow:
    """One fault of the lab.

    service: the one it was applied to, while it is active. fault: its name. active: it is broken now. cause: the code
    that `hooper why` has for it.
    """

    fault: str
    active: bool
    cause: str
    summary: str
    service: str | None


@dataclass(frozen=True, slots=True)
class LabFaultsDocument:
    """`hooper lab faults`, `lab break`, `lab mend`: the faults as they now are. faults: one row each."""

    faults: tuple[FaultRow, ...]


@dataclass(frozen=True, slots=True)
class ShownRule:
    """A rule as it stands on a router's page of the lab."""

    label: str
    transport: str
    outside_ports: Ports
    target_address: str
    target_ports: Ports
    sources: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ListedRule(ShownRule):
    """A rule with what the page says beside it. state: on, off or ended; or on, and another outside interface."""

    state: str


@dataclass(frozen=True, slots=True)
class EnteredRule(ShownRule):
    """A rule as it was typed into a router's page of the lab. outcome: what came of it."""

    gateway: str
    service: str
    outcome: Literal["added", "changed", "already"]


@dataclass(frozen=True, slots=True)
class LabTypeDocument:
    """`hooper lab type`. entered: the rules as they were typed."""

    entered: tuple[EnteredRule, ...]


@dataclass(frozen=True, slots=True)
class Device:
    """A row of the router's list of devices."""

    mac: str
    address: str


@dataclass(frozen=True, slots=True)
class RouterPage:
    """What can be read off a router's page of the lab. lan: its inner network."""

    gateway: str
    wan_address: str
    lan: str
    rules: tuple[ListedRule, ...]
    reservations: tuple[Reservation, ...]
    devices: tuple[Device, ...]


@dataclass(frozen=True, slots=True)
class LabReadDocument:
    """`hooper lab read`."""

    gateways: tuple[RouterPage, ...]


@dataclass(frozen=True, slots=True)
class LineKind:
    """A kind of line that the lab can have. situation: what a survey comes to. kind: its name."""

    kind: str
    situation: str
    summary: str


@dataclass(frozen=True, slots=True)
class LabLineDocument:
    """`hooper lab line`: the line as it now is, and the kinds that there are.

    kind: of the line. mapping: what the outer port depends on. filtering: what is let in depends on. hairpin: whether
    the router sends packets for its own public address back in. far_mapping, far_filtering: of the hut's carrier. dead:
    the STUN servers that do not answer. kinds: those that there are.
    """

    kind: str
    mapping: str
    filtering: str
    hairpin: bool
    speaks: str
    dead: tuple[str, ...]
    resolver: str
    far_mapping: str
    far_filtering: str
    kinds: tuple[LineKind, ...]


@dataclass(frozen=True, slots=True)
class LedgerEntry:
    """One exchange in the lab.

    to: address:port, or a name that was looked up (transport "dns"). at: when. outcome: what came of it. place: where
    in the lab it started.
    """

    at: str
    place: str
    transport: str
    to: str
    outcome: str


@dataclass(frozen=True, slots=True)
class LabLedgerDocument:
    """`hooper lab ledger`. entries: one row each, the oldest first."""

    entries: tuple[LedgerEntry, ...]


@dataclass(frozen=True, slots=True)
class Step:
    """One step of the demo. step: its name."""

    step: str
    ok: bool
    took_ms: int


@dataclass(frozen=True, slots=True)
class DemoDocument:
    """`hooper demo`. folder: where the site file was left; null where none was asked for. steps: one row each."""

    steps: tuple[Step, ...]
    folder: str | None


class LabDocument(TypedDict, total=False):
    """What the lab says of a deed: `hooper lab plug`, `roam`, `restart`, `readdress`, `power-cut`, `lag`, `install`,
    `hand-on`, `load`, `dump`, `clock`; of each what it is about.

    where: the socket, or the phone's place. gateway: the router that has restarted, or has another address now.
    address: the one that the line has now. gateways: the routers that have lost what programs entered. second_s: how
    far the zone's second name server is behind, in seconds; null: there is none. provider_s: how long the name provider
    takes until what it took shows. spacing_s: what it wants between two updates of a name. host: the device that now
    shows the certificate. manner: how it takes it. name: that its web server hands on. service: to whose device; null:
    it refuses the name. on: the machine that has a tunnel's file. interface: what the tunnel is called there. peers:
    how many it has. dump: what `wg show all dump` would print on the gate, but for its private keys. now: the lab's
    time. ahead_s: seconds by which it is ahead of the machine's.
    """

    where: str
    gateway: str
    address: str
    gateways: tuple[str, ...]
    second_s: float | None
    provider_s: float
    spacing_s: float
    service: str | None
    host: str
    manner: str
    name: str
    on: str
    interface: str
    peers: int
    dump: str
    now: str
    ahead_s: float
