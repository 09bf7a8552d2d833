"""What is known of a line and of a service, with where it comes from: the input of all judging. Pure."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.said import NOTHING, Said, say

Dependence = Literal["endpoint-independent", "address-dependent", "address-and-port-dependent"]


@dataclass(frozen=True)
class Hops:
    """A way out. seen: who revealed itself at each hop, the nearest first; None: nobody. arrived: the hop at which
    the destination itself answered. no_way: a router that says that it has no way there.
    """

    to: IPAddress
    seen: tuple[IPAddress | None, ...]
    arrived: int | None = None
    no_way: IPAddress | None = None

    @property
    def last(self) -> int:
        """The last hop that revealed itself; 0: none did."""
        return max((number for number, one in enumerate(self.seen, 1) if one is not None), default=0)


def between(to_self: Hops, outward: Hops | None) -> tuple[int, int | None]:
    """How many NATs the way to one's own public address goes through: at least, and at most (None: not known).

    A router that reveals itself to what passes on outward, but not to what goes to the public address, has it itself
    or stands behind the one that has it.
    """
    if to_self.arrived is not None:
        return to_self.arrived, to_self.arrived
    least = to_self.last + 1
    further = outward.seen[to_self.last :] if outward is not None else ()
    most = next((least + number for number, one in enumerate(further) if one is not None), None)
    return least, most


def nats_before(to_self: Hops | None, outward: Hops | None, *, counted: bool) -> tuple[int, int | None] | None:
    """How many NATs stand before the public address, at least and at most; None: the hops do not tell."""
    if to_self is None:
        return None
    told = to_self.last or to_self.arrived or (outward is not None and outward.last)
    return between(to_self, outward if counted else None) if told else None


@dataclass(frozen=True)
class NatBehaviour:
    """What a NAT does with UDP.

    null: not known, and `note` says why. hairpin: whether its outer address works from inside. ports_kept: it gives the
    same port outside, where that is free. own_ports: what all outside ports that it gave have in common, where it does
    not have all of them. mapping: what the outer port depends on, as in RFC 4787. filtering: what is let in depends on,
    as in RFC 4787. note: what could not be measured and why; may be empty.
    """

    mapping: Dependence | None = None
    filtering: Dependence | None = None
    hairpin: bool | None = None
    ports_kept: bool | None = None
    own_ports: str | None = None
    note: str = ""


@dataclass(frozen=True)
class BoxSaid:
    """What a router says of itself. control: the protocols that it answers. wan: its outer address, `by` which of them.

    down: it says that it has no address from its provider. between: a NAT stands between this computer and it.
    """

    address: IPAddress
    control: tuple[str, ...] = ()
    wan: IPAddress | None = None
    by: Said = NOTHING
    down: bool = False
    between: bool = False


@dataclass(frozen=True)
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
    tunnel: the interface of a tunnel that this computer's default route leads through; tunnel_shows: what it shows.
    claims: outer addresses that gateways tell and that cannot be so, since the site or the hops say otherwise.
    silent: STUN servers that did not answer. outstanding: what was still running when the time was over. trouble: what
    this computer did not allow.
    """

    seen: tuple[SourcedAddress, ...] = ()
    silent: tuple[Said, ...] = ()
    boxes: dict[str, BoxSaid] = field(default_factory=dict)
    revealed: tuple[BoxSaid, ...] = ()
    claims: dict[str, BoxSaid] = field(default_factory=dict)
    to_self: Hops | None = None
    outward: Hops | None = None
    counted: bool = False
    nat: NatBehaviour | None = None
    resolvers: tuple[ResolverSaid, ...] = ()
    tunnel: str | None = None
    tunnel_shows: SourcedAddress | None = None
    outstanding: tuple[Said, ...] = ()
    trouble: tuple[HooperError, ...] = ()

    @property
    def nats(self) -> tuple[int, int | None] | None:
        """How many NATs stand before the public address, at least and at most, by the hops; None: not read."""
        return nats_before(self.to_self, self.outward, counted=self.counted)


@dataclass(frozen=True)
class LineFacts:
    """What is known of the line that this computer is on.

    chain: the gateways, outermost first. at: the gateway whose LAN this computer is on, None: it is elsewhere.
    wan: the gateways' outer addresses, as told, or as they say themselves. names: the addresses of each DNS name.
    stun_silent: STUN servers were asked, and none answered. no_way: the router that says that it has no way there.
    goes_by: the router by which this computer goes out, where it is none of the site's. differs: what contradicts each
    other about the public address, the claim first. measured: what a survey looks at beyond that.
    """

    now: datetime
    line: str
    chain: tuple[str, ...]
    at: str | None
    own: SourcedAddress
    default_gateway: SourcedAddress
    public: SourcedAddress
    wan: dict[str, Sourced[str]] = field(default_factory=dict)
    names: dict[str, SourcedAddress] = field(default_factory=dict)
    stun_silent: bool = False
    no_way: IPAddress | None = None
    goes_by: IPAddress | None = None
    differs: tuple[tuple[SourcedAddress, SourcedAddress], ...] = ()
    own6: SourcedAddress = field(default_factory=lambda: Sourced(None, say("no-interface-has-one")))
    public6: SourcedAddress = field(default_factory=lambda: Sourced(None, say("not-measured")))
    measured: Measured | None = None

    @property
    def outside(self) -> IPAddress | None:
        """The public address as somebody outside has it: that a router was read off with one says nothing of that."""
        read_off = self.public.how == "surveyed" or (
            self.public.how == "told" and self.public.source.code != "told-by-a-person"
        )
        return None if read_off else self.public.value


@dataclass(frozen=True, slots=True)
class ClockRow:
    """What one server says of this computer's clock. behind_s: seconds that it is behind; less than 0: ahead.

    within_s: the most by which that may be wrong. server: its address.
    """

    server: str
    behind_s: float
    within_s: float
