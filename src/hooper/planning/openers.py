"""Who may open what for whom: asker, protocol, target, and whether the gateway opens for others. Pure.

The table is what real routers were seen to do, held against the standards: IGD's AddPortMapping
(WANIPConnection:2 section 2.5.16), PCP's MAP with THIRD_PARTY and FILTER (RFC 6887 sections 11 and 13), NAT-PMP
(RFC 6886 section 3.3).
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from ipaddress import ip_network
from typing import TYPE_CHECKING, Literal, NamedTuple

from hooper import deeds
from hooper.planning.paths import RULES_FOR_A_RANGE
from hooper.planning.values import EVERYTHING, Entering, Possible
from hooper.site.fields import CONTROLS
from hooper.site.references import made_gateways

if TYPE_CHECKING:
    from hooper.planning.topology import Topology
    from hooper.planning.values import Forward, Plan
    from hooper.site.model import Site
    from hooper.sourced import Sourced

Protocol = Literal["igd", "pcp", "natpmp"]
OWN: tuple[Protocol, ...] = ("igd", "pcp", "natpmp")
Target = Literal["own", "other", "beyond"]
NAMES = {"igd": "IGD", "pcp": "PCP", "natpmp": "NAT-PMP"}
DRIVEN = ("auto", "igd")  # values of `control` by which Hooper enters rules itself


def not_driven(site: Site, key: str) -> str | None:
    """Why Hooper enters no rules on a gateway itself; None: it does."""
    control = site.gateways[key].control
    if (tunnel := made_gateways(site).get(key)) is not None:
        return _by_files(tunnel)
    if control in DRIVEN or control not in CONTROLS:
        return None
    return "it is driven by hand" if control == "hand" else f"Hooper does not enter rules by {called(control)} yet"


def called(protocol: str) -> str:
    """A protocol's name in sentences; a driver of another package goes by its own."""
    return NAMES.get(protocol, protocol)


def driven_gateways(site: Site) -> tuple[str, ...]:
    """The gateways on which Hooper enters rules itself."""
    return tuple(key for key in site.gateways if not_driven(site, key) is None)


def _by_files(tunnel: str) -> str:
    return f"its rules come with the files that `{deeds.MAKE_TUNNEL(tunnel)}` writes"


class Opening(NamedTuple):
    """One row of the table.

    target: "own": the address that the gateway sees asking (from behind a further router: that router's WAN
    address); "other": another device on the gateway's LAN; "beyond": an address that is not on its LAN.
    opens_for_others: as the gateway is set; None stands for not known. possible: whether it opens.
    """

    protocol: Protocol
    target: Target
    opens_for_others: bool | None
    possible: Possible
    reason: str


TABLE: tuple[Opening, ...] = (
    Opening("igd", "own", True, "yes", "it asks for itself"),
    Opening("igd", "own", False, "yes", "it asks for itself"),
    Opening("igd", "own", None, "yes", "it asks for itself"),
    Opening("igd", "other", True, "yes", "this router lets one device open ports for another"),
    Opening("igd", "other", False, "no", "this router opens ports only for the device that asks"),
    Opening("igd", "other", None, "unknown", "many routers open ports only for the device that asks"),
    Opening("pcp", "own", True, "yes", "it asks for itself"),
    Opening("pcp", "own", False, "yes", "it asks for itself"),
    Opening("pcp", "own", None, "yes", "it asks for itself"),
    Opening("pcp", "other", True, "unknown", "it needs the THIRD_PARTY option, which most routers have switched off"),
    Opening("pcp", "other", False, "no", "this router opens ports only for the device that asks"),
    Opening("pcp", "other", None, "unknown", "it needs the THIRD_PARTY option, which most routers have switched off"),
    Opening("natpmp", "own", True, "yes", "it asks for itself"),
    Opening("natpmp", "own", False, "yes", "it asks for itself"),
    Opening("natpmp", "own", None, "yes", "it asks for itself"),
    Opening("natpmp", "other", True, "no", "NAT-PMP has no way to name another device"),
    Opening("natpmp", "other", False, "no", "NAT-PMP has no way to name another device"),
    Opening("natpmp", "other", None, "no", "NAT-PMP has no way to name another device"),
)
BEYOND = "the address is not on its own LAN, and no router opens ports for such"
_LOOKUP = {(row.protocol, row.target, row.opens_for_others): row for row in TABLE}


def may_open(protocol: Protocol, target: Target, *, opens_for_others: bool | None) -> Opening:
    """What the table says."""
    if target == "beyond":
        return Opening(protocol, target, opens_for_others, "no", BEYOND)
    return _LOOKUP[protocol, target, opens_for_others]


