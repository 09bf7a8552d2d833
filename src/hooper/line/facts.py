"""What is known of a line and of a service, with where it comes from: the input of all judging. Pure."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Literal

from hooper.addresses import IPAddress
from hooper.check.results import Result
from hooper.errors import HooperError
from hooper.line.hops import Hops, between
from hooper.line.nat import NatBehaviour

FRESH = timedelta(hours=1)  # what was told longer ago is still evidence, but nothing is certain by it


@dataclass(frozen=True, slots=True)
class Told:
    """Something that the user read off a page or a device, and when; or what a router says itself: then how it did."""

    value: str
    at: datetime
    how: str = "told"

    def fresh(self, now: datetime) -> bool:
        return now - self.at <= FRESH

    @property
    def measured(self) -> bool:
        return self.how != "told"

    def source(self, now: datetime) -> str:
        """Where it comes from, in words."""
        return self.how if self.measured else f"told {self.age(now)}"

    def age(self, now: datetime) -> str:
        """How long ago in words: just now, 5 min ago, 3 h ago, 2 days ago."""
        minutes = max(0, round((now - self.at).total_seconds() / 60))
        if minutes < 1:
            return "just now"
        if minutes < 120:
            return f"{minutes} min ago"
        return f"{minutes // 60} h ago" if minutes < 48 * 60 else f"{minutes // 1440} days ago"


@dataclass(frozen=True, slots=True)
class Known:
    """An address with its source; None: not known, and the source says what was tried.

    absent: who was asked says that there is none.
    """

    address: IPAddress | None
    source: str
    absent: bool = False


@dataclass(frozen=True, slots=True)
class BoxSaid:
    """What a router says of itself. control: the protocols that it answers. wan: its outer address, `by` which of them.

    down: it says that it has no address from its provider. between: a NAT stands between this machine and it.
    """

    address: IPAddress
    control: tuple[str, ...] = ()
    wan: IPAddress | None = None
    by: str = ""
    down: bool = False
    between: bool = False


@dataclass(frozen=True, slots=True)
class ResolverSaid:
    """What became of asking a resolver. told_by: machine or site. answers: the addresses that it has for each name."""

    address: IPAddress
    port: int
    told_by: Literal["machine", "site"]
    state: Literal["answers", "unusable", "silent", "failing"]
    answers: dict[str, tuple[IPAddress, ...]] = field(default_factory=dict)


@dataclass(frozen=True)
class Measured:
    """What was measured of a line beyond the addresses.

    seen: each STUN server's view. boxes: what the gateways of the site file say; revealed: routers on the path that
    are not in it, the nearest first. to_self, outward: the hops to one's own public address, and to a STUN server.
    counted: these were looked at twice, so that the NATs can be counted by them.
    tunnel: the interface of a tunnel that this machine's default route leads through; tunnel_shows: what it shows.
    silent: STUN servers that did not answer. outstanding: what was still running when the time was over. trouble: what
    this machine did not allow.
    """

    seen: tuple[Known, ...] = ()
    silent: tuple[str, ...] = ()
    boxes: dict[str, BoxSaid] = field(default_factory=dict)
    revealed: tuple[BoxSaid, ...] = ()
    to_self: Hops | None = None
    outward: Hops | None = None
    counted: bool = False
    nat: NatBehaviour | None = None
    resolvers: tuple[ResolverSaid, ...] = ()
    tunnel: str | None = None
    tunnel_shows: Known | None = None
    outstanding: tuple[str, ...] = ()
    trouble: tuple[HooperError, ...] = ()

    @property
    def nats(self) -> tuple[int, int | None] | None:
        """How many NATs stand before the public address, at least and at most, by the hops; None: not read."""
        if self.to_self is None:
            return None
        told = self.to_self.last or self.to_self.arrived or (self.outward is not None and self.outward.last)
        return between(self.to_self, self.outward if self.counted else None) if told else None


@dataclass(frozen=True)
class LineFacts:
    """What is known of the line that this machine is on.

    chain: the gateways, outermost first. at: the gateway whose LAN this machine is on, None: it is elsewhere.
    wan: the gateways' outer addresses, as told, or as they say themselves. names: the addresses of each DNS name.
    stun_silent: STUN servers were asked, and none answered. measured: what a survey looks at beyond that.
    """

    now: datetime
    line: str
    chain: tuple[str, ...]
    at: str | None
    own: Known
    default_gateway: Known
    public: Known
    wan: dict[str, Told] = field(default_factory=dict)
    names: dict[str, Known] = field(default_factory=dict)
    stun_silent: bool = False
    own6: Known = field(default_factory=lambda: Known(None, "no interface has one"))
    public6: Known = field(default_factory=lambda: Known(None, "not measured"))
    measured: Measured | None = None


@dataclass(frozen=True)
class ServiceFacts:
    """What is known of one service, beside its line.

    inside: the probe at the inner address. outside: the probes at the public one, None: not looked.
    others: did other public services of this line answer from outside? None: not looked, or there are none.
    stored_at: when the outside was seen, where that is an earlier result.
    mac_seen: the MAC that answers at the host's address; elsewhere: where the host's MAC answers instead.
    rules: what was told of the routers' rules, or read in their tables: there, missing, or the address a rule names.
    ticked: the gateways whose sheet the user has ticked off as it now stands.
    host_at: the address that the device has, as told. twin: the service whose certificate answered instead.
    """

    line: LineFacts
    service: str
    inside: Result | None
    nobody_inside: bool
    outside: Result | None
    others: bool | None = None
    stored_at: datetime | None = None
    mac_seen: str | None = None
    elsewhere: IPAddress | None = None
    rules: dict[str, Told] = field(default_factory=dict)
    ticked: dict[str, Told] = field(default_factory=dict)
    host_at: Told | None = None
    twin: str | None = None
