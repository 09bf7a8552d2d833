"""One question, one answer, whichever command is asked: the public address, what is typed, names, ports."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, date, datetime
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import pytest

from hooper.addresses import classify
from hooper.dnsnames import stands_for
from hooper.line.sources import (
    GIVEN,
    WRITTEN,
    Candidates,
    Given,
    PublicAddress,
    belongs,
    candidates,
    choose,
    lines_from,
    told_for,
)
from hooper.planning.looks.line import address_differs
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.typed import typed
from hooper.ports import Blocked, Ports, blocking, single
from hooper.site.model import SOURCES
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.said import quoted, say
from support.program import BOATHOUSE, Lab, Ran, hooper, valid
from support.sites import ONE_BOX, site

LINE = '[lines.fibre]\naddress = "dynamic"'
STUN = 'stun = ["192.0.2.10:3478", "192.0.2.11:3478"]'
BY_HAND = 'control = "hand"'
REAL, WRONG, SECOND = "203.0.113.44", "203.0.113.99", "203.0.113.45"


class Answers:
    """What each command says that the public address is."""

    def __init__(self, lab: Lab, folder: Path, text: str, *told: str) -> None:
        self.lab, self.folder = lab, folder
        (folder / "site.toml").write_text(text)
        unnamed = text[: text.index('[names."')] if '[names."' in text else text  # so that an address is typed
        (folder / "unnamed.toml").write_text(unnamed)
        for name in ("secrets", "town-ca.pem"):
            (folder / name).symlink_to(lab.folder / name)
        if told:
            self.run("survey", *told, deadline=True)

    def run(self, *arguments: str, deadline: bool = False, named: bool = True) -> Ran:
        where = self.folder / ("site.toml" if named else "unnamed.toml")
        options = ("--site", str(where), "--state", str(self.folder / "state"), "--json")
        return self.lab.run(*arguments, *options, *(("--deadline", "2") if deadline else ()))

    def check(self, service: str = "film-page") -> Any:
        ran = self.run("check", service, "--from", "interface:usb0", deadline=True)
        return valid("check", ran.document)

    def why(self, service: str = "film-page") -> Any:
        return valid("why", self.run("why", service, "--from", "interface:usb0", deadline=True).document)

    def survey(self) -> Any:
        return valid("survey", self.run("survey", deadline=True).document)

    def name(self) -> Any:
        return valid("name", self.run("name", "list").document)

    def card(self, service: str = "film-page") -> Any:
        return valid("card", self.run("card", service, named=False).document)

    def addresses(self) -> dict[str, str | None]:
        why = {step["step"]: step for step in self.why()["steps"]}
        return {
            "check": self.check()["results"][0]["target_address"],
            "why": why["public-address"]["evidence"][0].split()[2],
            "survey": self.survey()["public_address"]["ipv4"],
            "name": next(iter(self.name()["names"][0]["wanted"]), None),
            "card": self.card()["address"],
        }


@pytest.fixture
def answers(lab: Lab, tmp_path: Path) -> Callable[..., Answers]:
    return lambda text, *told: Answers(lab, tmp_path, text, *told)


def _everywhere(address: str) -> dict[str, str]:
    return dict.fromkeys(("check", "why", "survey", "name", "card"), address)


def _differs(document: Any) -> list[tuple[str, str]]:
    return [(f["severity"], f["message"]) for f in document["findings"] if f["code"] == "address-differs"]


def test_a_fixed_address_that_is_wrong_is_a_finding_everywhere_and_believed_nowhere(
    answers: Callable[..., Answers],
) -> None:
    asked = answers(BOATHOUSE.replace(LINE, f'[lines.fibre]\naddress = "{WRONG}"'))
    assert not _differs(valid("plan", asked.run("plan").document)), "nobody has measured anything yet"
    assert asked.addresses() == _everywhere(REAL)
    assert asked.check()["results"][0]["verdict"] == "answered"
    for document in (asked.check(), asked.why(), asked.survey(), asked.name(), asked.run("plan").document):
        ((severity, message),) = _differs(document)
        assert (severity, WRONG in message, REAL in message) == ("error", True, True)
    assert asked.run("plan").code == 1
    assert asked.why()["ok"] is True, "the chain itself is sound"


def test_two_fixed_addresses(answers: Callable[..., Answers]) -> None:
    """The measured one is among them: nothing contradicts. A service that has the other to itself goes by that one."""
    both = BOATHOUSE.replace(LINE, f'[lines.fibre]\naddress = ["{REAL}", "{SECOND}"]')
    asked = answers(both)
    assert asked.addresses() == _everywhere(REAL)
    assert not _differs(asked.survey())
    other = both.replace("[services.film-page]\n", f'[services.film-page]\noutside_address = "{SECOND}"\n')
    asked.folder.joinpath("unnamed.toml").write_text(other[: other.index('[names."')])
    asked.folder.joinpath("site.toml").write_text(other)
    (result,) = asked.check()["results"]
    assert (result["target_address"], result["evidence"]["public_address"]["value"]) == (SECOND, SECOND)
    assert asked.card()["type"] == f"https://{SECOND}/"
    assert asked.card("hub-page")["address"] == REAL


@pytest.mark.parametrize("control", ["auto", "hand"])
def test_a_router_that_tells_its_address(lab: Lab, answers: Callable[..., Answers], control: str) -> None:
    """No STUN server is named; the outermost router says it by its protocol, driven by a program or by hand."""
    lab.ask("line", shape={"kind": "several-nats", "speaks": "both"})
    try:
        asked = answers(BOATHOUSE.replace(STUN, "stun = []").replace(BY_HAND, f'control = "{control}"'))
        assert asked.addresses() == _everywhere(REAL)
        source = asked.check()["results"][0]["evidence"]["public_address"]["source"]
        assert source.startswith("fibre-box, by ")
    finally:
        lab.ask("line", shape={"kind": "several-nats"})


def test_what_a_survey_measured_serves_all_for_an_hour(lab: Lab, answers: Callable[..., Answers]) -> None:
    """The router has fallen silent since: what it told counts, with its age, until that is too old."""
    unnamed = BOATHOUSE[: BOATHOUSE.index('[names."')].replace(STUN, "stun = []").replace(BY_HAND, 'control = "auto"')
    lab.ask("line", shape={"kind": "several-nats", "speaks": "both"})
    try:
        asked = answers(unnamed)
        asked.survey()
        lab.ask("line", shape={"kind": "several-nats"})
        lab.run("lab", "clock", "--advance", "900")
        (result,) = asked.check()["results"]
        assert (result["target_address"], result["verdict"]) == (REAL, "answered")
        assert result["evidence"]["public_address"]["source"].endswith("surveyed 15 min ago")
        assert (asked.why()["ok"], asked.card()["address"]) == (True, REAL)
        assert asked.survey()["public_address"]["ipv4"] is None, "a survey measures anew"
        lab.run("lab", "clock", "--advance", "3000")
        assert asked.check()["results"][0]["verdict"] == "unproven"
    finally:
        lab.ask("line", shape={"kind": "several-nats"})


def test_an_address_that_was_told(answers: Callable[..., Answers]) -> None:
    """Nobody measures it: what a person has told counts, with its age, and stands against what is written."""
    text = BOATHOUSE.replace(STUN, "stun = []").replace(LINE, f'[lines.fibre]\naddress = "{WRONG}"')
    asked = answers(text, "--public", REAL)
    assert asked.addresses() == _everywhere(REAL)
    assert "told" in asked.check()["results"][0]["evidence"]["public_address"]["source"]
    ((severity, _),) = _differs(asked.name())
    assert severity == "warning", "a number that a person read is no measurement"


def test_what_is_given_on_the_command_line_comes_first(answers: Callable[..., Answers]) -> None:
    asked = answers(BOATHOUSE)
    given = ("--public", "203.0.113.77")
    check = asked.run("check", "film-page", "--from", "interface:usb0", *given, deadline=True).document
    assert check["results"][0]["target_address"] == "203.0.113.77"
    assert asked.run("name", "list", *given).document["names"][0]["wanted"] == ["203.0.113.77"]
    assert asked.run("survey", *given, deadline=True).document["public_address"]["ipv4"] == "203.0.113.77"
    assert asked.run("card", "film-page", *given, named=False).document["address"] == "203.0.113.77"


def _said(address: str, source: str, **more: Any) -> SourcedAddress:
    from hooper.addresses import parse_address

    return Sourced(parse_address(address), quoted(source), **more)


def test_the_order_of_sources() -> None:
    """Each source counts where all before it are silent; a router is believed against the world only by the hops."""
    given, told = _said("203.0.113.1", "given", how="given"), _said("203.0.113.4", "told", how="told")
    router, stun = _said("203.0.113.2", "router"), _said("203.0.113.2", "stun")
    written, named = (_said("203.0.113.5", "w").value,), _said("203.0.113.6", "name", how="named")
    rows: dict[str, Any] = {"given": given, "router": router, "stun": stun, "told": told, "written": written}
    rows["named"] = named
    order = ["203.0.113.1", "203.0.113.2", "203.0.113.2", "203.0.113.4", "203.0.113.5", "203.0.113.6"]
    for number, address in enumerate(order):
        left = dict(list(rows.items())[number:])
        assert str(choose("l", Candidates(**left)).address.value) == address
    assert str(choose("l", Candidates(tried=(quoted("nobody answered"),))).address.source) == "nobody answered"
    liar = Candidates(router=_said("203.0.113.9", "router"), stun=stun)
    assert str(choose("l", liar).address.value) == "203.0.113.2"
    assert [str(one.value) for one in choose("l", liar).differs[0]] == ["203.0.113.9", "203.0.113.2"]
    by_hops = choose("l", liar, by_hops=liar.router.value if liar.router else None)
    assert str(by_hops.address.value) == "203.0.113.9"


TWO_LINES = (
    ONE_BOX.replace('address = "dynamic"', 'address = ["203.0.113.5", "203.0.113.6"]\nsources = ["stun", "router"]')
    .replace('line = "fibre"', 'line = ["fibre", "mobile"]')
    .replace("[gateways.box]", '[lines.mobile]\naddress = "198.51.100.9"\n[gateways.box]')
    + """\
