"""The sheets: what a person enters by hand on each gateway. Cut to what the gateway's own page can do."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hooper.planning.model import Forward, Plan, Reservation, Sheet
from hooper.planning.paths import chains

if TYPE_CHECKING:
    from hooper.site.model import Site


def make_sheets(site: Site, plan: Plan, gateways: Sequence[str] = ()) -> tuple[Sheet, ...]:
    """One sheet for each gateway, outermost first; only those named in `gateways` where that is not empty."""
    of_host = chains(site)
    depth = {key: index for chain in of_host.values() for index, key in enumerate(chain)}
    wanted = [key for key in site.gateways if not gateways or key in gateways]
    wanted.sort(key=lambda key: (depth.get(key, 0), key))
    rules: dict[str, list[Forward]] = {key: [] for key in wanted}
    for forward in plan.forwards:
        if forward.gateway in rules:
            rules[forward.gateway].append(forward)
    return tuple(
        Sheet(
            gateway=key,
            rules=tuple(rules[key]),
            reservations=tuple(
                Reservation(host_key, str(host.address), host.mac)
                for host_key, host in sorted(site.hosts.items())
                if host.address_from == "reservation" and of_host[host_key][-1] == key
            ),
            routes=(),
            notes=tuple(_notes(site, key, rules[key])),
        )
        for key in wanted
    )


def _notes(site: Site, key: str, rules: Sequence[Forward]) -> list[str]:
    gateway, notes = site.gateways[key], []
    if gateway.managed_by == "provider":
        notes.append(
            "This box is the provider's. If you cannot log in, or its page has no such rules, ask the provider to"
            " enter them."
        )
    for inner_key, inner in site.gateways.items():
        wan = inner.wan_behind(key)
        if wan is not None and any(rule.target_address == str(wan) for rule in rules):
            notes.append(
                f"{wan} is {inner_key}, seen from this box. It must keep that address: set it on {inner_key},"
                " or reserve it here."
            )
    services = [rule.service for rule in rules]
    twice = sorted({name for name in services if services.count(name) > 1})
    if twice:
        notes.append(f"This page cannot say it in one rule, so it stands in several: {', '.join(twice)}.")
    limited = sorted({name for name in services if site.services[name].sources and not gateway.form.sources})
    if limited:
        notes.append(
            f"This page cannot limit a rule to allowed sources. That is right here: another box limits"
            f" {', '.join(limited)}."
        )
    if not rules:
        notes.append("Nothing has to be entered here.")
    return notes


def sheet_mark(plan: Plan, gateway: str) -> str:
    """What a ticked sheet is known by: it counts only while the rules are those that were ticked off."""
    rules = [rule for rule in plan.forwards if rule.gateway == gateway]
    return hashlib.sha256(repr(rules).encode()).hexdigest()[:16]


def labels(rules: Sequence[Forward], length: int) -> list[str]:
    """A label for each rule: the service's key, cut to `length` characters, each only once."""
    out: list[str] = []
    for rule in rules:
        label, number = rule.service[:length], 2
        while label in out:
            end = str(number)
            label, number = rule.service[: max(0, length - len(end))] + end, number + 1
        out.append(label)
    return out
