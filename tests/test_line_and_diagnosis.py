"""Judging a line and a service: the pure parts, by tables of evidence."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv6Address, ip_address
from typing import Any

import pytest

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.check.results import CertificateSeen, Evidence, Hairpin, IcmpSeen, PageSeen, Result, Unfit, Verdict
from hooper.check.typed_names import NameSeen
from hooper.line.facts import LineFacts
from hooper.line.judging import compare, line_findings, situation
from hooper.planning.topology import Topology
from hooper.sourced import Sourced, SourcedAddress, as_told
from hooper.why.case import WhyDocument
from hooper.why.diagnosis import diagnose
from hooper.why.facts import ServiceFacts, TunnelSeen
from hooper.words.said import quoted, say
from support.program import BOATHOUSE
from support.sites import ONE_BOX, plan, site

NOW = datetime(2026, 5, 1, 12, tzinfo=UTC)
SITE, PLAN = site(BOATHOUSE).site, plan(BOATHOUSE)
HERE = Topology(SITE)
PUBLIC = IPv4Address("203.0.113.44")
NAME = "boathouse.heronquay.example"
MAC = "02:00:5e:44:07:30"


def told(value: str, *, age: timedelta = timedelta(0)) -> Sourced[str]:
    return as_told(value, NOW - age)


def device(certainty: str) -> list[tuple[str, str]]:
    """What a device may do to strangers although it answers its own network, and the provider, who looks the same."""
    return [(code, certainty) for code in ("host-filters-strangers", "host-without-way-out", "port-blocked")]


def line(**changes: Any) -> LineFacts:
    facts = LineFacts(
        now=NOW,
        line="fibre",
        chain=("fibre-box", "club-router"),
        at="club-router",
        own=Sourced(IPv4Address("10.44.7.105"), quoted("interface lan0")),
        default_gateway=Sourced(IPv4Address("10.44.7.1"), quoted("route")),
        public=Sourced(PUBLIC, quoted("STUN")),
        names={NAME: Sourced(PUBLIC, quoted("resolver"))},
    )
    return replace(facts, **changes)


@pytest.mark.parametrize(
    ("wan", "public", "kind", "can_forward"),
    [
        (None, "203.0.113.44", "unclear", None),
        (None, None, "unclear", None),
        (None, "100.64.1.2", "carrier-nat", False),
        ("203.0.113.44", "203.0.113.44", "several-nats", True),
        ("203.0.113.44", None, "several-nats", True),
        ("203.0.113.45", "203.0.113.44", "unclear", None),
        ("100.64.0.1", "203.0.113.44", "carrier-nat", False),
        ("100.127.255.254", None, "carrier-nat", False),
        ("100.128.0.1", "203.0.113.44", "unclear", None),
        ("192.0.0.2", "203.0.113.44", "shared-ports", False),
        ("0.0.0.0", None, "no-ipv4", False),
        ("192.168.1.5", "203.0.113.44", "unclear", None),
    ],
)
def test_the_situation_of_a_line(wan: str | None, public: str | None, kind: str, can_forward: bool | None) -> None:
    facts = line(
        public=Sourced(ip_address(public) if public else None, quoted("STUN")),
        wan={"fibre-box": told(wan)} if wan else {},
    )
    assert situation(facts) == (kind, can_forward)
    errors = {f.code for f in line_findings(facts) if f.severity == "error"}
    code = {"carrier-nat": "line-behind-carrier", "shared-ports": "line-shares-ports", "no-ipv4": "line-without-ipv4"}
    assert errors == ({code[kind]} if can_forward is False else set())
    for row in compare(SITE, facts):
        assert str(row.meaning).endswith((".", ".)"))
        assert (row.equal is None) or (row.left.value and row.right.value)


def test_one_box_and_none() -> None:
    assert situation(line(chain=("fibre-box",), wan={"fibre-box": told(str(PUBLIC))})) == ("one-nat", True)
    assert situation(line(own=Sourced(PUBLIC, quoted("interface")))) == ("public", True)


def test_the_numbers_are_compared_as_people_do() -> None:
    facts = line(
        wan={"fibre-box": told("203.0.113.44"), "club-router": told("192.168.90.77")},
        names={NAME: Sourced(IPv4Address("203.0.113.40"), quoted("resolver"))},
        default_gateway=Sourced(IPv4Address("10.8.0.1"), quoted("route")),
    )
    assert [row.equal for row in compare(SITE, facts)] == [False, False, True, False]
    assert [f.code for f in line_findings(facts)] == ["name-behind"]
    private = line(wan={"fibre-box": told("10.1.2.3")})
    assert [f.code for f in line_findings(private)] == ["line-behind-router"]


def test_a_table_that_is_empty_comes_before_what_is_merely_possible() -> None:
    """One router, which tells its WAN address and shows no rule: that is the likeliest, and a program can enter it."""
    text = ONE_BOX + '[services.hub-page]\nhost = "hub"\nspeaks = "https"\nreach = "public"\n'
    one, key, service = site(text), "box", "hub-page"
    outer = Sourced(str(PUBLIC), quoted("it says so by UPnP"), NOW)
    seen = replace(
        facts(replace(result("silent"), service=service)),
        service=service,
        others=False,
        mac_seen=None,
        line=line(chain=(key,), at=key, wan={key: outer}, names={}),
        rules={key: Sourced("unseen", quoted("seen in its table"), NOW)},
    )
    found = diagnose(Topology(one.site), plan(text), seen).causes
    assert (found[0].code, found[0].certainty) == ("rule-missing-outer", "likely")
    assert f"`{deeds.OPEN(service)}`" in str(found[0].remedy)
    assert "carrier-nat" not in {cause.code for cause in found}


@pytest.mark.parametrize(
    ("minutes", "words"),
    [(0, "just now"), (5, "5 min ago"), (119, "119 min ago"), (180, "3 h ago"), (4400, "3 days ago")],
)
def test_ages_in_words(minutes: int, words: str) -> None:
    assert str(told("x", age=timedelta(minutes=minutes)).age(NOW)) == words


def result(verdict: Verdict, *, ok: bool | None = None, icmp: bool = False, port: int = 443, **more: Any) -> Result:
    seen = IcmpSeen(3, 1, "host unreachable", "203.0.113.44") if icmp else None
    good = verdict in ("answered", "connected") if ok is None else ok
    found = Result(
        "film-page",
        "reachable",
        good,
        "silent",
        (),
        "ipv4",
        "203.0.113.44",
        "tcp",
        port,
        5,
        None,
        Evidence(icmp=seen),
        quoted("d"),
    )
    return replace(found, verdict=verdict, **more)


def on_the_way(verdict: Verdict, code: int) -> Result:
    """An ICMP error from a router before the line."""
    seen = Evidence(icmp=IcmpSeen(3, code, "x", "192.0.2.1"))
    return replace(result(verdict), evidence=seen)


def facts(outside: Result | None, inside: Result | None = None, **changes: Any) -> ServiceFacts:
    base = ServiceFacts(
        line=changes.pop("line", line()),
        service="film-page",
        inside=inside if inside is not None else result("answered"),
        nobody_inside=False,
        outside=outside,
        others=True,
        mac_seen=MAC,
    )
    return replace(base, **changes)


def causes(document: WhyDocument) -> list[tuple[str, str]]:
    return [(cause.code, cause.certainty) for cause in document.causes]


SILENT, WELL = result("silent"), result("answered")
GONE = [("host-moved", "likely"), ("host-off", "likely"), ("host-isolated", "possible")]
REFUSES = [("service-stopped", "likely"), ("service-loopback", "possible")]
ASTRAY = Sourced(IPv4Address("203.0.113.40"), quoted("resolver"))
STRANGE_SIX = IPv6Address("2001:db8:44::1")


def named(own: SourcedAddress, *six: IPv6Address) -> dict[str, NameSeen]:
    assert own.value is not None
    return {NAME: NameSeen(NAME, None, quoted(""), (own.value,), six)}


RULE = "rule:fibre-box", "rule:club-router"
CASES: dict[str, tuple[ServiceFacts, bool | None, list[tuple[str, str]]]] = {
    "all is well": (facts(WELL), True, []),
    "nobody looked from outside": (facts(None), None, []),
    "silent, nothing told": (
        facts(SILENT),
        False,
        [
            ("rule-missing-outer", "likely"),
            ("rule-missing-inner", "likely"),
            ("port-blocked", "possible"),
            ("host-filters-strangers", "possible"),
            ("host-without-way-out", "possible"),
        ],
    ),
    "silent, and so is everything else": (
        facts(SILENT, others=False),
        False,
        [
            ("carrier-nat", "possible"),
            ("inner-wan-moved", "possible"),
            ("rule-missing-outer", "possible"),
            ("rule-missing-inner", "possible"),
            ("line-not-reached", "possible"),
        ],
    ),
    "silent, the outer rule is told to be missing": (
        facts(SILENT, rules={"fibre-box": told("missing")}),
        False,
        [("rule-missing-outer", "certain")],
    ),
    "the same, told by an earlier run": (
        facts(SILENT, rules={"fibre-box": told("missing", age=timedelta(minutes=5))}),
        False,
        [("rule-missing-outer", "likely")],
    ),
    "silent, the inner rule names another address": (
        facts(SILENT, rules={"club-router": told("10.44.7.50")}),
        False,
        [("rule-wrong-host", "certain")],
    ),
    "silent, the inner rule names another port": (
        facts(SILENT, rules={"club-router": told("10.44.7.30:80")}),
        False,
        [("rule-wrong-port", "certain")],
    ),
    "silent, the outer rule is there": (
        facts(SILENT, rules={"fibre-box": told("192.168.90.2:443")}),
        False,
        [
            ("rule-missing-inner", "likely"),
            ("port-blocked", "possible"),
            ("host-filters-strangers", "possible"),
            ("host-without-way-out", "possible"),
        ],
    ),
    "silent, both rules are there": (
        facts(SILENT, rules={"fibre-box": told("there"), "club-router": told("there")}),
        False,
        [
            ("port-blocked", "likely"),
            ("host-filters-strangers", "likely"),
            ("host-without-way-out", "likely"),
            ("rule-not-enforced", "possible"),
            ("inner-wan-moved", "possible"),
        ],
    ),
    "silent, both rules are there, and another service of the device answers": (
        facts(SILENT, rules={"fibre-box": told("there"), "club-router": told("there")}, host_reached=True),
        False,
        [("port-blocked", "likely"), ("host-filters-strangers", "likely"), ("rule-not-enforced", "possible")],
    ),
    "silent, the inner router's table does not show it": (
        facts(SILENT, rules={"fibre-box": told("there"), "club-router": told("unseen")}),
        False,
        [("rule-missing-inner", "likely")],
    ),
    "silent inside, while its MAC answers": (
        facts(SILENT, SILENT),
        False,
        [("host-filters-all", "likely"), ("service-stopped", "likely"), ("service-loopback", "possible")],
    ),
    "silent inside, and what is remembered of it may be old": (
        facts(SILENT, SILENT, mac_seen=None, doubtful=True),
        False,
        [
            ("host-off", "likely"),
            ("host-moved", "likely"),
            ("host-isolated", "possible"),
            ("host-filters-all", "possible"),
            ("service-stopped", "possible"),
        ],
    ),
    "the inner router says that it has another address": (
        facts(SILENT, line=line(wan={"club-router": Sourced("192.168.90.77", quoted("it says so"))})),
        False,
        [("inner-wan-moved", "certain")],
    ),
    "a router says that nobody is there, and inside is out of sight": (
        replace(facts(result("silent", icmp=True)), inside=None, mac_seen=None),
        False,
        [
            ("rule-wrong-host", "likely"),
            ("host-off", "likely"),
            ("host-moved", "likely"),
            ("host-isolated", "possible"),
        ],
    ),
    "an inner address says that it is forbidden": (
        facts(replace(result("refused"), evidence=Evidence(icmp=IcmpSeen(3, 13, "forbidden", "10.44.7.30")))),
        False,
        [("host-filters-strangers", "likely"), ("rule-wrong-host", "possible")],
    ),
    "unproven, but its rule was seen to be missing": (
        facts(result("unproven"), rules={"club-router": Sourced("missing", quoted("seen"), NOW)}),
        False,
        [("rule-missing-inner", "certain")],
    ),
    "silent, both sheets are ticked": (
        facts(SILENT, ticked={"fibre-box": told("x"), "club-router": told("x")}),
        False,
        [
            ("port-blocked", "possible"),
            ("host-filters-strangers", "possible"),
            ("host-without-way-out", "possible"),
            ("rule-missing-outer", "possible"),
            ("rule-missing-inner", "possible"),
            ("rule-not-enforced", "possible"),
            ("inner-wan-moved", "possible"),
        ],
    ),
    "silent, both rules are there, but nothing proves the line": (
        facts(SILENT, others=False, rules={"fibre-box": told("there"), "club-router": told("there")}),
        False,
        [("carrier-nat", "likely"), ("inner-wan-moved", "likely"), ("line-not-reached", "possible")],
    ),
    "carrier NAT is told": (
        facts(SILENT, others=False, line=line(wan={"fibre-box": told("100.64.44.9")})),
        False,
        [("carrier-nat", "certain")],
    ),
    "carrier NAT was told, but others answer: outdated": (
        facts(SILENT, line=line(wan={"fibre-box": told("100.64.44.9")}), rules={"club-router": told("missing")}),
        False,
        [("rule-missing-inner", "certain")],
    ),
    "mismatched": (
        facts(result("mismatched")),
        False,
        [
            ("rule-wrong-host", "likely"),
            ("rule-missing-outer", "possible"),
            ("rule-missing-inner", "possible"),
            ("provider-answers", "possible"),
        ],
    ),
    "mismatched, nothing proves the line": (
        facts(result("mismatched"), others=None),
        False,
        [
            ("rule-wrong-host", "likely"),
            ("rule-missing-outer", "possible"),
            ("rule-missing-inner", "possible"),
            ("provider-answers", "possible"),
        ],
    ),
    "mismatched, with the certificate of another": (
        facts(replace(result("mismatched"), looks_like="service:hub-page", fingerprint="sha256:aa")),
        False,
        [("rule-wrong-host", "likely")],
    ),
    "a router says that nobody is there": (
        facts(result("silent", icmp=True)),
        False,
        [("rule-wrong-host", "likely")],
    ),
    "refused outside, answered inside": (
        facts(result("refused")),
        False,
        [
            ("rule-wrong-host", "likely"),
            ("rule-wrong-port", "possible"),
            ("rule-missing-outer", "possible"),
            ("rule-missing-inner", "possible"),
            ("provider-answers", "possible"),
        ],
    ),
    "refused inside": (facts(result("refused"), result("refused")), False, REFUSES),
    "refused inside, and on the device itself": (
        facts(result("refused"), result("refused"), at_loopback="refused"),
        False,
        [("service-stopped", "certain")],
    ),
    "refused inside, and the device itself is answered": (
        facts(result("refused"), result("refused"), at_loopback="answered"),
        False,
        [("service-loopback", "certain")],
    ),
    "refused inside, no MAC known": (
        facts(result("refused"), result("refused"), mac_seen=None),
        False,
        [*REFUSES, ("host-moved", "possible")],
    ),
    "nobody has the address": (
        facts(SILENT, SILENT, nobody_inside=True, mac_seen=None),
        False,
        [("host-off", "likely"), ("host-moved", "likely"), ("host-isolated", "possible")],
    ),
    "nobody has the address, and it is told to be there": (
        facts(SILENT, SILENT, nobody_inside=True, mac_seen=None, host_at=told("10.44.7.30")),
        False,
        [("host-isolated", "likely"), ("host-off", "likely")],
    ),
    "it is told to be behind the other box": (
        facts(SILENT, SILENT, nobody_inside=True, mac_seen=None, host_at=told("192.168.90.30")),
        False,
        [("host-moved", "certain")],
    ),
    "it is told to be on the network for guests": (
        facts(SILENT, SILENT, nobody_inside=True, mac_seen=None, host_at=told("10.44.8.30")),
        False,
        [("host-isolated", "certain")],
    ),
    "nobody has the address, and it is told to be elsewhere": (
        facts(SILENT, SILENT, nobody_inside=True, mac_seen=None, host_at=told("10.44.7.132")),
        False,
        [("host-moved", "certain")],
    ),
    "its MAC answers elsewhere": (
        facts(SILENT, SILENT, nobody_inside=True, mac_seen=None, elsewhere=IPv4Address("10.44.7.132")),
        False,
        [("host-moved", "certain")],
    ),
    "another MAC has its address: another device, or a repeater": (
        facts(result("refused"), result("refused"), mac_seen="02:00:5e:00:00:01"),
        False,
        [
            ("host-moved", "likely"),
            ("service-stopped", "likely"),
            ("service-loopback", "possible"),
            ("address-taken", "possible"),
        ],
    ),
    "another MAC, but the service answers: a repeater": (facts(WELL, mac_seen="02:00:5e:00:00:01"), True, []),
    "known by its name alone": (
        facts(WELL, line=line(public=Sourced(PUBLIC, quoted(f"the name {NAME}")))),
        True,
        [],
    ),
    "it was told to be elsewhere once, but answers where it should": (
        facts(WELL, host_at=told("10.44.7.132")),
        True,
        [],
    ),
    "the name is stale, proven": (
        facts(WELL, line=line(names={NAME: ASTRAY}), named=named(ASTRAY)),
        False,
        [("name-stale", "certain")],
    ),
    "the name is stale, not proven": (
        facts(None, others=None, line=line(names={NAME: ASTRAY}), named=named(ASTRAY)),
        False,
        [("name-stale", "likely")],
    ),
    "a resolver alone says so": (
        facts(WELL, line=line(names={NAME: ASTRAY}), named={}),
        False,
        [("name-stale", "likely"), ("resolver-broken", "possible")],
    ),
    "a resolver says something else than the name's own servers": (
        facts(WELL, line=line(names={NAME: ASTRAY}), named=named(Sourced(PUBLIC, quoted("it")))),
        False,
        [("resolver-broken", "likely")],
    ),
    "a resolver has no answer, and its own servers have": (
        facts(
            WELL,
            line=line(names={NAME: Sourced(None, quoted("resolver"), absent=True)}),
            named=named(Sourced(PUBLIC, quoted("it"))),
        ),
        False,
        [("resolver-broken", "likely")],
    ),
    "it was published, and is another one again": (
        facts(
            WELL,
            line=line(names={NAME: ASTRAY}),
            named=named(ASTRAY),
            published={NAME: Sourced(str(PUBLIC), quoted("x"))},
        ),
        False,
        [("name-contested", "certain")],
    ),
    "it was published, and the line has moved since": (
        facts(
            WELL,
            line=line(names={NAME: ASTRAY}),
            named=named(ASTRAY),
            published={NAME: Sourced("203.0.113.40", quoted("x"))},
        ),
        False,
        [("name-stale", "certain")],
    ),
    "the name leads over IPv6 to somebody else": (
        facts(
            WELL,
            line=line(names={NAME: Sourced(PUBLIC, quoted("it"))}),
            named=named(Sourced(PUBLIC, quoted("it")), STRANGE_SIX),
        ),
        False,
        [("name-other-family", "certain")],
    ),
    "a router's own page answers": (
        facts(replace(result("mismatched"), looks_like="gateway:fibre-box", fingerprint="sha256:aa")),
        False,
        [("gateway-answers", "certain")],
    ),
    "looked from inside": (
        facts(result("unproven", ok=False), unfit=Unfit("asker-inside", quoted("usb0 is on the site's own network"))),
        None,
        [("asker-inside", "certain")],
    ),
    "hairpin shows that the rules are right": (
        facts(SILENT, hairpin=Hairpin("answered", True)),
        False,
        [("port-blocked", "likely"), ("host-filters-strangers", "likely"), ("host-without-way-out", "likely")],
    ),
    "through a VPN nothing answers": (
        facts(SILENT, hairpin=Hairpin("answered", True), others=False, tunnel_from="tun0"),
        False,
        [("carrier-nat", "likely"), ("asker-tunnel", "likely"), ("line-not-reached", "possible")],
    ),
    "silent where it is not allowed": (facts(result("silent", ok=True, expected="unreachable")), None, []),
    "answers where it is not allowed": (
        facts(result("answered", ok=False, expected="unreachable")),
        False,
        [("sources-open", "certain")],
    ),
    "a router on the way has no route": (
        facts(on_the_way("silent", 0)),
        False,
        [("line-not-reached", "likely"), ("port-blocked", "likely")],
    ),
    "a router on the way prohibits it": (facts(on_the_way("refused", 13)), False, [("port-blocked", "likely")]),
    "clear text inside": (
        facts(None, result("answered", ok=False, problems=("clear-text",))),
        False,
        [("https-needed", "certain")],
    ),
    "the port lost in its own redirection": (
        facts(None, result("answered", ok=False, problems=("port-lost",))),
        False,
        [("port-lost", "certain")],
    ),
    "an inner address in its own redirection": (
        facts(result("answered", ok=False, problems=("inner-address",)), result("answered")),
        False,
        [("inner-address", "likely")],
    ),
    "https where http was planned": (
        facts(None, result("mismatched", ok=False, problems=("https-needed",))),
        False,
        [("https-needed", "certain")],
    ),
    "a fault of another kind": (
        facts(None, result("answered", ok=False, problems=("tls-failed",))),
        False,
        [("tls-failed", "certain")],
    ),
    "another protocol inside": (facts(None, result("mismatched")), False, [("service-other", "likely")]),
}


@pytest.mark.parametrize("name", CASES)
def test_from_evidence_to_causes(name: str) -> None:
    given, ok, expected = CASES[name]
    document = diagnose(HERE, PLAN, given)
    assert (causes(document), document.ok) == (expected, ok)
    steps = [step.step for step in document.steps]
    assert steps == [
        "host",
        "service",
        "rule:club-router",
        "rule:fibre-box",
        "public-address",
        "name",
        "certificate",
        "outside",
    ]
    for cause in document.causes:
        assert cause.message
        assert str(cause.remedy).endswith(".")
        assert (cause.would_make_certain is None) == (cause.certainty == "certain")


def test_a_port_that_the_site_file_lists_as_blocked_is_likely() -> None:
    listed = site(BOATHOUSE.replace('"tcp 80"]', '"tcp 80", "tcp 443"]')).site
    document = diagnose(Topology(listed), PLAN, facts(SILENT))
    assert ("port-blocked", "likely") in causes(document)


def test_a_service_that_is_not_forwarded() -> None:
    shell = facts(result("silent", ok=True, port=22, expected="unreachable"), service="film-shell")
    document = diagnose(HERE, PLAN, shell)
    assert (document.ok, causes(document)) == (None, [])  # through its tunnel nobody has looked
    reachable = facts(result("answered", ok=False, port=22, expected="unreachable"), service="film-shell")
    assert causes(diagnose(HERE, PLAN, reachable)) == [("open-unplanned", "certain")]


def test_away_from_the_site_the_inside_is_unknown() -> None:
    away = facts(SILENT, line=line(at=None), mac_seen=None, others=None)
    document = diagnose(HERE, PLAN, replace(away, inside=None))
    states = {step.step: step.state for step in document.steps}
    assert (states["host"], states["service"]) == ("unknown", "unknown")
    assert causes(document)[0] == ("rule-missing-outer", "possible")


def test_nothing_in_the_procedure_depends_on_the_kind_of_address() -> None:
    address: IPAddress = ip_address("11.22.33.44")
    real = line(public=Sourced(address, quoted("told")), names={}, wan={"fibre-box": told(str(address))})
    assert causes(diagnose(HERE, PLAN, facts(SILENT, line=real, others=None)))[0] == (
        "rule-missing-outer",
        "likely",
    )


def test_a_clock_that_is_wrong_is_told_from_a_certificate_that_begins_later() -> None:
    """By the Date header of the device's own page."""
    shown = CertificateSeen("CN=hub", (NAME,), "CN=Town", "2030-01-01T00:00:00Z", "2031-01-01T00:00:00Z")

    def said(date: str | None) -> tuple[str, str]:
        seen = PageSeen(200, None, None, None, date)
        look = replace(
            result("answered", ok=False), problems=("certificate-not-yet-valid",), fingerprint="sha256:aa",
            detail=say("http-status", status=200) + say("certificate-begins", begins=NOW),
            evidence=Evidence(certificate=shown, page=seen),
        )  # fmt: skip
        (cause,) = [one for one in diagnose(HERE, PLAN, facts(look)).causes if one.code == "certificate-not-yet-valid"]
        return str(cause.message), str(cause.remedy)

    assert "by the device's own clock it is 2029-12-31 23:00 now" in said("2029-12-31T23:00:00Z")[0]
    assert "Set the clock of film-box" in said("2029-12-31T23:00:00Z")[1]
    for right in (None, NOW.isoformat()):
        message, remedy = said(right)
        assert ("clock" not in message, "need not be at fault" in remedy) == (True, True)


