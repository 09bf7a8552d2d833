"""A line without a public address: the ways that are left, the letter, a rented machine that stands for the site."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest

from hooper.check.delays import delays
from hooper.check.results import Evidence, Result, Verdict
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.ways import ways_left
from hooper.site.load import parse_site
from hooper.words.said import quoted
from support.program import hooper, valid
from support.sites import TODAY

SITE = """\
version = 1
[site]
title = "Boathouse"
[lines.fibre]
address = "dynamic"
situation = "carrier-nat"
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
control = "hand"
[gateways.club-router]
behind = "fibre-box"
wan = "192.168.90.2"
lan = "10.44.7.1/24"   # ours
pool = "10.44.7.100-10.44.7.199"
[hosts.gate]
address = "10.44.7.60"
[hosts.film-box]
address = "10.44.7.30"
ready.default_password_changed = true
[hosts.desk]
address = "10.44.7.40"
[services.film-page]
host = "film-box"
speaks = "https"
reach = "public"
sources = ["198.51.100.0/24"]
[names."boathouse.heronquay.example"]
line = "fibre"
updated_by = "router"
"""


def test_the_ways_are_ranked_by_what_is_known_of_the_line() -> None:
    assert [way.way for way in ways_left(None)] == ["public-address", "ipv6", "rented-machine"]
    assert [way.way for way in ways_left(True)] == ["ipv6", "public-address", "rented-machine"]
    assert [way.way for way in ways_left(False)] == ["public-address", "rented-machine"]
    all_of_them = ways_left(True, bridge=True, mapping="endpoint-independent")
    assert [way.way for way in all_of_them] == ["bridge", "ipv6", "public-address", "rented-machine", "two-nats"]
    assert "does not make it yet" in all_of_them[-1].how


class Site:
    def __init__(self, folder: Path) -> None:
        self.path, self.state = folder / "site.toml", folder / "state"
        self.path.write_text(SITE)

    def __call__(self, *words: str, keep: bool = True) -> Any:
        ran = hooper(*words, "--site", str(self.path), *(("--state", str(self.state)) if keep else ()))
        assert ran.code in (0, 1), ran.err
        return ran


@pytest.fixture
def site(tmp_path: Path) -> Site:
    return Site(tmp_path)


def test_the_letter_asks_for_an_address_whoever_the_box_belongs_to(site: Site) -> None:
    ran = site("worksheet", "--letter", "--json", keep=False)
    (letter,) = valid("worksheet", ran.document)["letters"]
    assert "carrier-grade NAT" in letter["paragraphs"][1]
    assert any("public IPv4 address of its own" in text for text in letter["paragraphs"])
    site.path.write_text(SITE.replace('situation = "carrier-nat"\n', ""))
    assert "cannot tell" in str(site("worksheet", "--letter", "--json", keep=False).document["letters"])
    theirs = SITE.replace('control = "hand"\n', 'control = "hand"\nmanaged_by = "provider"\n', 1)
    site.path.write_text(theirs)
    both = site("worksheet", "--letter", "--json", keep=False).document["letters"]
    subjects = [one["subject"].split(":")[0] for one in both]
    assert subjects == ["Port forwarding on the router that you manage", "A public address for our line"]


def test_one_command_puts_a_rented_machine_in_front_of_the_site(site: Site) -> None:
    before = make_plan(parse_site(site.path.read_bytes(), "site.toml"), TODAY)
    assert any(finding.severity == "error" for finding in before.findings)
    dry = site("tunnel", "rent", "detour", "--address", "198.51.100.7", "--host", "gate", "--dry-run")
    assert "would be added" in dry.out
    assert site.path.read_text() == SITE
    added = valid(
        "edit", site("tunnel", "rent", "detour", "--address", "198.51.100.7", "--host", "gate", "--json").document
    )
    assert any("router keeps it" in line for line in added["follows"])
    assert "# ours" in site.path.read_text()
    file = parse_site(site.path.read_bytes(), "site.toml")
    plan = make_plan(file, TODAY)
    assert not [finding for finding in plan.findings if finding.severity == "error"]
    assert [(rule.gateway, rule.line, rule.sources) for rule in plan.forwards] == [
        ("detour-machine", "detour-machine", ("198.51.100.0/24",)), ("detour-end", "detour-machine", ()),
    ]  # fmt: skip
    data = tomllib.loads(site.path.read_text())
    assert {key: host["behind"] for key, host in data["hosts"].items()} == {
        "gate": "club-router", "film-box": "detour-end", "desk": "club-router",
    }  # fmt: skip
    assert data["names"]["boathouse.heronquay.example"]["line"] == "detour-machine"
    made = site("tunnel", "make", "detour", "--out", str(site.path.parent / "made"))
    rented = (site.path.parent / "made" / "detour-forwards.nft").read_text()
    end = (site.path.parent / "made" / "detour-end-forwards.nft").read_text()
    wan = data["gateways"]["detour-end"]["wan"]
    assert f"ip saddr {{ 198.51.100.0/24 }} tcp dport 443 dnat ip to {wan}" in rented
    assert f'iifname "detour-end" ip daddr {wan} tcp dport 443 dnat ip to 10.44.7.30' in end
    assert "detour-end-forwards.nft" in made.out
    site("peer", "hand", "detour-end", "--out", str(site.path.parent / "end.conf"))
    conf = (site.path.parent / "end.conf").read_text()
    assert "Endpoint = 198.51.100.7:51820" in conf
    assert "PersistentKeepalive = 25" in conf
    assert "detour-end-forwards.nft" in conf
    sheets = site("worksheet", "--json", keep=False).document["sheets"]
    assert all(not sheet["rules"] for sheet in sheets)
    rows = site("status", "--json").document["rows"]
    assert not [row for row in rows if row["aspect"] == "by-hand"], "nobody types what comes with the files"
    assert any("takes its rules from the files" in str(sheet["notes"]) for sheet in sheets)
    assert site("tunnel", "list").out
    site("service", "change", "film-page", "--outside-port", "8443", keep=False)
    ran = hooper("tunnel", "list", "--site", str(site.path), "--state", str(site.state))
    assert ran.code == 1
    assert "needs new files" in ran.out


def test_the_machine_at_the_end_may_offer_something_itself_and_nothing_is_entered_by_hand(site: Site) -> None:
    more = '[services.gate-page]\nhost = "gate"\nspeaks = "https"\nport = 8443\nreach = "public"\n'
    site.path.write_text(SITE.replace('"10.44.7.60"\n', '"10.44.7.60"\nready.default_password_changed = true\n') + more)
    site("tunnel", "rent", "detour", "--address", "198.51.100.7", "--host", "gate")
    ran = hooper("plan", "--site", str(site.path))
    assert ran.code in (0, 1), ran.err
    assert "address-clash" not in ran.out
    assert "by hand" not in ran.out.partition("How the rules get there")[2].partition("Findings")[0]
    assert "hooper tunnel make detour" in ran.err
    assert "hooper worksheet" not in ran.err
    document = valid("plan", hooper("plan", "--json", "--site", str(site.path)).document)
    assert {row["gateway"] for row in document["entering"]} == {"detour-machine", "detour-end"}
    assert not any(row["by_hand"] for row in document["entering"])


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--address", "198.51.100.7"), "--host is missing"),
        (("--host", "gate"), "--address is missing"),
        (("--address", "rented.example", "--host", "gate"), "no IPv4 address"),
        (("--address", "198.51.100.7", "--host", "club-router"), "no host of this site"),
    ],
)
def test_wrong_words_are_told(site: Site, words: tuple[str, ...], said: str) -> None:
    ran = hooper("tunnel", "rent", "detour", *words, "--site", str(site.path), "--state", str(site.state))
    assert ran.code == 2
    assert said in ran.err
    assert site.path.read_text() == SITE


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('tunnel = "detour"\ncontrol', 'tunnel = "other"\ncontrol', "no tunnel 'other'"),
        ('wan = "10.', 'wan = "10.1.', "no peer of detour has the address"),
    ],
)
def test_what_does_not_fit_together_is_told(site: Site, old: str, new: str, said: str) -> None:
    site("tunnel", "rent", "detour", "--address", "198.51.100.7", "--host", "gate")
    text = site.path.read_text()
    assert old in text
    new_text = text.replace(old, new, 1)
    if "wan" in old:
        wan = tomllib.loads(text)["gateways"]["detour-end"]["wan"]
        new_text = text.replace(f'wan = "{wan}"', f'wan = "{wan}9"', 1)
    site.path.write_text(new_text)
    ran = hooper("plan", "--site", str(site.path))
    assert ran.code == 3
    assert said in ran.err


BOTH = """\
version = 1
[lines.fibre]
address = "203.0.113.44"
[lines.rented]
address = "198.51.100.7"
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
[gateways.rented]
line = "rented"
lan = "10.99.7.1/24"
tunnel = "detour"
control = "hand"
[gateways.club-router]
behind = ["fibre-box", "rented"]
wan = ["192.168.90.2", "10.99.7.2"]
lan = "10.44.7.1/24"
[hosts.film-box]
address = "10.44.7.30"
ready.default_password_changed = true
[services.detour]
host = "rented"
speaks = "wireguard"
reach = "public"
[services.films]
host = "film-box"
speaks = "https"
reach = "public"
line = "fibre"
[services.films-around]
host = "film-box"
speaks = "https"
reach = "public"
line = "rented"
[tunnels.detour]
service = "detour"
subnet = "10.99.7.0/24"
[peers.club]
tunnel = "detour"
device = "router"
address = "10.99.7.2"
"""


def test_where_both_ways_exist_their_delays_stand_side_by_side() -> None:
    file = parse_site(BOTH.encode(), "site.toml")
    plan = make_plan(file, TODAY)
    assert {rule.gateway for rule in plan.forwards} == {"fibre-box", "rented", "club-router"}

    def seen(service: str, took_ms: int, verdict: Verdict = "answered") -> Result:
        evidence, port = Evidence(), 443
        return Result(
            service, "reachable", True, verdict, (), "ipv4", None, "tcp", port, took_ms, None, evidence, quoted("")
        )

    topology = Topology(file.site)
    (told,) = delays(topology, [seen("films", 20), seen("films-around", 64)])
    assert str(told) == "Until an answer: films 20 ms directly, films-around 64 ms by the rented machine (+44 ms)."
    assert not list(delays(topology, [seen("films", 20), seen("films-around", 0, "silent")]))
    assert not list(delays(topology, [seen("films", 20)]))
