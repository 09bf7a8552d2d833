"""Worlds with a god's view: what is wrong, what a packet then meets on its way, and what each look shows of it.

The way is walked here as packets go it, from outside inward, and knows nothing of the table that judges.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from random import Random
from typing import Any

from hooper.check.results import CertificateSeen, Evidence, Hairpin, IcmpSeen, PageSeen, Result, Verdict
from hooper.clock import rfc3339
from hooper.line.facts import LineFacts
from hooper.sourced import Sourced, as_told
from hooper.why.facts import ServiceFacts
from hooper.words.said import quoted

NOW, PUBLIC = datetime(2026, 5, 1, 12, tzinfo=UTC), IPv4Address("203.0.113.44")
SIX_ADDRESS = "2001:db8:44:7::30"
ROUTERS = ("fibre-box", "club-router")
TARGETS = {"fibre-box": "192.168.90.2", "club-router": "10.44.7.30"}
MAC, OTHER_MAC = "02:00:5e:44:07:30", "02:00:5e:44:07:99"
# What a person, or a table, says of a rule with which this is wrong.
RULES = {
    "missing": "missing", "off": "off", "limited": "limited", "wrong-transport": "transport", "ended": "ended",
    "wrong-interface": "interface", "not-enforced": "there", "wrong-host": "10.44.7.50", "wrong-port": ":8080",
}  # fmt: skip
# What an answer itself tells is wrong.
ANSWERS = ("certificate-untrusted", "certificate-other-name", "https-needed", "no-login")
TIMELY = ("certificate-expired", "own-clock")
LINES = ("line-down", "carrier-nat", "port-blocked", "provider-answers")
DEVICES = (
    "host-off", "host-moved", "host-isolated", "address-taken", "host-filters-all", "host-filters-strangers",
    "host-without-way-out", "service-stopped", "service-loopback", "service-other",
)  # fmt: skip
SIX = ("opening-missing", "host-six-moved", "service-four-only")
# Of what is wrong with the device, what meets those who come over IPv6 too: outside, and at home.
SIX_MEETS = {
    "host-off": ("silent", "silent"), "host-isolated": ("silent", "silent"), "host-filters-all": ("silent", "silent"),
    "host-filters-strangers": ("silent", "same"), "service-stopped": ("refused", "refused"),
    "service-loopback": ("refused", "refused"), "service-other": ("other", "other"),
    "opening-missing": ("silent", "same"), "host-six-moved": ("silent", "silent"),
    "service-four-only": ("refused", "refused"),
}  # fmt: skip
DROPS = ("missing", "off", "limited", "wrong-transport", "ended", "wrong-interface", "not-enforced")


@dataclass
class World:
    """rules: what is wrong with a router's rule. lying: the routers whose list has the right rule whatever they do.
    moved: the inner router has another outer address. six: what is wrong over IPv6 alone. answer: what an answer
    itself tells is wrong with the service.
    """

    rng: Random
    line: str | None = None
    rules: dict[str, str] = field(default_factory=dict)
    moved: bool = False
    device: str | None = None
    vpn: bool = False
    timely: str | None = None
    six: str | None = None
    answer: str | None = None
    lying: frozenset[str] = frozenset()

    @classmethod
    def random(cls, rng: Random, most: int) -> World:
        """With so many things wrong at most."""
        world = cls(rng)
        for _ in range(rng.choice(range(most + 1))):
            what = rng.choice(("line", "rule", "rule", "moved", "device", "device", "vpn", "timely", "six", "answer"))
            if what == "line":
                world.line = rng.choice(LINES)
            elif what == "rule":
                world.rules[rng.choice(ROUTERS)] = rng.choice(tuple(RULES))
            elif what == "moved":
                world.moved = True
            elif what == "device":
                world.device = rng.choice(DEVICES)
            elif what == "timely":
                world.timely = rng.choice(TIMELY)
            elif what == "answer":
                world.answer = rng.choice(ANSWERS)
            elif what == "six":
                world.six = rng.choice(SIX)
            else:
                world.vpn = True
        world.lying = frozenset(key for key in world.rules if rng.random() < 0.2)
        return world

    @property
    def causes(self) -> frozenset[str]:
        """All that is wrong, by the codes of causes."""
        found = {code for code in (self.line, self.device) if code is not None}
        found |= {"inner-wan-moved"} if self.moved else set()
        found |= {"asker-tunnel"} if self.vpn else set()
        found |= {code for code in (self.timely, self.six, self.answer) if code is not None}
        for key, kind in self.rules.items():
            place = "-outer" if key == ROUTERS[0] else "-inner"
            kind = "not-enforced" if key in self.lying else kind
            found.add(f"rule-{kind}{place if kind == 'missing' else ''}")
        return frozenset(found)

    @property
    def true_rules(self) -> set[str]:
        """What routers whose list tells something else do."""
        place = {ROUTERS[0]: "-outer", ROUTERS[1]: "-inner"}
        kinds = ((key, kind) for key, kind in self.rules.items() if key in self.lying)
        return {f"rule-{kind}{place[key] if kind == 'missing' else ''}" for key, kind in kinds}

    def outside(self) -> str:
        """What somebody outside gets."""
        pick = self.rng.choice
        if self.vpn:
            return "silent"
        if self.line == "provider-answers":
            return pick(("other", "refused"))
        if self.line is not None:
            return "silent"
        for key in ROUTERS:
            if key == ROUTERS[1] and self.moved:
                return pick(("silent", "nobody"))
            kind = self.rules.get(key)
            if kind in DROPS:
                return pick(("silent", "silent", "refused"))
            if kind == "wrong-host":
                return pick(("other", "refused", "nobody"))
            if kind == "wrong-port":
                return pick(("other", "refused", "silent"))
        return self._at_device(outside=True)

    def _at_device(self, *, outside: bool) -> str:
        pick, gone = self.rng.choice, "nobody" if outside and self.rng.random() < 0.5 else "silent"
        return {
            None: "same",
            "host-off": gone,
            "host-isolated": gone,
            "host-moved": pick((gone, gone, "other")),
            "address-taken": pick(("other", "refused", "same")),
            "host-filters-all": "silent",
            "host-filters-strangers": "silent" if outside else "same",
            "host-without-way-out": "silent" if outside else "same",
            "service-stopped": "refused",
            "service-loopback": "refused",
            "service-other": "other",
        }[self.device]

    def facts(self) -> ServiceFacts:
        """Some looks at it, at random."""
        rng, (outside6, inside6) = self.rng, self._over_six()
        looked = {
            name: rng.random() < 0.6 for name in ("outside", "inside", "mac", "others", "wan", "inner", "at", "own")
        }
        inside = self._at_device(outside=False) if looked["inside"] else None
        there = self.device not in ("host-off", "host-moved", "host-isolated")
        taken = self.device == "address-taken" or (self.device == "host-moved" and inside == "other")
        seen_mac = (OTHER_MAC if taken else MAC if there else None) if looked["mac"] else None
        rules = {}
        for key in ROUTERS:
            if rng.random() < 0.5:
                said = "there" if key in self.lying else RULES.get(self.rules.get(key, ""), "there")
                said = TARGETS[key] + said if said.startswith(":") else said
                rules[key] = as_told(said, NOW - rng.choice((timedelta(0), timedelta(minutes=5))))
        wan = {}
        if looked["wan"] and self.line != "line-down":
            wan["fibre-box"] = as_told("100.64.44.9" if self.line == "carrier-nat" else str(PUBLIC), NOW)
        if looked["inner"]:
            wan["club-router"] = as_told("192.168.90.77" if self.moved else "192.168.90.2", NOW)
        cut = self.vpn or self.line in ("line-down", "carrier-nat")
        return ServiceFacts(
            line=LineFacts(
                now=NOW, line="fibre", chain=ROUTERS, at="club-router",
                own=Sourced(IPv4Address("10.44.7.105"), quoted("x")),
                default_gateway=Sourced(IPv4Address("10.44.7.1"), quoted("x")), wan=wan,
                public=Sourced(PUBLIC if self.line != "line-down" else None, quoted("STUN")),
                stun_silent=self.line == "line-down",
            ),
            service="film-page",
            inside=self._result(inside) if inside is not None else None,
            nobody_inside=looked["inside"] and looked["mac"] and not there and not taken,
            outside=self._result(self.outside(), alone=inside is None) if looked["outside"] else None,
            others=None if not looked["others"] else not cut and not self.moved,
            mac_seen=seen_mac,
            host_at=self._told_at() if looked["at"] and self.device not in ("host-off", "address-taken") else None,
            rules=rules,
            at_loopback=self._itself() if looked["own"] and there and self.device != "address-taken" else None,
            hairpin=Hairpin("answered", True) if self._loops() and rng.random() < 0.3 else None,
            tunnel_from="tun0" if self.vpn else None,
            outside6=outside6,
            inside6=inside6,
        )  # fmt: skip

    @property
    def acts_over_six(self) -> str | None:
        """What meets first those who come over IPv6, where nothing is translated."""
        near = self.device if self.device in SIX_MEETS else None
        return near if self.six is None or (near is not None and self.six == "service-four-only") else self.six

    def _over_six(self) -> tuple[Result | None, Result | None]:
        """The looks over it, from outside and at home."""
        if self.vpn or self.rng.random() < 0.5:
            return None, None
        outside, inside = SIX_MEETS.get(self.acts_over_six or "", ("same", "same"))
        looked = self.rng.random() < 0.5
        return _result(outside, self.rng, six=True), _result(inside, self.rng, six=True) if looked else None

    def _told_at(self) -> Sourced[str]:
        at = {"host-moved": "10.44.7.132", "host-isolated": "10.44.8.30"}.get(self.device or "", "10.44.7.30")
        return as_told(at, NOW)

    def _itself(self) -> Any:
        return "refused" if self.device == "service-stopped" else "answered" if self.device != "service-other" else None

    def _loops(self) -> bool:
        """Whether the public address works from inside, by a router that sends what is for it back in."""
        near = (None, "host-filters-strangers", "host-without-way-out")
        return not self.rules and not self.moved and self.device in near and self.line != "line-down"

    def _result(self, what: str, *, alone: bool = False) -> Result:
        """What a look comes to. A certificate that has ended, or seems to by a clock here that is ahead. alone: nothing
        is known of how the device answers at home, so that a stranger may be taken for it.
        """
        found = _result(what, self.rng)
        if what == "other" and alone and self.rng.random() < 0.5:
            faults = (self.rng.choice(ANSWERS),)
            return replace(
                found, verdict="answered", problems=faults, fingerprint="sha256:" + "1" * 64, identity="kind"
            )
        if what == "same" and self.answer is not None:
            found = replace(found, ok=False, problems=(self.answer,), fingerprint="sha256:" + "0" * 64)
        if what != "same" or self.timely is None:
            return found
        true = NOW - timedelta(days=400) if self.timely == "own-clock" else NOW
        ended = true + timedelta(days=90) if self.timely == "own-clock" else true - timedelta(days=1)
        shown = CertificateSeen("film-box", (), "town-ca", rfc3339(ended - timedelta(days=90)), rfc3339(ended))
        date = rfc3339(true) if self.rng.random() < 0.5 else None
        evidence = replace(found.evidence, certificate=shown, page=PageSeen(200, None, None, None, date))
        return replace(
            found,
            ok=False,
            problems=(*found.problems, "certificate-expired"),
            evidence=evidence,
            fingerprint="sha256:" + "0" * 64,
        )


def _result(what: str, rng: Random, *, six: bool = False) -> Result:
    words: dict[str, Verdict] = {"same": "answered", "other": "mismatched", "refused": "refused"}
    icmp = IcmpSeen(3, 1, "host unreachable", rng.choice((str(PUBLIC), "192.168.90.2"))) if what == "nobody" else None
    at = SIX_ADDRESS if six else str(PUBLIC)
    return Result(
        "film-page", "reachable", what == "same", words.get(what, "silent"), (), "ipv6" if six else "ipv4", at, "tcp",
        443, 5, None, Evidence(icmp=icmp), quoted("d"), identity="proven" if what == "same" else "none",
    )  # fmt: skip