@pytest.mark.parametrize("seed", range(6))
def test_whatever_was_seen_comes_to_words(seed: int) -> None:
    """Of all that can be seen and told, in any mix: causes in whole sentences, and none that is certain beside others
    that explain the same.
    """
    rng = random.Random(seed)
    pick = rng.choice
    words = (
        "there",
        "missing",
        "off",
        "limited",
        "transport",
        "ended",
        "interface",
        "unseen",
        "10.44.7.50",
        "10.44.7.30:80",
    )
    for _ in range(150):
        verdicts: list[Verdict | None] = [None, "answered", "silent", "refused", "mismatched", "unproven"]
        outside, inside = pick(verdicts), pick(verdicts)
        icmp = pick((None, IcmpSeen(3, pick((0, 1, 13)), "x", pick(("203.0.113.44", "192.0.2.1", "10.44.7.30")))))
        look = replace(result(outside), evidence=Evidence(icmp=icmp)) if outside is not None else None
        if outside == "mismatched" and rng.random() < 0.5:
            look = replace(look, looks_like=pick(("service:hub-page", "gateway:fibre-box")), fingerprint="sha256:aa")  # type: ignore[type-var]
        wan = (
            {"fibre-box": told(pick(("203.0.113.44", "100.64.44.9", "0.0.0.0", "192.0.0.2")))}
            if rng.random() < 0.5
            else {}
        )
        if rng.random() < 0.3:
            wan["club-router"] = told(pick(("192.168.90.2", "192.168.90.77")))
        seen = facts(
            look,
            line=line(wan=wan, stun_silent=rng.random() < 0.2, public=Sourced(pick((PUBLIC, None)), quoted("STUN"))),
            others=pick((None, True, False)),
            mac_seen=pick((None, MAC, "02:00:5e:00:00:01")),
            nobody_inside=rng.random() < 0.2,
            elsewhere=pick((None, None, IPv4Address("10.44.7.132"))),
            host_at=pick((None, told("10.44.7.30"), told("10.44.8.30"), told("192.168.90.30"))),
            rules={
                key: told(pick(words), age=pick((timedelta(0), timedelta(hours=3))))
                for key in ("fibre-box", "club-router")
                if rng.random() < 0.5
            },
            at_loopback=pick((None, None, "answered", "refused")),
            hairpin=pick((None, Hairpin("answered", True), Hairpin("silent", False))),
            tunnel_from=pick((None, None, "tun0")),
            answers_by=pick(((), ("udp",))),
            ways=pick(({}, {"tcp": told("answered")}, {"tcp": told("silent")})),
            tunnel=pick((None, TunnelSeen("oars"), TunnelSeen("oars", False, None))),
        )
        document = diagnose(
            HERE,
            PLAN,
            replace(seen, inside=result(inside) if inside is not None else None),
            pick((None, {}, {"on": "no"})),
        )
        for cause in document.causes:
            assert str(cause.message)
            assert str(cause.remedy).endswith("."), cause
            assert cause.would_make_certain is None or str(cause.would_make_certain).endswith("."), cause
            assert "None" not in str(cause.message) + str(cause.remedy) + str(cause.would_make_certain or ""), cause
