"""What the town is made of: machines, gateways with their tables, what became of a packet."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Network
from typing import Any, Literal

from anyio.abc import ByteStream

from hooper.net.types import Endpoint
from hooper.wire.icmp import Icmp


@dataclass(frozen=True, slots=True)
class Reply:
    """An answer to a datagram that comes from elsewhere than where that went."""

    data: bytes
    sender: Endpoint


StreamHandler = Callable[[ByteStream, Endpoint], Awaitable[None]]
DatagramHandler = Callable[[bytes, Endpoint], bytes | Reply | None]
Transport = Literal["tcp", "udp"]
# How a NAT maps and filters (RFC 4787 sections 4.1 and 5): by what of the far end
Dependence = Literal["endpoint", "address", "address-and-port"]


@dataclass
class Rule:
    """One entry of a gateway's table, as it was typed into its page. interface: the outside one that it is for."""

    label: str
    transport: str
    outside: tuple[int, int]
    target: IPv4Address
    target_ports: tuple[int, int]
    sources: tuple[IPv4Network, ...] = ()
    owner: str = "page"  # or the address of the device that asked for it by a protocol
    until: datetime | None = None
    enabled: bool = True
    interface: str = "internet"
    enforced: bool = True  # the router acts by it

    def takes(self, transport: str, port: int, source: IPv4Address) -> bool:
        return (
            self.enabled
            and self.enforced
            and self.interface == "internet"
            and self.transport in (transport, "both")
            and self.outside[0] <= port <= self.outside[1]
            and (not self.sources or any(source in network for network in self.sources))
        )

    def translated(self, port: int) -> int:
        return self.target_ports[0] + port - self.outside[0]


@dataclass(frozen=True)
class FirewallOpening:
    """One entry of a router's firewall for IPv6. ports: of the device itself. sources: empty: anyone."""

    label: str
    transport: str
    address: IPv6Address
    ports: tuple[int, int]
    sources: tuple[IPv6Network, ...] = ()

    def lets_in(self, transport: str, address: IPv6Address, port: int, source: IPv6Address) -> bool:
        return (
            self.transport in (transport, "both")
            and self.address == address
            and self.ports[0] <= port <= self.ports[1]
            and (not self.sources or any(source in network for network in self.sources))
        )


@dataclass
class Attachment:
    """One interface of a node. metric: of its default route; the lowest is used. tunnel: a VPN's."""

    name: str
    segment: str
    address: IPv4Address
    mac: str
    gateway: IPv4Address | None = None
    metric: int = 100
    address6: IPv6Address | None = None
    tunnel: bool = False


@dataclass
class Machine:
    """A machine. tcp, udp: what answers at which port. stopped: ports whose program was ended. loopback_only: those
    whose program listens for this computer alone; four_only: over IPv4 alone.

    off: nobody is there. hears: whom its own firewall lets in. way_out: its gateway is set, and is the router; without
    it answers reach its own network only. clock_off: by how much its clock is ahead of the town's.
    """

    key: str
    attachments: list[Attachment]
    tcp: dict[int, StreamHandler] = field(default_factory=dict)
    udp: dict[int, DatagramHandler] = field(default_factory=dict)
    stopped: set[tuple[str, int]] = field(default_factory=set)
    loopback_only: set[tuple[str, int]] = field(default_factory=set)
    four_only: set[tuple[str, int]] = field(default_factory=set)
    off: bool = False
    hears: Literal["all", "lan", "nobody"] = "all"
    way_out: bool = True
    clock_off: timedelta = timedelta(0)

    def answers(self, source: IPv4Address, network: IPv4Network) -> bool:
        """Whether what comes from `source` gets an answer that arrives."""
        near = source in network
        return self.hears == "all" and (near or self.way_out) if self.hears != "lan" else near

    def listens(self, transport: str, port: int, to: IPv4Address | IPv6Address) -> bool:
        """Whether a program of its own takes what comes in for this address."""
        entry = transport, port
        if entry in self.stopped or (entry in self.four_only and to.version == 6):
            return False
        return entry not in self.loopback_only or to.is_loopback

    @property
    def address(self) -> IPv4Address:
        return self.attachments[0].address


@dataclass
class Flow:
    """A UDP mapping of a NAT: made for `inside`, where it depends on that for `far`; remotes: whom it was used for."""

    inside: Endpoint
    far: Endpoint | IPv4Address | None = None
    remotes: set[Endpoint] = field(default_factory=set)

    def lets_in(self, source: Endpoint, filtering: Dependence) -> bool:
        """Whether `source` may answer (RFC 4787 section 5)."""
        if filtering == "address":
            return any(source.address == remote.address for remote in self.remotes)
        return filtering == "endpoint" or source in self.remotes