[lines.lte]
address = "dynamic"
"""
)


def test_what_each_source_has_for_a_line() -> None:
    """What is no public address, or another line's, counts for nothing, and why is told."""
    here = site(TWO_LINES).site
    own, other, inside = _said("203.0.113.2", "own"), _said("198.51.100.9", "mobile"), _said("10.0.0.9", "box")
    silent: SourcedAddress = Sourced(None, quoted("nobody"))
    told = {"lines.fibre/public": Sourced("203.0.113.4", quoted("a person"), how="told")}
    known = Given({"fibre": _said("203.0.113.1", "").value}, told)  # type: ignore[dict-item]
    named = _said("203.0.113.6", "name", how="named")
    found = candidates(here, "fibre", known, "box", router=own, stun=own, echo=own, interface=own, named=named,
                       tried=(quoted("in vain"),))  # fmt: skip
    assert found == Candidates(
        given=Sourced(known.given["fibre"], GIVEN, how="given"), router=own, stun=own, echo=own, interface=own,
        told=Sourced(_said("203.0.113.4", "").value, quoted("a person"), how="told"), named=named,
        written=here.lines["fibre"].address, tried=(quoted("in vain"),), order=("stun", "router"),
    )  # fmt: skip
    assert found.looked_at == [own] * 4
    for one in (silent, inside, None):
        nothing = candidates(here, "fibre", Given(), "box", router=one, stun=one, echo=one, interface=one)
        wrong = say("which-is", sentence=inside.value, meaning=classify(inside.value).meaning,
                    source=classify(inside.value).source)  # fmt: skip
        why = (say("source-has", source=quoted("box"), why=wrong),) * 4 if one is inside else ()
        assert nothing == Candidates(
            written=here.lines["fibre"].address, tried=why, order=("stun", "router"),
            interface=silent if one is silent else None,
        )  # fmt: skip
    elsewhere = candidates(here, "lte", Given(), "box", router=own, stun=own, echo=other)
    assert (elsewhere.router, elsewhere.stun, elsewhere.echo, elsewhere.order) == (own, None, None, SOURCES)
    mine = candidates(here, "mobile", Given(), "box", router=None, stun=other, echo=own)
    assert (mine.stun, mine.echo) == (other, None)
    on_it = candidates(here, "mobile", Given(), None, router=None, stun=own)
    assert on_it.stun == own, "on the line itself there is no other"
    assert candidates(here, "nowhere", Given(), None, router=None, stun=None) == Candidates()


