"""The person at a router's page: enters what a worksheet says, and reads numbers off."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from typing import Any

from hooper import deeds
from hooper.chosen import chosen
from hooper.errors import UsageError
from hooper.jsonform import read_as
from hooper.lab.boathouse import CLUB, GUEST
from hooper.lab.things import Box, FirewallOpening, Rule, overlapping, type_rule
from hooper.lab.town import Town
from hooper.planning.values import Forward
from hooper.planning.worksheet import labels


def type_sheets(town: Town, sheets: Any, *, wrongly: bool = False) -> list[dict[str, Any]]:
    """Enter the sheets of a `worksheet` document; all of it is checked before the first rule is entered.

    wrongly: as a tired hand does: the last figure of each inside address is one too high.
    Raises: UsageError: not a worksheet, or a page that would not take a rule.
    """
    if not isinstance(sheets, list) or not all(isinstance(sheet, dict) for sheet in sheets):
        raise UsageError("this is not a worksheet document", remedy=f"Give it the output of `{deeds.SHEET_DOCUMENT}`.")
    pages = [(_box(town, sheet), sheet) for sheet in sheets]
    entries = [(box, sheet, _rules(box, sheet)) for box, sheet in pages]
    entered: list[dict[str, Any]] = []
    for box, sheet, rules in entries:
        for service, rule in rules:
            if wrongly and isinstance(rule, Rule):
                rule = replace(rule, target=rule.target + 1)
            outcome = _type_opening(box, rule) if isinstance(rule, FirewallOpening) else type_rule(box, rule)
            entered.append({"gateway": box.key, "service": service, **_shown(rule), "outcome": outcome})
        for route in sheet.get("routes", []):
            entered_route = (IPv4Network(route["prefix"]), IPv4Address(route["via"]))
            if entered_route not in box.routes:
                box.routes.append(entered_route)
        for reservation in sheet.get("reservations", []):
            if reservation not in box.reservations:
                box.reservations.append(reservation)
    return entered


def _box(town: Town, sheet: dict[str, Any]) -> Box:
    """The router of a sheet: of that name, else the one whose page opens at its address."""
    key, page = str(sheet.get("gateway")), sheet.get("page")
    if key not in town.boxes:
        key = next((box.key for box in town.boxes.values() if box.is_router and str(box.lan.ip) == page), key)
    chosen((key,), [box.key for box in town.boxes.values() if box.is_router], "router")
    return town.boxes[key]


def _type_opening(box: Box, opening: FirewallOpening) -> str:
    if opening in box.openings:
        return "already"
    box.openings.append(opening)
    return "added"


def _rules(box: Box, sheet: dict[str, Any]) -> list[tuple[str, Rule | FirewallOpening]]:
    forwards: list[Forward] = []
    for row in sheet.get("rules", []):
        try:
            forwards.append(read_as(Forward, row))
        except ValueError:
            raise UsageError(f"a rule for {box.key} is incomplete: {row!r}"[:200]) from None
    out: list[tuple[str, Rule | FirewallOpening]] = []
    for forward, label in zip(forwards, labels(forwards, box.label_length), strict=True):
        if forward.kind == "pinhole":
            out.append((forward.service, _opening(box, forward, label)))
            continue
        rule = _rule(box, forward, label)
        clash = overlapping([*box.rules, *(other for _, other in out if isinstance(other, Rule))], rule)
        if clash is not None:
            raise UsageError(
                f"{box.key} does not take the rule for {forward.service}:"
                f" port {rule.outside[0]} is used by {clash.label}",
                remedy=f"A page refuses overlapping ports; see the findings of `{deeds.PLAN}`.",
            )
        out.append((forward.service, rule))
    return out


def _opening(box: Box, forward: Forward, label: str) -> FirewallOpening:
    """The page for the firewall of IPv6: the device's own address and ports."""
    try:
        address, ports = IPv6Address(forward.target_address), _ports(forward.target_ports)
        return FirewallOpening(
            label, forward.transport, address, ports, tuple(IPv6Network(one) for one in forward.sources)
        )
    except (TypeError, ValueError) as exc:
        raise UsageError(f"{box.key} does not take the opening for {forward.service}: {exc}") from None


def _rule(box: Box, forward: Forward, label: str) -> Rule:
    """A form takes only what it has fields for."""
    if forward.transport not in (("tcp", "udp", "both") if box.both else ("tcp", "udp")):
        raise UsageError(f"the page of {box.key} has no choice {forward.transport!r} for the transport")
    if forward.sources and not box.keeps_sources:
        raise UsageError(f"the page of {box.key} has no field for allowed sources")
    try:
        outside, inside = _ports(forward.outside_ports), _ports(forward.target_ports)
        target = IPv4Address(forward.target_address)
        sources = tuple(IPv4Network(source) for source in forward.sources)
    except (TypeError, ValueError) as exc:
        raise UsageError(f"{box.key} does not take the rule for {forward.service}: {exc}") from None
    if target not in box.lan.network:
        raise UsageError(
            f"{box.key} does not take {target} for {forward.service}: not in its network {box.lan.network}"
        )
    return Rule(label, forward.transport, outside, target, inside, sources)


def _ports(value: Any) -> tuple[int, int]:
    first, last = value
    if not (type(first) is int and type(last) is int and 1 <= first <= last <= 65535):
        raise ValueError(f"{value!r} are no ports")
    return first, last


def _shown(rule: Rule | FirewallOpening) -> dict[str, Any]:
    if isinstance(rule, FirewallOpening):
        outside, target, inside = rule.ports, str(rule.address), rule.ports
    else:
        outside, target, inside = rule.outside, str(rule.target), rule.target_ports
    return {
        "label": rule.label,
        "transport": rule.transport,
        "outside_ports": list(outside),
        "target_address": target,
        "target_ports": list(inside),
        "sources": [str(source) for source in rule.sources],
    }


def _state(rule: Rule, now: datetime) -> str:
    """What the page says beside it: on, off, ended, or another outside interface."""
    if not rule.enabled:
        return "off"
    if rule.until is not None and rule.until <= now:
        return "ended"
    return "on" if rule.interface == "internet" else f"on, {rule.interface}"


def _page(box: Box, now: datetime) -> list[Rule]:
    """All that its page lists: what has ended too, unless a program had made it."""
    box.live_rules(now)
    return box.rules


def read_tables(town: Town, gateways: Iterable[str]) -> list[dict[str, Any]]:
    """What stands on the routers' pages. Raises: UsageError: no such router."""
    chosen = [_box(town, {"gateway": key}) for key in gateways] or [box for box in town.boxes.values() if box.is_router]
    return [
        {
            "gateway": box.key,
            "wan_address": str(box.wan),
            "lan": str(box.lan),
            "rules": [
                *({**_shown(rule), "state": _state(rule, town.now())} for rule in _page(box, town.now())),
                *({**_shown(opening), "state": "on"} for opening in box.openings),
            ],
            "reservations": box.reservations,
            "devices": [
                {"mac": a.mac, "address": str(a.address)}
                for node in town.nodes.values()
                for a in node.attachments
                if a.segment in ((box.inner, GUEST) if box.inner == CLUB else (box.inner,))
            ],
        }
        for box in chosen
    ]
