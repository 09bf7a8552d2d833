"""Findings on what a router can do: its table, its firewall, its way of handing on, the way back from inside."""

from __future__ import annotations

from collections.abc import Iterator

from hooper import deeds
from hooper.planning.clients import hairpin_lines
from hooper.planning.facts import Facts
from hooper.planning.findings import finding
from hooper.planning.values import EVERYTHING, Finding, LeftOver


def still_stands(one: LeftOver) -> Finding:
    """An entry of ours that the plan does not have."""
    return finding("rule-still-stands", f"services.{one.service}", one.words(), one.remedy())


WORTH_JOINING = 4  # rules on an outer box that one entry could replace


def find(facts: Facts) -> Iterator[Finding]:
    """All findings on routers."""
    counts: dict[str, int] = {}
    for rule in facts.forwards:
        counts[rule.gateway] = counts.get(rule.gateway, 0) + (rule.service != EVERYTHING)
    for key, gateway in sorted(facts.site.gateways.items()):
        subject, limit, count = f"gateways.{key}", gateway.form.rules, counts.get(key, 0)
        if limit is not None and count > limit:
            more = " or hand everything inward (`everything_to`)" if gateway.form.everything else ""
            yield finding(
                "rules-over-limit",
                subject,
                f"{count} rules are needed, and its table holds {limit}",
                f"Join neighbouring ports to ranges,{more} or expose fewer services.".replace(",  or", " or"),
            )
        if gateway.everything_to is not None and not gateway.form.everything:
            yield finding(
                "everything-impossible",
                subject,
                f"everything is to go to {gateway.everything_to}, but its form has no entry for that",
                "Write `form.everything = true` if its page has one (DMZ or exposed host, bridge); else remove"
                " `everything_to`: then it gets single rules.",
            )
        inner = [name for name, other in facts.site.gateways.items() if key in other.behind]
        if gateway.form.everything and gateway.everything_to is None and len(inner) == 1 and count >= WORTH_JOINING:
            yield finding(
                "one-entry-instead",
                subject,
                f"its {count} rules could be one entry that hands everything to {inner[0]}",
                f'Write `everything_to = "{inner[0]}"`; {inner[0]} then is the firewall.',
            )
    for key, refused in facts.no_pinhole.items():
        if refused.code == "no-pinhole":
            yield finding(
                "no-pinhole",
                f"services.{key}",
                f"{refused.gateway} cannot be opened for one host over IPv6",
                'Write `family = "ipv4"` at the service, or use a router whose firewall can.',
            )
    for name, lines in hairpin_lines(facts.site, facts.lines).items():
        if lines.sure:
            yield finding(
                "no-hairpin",
                f'names."{name}"',
                f"inside, {name} does not work: {lines.gateway} does not let devices inside reach the public address",
                f"Give the devices inside a line in their hosts file (`{deeds.HOSTS_FILE}`): "
                + "; ".join(f"{address} {name}" for address in lines.addresses)
                + ("." if len(lines.addresses) == 1 else ". It can lead to one of them only."),
            )
