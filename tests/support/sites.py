"""Small site files for tests."""

from __future__ import annotations

from datetime import date

from hooper.planning.plan import make_plan
from hooper.planning.values import Plan
from hooper.site.load import SiteFile, parse_site

TODAY = date(2026, 5, 1)
ONE_BOX = """\
version = 1
[lines.fibre]
address = "dynamic"
[gateways.box]
line = "fibre"
lan = "10.44.7.1/24"
pool = "10.44.7.100-10.44.7.199"
[hosts.hub]
address = "10.44.7.50"
"""


def site(text: str) -> SiteFile:
    return parse_site(text.encode(), "site.toml")


def plan(text: str) -> Plan:
    return make_plan(site(text), TODAY)


def codes(text: str) -> set[str]:
    """The codes of all findings."""
    return {finding.code for finding in plan(text).findings}