def test_what_is_seen_belongs_to_the_line_that_has_it() -> None:
    here = site(TWO_LINES).site
    assert (lines_from(here, "box"), lines_from(here, None)) == (("fibre", "mobile"), ())
    seen = {address: [belongs(here, line, "box", ip_address(address)) for line in ("fibre", "mobile", "lte")]
            for address in ("203.0.113.6", "198.51.100.9", "192.0.2.77")}  # fmt: skip
    assert seen == {"203.0.113.6": [True, False, False], "198.51.100.9": [False, True, False],
                    "192.0.2.77": [True, False, False]}  # fmt: skip
    single = site(ONE_BOX).site
    assert belongs(single, "fibre", "box", ip_address("192.0.2.77"))
    assert not belongs(single, "fibre", None, ip_address("192.0.2.77"))


def test_what_a_person_told_of_a_line() -> None:
    """Itself, or the WAN address of its only outermost router, where that is a public address."""
    here, at = site(ONE_BOX).site, datetime(2026, 12, 1, tzinfo=UTC)
    public, wan = "lines.fibre/public", "gateways.box/wan"
    said = Sourced("203.0.113.4", quoted("a person"), at, "told")
    assert told_for(here, "fibre", {public: said}) == Sourced(ip_address("203.0.113.4"), said.source, at, "told")
    of_box = Sourced(ip_address("203.0.113.4"), say("told-as-wan-address", gateway="box"), at, "told")
    assert told_for(here, "fibre", {wan: said}) == of_box
    before = replace(said, how="surveyed")
    assert told_for(here, "fibre", {wan: before}) == Sourced(
        ip_address("203.0.113.4"), say("of-a-service", name="box", what=said.source), at, "surveyed"
    )
    inside = replace(said, value="10.0.0.9")
    assert told_for(here, "fibre", {public: inside, wan: said}) == of_box
    assert told_for(here, "fibre", {public: inside}) is None
    assert told_for(here, "lte", {wan: said}) is None
    two = site(ONE_BOX + '[gateways.shed]\nline = "fibre"\nlan = "10.45.7.1/24"\n').site
    assert told_for(two, "fibre", {wan: said}) is None, "which of the two has it, is not known"