def cannot_say(protocol: Protocol, rule: Forward) -> str | None:
    """Why a protocol has no words for a rule, whoever asks; None: it has."""
    if rule.service == EVERYTHING:
        return "no protocol can hand everything on"
    if rule.kind == "pinhole":
        return "openings for IPv6 are entered by hand"
    if rule.outside_ports is None:
        return None if protocol == "pcp" else f"{NAMES[protocol]} knows rules for TCP and UDP only"
    if rule.outside_ports[1] - rule.outside_ports[0] >= RULES_FOR_A_RANGE:
        return f"{NAMES[protocol]} would need a rule for each port of a wide range"
    if rule.sources and protocol == "natpmp":
        return "NAT-PMP cannot limit a rule to allowed sources"
    if rule.sources and protocol == "igd" and any(ip_network(source).num_addresses > 1 for source in rule.sources):
        return f"IGD can limit a rule to single addresses, not to {', '.join(rule.sources)}"
    return None


def entering(topology: Topology, plan: Plan) -> Iterator[Entering]:
    """For each service and gateway of the plan, how its rules can be put there.

    This computer is the host `here` of the site file; without it, some other device on the LAN of the service's host.
    """
    site = topology.site
    here, made = site.hosts.get(site.site.here or ""), made_gateways(site)
    seen: set[tuple[str, str]] = set()
    for rule in plan.forwards:
        if (rule.gateway, rule.service) in seen:
            continue
        seen.add((rule.gateway, rule.service))
        gateway = site.gateways[rule.gateway]
        if rule.gateway in made:
            yield Entering(rule.gateway, rule.service, None, "no", "no", False, _by_files(made[rule.gateway]))
            continue
        if gateway.control == "hand":
            reason = f"{rule.gateway} is driven by hand"
            yield Entering(rule.gateway, rule.service, None, "no", "no", True, reason)
            continue
        protocol = next((one for one in OWN if one == gateway.control), None)
        if gateway.control == "auto":
            protocol = "igd"
        if protocol is None:  # a driver of another package: it says itself, when it is asked, what it cannot
            reason = f"{gateway.control} enters it"
            yield Entering(rule.gateway, rule.service, gateway.control, "unknown", "no", True, reason)
            continue
        dumb = cannot_say(protocol, rule)
        if dumb is not None:
            yield Entering(rule.gateway, rule.service, protocol, "no", "no", True, dumb)
            continue
        service = site.services[rule.service]
        device_chain = topology.hosts[service.host][0].gateways
        asker_chain = (
            topology.hosts[site.site.here][0].gateways if here is not None and site.site.here else device_chain
        )
        asker = str(here.address) if here is not None else ""
        from_here = _asked(site, protocol, rule, asker_chain, asker)
        from_device = _asked(site, protocol, rule, device_chain, str(site.devices[service.host].address))
        reason = from_here.reason
        if (lacking := not_driven(site, rule.gateway)) is not None:
            from_here = from_here._replace(possible="no", reason=lacking)
            reason = lacking
        if from_here.possible != "yes" and from_device.possible == "yes":
            reason += "; the device itself may ask"
        possible = from_here.possible, from_device.possible
        yield Entering(rule.gateway, rule.service, protocol, *possible, True, reason)


def _asked(site: Site, protocol: Protocol, rule: Forward, chain: tuple[str, ...], asker: str) -> Opening:
    """What happens when a device behind `chain` asks; asker: its address, "" for one that is not the target."""
    opens = site.gateways[rule.gateway].opens_for_others
    if rule.gateway not in chain:
        return Opening(protocol, "beyond", opens, "no", f"that machine is not behind {rule.gateway}")
    at = chain.index(rule.gateway)
    if at + 1 < len(chain):  # the gateway sees the next router asking
        asker = str(site.gateways[chain[at + 1]].wan_behind(rule.gateway))
    target: Target = "own" if rule.target_address == asker else "other"
    return may_open(protocol, target, opens_for_others=opens)


def ticked_sheets(
    site: Site,
    plan: Plan,
    gateways: Iterable[str],
    told: Mapping[str, Sourced[str]],
) -> dict[str, Sourced[str]]:
    """The gateways whose sheet was ticked off as it now stands, with when. told: as the store keeps it."""
    ticks = {key: told[f"gateways.{key}/sheet"] for key in gateways if f"gateways.{key}/sheet" in told}
    if not ticks:
        return {}
    from hooper.planning.worksheet import sheet_mark

    return {key: tick for key, tick in ticks.items() if tick.value == sheet_mark(site, plan, key)}


def typed_marks(topology: Topology, plan: Plan, gateways: Iterable[str], held: Collection[str]) -> dict[str, str]:
    """By gateway, what the part of its sheet is known by that a person has to type: without what is kept back, and what
    a program enters.
    """
    from hooper.planning.worksheet import sheet_mark

    site = topology.site
    entered: dict[str, set[str]] = {key: set() for key in gateways}
    for way in entering(topology, plan):
        if way.from_here != "no" and way.gateway in entered and not_driven(site, way.gateway) is None:
            entered[way.gateway].add(way.service)
    return {key: sheet_mark(site, plan, key, without=held, entered=program) for key, program in entered.items()}