@dataclass
class Box:
    """A NAT gateway between two segments. blocked: what the provider drops before this box.

    ports: the outside ports that are this box's own, where it shares its address with others. other_exit: by which it
    sends, where it has a second line. lets_out: all that it hands on outward, by transport and port; None: everything.
    remote: its own pages that it shows outside, by port. claims: the address that it tells to programs, where
    that is not its own. reveals: it says when a packet has made too many hops. A WAN address of 0.0.0.0 is a line that
    is down.
    """

    key: str
    outer: str
    wan: IPv4Address
    inner: str
    lan: IPv4Interface
    rules: list[Rule] = field(default_factory=list)
    openings: list[FirewallOpening] = field(default_factory=list)
    reservations: list[dict[str, Any]] = field(default_factory=list)
    routes: list[tuple[IPv4Network, IPv4Address]] = field(default_factory=list)
    blocked: set[tuple[str, int, int]] = field(default_factory=set)
    hairpin: bool = False
    label_length: int = 32
    both: bool = True
    keeps_sources: bool = True
    is_router: bool = True
    mapping: Dependence = "endpoint"
    filtering: Dependence = "address-and-port"
    ports: range | None = None
    other_exit: IPv4Address | None = None
    lets_out: frozenset[tuple[str, int]] | None = None
    remote: dict[int, StreamHandler] = field(default_factory=dict)
    claims: IPv4Address | None = None
    reveals: bool = True
    flows: dict[int, Flow] = field(default_factory=dict)
    flow_of: dict[tuple[Endpoint, Any], int] = field(default_factory=dict)  # by inside and far, gone ones too
    answers: dict[tuple[Endpoint, Endpoint], int] = field(default_factory=dict)  # by inside and asker: the outer port
    tcp: dict[int, StreamHandler] = field(default_factory=dict)
    udp: dict[int, DatagramHandler] = field(default_factory=dict)

    def live_rules(self, now: datetime) -> list[Rule]:
        """The rules that have not ended. Of those that have, the ones that a program made are dropped; a page goes on
        showing its own.
        """
        self.rules = [rule for rule in self.rules if rule.owner == "page" or rule.until is None or now < rule.until]
        return [rule for rule in self.rules if rule.until is None or now < rule.until]

    @property
    def told_wan(self) -> IPv4Address:
        """What it says of its outer address to programs."""
        return self.claims or self.wan

    def holds(self, address: IPv4Address) -> bool:
        """Whether it is one of its outer addresses."""
        return address in (self.wan, self.other_exit)

    def blocks(self, transport: str, port: int) -> bool:
        if self.ports is not None and port not in self.ports:
            return True  # somebody else's
        return any(kind == transport and first <= port <= last for kind, first, last in self.blocked)


@dataclass(frozen=True, slots=True)
class Arrival:
    """The packet reached a machine. source: as seen there. port: after translation. to: the address it arrived at."""

    node: Machine | Box
    to: IPv4Address | IPv6Address
    port: int
    source: Endpoint
    entered: IPv4Address | IPv6Address  # the address that answers seem to come from


@dataclass(frozen=True, slots=True)
class Turned:
    """The packet did not arrive. icmp, by: the message that came back, after `after` seconds; none: swallowed.

    local: it never left the machine that sent it.
    """

    icmp: Icmp | None = None
    by: IPv4Address | None = None
    after: float = 0.0
    local: bool = False


SWALLOWED = Turned()


class DatagramSocket:
    """A place's UDP socket. deliver: called with data and sender; reject: with ICMP, sender and destination."""

    def __init__(
        self,
        node: Machine,
        attachment: Attachment,
        port: int,
        deliver: Callable[[bytes, Endpoint], Awaitable[None]],
        reject: Callable[[Icmp, IPv4Address | IPv6Address, Endpoint], Awaitable[None]],
        hops: int | None = None,
        group: IPv4Address | None = None,
    ) -> None:
        self.node, self.attachment, self.port = node, attachment, port
        self.group = group
        self.deliver, self.reject = deliver, reject
        self.hops = hops

    @property
    def local(self) -> Endpoint:
        return Endpoint(self.attachment.address, self.port)


def made_up_mac(address: IPv4Address) -> str:
    """A locally administered MAC that shows which address it belongs to."""
    last = str(address).split(".")
    return "02:00:5e:" + ":".join(f"{int(part) % 100:02d}" for part in last[1:])


def type_rule(box: Box, rule: Rule) -> Literal["added", "changed", "already"]:
    """Enter a rule as a person does: an entry for the same outside ports is corrected, not doubled."""
    for index, old in enumerate(box.rules):
        if old.outside == rule.outside and old.transport == rule.transport:
            if old == rule:
                return "already"
            box.rules[index] = rule
            return "changed"
    box.rules.append(rule)
    return "added"


def overlapping(rules: Iterable[Rule], rule: Rule) -> Rule | None:
    """An entry with other outside ports that overlap with those of `rule`, as a page would refuse it."""

    def same(other: Rule) -> bool:
        return other.transport == rule.transport or "both" in (other.transport, rule.transport)

    def meets(a: Sequence[int], b: Sequence[int]) -> bool:
        return a[0] <= b[1] and b[0] <= a[1]

    twins = [r for r in rules if same(r) and meets(r.outside, rule.outside)]
    return next((r for r in twins if (r.outside, r.transport) != (rule.outside, rule.transport)), None)
