"""What the worlds that are left come to, as causes in words. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from hooper import deeds
from hooper.addresses import parse_address
from hooper.evidence.identity import target_of
from hooper.evidence.worlds import Footing, hidden, judged, left_by
from hooper.line.situation import judge
from hooper.ports import ports_text
from hooper.why.case import Case, Certainty
from hooper.why.looks import NAMED, LookMade, listed
from hooper.why.router_rules import LACKING, read_rule, read_wan, rules_of, told_rule
from hooper.words.said import NOTHING, Said, Value, general, say, together

LIKELY, RARE = 0.65, 0.3  # of the weight of the likeliest: from the one on it is likely too, below the other it is rare
ALIKE = 3  # where more than these are as likely as the likeliest, none of them is
ITSELF = ("service-faulty",)  # what a service says is wrong with it has causes of its own
BY_WAN = ("carrier-nat", "shared-ports", "line-down", "public-address-wrong")  # what the outer router's page decides


def seen_by(looks: Iterable[LookMade], *, now: bool = False) -> dict[str, Collection[str]]:
    """The looks with their outcomes. now: those of this run alone."""
    return {one.look: (one.outcome,) for one in looks if one.now or not now}


def weighed(
    case: Case, footing: Footing, looks: Collection[LookMade], answers: Iterable[tuple[str, Collection[str]]] | None
) -> tuple[str, ...]:
    """Add the causes that are left. Returns: those that are left and rare.

    answers: what answers to questions mean, by look; one that contradicts the rest is not counted. None: nobody asks,
    and where all can be well, nothing is named.
    """
    seen, old = seen_by(looks), {one.look for one in looks if one.old}
    for look, outcomes in answers or ():
        both = [outcome for outcome in outcomes if outcome in seen[look]] if look in seen else outcomes
        if both and left_by(footing, seen | {look: both}, 1, old):
            seen[look] = both
    told = judged(footing, seen, old)
    if told.well and answers is None:
        return ()
    known = {cause.code for cause in case.causes} | {*ITSELF} | ({*NAMED} if "name" in seen else set())
    causes = [(code, share) for code, share in told.causes if code not in known]
    sure = judged(footing, seen_by(looks, now=True)).certain
    if {*sure} - {*ITSELF}:
        case.causes = [cause for cause in case.causes if cause.code not in case.unsure]
    found = dict(certainties(causes, sure))
    words = _Words(case, {one.look: one.outcome for one in looks})
    for code, certainty in found.items():
        words.cause(code, certainty, told.where.get(code))
    alone = [code for code, _ in causes]
    beside = hidden(footing, seen, old, {*known, *alone}) if told.causes else ()
    return tuple(code for code in (*alone, *beside) if code not in found)


def certainties(causes: Collection[tuple[str, float]], sure: Collection[str]) -> Iterator[tuple[str, Certainty]]:
    """How likely each cause is, by its share of what is left; those that are rare are left out."""
    top = max((share for _, share in causes), default=0.0)
    alike = [code for code, share in causes if share >= top * LIKELY]
    for code, share in causes:
        if code in sure:
            yield code, "certain"
        elif code in alike and len(alike) <= ALIKE:
            yield code, "likely"
        elif share > top * RARE - 1e-9:  # sums of weights are not exact
            yield code, "possible"


class _Words:
    """The causes of one case in words: said.json has them by CODE.says, .do and .sure, or by CODE.VARIANT."""

    def __init__(self, case: Case, seen: dict[str, str]) -> None:
        self.case, self.seen = case, seen
        facts, site = case.facts, case.site
        self.service, self.host = facts.service, site.services[facts.service].host
        self.chain = facts.line.chain
        self.probe = facts.outside if facts.outside is not None else facts.inside

    def cause(self, code: str, certainty: Certainty, gateway: str | None) -> None:
        """gateway: the router that it is about."""
        if code in NAMED:
            self.case.cause(code, certainty, general("cause", code, "what"), general("cause", code, "do"))
            return
        variant = self._variant(code, gateway)
        name = f"{code}.{variant}" if variant else code
        values = dict(self._values(gateway))
        do = self._enter(gateway) if code.startswith("rule-") and gateway is not None else NOTHING
        sure = NOTHING
        if code.startswith("rule-") and code != "rule-not-enforced" and gateway is not None:
            sure = read_rule(gateway, self.case.by)
        elif code == "inner-wan-moved" and gateway is not None:
            sure = read_wan(gateway)
        elif code in BY_WAN:
            sure = read_wan(self.chain[0])
        self.case.caused(name, certainty, do, sure, **values)

    def _variant(self, code: str, gateway: str | None) -> str:
        """Where what was seen gives a cause other words than it has by itself."""
        outside, wan = self.seen.get("outside"), self.seen.get(f"wan@{gateway}")
        facts, state = self.case.facts, told_rule(self.case, gateway)[0] if gateway is not None else None
        if code in ("host-off", "host-moved") and outside == "nobody":
            return "nobody"
        if code == "host-moved" and (facts.elsewhere is not None or self.seen.get("host-at") == "elsewhere"):
            return "at"
        if code == "host-isolated" and "host-at" in self.seen:
            return self.seen["host-at"]
        if code == "host-filters-strangers":
            return "forbidden" if outside == "forbidden" else "alone"
        if code == "service-stopped" and self.seen.get("inside") == "silent":
            return "silent"
        if code in ("rule-wrong-host", "rule-wrong-port") and state == "wrong":
            return "read"
        if code == "rule-wrong-host" and outside == "ours":
            return "ours"
        if code.startswith("rule-missing") and state != "missing":
            return "unseen" if state == "unseen" else "untold"
        if code == "inner-wan-moved" and wan == "moved":
            return "moved"
        if code in ("port-blocked", "line-not-reached"):
            return "said" if outside in ("barred", "stopped") else "drops" if code == "port-blocked" else ""
        if code in ("carrier-nat", "shared-ports") and self.seen.get("line") in ("carrier", "shared"):
            return "told"
        if code == "carrier-nat" and facts.line.wan.get(self.chain[0]) is not None:
            return "old"
        if code in ("tunnel-key-other", "tunnel-peer-missing"):
            return "probe"
        return "none" if code == "line-down" and self.seen.get("line") == "none" else ""

    def _values(self, gateway: str | None) -> Iterator[tuple[str, Value]]:
        """All that the words of causes name."""
        case, facts, site = self.case, self.case.facts, self.case.site
        service, device, line = site.services[self.service], site.devices[self.host], self.case.facts.line
        router = case.topology.gateway(self.host) or self.chain[-1]
        own = site.gateways[router].lan
        yield from {"service": self.service, "host": self.host, "address": device.address, "speaks": service.speaks,
                    "router": router, "chain": self.chain[0], "network": own.network, "ip": own.ip,
                    "netmask": own.network.netmask, "moment": line.now}.items()  # fmt: skip
        yield "mac", say("for", mac=device.mac) if device.mac is not None else "."
        at = facts.elsewhere or (facts.host_at.value if facts.host_at is not None else None)
        lan = next(
            (key for key, one in site.gateways.items() if at and parse_address(str(at)) in one.lan.network), None
        )
        yield "at", say("on-the-lan-of", value=at, lan=lan) if lan not in (None, router) else str(at)
        port, transport = service.used_ports.first if service.has_ports else 0, service.used_transport
        yield from {"port": port, "transport": transport, "inside_transport": transport}.items()
        yield "target_address", line.public.value
        if self.probe is not None:
            yield from {"port": self.probe.port, "transport": self.probe.transport,
                        "target_address": self.probe.target_address}.items()  # fmt: skip
        icmp = facts.outside.evidence.icmp if facts.outside is not None else None
        if icmp is not None:
            yield from {"by": icmp.by, "name": icmp.name}.items()
        yield from {"used": facts.answers_by, "answers_by": facts.answers_by[0] if facts.answers_by else ""}.items()
        if facts.inside is not None:
            yield "inside_transport", facts.inside.transport
        like = facts.looks_like
        if like is not None and like[0] == "service":
            yield from {"like": like[1], "like_host": site.services[like[1]].host}.items()
        yield "evidence", together(judge(line).evidence)
        yield from {"tunnel_from": facts.tunnel_from, "tunnel_in": facts.tunnel_in, "goes_by": line.goes_by}.items()
        yield "listed", say("as-the-site-file") if listed(case) else ""
        if facts.tunnel is not None:
            yield "tunnel", facts.tunnel.tunnel
            yield "seen", deeds.SEEN(facts.tunnel.tunnel)
            yield "make_tunnel", deeds.MAKE_TUNNEL(facts.tunnel.tunnel)
        if gateway is not None:
            yield "gateway", gateway
            yield from self._of_router(gateway)

    def _of_router(self, gateway: str) -> Iterator[tuple[str, Value]]:
        case, line = self.case, self.case.facts.line
        told = case.facts.rules.get(gateway)
        for rule in rules_of(case, gateway)[:1]:
            yield "target", f"{rule.target_address}:{ports_text(rule.target_ports)}"
        if told is not None and told.value not in (*LACKING, "there", "unseen"):
            address, _ = target_of(told.value)
            host = next((key for key, one in case.site.devices.items() if str(one.address) == address), None)
            yield "other", f"{told.value} ({host})" if host is not None else told.value
        before = self.chain[: self.chain.index(gateway)] if gateway in self.chain else ()
        if before:
            yield "outer", before[-1]
            yield "planned", case.site.gateways[gateway].wan_behind(before[-1])
            wan = line.wan.get(gateway)
            if wan is not None:
                yield from {"wan": wan.value, "source": wan.words(line.now)}.items()

    def _enter(self, gateway: str) -> Said:
        told = self.case.facts.rules.get(gateway)
        if told is not None and told.measured:  # read in its own table, so it takes rules from a program
            return say("enters-it-by-hand", open=deeds.OPEN(self.service), sheet=deeds.SHEET(gateway))
        return say("enter-it-as-says", sheet=deeds.SHEET(gateway))
