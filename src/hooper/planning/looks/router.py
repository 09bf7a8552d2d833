"""Findings on what a router can do: its table, its firewall, its way of handing on, the way back from inside."""

from __future__ import annotations

from collections.abc import Iterator

from hooper.planning.clients import hairpin_lines
from hooper.planning.facts import Facts
from hooper.planning.findings import finding, finds
from hooper.planning.values import EVERYTHING, Finding, LeftOver
from hooper.words.said import NOTHING, say


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
            more = say("or-hand-everything-inward") if gateway.form.everything else NOTHING
            yield finds(
                "rules-over-limit", subject, do=say("join-neighbouring-ports-to", more=more), count=count, limit=limit
            )
        if gateway.everything_to is not None and not gateway.form.everything:
            yield finds("everything-impossible", subject, everything_to=gateway.everything_to)
        inner = [name for name, other in facts.site.gateways.items() if key in other.behind]
        if gateway.form.everything and gateway.everything_to is None and len(inner) == 1 and count >= WORTH_JOINING:
            yield finds("one-entry-instead", subject, count=count, inner=inner[0])
    for key, refused in facts.no_pinhole.items():
        if refused.code == "no-pinhole":
            yield finds("no-pinhole", f"services.{key}", gateway=refused.gateway)
    for name, lines in hairpin_lines(facts.site, facts.lines).items():
        if lines.sure:
            yield finds(
                "no-hairpin.find",
                f'names."{name}"',
                do=say("no-hairpin.find.do")
                + "; ".join(f"{address} {name}" for address in lines.addresses)
                + ("." if len(lines.addresses) == 1 else say("it-can-lead-to")),
                name=name,
                gateway=lines.gateway,
            )
