"""What is known of a line and of a service, with where it comes from: the input of all judging. Pure."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta

from hooper.addresses import IPAddress
from hooper.reach.model import Result

FRESH = timedelta(hours=1)  # what was told longer ago is still evidence, but nothing is certain by it


@dataclass(frozen=True, slots=True)
class Told:
    """Something that the user read off a page or a device, and when; or what a router's own table says now."""

    value: str
    at: datetime
    how: str = "told"

    def fresh(self, now: datetime) -> bool:
        return now - self.at <= FRESH

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


@dataclass(frozen=True)
class LineFacts:
    """What is known of the line that this machine is on.

    chain: the gateways, outermost first. at: the gateway whose LAN this machine is on, None: it is elsewhere.
    wan: what was told of the gateways' outer addresses. names: the addresses of each DNS name, None: not told.
    stun_silent: STUN servers were asked, and none answered.
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
