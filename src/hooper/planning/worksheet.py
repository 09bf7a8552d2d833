"""The sheets: what a person enters by hand on each gateway. Cut to what the gateway's own page can do."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.clients import hairpin_lines
from hooper.planning.documents import ClientLine, OwnService, Reservation, Sheet, SheetChange
from hooper.planning.paths import gateway_of
from hooper.planning.routes import return_routes
from hooper.planning.topology import Topology
from hooper.planning.values import EVERYTHING, Forward, Plan
from hooper.site.references import made_gateways

if TYPE_CHECKING:
    from hooper.site.model import Site


def make_sheets(
    topology: Topology, plan: Plan, gateways: Sequence[str] = (), *, without: Mapping[str, str] | None = None
) -> tuple[Sheet, ...]:
    """One sheet for each gateway, outermost first.

    gateways: only these, where it is not empty. without: services whose rules are left out, with the reason.
    """
    site, without = topology.site, without or {}
    depth = {key: at for chains in topology.hosts.values() for chain in chains for at, key in enumerate(chain.gateways)}
    wanted = [key for key in site.gateways if not gateways or key in gateways]
    wanted.sort(key=lambda key: (depth.get(key, 0), key))
    made_by = made_gateways(site)
    rules: dict[str, list[Forward]] = {key: [] for key in wanted}
    for forward in plan.forwards:
        if forward.gateway in rules and forward.service not in without:
            rules[forward.gateway].append(forward)
    routes = return_routes(site)
    return tuple(
        _by_files(key, made_by[key])
        if key in made_by
        else Sheet(
            gateway=key,
            rules=tuple(rules[key]),
            reservations=tuple(_reservations(site, key)),
            routes=tuple(routes.get(key, ())),
            own=tuple(own_services(site, key, without)),
            notes=tuple(_notes(site, key, rules[key], without)),
            page=str(site.gateways[key].lan.ip),
        )
        for key in wanted
    )


def _by_files(key: str, tunnel: str) -> Sheet:
    """A rented machine, or the site's end of the tunnel to it: nothing is entered there by hand."""
    note = f"Nothing to enter: {key} takes its rules from the files that `{deeds.MAKE_TUNNEL(tunnel)}` writes."
    return Sheet(gateway=key, rules=(), reservations=(), routes=(), own=(), notes=(note,))


def own_services(site: Site, gateway: str, without: Collection[str] = ()) -> Iterator[OwnService]:
    """What is switched on and let in on a gateway itself, as it is not handed on."""
    for key, service in sorted(site.services.items()):
        if service.host == gateway and service.reach == "public" and key not in without:
            ports = service.used_ports if service.has_ports else None
            yield OwnService(key, service.speaks, service.used_transport, ports, tuple(map(str, service.sources)))


def _reservations(site: Site, gateway: str) -> list[Reservation]:
    out = [
        Reservation(key, str(wan), other.mac)
        for key, other in sorted(site.gateways.items())
        if other.wan_from == "reservation"
        and (wan := other.wan_behind(gateway)) is not None
        and gateway in other.behind
    ]
    return out + [
        Reservation(key, str(host.address), host.mac)
        for key, host in sorted(site.hosts.items())
        if host.address_from == "reservation" and gateway_of(site, host) == gateway
    ]


def _notes(site: Site, key: str, rules: Sequence[Forward], without: Mapping[str, str]) -> list[str]:
    gateway, notes = site.gateways[key], []
    if gateway.managed_by == "provider":
        notes.append(
            "This router is the provider's. If you cannot log in, or its page has no such rules, ask the provider to"
            f" enter them: `{deeds.LETTER(key)}` is the letter."
        )
    for inner_key, inner in site.gateways.items():
        wan = inner.wan_behind(key)
        if wan is not None and key in inner.behind and any(rule.target_address == str(wan) for rule in rules):
            notes.append(
                f"{wan} is {inner_key}, seen from this router. It must keep that address: set it on {inner_key},"
                " or reserve it here."
            )
    services = [rule.service for rule in rules if rule.kind == "forward"]
    twice = sorted({name for name in services if services.count(name) > 1 and name != EVERYTHING})
    if twice:
        notes.append(f"This page cannot say it in one rule, so it stands in several: {', '.join(twice)}.")
    if EVERYTHING in services and len(set(services)) > 1:
        notes.append("The single rules go before the entry for everything else; the page sees to that.")
    limited = sorted({name for name in services if name != EVERYTHING and _limited(site, name, gateway.form.sources)})
    if limited:
        notes.append(
            f"This page cannot limit a rule to allowed sources. That is right here: another router limits"
            f" {', '.join(limited)}."
        )
    notes += [f"Left out: {service}: {reason}." for service, reason in sorted(without.items())]
    if not rules and not without:
        notes.append("No rule has to be entered here.")
    return notes


