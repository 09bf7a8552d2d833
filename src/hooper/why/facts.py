"""What is known of one service beside its line: the input of a diagnosis. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from hooper.addresses import IPAddress
from hooper.check.results import Hairpin, Result, Unfit, Verdict
from hooper.check.typed_names import NameSeen
from hooper.line.facts import ClockRow, LineFacts
from hooper.sourced import Sourced
from hooper.words.said import Said


@dataclass(frozen=True, slots=True)
class TunnelSeen:
    """What the server of the service's tunnel told of itself. key: its own is that of the site file; None: not told.
    probe: it knows the probe; None: not told.
    """

    tunnel: str
    key: bool | None = None
    probe: bool | None = None


@dataclass(frozen=True)
class ServiceFacts:
    """What is known of one service, beside its line.

    inside: the probe at the inner address. answers_by: the transports by which it answers there.
    outside: the probes at the public one, None: not looked. outside6: those at the host's own IPv6 address.
    others: did public services of other devices answer from outside? None: not looked, or there are none.
    host_reached: another service of the same host answered there, so that its answers find the way out.
    stored_at: when the outside was seen, where that is an earlier result.
    mac_seen: the MAC that answers at the host's address now; elsewhere: where the host's MAC answers instead.
    doubtful: nothing shows that the device is there now: what this computer remembers of it may be old.
    rules: what was told of the routers' rules, or read in their tables: there, missing, off, limited, unseen (a table
    that may not show all does not have it), or the address that a rule names.
    ticked: the gateways whose sheet the user has ticked off as it now stands.
    host_at: the address that the device has, as told.
    tunnel: of a service whose handshake was tried. saw: what a person saw, in their words.
    ways: by transport, how a stand-in for it was reached from outside: a verdict.
    at_loopback: this computer is the host, and what its loopback address says; None: it is not, or was not asked.
    inside6: the probe at the host's IPv6 address, from its own network. hairpin: the public address, as this computer
    reaches it from inside; None: not looked. clock: what a server of time says of this computer's clock, where a
    certificate is judged by it. put_back: that the service's new certificate was taken back, in words. named: what each
    name has, at its own servers too. published: what Hooper last published under each, and when. unfit: why the place
    that was to be looked from proves nothing. tunnel_from: the VPN that was looked through. tunnel_in: the VPN of this
    computer that takes what is sent to the device. entered: the routers at which Hooper has entered its rule.
    """

    line: LineFacts
    service: str
    inside: Result | None
    nobody_inside: bool
    outside: Result | None
    answers_by: tuple[str, ...] = ()
    others: bool | None = None
    host_reached: bool = False
    stored_at: datetime | None = None
    mac_seen: str | None = None
    elsewhere: IPAddress | None = None
    doubtful: bool = False
    rules: dict[str, Sourced[str]] = field(default_factory=dict)
    ticked: dict[str, Sourced[str]] = field(default_factory=dict)
    host_at: Sourced[str] | None = None
    tunnel: TunnelSeen | None = None
    saw: Sourced[str] | None = None
    ways: dict[str, Sourced[str]] = field(default_factory=dict)
    outside6: Result | None = None
    at_loopback: Verdict | None = None
    inside6: Result | None = None
    hairpin: Hairpin | None = None
    named: Mapping[str, NameSeen] = field(default_factory=dict)
    published: Mapping[str, Sourced[str]] = field(default_factory=dict)
    unfit: Unfit | None = None
    tunnel_from: str | None = None
    tunnel_in: str | None = None
    entered: tuple[str, ...] = ()
    clock: ClockRow | None = None
    put_back: Sourced[Said] | None = None

    @property
    def looks_like(self) -> tuple[str, str] | None:
        """Whom a stranger outside looks like: "service" or "gateway", and its key; None: nobody known."""
        like = self.outside.looks_like if self.outside is not None else None
        kind, colon, key = (like or "").partition(":")
        return (kind, key) if colon else None
