"""Findings on devices that are exposed before they are ready: what a person has ticked off, or said is not so."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product

from hooper import deeds
from hooper.planning.facts import Facts
from hooper.planning.findings import finding
from hooper.planning.values import Finding
from hooper.words.catalogue import ticks
from hooper.words.said import general, say

SILENT_IS_FINE = ("wireguard", "openvpn", "ike", "ipsec-nat", "esp")  # no login with a password


def find(facts: Facts) -> Iterator[Finding]:
    """What stands against exposing each public service. What nobody has said is only asked of the password."""
    tunnels = facts.site.tunnels.values()
    ends = {facts.site.services[one.service].host for one in tunnels if one.made_by == "device"}
    for key in facts.public:
        service = facts.site.services[key]
        behind = facts.site.services.get(service.hands_to or "")
        hosts = dict.fromkeys((service.host, *((behind.host,) if behind is not None else ())))
        for host, item in product(hosts, ticks()):
            ready = facts.site.devices[host].ready
            said = getattr(ready, item.key)
            by_page = (
                service.speaks not in SILENT_IS_FINE or service.host in ends
            )  # a box's page makes the tunnel's keys
            asked = item.key == "default_password_changed" and by_page
            if said is False or (said is None and asked):
                yield finding(
                    item.code,
                    f"services.{key}",
                    say("of-a-service", name=host, what=general("finding", item.code, "says")),
                    say(
                        "then-tick-it-off",
                        remedy=general("finding", item.code, "remedy"),
                        tick=deeds.TICK(host, item.key),
                    ),
                )
