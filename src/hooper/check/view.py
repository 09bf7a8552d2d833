"""Where this computer is, as far as a look from it proves something about outside."""

from __future__ import annotations

from dataclasses import dataclass, replace
from ipaddress import ip_network
from typing import TYPE_CHECKING, NamedTuple

from hooper.check.results import Unfit
from hooper.errors import UsageError
from hooper.net.nat64 import Nat64Door, nat64_prefix
from hooper.net.whereabouts import at_home, connected_surroundings, standing
from hooper.places import HERE
from hooper.planning.access import peer_at
from hooper.site.references import chain_of, seen_from
from hooper.words.said import say

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.check.wish import Wish
    from hooper.net.types import Door, Surroundings
    from hooper.places import Place
    from hooper.site.model import Site
    from hooper.words.said import Said

PREFIX_S = 1.5  # seconds for how IPv4 is reached from a place that has IPv6 alone
RELAYED = ("proxy", "witness")  # places that another computer is
BEFORE = 0.35  # of the deadline, at most, for what has to be known before anything is probed


class WithinTunnel(NamedTuple):
    """The tunnel of the site that an interface is; peer: this computer; None: nobody in the file has its address."""

    tunnel: str
    peer: str | None


@dataclass(frozen=True)
class View:
    """What a place sees of the site.

    door: what is probed by; where the place has IPv6 alone, through its NAT64. at: the gateway on whose LAN this
    machine is; home: the same, where that LAN has the planned router too. sight: the gateways whose devices this
    machine reaches inside. within: the tunnel that is looked through. unfit: why nothing can be proven from there.
    without4: why IPv4 is not reached from there. six: IPv6 is tried. other_tunnel: somebody else's VPN that is
    looked through. inside: the inner addresses are looked at.
    """

    door: Door
    place: Place
    around: Surroundings
    at: str | None
    home: str | None = None
    sight: tuple[str, ...] = ()
    within: WithinTunnel | None = None
    unfit: Unfit | None = None
    without4: Said | None = None
    six: bool = False
    other_tunnel: str | None = None
    inside: bool = False

    @property
    def sees_site_at(self) -> IPAddress | None:
        """The address at which a witness sees the site; None: the place does not tell."""
        you: IPAddress | None = getattr(self.door, "you", None)
        return you

    @property
    def outside(self) -> bool:
        """Whether the public addresses are what is looked at from there."""
        return self.within is None and not self.inside

    @property
    def proves_outside(self) -> bool:
        """Whether what is seen from there says something about outside."""
        return self.unfit is None and (self.outside or (self.within is not None and self.home is None))


async def view_of(here: Door, outside: Door | None, wish: Wish) -> View:
    """What is seen from `outside`, None: from inside. Raises: NoNetwork; UsageError: no such interface here."""
    site, around = wish.site, await connected_surroundings(here)
    at, home = standing(site, around).gateway, at_home(site, around)
    if outside is None:
        lines = site.gateways[chain_of(site, at)[0]].line if at is not None else ()
        return View(
            here, replace(HERE, line=next(iter(lines), None)), around, at, home, seen_from(site, at), inside=True
        )
    within = within_tunnel(site, outside, around) if wish.origin is None else None
    if within is not None:
        return View(outside, outside.place, around, at, home, within=within)
    interface = around.interface(outside.place.name) if outside.place.kind == "interface" else None
    view = View(
        outside,
        wish.origin or outside.place,
        around,
        at,
        home,
        seen_from(site, at) if wish.origin is None else (),
        unfit=_at_home_itself(wish, outside, home) or useless_interface(site, outside, around),
        six=_tries_six(around, outside),
        other_tunnel=interface.name if interface is not None and interface.tunnel else None,
    )
    alone = six_alone(outside, around) if view.unfit is None else None
    if alone is None:
        return view
    prefix = await nat64_prefix(outside, around.resolvers, min(PREFIX_S, wish.deadline * BEFORE))
    if prefix is None:
        return replace(view, without4=say("no-nat64", place=alone))
    return replace(view, door=Nat64Door(outside, prefix))


def _at_home_itself(wish: Wish, outside: Door, home: str | None) -> Unfit | None:
    """Why nothing is proven by this whole machine as the place outside, where it is at home."""
    away = wish.origin is None or outside.place.kind != "here" or home is None
    return None if away else Unfit("asker-inside", say("unfit-at-home", home=home))


def within_tunnel(site: Site, outside: Door, around: Surroundings) -> WithinTunnel | None:
    """The tunnel that the interface is which is looked from; None: it is none, or this is its server."""
    interface = around.interface(outside.place.name) if outside.place.kind == "interface" else None
    own = interface.ipv4 if interface is not None else None
    if own is None:
        return None
    found = peer_at(site, own)
    return WithinTunnel(*found) if found is not None else None


def has_ipv6(around: Surroundings, interface: str | None) -> bool:
    """Whether packets over IPv6 can leave by an interface, and answers find it. None: by any."""
    own = [one for one in around.interfaces if one.up and not one.loopback and interface in (None, one.name)]
    defaults = [route for route in around.routes or () if route.destination.version == 6]
    leads = any(route.destination.prefixlen == 0 and interface in (None, route.interface) for route in defaults)
    return leads and any(one.ipv6 is not None for one in own)


def _tries_six(around: Surroundings, outside: Door) -> bool:
    """Whether IPv6 is tried from there: by this computer itself, where it has it; not by a proxy."""
    interface = outside.place.name if outside.place.kind == "interface" else None
    return outside.place.kind not in RELAYED and has_ipv6(around, interface)


def six_alone(outside: Door, around: Surroundings) -> str | None:
    """The place that is looked from, where it has IPv6 and no IPv4; None: it has both, or that is not known."""
    if outside.place.kind in RELAYED:
        return None
    if outside.place.kind == "here":
        alone = around.routes is not None and not around.default_routes() and has_ipv6(around, None)
        return "this computer" if alone else None
    interface = around.interface(outside.place.name)
    alone = interface is not None and interface.ipv4 is None and has_ipv6(around, interface.name)
    return outside.place.name if alone else None


def useless_interface(site: Site, outside: Door, around: Surroundings) -> Unfit | None:
    """Why nothing can be proven through this interface; None: it can. Raises: UsageError: there is none such."""
    if outside.place.kind != "interface":
        return None
    name = outside.place.name
    interface = around.interface(name)
    if interface is None:
        known = ", ".join(i.name for i in around.interfaces if not i.loopback) or "none"
        raise UsageError(f"this computer has no interface {name!r}", remedy=f"There are: {known}.")
    inside = next((key for key, one in site.gateways.items() if one.prefix6 is not None and interface.ipv6 is not None
                   and interface.ipv6 in ip_network(one.prefix6)), None)  # fmt: skip
    if inside is not None:
        return Unfit("asker-inside", say("unfit-inside-six", name=name, inside=inside))
    if interface.up and interface.ipv4 is None and has_ipv6(around, name):
        return None
    if not interface.up or interface.ipv4 is None:
        return Unfit("asker-no-way", say("unfit-down", name=name))
    if any(interface.ipv4 in gateway.lan.network for gateway in site.gateways.values()):
        return Unfit("asker-inside", say("unfit-inside", name=name))
    if around.has_default_route(name) is False:
        return Unfit("asker-no-way", say("unfit-no-route", name=name))
    preferred = next((route.interface for route in around.default_routes()), name)
    if interface.strict_return and preferred != name:
        words = say("unfit-return-filter", name=name)
        return Unfit("asker-no-way", words)
    return None
