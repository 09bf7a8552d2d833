"""What a check is asked for, and what it comes to."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.check.certificates import Judge
from hooper.check.results import From
from hooper.line.sources import Given

if TYPE_CHECKING:
    from hooper.check.handshake_keys import TunnelKeys
    from hooper.check.results import InsideSeen, Result, Unfit
    from hooper.check.targets import Target
    from hooper.errors import HooperError
    from hooper.gateways.reading import Tables
    from hooper.line.sources import PublicAddress
    from hooper.places import Place
    from hooper.planning.topology import Topology
    from hooper.planning.unfolded import SideDoor
    from hooper.planning.values import Finding, Forward
    from hooper.site.model import Site
    from hooper.words.said import Said


@dataclass(frozen=True)
class Wish:
    """What is to be checked.

    known: what is known of the lines before anything is asked. public: addresses that were found already, by line.
    deadline: seconds for all of it. base: the site file's folder. transports: only these are probed. by_number: names
    are not tried. doors: where the rules of one service lead to another. heard: is told how far it is, with each
    probe that ends. keys: by service, for the handshakes of tunnels. origin: this computer itself is outside, there.
    forwards: the plan's rules. tables: the routers' own, which tell where rules really lead. revoked: the certificates
    of the site that were, by fingerprint.
    """

    topology: Topology
    services: Sequence[str]
    deadline: float
    known: Given = field(default_factory=Given)
    public: Mapping[str, PublicAddress] = field(default_factory=dict)
    base: Path = Path()
    transports: tuple[str, ...] = ()
    by_number: bool = False
    doors: tuple[SideDoor, ...] = ()
    heard: Callable[[str], None] = lambda text: None
    keys: Mapping[str, TunnelKeys] = field(default_factory=dict)
    origin: Place | None = None
    forwards: Sequence[Forward] = ()
    tables: Tables | None = None
    revoked: frozenset[str] = frozenset()

    @property
    def site(self) -> Site:
        return self.topology.site

    def keyed(self, target: Target) -> Target:
        """A target with the keys that its handshake takes."""
        return replace(target, keys=self.keys.get(target.service))

    def takes(self, target: Target) -> bool:
        """Whether a target is looked at: of others than the first service, only those of some transports may be."""
        return not self.transports or target.transport in self.transports or target.service == self.services[0]

    @cached_property
    def judge(self) -> Judge:
        return Judge(self.site, self.base, self.revoked)


@dataclass
class Outcome:
    """The document of a check, what of the inside is worth keeping, services not probed, trouble, remarks.

    unfit: why nothing can be proven from this place; None: it can. tunnel_from: somebody else's VPN that was
    looked through. by_tunnel: it was looked through a tunnel of the site. strangers: of what was seen inside, what is
    not the device that was known before. rules: what routers' tables say of services' rules, as SUBJECT/ASPECT.
    """

    place: Place
    proves_outside: bool
    results: list[Result] = field(default_factory=list)
    inside: dict[tuple[str, str, int], InsideSeen] = field(default_factory=dict)
    skipped: dict[str, Said] = field(default_factory=dict)
    errors: list[HooperError] = field(default_factory=list)
    remarks: list[Said] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    public: Mapping[str, PublicAddress] = field(default_factory=dict)
    unfit: Unfit | None = None
    tunnel_from: str | None = None
    by_tunnel: bool = False
    strangers: set[tuple[str, str, int]] = field(default_factory=set)
    rules: dict[str, str] = field(default_factory=dict)

    @property
    def origin(self) -> From:
        """As documents say where it was looked from."""
        families = {result.family for result in self.results if result.target_address is not None}
        family = families.pop() if len(families) == 1 else None
        return From.of(replace(self.place, family=family), proves_outside=self.proves_outside)