def test_what_is_written_is_confirmed_and_contradicted() -> None:
    at = datetime(2026, 12, 1, tzinfo=UTC)
    first, second = ip_address("203.0.113.5"), ip_address("203.0.113.6")
    for address, what in ((first, say("it-too")), (second, second)):
        seen: SourcedAddress = Sourced(address, quoted("stun"), at, "surveyed")
        confirmed = say("confirmed-by", written=WRITTEN, source=seen.source, what=what)
        assert choose("l", Candidates(told=seen, written=(first, second))) == PublicAddress(
            "l", Sourced(first, confirmed, at, "surveyed"), ()
        )
    given = _said("203.0.113.6", "given", how="given")
    assert choose("l", Candidates(given=given, written=(first, second))) == PublicAddress("l", given, ())
    seen = _said("203.0.113.9", "stun")
    claim = Sourced(first, WRITTEN, how="written")
    contradicted = choose("l", Candidates(stun=seen, written=(first,)))
    assert contradicted == PublicAddress("l", seen, ((claim, seen),))
    assert list(contradicted.findings()) == [address_differs("l", claim, seen)]
    assert choose("l", Candidates()) == PublicAddress("l", Sourced(None, say("no-stun-server-is")), ())
    router, stun, echo = (_said(f"203.0.113.{end}", name) for end, name in ((1, "r"), (2, "s"), (3, "e")))
    told = choose("l", Candidates(router=router, stun=stun, echo=echo))
    assert told == PublicAddress("l", stun, ((router, stun), (echo, stun)))
    assert choose("l", Candidates(router=router, echo=router, interface=stun)).differs == ((stun, router),)


