"""Peers of a tunnel with a god's view: what is wrong between a device and a service, and what each look shows of it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from ipaddress import IPv4Network
from random import Random

from hooper.check.results import Evidence, IcmpSeen, Result, Seen, Verdict
from hooper.line.facts import LineFacts
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.sourced import Sourced
from hooper.store.kept import Handed, Heard
from hooper.why.case import WhyDocument
from hooper.why.facts import ServiceFacts
from hooper.why.tunnel import PeerFacts
from hooper.words.said import quoted
from support.model_worlds import NOW
from support.program import BOATHOUSE

KEY, SERVER = "B" * 42 + "A=", "C" * 42 + "A="
TUNNEL = f"""
[tunnels.oars]
kind = "wireguard"
service = "gate"
subnet = "10.44.200.0/24"
public_key = "{SERVER}"
[peers.cox-phone]
tunnel = "oars"
address = "10.44.200.2"
public_key = "{KEY}"
into = ["film-shell"]
"""
FILE = parse_site((BOATHOUSE + TUNNEL).encode(), "site.toml")
TOPOLOGY, PLAN = Topology(FILE.site), make_plan(FILE, NOW.date())
DOWN = ("endpoint-stale", "profile-outdated", "tunnel-peer-missing", "peer-clock")
BEHIND = ("server-rules-old", "no-way-back", "server-not-forwarding", "host-filters-strangers", "host-off",
          "service-stopped")  # fmt: skip
CAUSES = (None, *DOWN, *BEHIND)


@dataclass
class PeerWorld:
    """cause: the one thing that is wrong; None: nothing is."""

    rng: Random
    cause: str | None

    def facts(self) -> PeerFacts:
        """Some looks at it, at random."""
        rng, cause = self.rng, self.cause
        there, up = rng.random() < 0.7, self.cause not in DOWN
        stale = cause in ("endpoint-stale", "profile-outdated")
        endpoint = "boathouse.heronquay.example:51820"
        given = Handed(KEY, "old" if stale else "new", "203.0.113.9:51820" if cause == "endpoint-stale" else endpoint,
                       False, NOW - timedelta(days=9))  # fmt: skip
        missing = cause == "tunnel-peer-missing"
        heard = unheard = None
        if rng.random() < 0.4:  # the server was asked
            unheard = missing
            ahead = timedelta(hours=1) if cause == "peer-clock" and rng.random() < 0.5 else -timedelta(minutes=3)
            last = NOW + ahead if up or (cause == "peer-clock" and ahead > timedelta(0)) else None
            heard = None if missing else Heard(KEY, "oars", SERVER, last, None, 1, 1, NOW)
        return PeerFacts(
            "cox-phone", WhyDocument("gate", True, (), (), (), ()), self._target(), NOW,
            handed=given if rng.random() < 0.7 or stale else None, mark="new", endpoint=endpoint,
            made=rng.choice((True, False)) if missing else rng.choice((True, None)), heard=heard, unheard=bool(unheard),
            through=self._through() if there else None,
            server=Seen(verdict="refused" if up else "silent") if there else None,
            around=(IPv4Network("192.168.178.0/24"),) if there else (),
        )  # fmt: skip

    def _target(self) -> ServiceFacts:
        inside: Verdict = {"host-off": "silent", "service-stopped": "refused"}.get(self.cause or "", "answered")  # type: ignore[assignment]
        nobody = Sourced(None, quoted("x"))
        line = LineFacts(now=NOW, line="fibre", chain=("fibre-box", "club-router"), at=None, own=nobody,
                         default_gateway=nobody, public=nobody)  # fmt: skip
        return ServiceFacts(
            line=line,
            service="film-shell",
            inside=_result(inside) if self.rng.random() < 0.5 else None,
            nobody_inside=False,
            outside=None,
        )

    def _through(self) -> Result:
        if self.cause is None:
            return _result("answered")
        if self.cause == "service-stopped":
            return _result("refused")
        barred = IcmpSeen(3, 13, "prohibited", "10.44.200.1") if self.cause == "server-rules-old" else None
        return _result("silent", barred)


def _result(verdict: Verdict, icmp: IcmpSeen | None = None) -> Result:
    return Result(
        "film-shell", "reachable", verdict == "answered", verdict, (), "ipv4", "10.44.7.30", "tcp", 22, 5, None,
        Evidence(icmp=icmp), quoted("d"),
    )  # fmt: skip