def _limited(site: Site, service: str, keeps: bool) -> bool:
    return bool(site.services[service].sources) and not keeps


def sheet_mark(
    site: Site, plan: Plan, gateway: str, *, without: Collection[str] = (), entered: Collection[str] = ()
) -> str:
    """What a ticked sheet is known by: it counts only while the rules, its routes and its own services are those that
    were ticked off.

    without: services that the sheet left out; once they are on it, it is another sheet. entered: those whose forwards a
    program enters.
    """
    own = (rule for rule in plan.forwards if rule.gateway == gateway and rule.service not in without)
    rules = [rule for rule in own if rule.kind == "pinhole" or rule.service not in entered]
    more = [*return_routes(site).get(gateway, ()), *own_services(site, gateway, {*without, *entered})]
    return hashlib.sha256((repr(rules) + (repr(more) if more else "")).encode()).hexdigest()[:16]


def without_entered(sheets: Sequence[Sheet], entered: Collection[tuple[str, str]]) -> tuple[Sheet, ...]:
    """The sheets without the rules that were entered already. entered: gateway and service, each."""
    out = []
    for sheet in sheets:
        there = [one for one in sheet.rules if one.kind == "forward" and (sheet.gateway, one.service) in entered]
        rest = tuple(rule for rule in sheet.rules if rule not in there)
        gone = dict.fromkeys(rule.service for rule in there)
        said = f"Left out, since `{deeds.OPEN}` has entered them and they still last: {', '.join(gone)}."
        out.append(replace(sheet, rules=rest, notes=(*sheet.notes, *([said] if gone else []))))
    return tuple(out)


def labels(rules: Sequence[Forward], length: int, *, dashes: bool = True) -> list[str]:
    """A label for each rule: the service's key, cut to `length` characters, each only once.

    dashes: whether the page takes anything but letters and digits.
    """
    out: list[str] = []
    taken: set[str] = set()
    for rule in rules:
        name = rule.service if dashes else "".join(letter for letter in rule.service if letter.isalnum())
        label, number = name[:length], 2
        while label in taken:
            end = str(number)
            label, number = name[: max(0, length - len(end))] + end, number + 1
        taken.add(label)
        out.append(label)
    return out


def changes_since(gateway: str, before: Sequence[Forward], after: Sequence[Forward]) -> list[SheetChange]:
    """What is to be done on a gateway that has the rules `before`, so that it has those `after`. Removals first."""

    def key(rule: Forward) -> tuple[object, ...]:
        return rule.kind, rule.service, rule.transport, rule.outside_ports, rule.outside_address

    old, new = {key(rule): rule for rule in before}, {key(rule): rule for rule in after}
    out = [SheetChange(gateway, "remove", rule, rule) for name, rule in old.items() if name not in new]
    out += [
        SheetChange(gateway, "alter", rule, old[name])
        for name, rule in new.items()
        if name in old and _entered(old[name]) != _entered(rule)
    ]
    return out + [SheetChange(gateway, "enter", rule, None) for name, rule in new.items() if name not in old]


def _entered(rule: Forward) -> tuple[object, ...]:
    return rule.target_address, rule.target_ports, rule.sources


def client_lines(topology: Topology) -> tuple[ClientLine, ...]:
    """Lines for the hosts files of devices inside. needed: it is known that the public address does not work there."""
    site = topology.site
    public = {key: line for key, line in topology.lines.items() if site.services[key].reach == "public"}
    out = []
    for name, found in hairpin_lines(site, public).items():
        for address in found.addresses:
            services = tuple(
                key for key in found.services if str(site.devices[site.services[key].host].address) == address
            )
            out.append(ClientLine(name, address, services, found.sure))
    return tuple(out)