def test_one_builder_of_what_people_type() -> None:
    """Name, own address, line's address, port, path: the card, the base URL on a device's sheet, the finding."""
    text = BOATHOUSE.replace(LINE, f'[lines.fibre]\naddress = ["{REAL}", "{SECOND}"]')
    text = text.replace(
        "[services.hub-page]\n", f'[services.hub-page]\noutside_address = "{SECOND}"\npath = "/start"\n'
    )
    file = site(text)
    topology = Topology(file.site)
    made = {key: typed(topology, key) for key in ("film-page", "hub-page", "desk", "slip-film", "gate")}
    assert {key: one.text if one else None for key, one in made.items()} == {
        "film-page": "https://boathouse.heronquay.example/",
        "hub-page": f"https://{SECOND}:8443/start",  # the name leads to the other address
        "desk": "boathouse.heronquay.example:3389",
        "slip-film": "rtsp://boathouse.heronquay.example:10554/",
        "gate": "boathouse.heronquay.example:51820",
    }
    plan = make_plan(file, date(2026, 5, 1))
    (url,) = (f.message for f in plan.findings if f.code == "port-in-url" and f.subject == "services.hub-page")
    assert f"https://{SECOND}:8443/start" in str(url)


@pytest.mark.parametrize(
    ("pattern", "name", "fits"),
    [
        ("*.heronquay.example", "boathouse.heronquay.example", True),
        ("*.HERONQUAY.example.", "Boathouse.heronquay.example", True),
        ("*.heronquay.example", "heronquay.example", False),
        ("*.heronquay.example", "a.boathouse.heronquay.example", False),
        ("*.example", "heronquay.example", False),
        ("b*.heronquay.example", "boathouse.heronquay.example", False),
        ("*.0.113.44", "203.0.113.44", False),
        ("*.heronquay.example", "*.heronquay.example", True),
        ("*.heronquay.example", ".heronquay.example", False),
    ],
)
def test_wildcards_as_rfc_9525_section_6_3_has_them(pattern: str, name: str, fits: bool) -> None:
    assert stands_for(pattern, name) is fits


def test_a_name_below_a_wildcard_is_kept_by_it_for_the_plan_the_card_and_the_certificate() -> None:
    text = BOATHOUSE.replace('[names."boathouse.heronquay.example"]', '[names."*.heronquay.example"]')
    text = text.replace("[services.hub-page]\n", '[services.hub-page]\nname = "boathouse.heronquay.example"\n')
    findings = {(f.code, f.subject) for f in make_plan(site(text), date(2026, 5, 1)).findings}
    assert ("name-unkept", "services.hub-page") not in findings
    assert ("certificate-other-name", "certificates.boathouse") not in findings


def test_one_question_whether_a_port_is_blocked() -> None:
    entries = [Blocked("tcp", single(80)), Blocked("both", Ports(5000, 5010))]
    assert blocking(entries, "tcp", Ports(79, 81)) == entries[0]
    assert blocking(entries, "udp", single(80)) is None
    assert blocking(entries, "both", single(80)) == entries[0]
    assert blocking(entries, "udp", single(5010)) == entries[1]
    assert (str(Ports(5000, 5010)), Ports(5000, 5010).size, Ports(1, 2).overlaps(Ports(2, 3))) == (
        "5000-5010",
        11,
        True,
    )


def test_why_does_not_wait_for_what_it_drops(answers: Callable[..., Answers], lab: Lab) -> None:
    """The tunnel's server is silent to strangers, and says nothing about the line: it is not waited for."""
    asked = answers(BOATHOUSE)
    lab.ask("mend")
    before = len(lab.ask("ledger")["entries"])
    assert asked.why()["ok"] is True
    sent = [(entry["transport"], entry["to"]) for entry in lab.ask("ledger")["entries"][before:]]
    assert ("udp", f"{REAL}:51820") not in sent
    assert ("tcp", f"{REAL}:8443") in sent, "the others over TCP are asked: they tell whether the line is sound"


def _https(count: int, *, translate: bool) -> str:
    hosts = "".join(
        f'[hosts.h{n}]\naddress = "10.1.0.{n + 10}"\n'
        f'[services.s{n}]\nhost = "h{n}"\nspeaks = "https"\nreach = "public"\n'
        for n in range(count)
    )
    inner = f"form.translate = {str(translate).lower()}\n"
    return (
        'version = 1\n[lines.l]\naddress = "dynamic"\n[gateways.outer]\nline = "l"\nlan = "10.0.0.1/24"\n'
        '[gateways.inner]\nbehind = "outer"\nwan = "10.0.0.2"\nlan = "10.1.0.1/24"\n' + inner + hosts
    )


def test_no_port_left_is_found_by_reasoning_and_blames_the_box_that_cannot_translate() -> None:
    file = site(_https(10, translate=False))
    start = time.process_time()
    plan = make_plan(file, date(2026, 5, 1))
    assert time.process_time() - start < 0.2  # trying 65,000 ports for each took 2.6 s
    left = [f for f in plan.findings if f.code == "no-port-left"]
    assert [f.subject for f in left] == [f"services.s{n}" for n in range(1, 10)]
    assert all("inner cannot translate" in str(f.message) and "s0 has its port 443/tcp" in str(f.message) for f in left)
    assert not [
        f for f in make_plan(site(_https(10, translate=True)), date(2026, 5, 1)).findings if f.code == left[0].code
    ]


@pytest.mark.parametrize("control", ["pcp", "natpmp"])
def test_what_is_not_driven_yet_is_said_by_plan_and_router_in_the_same_words(tmp_path: Path, control: str) -> None:
    named = {"pcp": "PCP", "natpmp": "NAT-PMP"}[control]
    text = ONE_BOX.replace("[hosts", f'control = "{control}"\n[hosts', 1)
    text += '[services.page]\nhost = "hub"\nspeaks = "https"\nreach = "public"\n'
    text += "[hosts.hub.ready]\ndefault_password_changed = true\n"
    (tmp_path / "site.toml").write_text(text)
    plan = hooper("plan", "--json", cwd=tmp_path)
    (row,) = {(e["from_here"], e["reason"]) for e in valid("plan", plan.document)["entering"]}
    said = f"Hooper does not enter rules by {named} yet"
    assert (row[0], row[1].startswith(said)) == ("no", True)
    note = hooper("plan", cwd=tmp_path).err
    assert "hooper worksheet" in note
    assert "router open" not in note
    ran = hooper("router", "open", "--json", cwd=tmp_path)
    assert (ran.code, said in ran.document["errors"][0]["message"]) == (2, True)
