"""survey and why in the lab, as a user drives them; the same questions are asked of the kernel in test_real_why."""

from __future__ import annotations

import os
from datetime import date, datetime
from pathlib import Path
from typing import Any

import anyio
import pytest

from hooper.check.checking import check_services
from hooper.check.wish import Wish
from hooper.evidence.worlds import rows
from hooper.net.lab_door import LabDoor, read_lab_file
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.store.sitefile import read_site
from hooper.store.state import State
from hooper.why.diagnosis import diagnose
from hooper.why.evidence import Past, gather_service
from hooper.why.facts import ServiceFacts
from support.fault_table import (
    CAUSES,
    FOOTING,
    PLAN,
    TOPOLOGY,
    UNREAD,
    asked,
    assert_found_by_asking,
    found_in,
    service_of,
)
from support.program import Lab, Ran, hooper, town_here, valid

# what no look from here and no page of a router decides, so that it never is certain
NEVER_CERTAIN = {
    "provider-blocks-port", "host-off", "host-filters-strangers", "host-filters-all", "host-without-way-out",
    "service-stopped", "service-loopback", "zone-down", "resolver-broken", "phone-in-vpn", "address-taken",
    "forward-not-enforced", "packets-too-large", "host-wrong-mask",
}  # fmt: skip
WELL = ("own-tunnel", "own-line")  # it answers from outside
OF_THE_FILM_PAGE = [one for one in CAUSES if service_of(one) == "film-page" and one != "name-contested"]
COMMON = frozenset(row.code for row in rows(FOOTING._replace(vpn=False)) if row.weight >= 0.7)
DECIDING = ("--wan", "--rule", "--at")


@pytest.fixture
def fresh(lab: Lab, tmp_path: Path) -> Lab:
    """The lab with a state of this test's own: nothing told, nothing seen."""
    return Lab({**lab.env, "STATE": str(tmp_path / "state")}, lab.folder)


def why(lab: Lab, *arguments: str, origin: str | None = "interface:usb0", deadline: str = "2") -> Ran:
    place = ("--from", origin) if origin else ()
    return lab.run(
        "why", "film-page", *place, "--deadline", deadline, "--state", lab.env["STATE"], "--json", *arguments
    )


def causes(ran: Ran) -> list[tuple[str, str]]:
    return [(cause["code"], cause["certainty"]) for cause in valid("why", ran.document)["causes"]]


def _read_off(rule: dict[str, Any]) -> str:
    """What a person says of an entry who compares it with the sheet."""
    if rule["transport"] == "udp":
        return "transport"
    state = {"on": "", "off": "off", "ended": "ended"}.get(rule["state"], "interface")
    return state or ("limited" if rule["sources"] else f"{rule['target_address']}:{rule['target_ports'][0]}")


def deciding_step(lab: Lab, asked: str) -> tuple[str, ...]:
    """What a person does who follows `would_make_certain`: looks at that page and gives what stands there."""
    pages: dict[str, Any] = {page["gateway"]: page for page in lab.run("lab", "read", "--json").document["gateways"]}
    if "--wan" in asked:
        gateway = asked.split("--wan ")[1].split("=")[0]
        return ("--wan", f"{gateway}={pages[gateway]['wan_address']}")
    if "--rule" in asked:
        gateway = asked.split("--rule ")[1].split("=")[0]
        rules = [rule for rule in pages[gateway]["rules"] if rule["outside_ports"] == [443, 443]]
        return ("--rule", f"{gateway}={_read_off(rules[0]) if rules else 'missing'}")
    assert "--at" in asked
    devices = [device for page in pages.values() for device in page["devices"]]
    (address,) = (device["address"] for device in devices if device["mac"] == "02:00:5e:44:07:30")
    return ("--at", address)


@pytest.mark.parametrize("service", ["film-page", "hub-page", "desk", "gate"])
def test_five_questions_lead_to_any_cause_from_nothing_at_all(service: str) -> None:
    found = {cause: asked(service, cause, COMMON) for cause in COMMON}
    assert {cause: left for cause, (left, count) in found.items() if left != {cause} or count > 5} == {}


def test_questions_are_put_answered_and_kept(fresh: Lab) -> None:
    assert fresh.run("lab", "break", "provider-blocks-port").code == 0
    ran = why(fresh, "--ask")
    assert [one["answer"] for one in ran.document["asked"]] == [None]
    while (upcoming := ran.document["asked"][-1])["answer"] is None:
        ran = why(fresh, "--ask", "--answer", f"{upcoming['key']}=yes")
    assert causes(ran) == [("port-blocked", "likely")]
    assert [one["answer"] for one in ran.document["asked"]] == ["yes"] * len(ran.document["asked"])
    assert len(ran.document["asked"]) <= 5
    assert why(fresh, "--answer", "rule-fibre-box=perhaps").code == 2
    wrong = why(fresh, "--answer", "rule-fibre=yes")
    assert (wrong.code, "rule-fibre-box" in wrong.document["errors"][0]["remedy"]) == (2, True)
    fresh.run("lab", "mend")
    assert (causes(why(fresh, "--ask")), why(fresh, "--ask").document["asked"]) == ([], [])


def test_what_a_person_saw_is_shown_and_proves_nothing(fresh: Lab) -> None:
    here = ("--state", fresh.env["STATE"])
    assert fresh.run("visit", "tell", "film-page", "--how", "opened\x1b[2J on the train", *here).code == 0
    ran = fresh.run("why", "film-page", "--json", *here)
    (outside,) = [step for step in ran.document["steps"] if step["step"] == "outside"]
    assert (outside["state"], ran.code) == ("unknown", 1)
    assert outside["evidence"][1].startswith("a person reported just now: opened")


def test_without_a_fault_all_is_well(fresh: Lab) -> None:
    ran = why(fresh)
    assert (causes(ran), ran.document["ok"], ran.code) == ([], True, 0)
    assert {step["state"] for step in ran.document["steps"]} == {"ok", "skipped"}


@pytest.mark.parametrize("fault", OF_THE_FILM_PAGE)
def test_each_fault_comes_to_its_cause(fresh: Lab, fault: str) -> None:
    """Its cause is listed; following what is asked for makes it certain, and nothing else ever becomes certain."""
    assert fresh.run("lab", "break", fault).code == 0
    ran = why(fresh)
    assert_found_by_asking("film-page", UNREAD.get(fault, CAUSES[fault]), found_in(ran.document))
    told: tuple[str, ...] = ()
    for _ in range(4):
        assert ran.code == 1 or fault in WELL
        assert {CAUSES[fault], UNREAD.get(fault)} & {*found_in(ran.document)}
        certain = [code for code, certainty in causes(ran) if certainty == "certain"]
        asked = next(
            (
                cause["would_make_certain"]
                for cause in ran.document["causes"]
                if any(option in (cause["would_make_certain"] or "") for option in DECIDING)
            ),
            None,
        )
        if certain or asked is None or fault in NEVER_CERTAIN:
            break
        told = (*told, *deciding_step(fresh, asked))
        ran = why(fresh, *told)
    assert certain == ([] if fault in NEVER_CERTAIN else [CAUSES[fault]])
    fresh.run("lab", "mend")
    if told:
        mended = why(fresh)
        assert (causes(mended), mended.code) == ([], 0), "what was told of the fault is outdated by what is seen"


def test_a_name_that_another_hand_writes_too(fresh: Lab) -> None:
    """What Hooper had published and seen is gone again: so there is another updater."""
    fresh.run("lab", "break", "name-contested")
    assert causes(why(fresh)) == [("name-stale", "certain")]
    state = ("--state", fresh.env["STATE"])
    ran = fresh.run("name", "update", *state)
    assert ran.code == 0, ran
    assert causes(why(fresh)) == []
    fresh.run("lab", "clock", "--advance", "300")
    ran = why(fresh)
    assert causes(ran) == [("name-contested", "certain")]
    assert "was published as 203.0.113.44 5 min ago and shown so" in ran.document["causes"][0]["message"]


def test_a_rule_that_ran_out_is_told_from_one_that_was_taken_away(fresh: Lab) -> None:
    """Hooper had entered it for a time, by a protocol; without a keeper nobody renews it."""
    state = ("--state", fresh.env["STATE"])
    fresh.run("lab", "break", "forward-missing-inner")
    assert fresh.run("router", "open", "film-page", "--lease", "1h", *state).code == 0
    assert causes(why(fresh)) == []
    fresh.run("lab", "clock", "--advance", "7200")
    assert causes(why(fresh)) == [("rule-ended", "certain")]


def test_a_program_that_listens_for_its_own_machine_is_seen_on_that_machine(fresh: Lab) -> None:
    async def seen() -> ServiceFacts:
        door = await LabDoor.open(read_lab_file(Path(fresh.env["HOOPER_LAB"])), "film-box")
        facts, _ = await gather_service(
            door, None, TOPOLOGY, PLAN, "film-page", Past(), None, 2.0, now=door.clock.now()
        )
        return facts

    for fault, cause in (("service-loopback", "service-loopback"), ("service-stopped", "service-stopped")):
        fresh.ask("break", fault=fault, service="film-page")
        found = diagnose(TOPOLOGY, PLAN, anyio.run(seen)).causes
        assert [(one.code, one.certainty) for one in found] == [(cause, "certain")]
        fresh.ask("mend")


def test_a_router_that_leads_back_shows_that_the_rules_are_right(tmp_path: Path) -> None:
    """Hairpin: the service answers by the public address from inside, so no rule is a suspect."""
    with town_here(tmp_path / "lab", hairpin=True) as town:
        lab = Lab({**town.env, "STATE": str(tmp_path / "state")}, town.folder)
        lab.enter_sheets()
        lab.run("lab", "break", "router-mute")
        assert why(lab).document["findings"] == []
        lab.run("lab", "break", "provider-blocks-port")
        found = dict(causes(why(lab)))
        assert found["port-blocked"] == "likely"
        assert not [code for code in found if code.startswith(("rule-", "carrier", "inner-"))]


def test_what_was_looked_from_can_be_at_fault_itself(fresh: Lab) -> None:
    fresh.run("lab", "break", "phone-at-home")
    ran = why(fresh)
    assert (causes(ran), ran.document["ok"], ran.code) == ([("asker-inside", "certain")], None, 1)
    ran = fresh.run("why", "film-page", "--from", "interface:usb0", "--deadline", "2")
    assert "not proven from outside" in ran.out
    fresh.run("lab", "mend")
    fresh.run("lab", "break", "phone-in-vpn")
    assert causes(why(fresh))[0] == ("asker-tunnel", "likely")


def test_a_stand_in_that_was_reached_clears_the_line(fresh: Lab) -> None:
    fresh.run("lab", "break", "router-mute")
    fresh.run("lab", "break", "forward-missing-outer")
    before = dict(causes(why(fresh)))
    assert "port-blocked" in before
    moment = fresh.run("lab", "clock", "--json").document["now"]
    (kept,) = Path(fresh.env["STATE"]).glob("*.sqlite3")
    with State(kept) as state:  # as `stand-in` keeps it
        state.ledger.tell(datetime.fromisoformat(moment), {"services.film-page/way@tcp": "answered"})
    after = dict(causes(why(fresh)))
    assert ("rule-missing-outer" in after, "port-blocked" in after, "carrier-nat" in after) == (True, False, False)


def test_a_router_that_tells_a_false_address_is_not_believed(fresh: Lab) -> None:
    fresh.run("lab", "break", "false-wan")
    ran = fresh.run("survey", "--json")
    assert (ran.document["situation"], ran.document["can_forward"]) == ("several-nats", True)
    assert any("cannot be its own" in remark for remark in ran.document["remarks"])
    assert (causes(why(fresh)), why(fresh).code) == ([], 0)


def test_a_router_that_answers_leaves_fewer_suspects(fresh: Lab) -> None:
    """Its own table is looked at: a rule that is there is no suspect, one that is wrong is certain."""
    fresh.run("lab", "break", "forward-missing-outer")
    ran = why(fresh)
    assert causes(ran)[0] == ("rule-missing-outer", "likely")
    assert "rule-missing-inner" not in dict(causes(ran))
    step = next(step for step in ran.document["steps"] if step["step"] == "rule:club-router")
    assert (step["state"], step["evidence"][1]) == ("ok", "seen in its table to be there, just now")
    fresh.run("lab", "mend")
    fresh.run("lab", "break", "forward-wrong-host", "hub-page")
    place = ("--from", "interface:usb0", "--state", fresh.env["STATE"])
    ran = fresh.run("why", "hub-page", *place, "--deadline", "2", "--json")
    assert causes(ran) == [("rule-wrong-host", "certain")]


@pytest.mark.parametrize(
    ("fault", "cause"),
    [
        ("certificate-expired", "certificate-expired"),
        ("certificate-other-name", "certificate-other-name"),
        ("certificate-own", "certificate-absent"),
    ],
)
def test_each_fault_of_a_certificate_comes_to_its_cause(fresh: Lab, fault: str, cause: str) -> None:
    assert fresh.run("lab", "break", fault).code == 0
    for origin in ((), ("--from", "interface:usb0")):
        place = (*origin, "--state", fresh.env["STATE"])
        ran = fresh.run("why", "hub-page", *place, "--deadline", "2", "--json")
        assert (causes(ran), ran.code) == ([(cause, "certain")], 1)
        steps = {step["step"]: step["state"] for step in ran.document["steps"]}
        assert (steps["certificate"], steps["service"]) == ("broken", "ok")
    (result,) = fresh.run("check", "hub-page", "--json").document["results"]
    assert (result["verdict"], result["ok"], result["problems"]) == ("answered", False, [cause])
    fresh.run("lab", "mend")
    assert fresh.run("check", "hub-page").code == 0


def test_an_ended_certificate_counts_where_none_is_planned_too(fresh: Lab) -> None:
    fresh.run("lab", "break", "certificate-expired", "film-page")
    (result,) = fresh.run("check", "film-page", "--json").document["results"]
    assert result["problems"] == ["certificate-expired"]


def test_without_a_look_from_outside_it_is_not_proven(fresh: Lab) -> None:
    ran = why(fresh, origin=None)
    assert (ran.document["ok"], ran.code) == (None, 1)
    assert ran.document["steps"][-1] == {
        "step": "outside",
        "state": "unknown",
        "evidence": ["nobody looked from outside; give --from interface"],
    }
    why(fresh)  # this look is remembered for ten minutes
    ran = why(fresh, origin=None)
    assert (ran.document["ok"], ran.code) == (True, 0)
    assert "just now" in ran.document["steps"][-1]["evidence"][0]


def test_a_stored_look_grows_old(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as started:
        lab = Lab({**started.env, "STATE": str(tmp_path / "state")}, started.folder)
        lab.enter_sheets()
        why(lab)
        lab.run("lab", "clock", "--advance", "480")
        assert why(lab, origin=None).document["ok"] is True
        lab.run("lab", "clock", "--advance", "180")
        assert why(lab, origin=None).document["ok"] is None


def test_told_evidence_grows_old(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as started:
        lab = Lab({**started.env, "STATE": str(tmp_path / "state")}, started.folder)
        lab.enter_sheets()
        lab.run("lab", "break", "forward-missing-outer")
        assert causes(why(lab, "--rule", "fibre-box=missing")) == [("rule-missing-outer", "certain")]
        lab.run("lab", "clock", "--advance", "7300")
        assert causes(why(lab)) == [("rule-missing-outer", "likely")]


def test_away_from_the_site_the_whole_chain_still_stands(fresh: Lab, tmp_path: Path) -> None:
    """In the real world of this computer, through the lab's entrance as a proxy: nothing inside can be seen."""
    private = fresh.private()
    place = ("--from", f"socks5://phone@127.0.0.1:{private['port']}", "--proxy-password", "env:WORD")
    arguments = (
        "--public",
        "203.0.113.44",
        "--site",
        fresh.env["HOOPER_SITE"],
        "--state",
        fresh.env["STATE"],
        "--json",
    )
    fresh.run("lab", "break", "forward-missing-inner")
    word = {"WORD": private["token"]}
    ran = hooper("why", "film-page", *place, *arguments, "--deadline", "1", env=word)
    found = [code for code, _ in causes(ran) if code != "name-missing"]  # the real world has no such name
    assert found[:2] == ["rule-missing-outer", "rule-missing-inner"]
    states = {step["step"]: step["state"] for step in ran.document["steps"]}
    assert (states["host"], states["rule:club-router"], states["outside"]) == ("unknown", "unknown", "broken")


def test_between_the_boxes_what_is_further_in_is_out_of_sight(fresh: Lab) -> None:
    """A machine on the outer LAN cannot see the devices behind the inner router, and must not take them for gone."""
    file = read_site(Path(fresh.env["HOOPER_SITE"]))
    plan = make_plan(file, date(2026, 5, 1))

    async def work() -> ServiceFacts:
        door = await LabDoor.open(read_lab_file(Path(fresh.env["HOOPER_LAB"])), "between")
        now, usb = door.clock.now(), door.through("usb0")
        facts, _ = await gather_service(door, usb, Topology(file.site), plan, "film-page", Past(), None, 0.8, now=now)
        outcome = await check_services(door, Wish(Topology(file.site), ["film-page"], 0.3))
        assert ["club-router cannot be seen" in str(remark) for remark in outcome.remarks] == [True]
        return facts

    facts = anyio.run(work)
    assert (facts.line.at, facts.inside, facts.line.chain) == ("fibre-box", None, ("fibre-box", "club-router"))
    found = diagnose(Topology(file.site), plan, facts)
    assert (found.ok, found.causes) == (True, ())
    assert "not on the service's network" in str(found.steps[-1].evidence[0])


def test_what_cannot_be_proven_by_a_stranger_says_so(fresh: Lab) -> None:
    ran = fresh.run("why", "gate", "--from", "interface:usb0", "--deadline", "2", "--json")
    states = {step["step"]: step["state"] for step in ran.document["steps"]}
    assert (ran.document["ok"], ran.code, states["host"], states["outside"]) == (None, 1, "ok", "unknown")


def test_ticked_sheets_count_while_they_are_current(fresh: Lab, tmp_path: Path) -> None:
    fresh.run("lab", "break", "provider-blocks-port")
    fresh.run("lab", "break", "router-mute")
    assert causes(why(fresh))[:2] == [("rule-missing-outer", "likely"), ("rule-missing-inner", "likely")]
    ticked = fresh.run("worksheet", "--ticked", "--state", fresh.env["STATE"])
    assert (ticked.code, "Ticked off: fibre-box, club-router." in ticked.err) == (0, True)
    assert {certainty for _, certainty in causes(why(fresh))} == {"possible"}
    changed = tmp_path / "site.toml"
    text = Path(fresh.env["HOOPER_SITE"]).read_text()
    changed.write_text(text.replace('sources = ["198.51.100.0/24"]', 'sources = ["198.51.100.0/25"]', 1))
    assert ("rule-missing-inner", "likely") in causes(why(fresh, "--site", str(changed)))


def test_survey_measures_compares_and_remembers(fresh: Lab) -> None:
    def survey(*arguments: str) -> Ran:
        ran = fresh.run("survey", "--state", fresh.env["STATE"], "--json", *arguments)
        valid("survey", ran.document)
        return ran

    def pairs(ran: Ran) -> dict[str, bool | None]:
        return {row["left"]["what"]: row["equal"] for row in ran.document["comparisons"]}

    ran = survey()
    assert (ran.code, ran.document["situation"], ran.document["can_forward"]) == (0, "several-nats", True)
    fresh.run("lab", "line", "several-nats", "--dead", "gateway")
    ran = survey()
    assert (ran.code, ran.document["situation"], ran.document["can_forward"]) == (0, "unclear", None)
    assert ran.document["own_address"]["ipv4"] == "10.44.7.105"
    assert ran.document["public_address"]["ipv4"] == "203.0.113.44"
    ran = survey("--wan", "fibre-box=203.0.113.44")
    assert (ran.document["situation"], ran.document["can_forward"]) == ("several-nats", True)
    ran = survey()
    assert ran.document["can_forward"] is True, "what was told is remembered"
    assert pairs(ran)["fibre-box, WAN address"] is True
    assert [row["wan_address"] for row in ran.document["gateways"]] == ["203.0.113.44", "192.168.90.2"]
    fresh.run("lab", "line", "several-nats")
    fresh.run("lab", "break", "carrier-nat")
    ran = survey()
    assert (ran.code, ran.document["situation"], ran.document["can_forward"]) == (1, "carrier-nat", False), (
        "the number that was told does not fit any more, and the hops tell why"
    )
    ran = survey("--wan", "fibre-box=100.64.44.9")
    assert (ran.code, ran.document["situation"], ran.document["can_forward"]) == (1, "carrier-nat", False)
    assert [f["code"] for f in ran.document["findings"]] == ["line-behind-carrier"]
    fresh.run("lab", "mend")
    fresh.run("lab", "break", "name-stale")
    ran = survey("--wan", "fibre-box=203.0.113.44")
    assert (pairs(ran)["fibre-box, WAN address"], pairs(ran)["boathouse.heronquay.example"]) == (True, False)


def test_survey_without_servers_and_with_dead_ones(fresh: Lab, tmp_path: Path) -> None:
    text = Path(fresh.env["HOOPER_SITE"]).read_text()
    site = tmp_path / "site.toml"
    without = text.replace('stun = ["192.0.2.10:3478", "192.0.2.11:3478"]', "")
    site.write_text(without.replace("192.0.2.53", "192.0.2.99"))
    ran = fresh.run("survey", "--site", str(site), "--json", "--deadline", "4")
    assert (ran.code, valid("survey", ran.document)["public_address"]["ipv4"]) == (0, None)
    names = [row for row in ran.document["comparisons"] if row["left"]["what"] == "boathouse.heronquay.example"]
    assert names[0]["left"]["source"] == "this computer's resolver 10.44.7.1"
    site.write_text(text.replace("192.0.2.10", "192.0.2.98").replace("192.0.2.11", "192.0.2.99"))
    ran = fresh.run("survey", "--site", str(site), "--json", "--deadline", "1", "--public", "203.0.113.44")
    document = valid("survey", ran.document)
    assert (ran.code, document["errors"][0]["code"]) == (4, "no-stun")
    assert document["public_address"]["ipv4"] == "203.0.113.44", "told numbers carry where nothing can be measured"


def test_wrong_words(fresh: Lab) -> None:
    for arguments, words in (
        (("why",), "Missing argument"),
        (("why", "film-pge"), "Did you mean 'film-page'"),
        (("why", "film-page", "--rule", "fibre-box"), "GATEWAY=VALUE"),
        (("why", "film-page", "--rule", "fibre-box=perhaps"), "not an address"),
        (("why", "film-page", "--rule", "fibre-box=perhaps"), "transport, ended, interface"),
        (("why", "film-page", "--rule", "fibre-box=10.0.0.1:99999"), "not a port"),
        (("why", "film-page", "--rule", "nix=there"), "no gateway 'nix'"),
        (("why", "film-page", "--at", "kitchen"), "not an address"),
        (("why", "film-page", "--from", "moon"), "interface:NAME"),
        (("why", "film-page", "--proxy-password", "env:X"), "--proxy-password"),
        (("why", "film-page", "--from", "interface:wlan7"), "no interface 'wlan7'"),
        (("survey", "--wan", "fibre-box=home"), "not an address"),
        (("survey", "--wan", "203.0.113.44"), "GATEWAY=VALUE"),
        (("survey", "--public", "0.0.0.0"), "no address"),
        (("worksheet", "--state", "x"), "--ticked"),
    ):
        ran = fresh.run(*arguments)
        assert (ran.code, words in ran.err) == (2, True), ran


def test_every_command_fits_its_width_and_colour_is_left_out_on_wish(fresh: Lab) -> None:
    fresh.run("lab", "break", "forward-missing-inner")
    state = ("--state", fresh.env["STATE"])
    for columns in ("80", "120"):
        for command in (
            ("survey", *state),
            ("why", "film-page", "--from", "interface:usb0", "--deadline", "0.5", *state),
            ("check", "--from", "interface:usb0", "--deadline", "0.5", *state),
            ("plan",),
            ("worksheet",),
            ("lab", "faults"),
            ("lab", "read"),
        ):
            plain = fresh.run(*command, COLUMNS=columns, NO_COLOR="1", FORCE_COLOR="1")
            assert "\x1b" not in plain.out, command
            assert max(len(line.rstrip()) for line in plain.out.splitlines()) <= int(columns), command
            coloured = fresh.run(*command, COLUMNS=columns, FORCE_COLOR="1")
            assert "\x1b[" in coloured.out, command


def test_masked_survey_and_why(fresh: Lab) -> None:
    for arguments in (("survey",), ("why", "film-page", "--from", "interface:usb0", "--deadline", "1")):
        for more in ((), ("--json",), ("--verbose",)):
            ran = fresh.run(*arguments, "--mask", *more, "--state", fresh.env["STATE"])
            text = (ran.out + ran.err).replace(str(fresh.folder), "").replace(fresh.env["STATE"], "")
            for word in ("203.0.113.44", "192.0.2.10", "heronquay", "02:00:5e"):
                assert word not in text, (word, text)


def test_state_is_private(fresh: Lab) -> None:
    why(fresh, "--wan", "fibre-box=203.0.113.44")
    folder = Path(fresh.env["STATE"])
    assert folder.stat().st_mode & 0o77 == 0
    assert all((folder / name).stat().st_mode & 0o77 == 0 for name in os.listdir(folder))


def test_what_cannot_be_so_is_refused_and_what_was_told_is_taken_back(fresh: Lab) -> None:
    def survey(*arguments: str) -> Ran:
        return fresh.run("survey", "--state", fresh.env["STATE"], "--json", *arguments)

    for wrong, words in (
        ("fibre-box=192.168.90.7", "own LAN"),
        ("club-router=203.0.113.44", "not of the network of fibre-box"),
    ):
        ran = survey("--wan", wrong)
        assert (ran.code, words in ran.document["errors"][0]["message"]) == (2, True)
    assert survey("--wan", "fibre-box=203.0.113.44").code == 0
    fresh.run("lab", "clock", "--advance", "600")
    told = [remark for remark in survey().document["remarks"] if "was told" in remark]
    assert len(told) == 1
    assert "203.0.113.44, 10 min ago" in told[0]
    assert survey("--wan", "fibre-box=").code == 0
    assert not [remark for remark in survey().document["remarks"] if "was told" in remark]


def test_a_rule_for_udp_that_is_gone_has_a_cause(fresh: Lab) -> None:
    fresh.run("lab", "break", "forward-missing-inner", "gate")
    ran = fresh.run("why", "gate", "--from", "interface:usb0", "--deadline", "1", "--json")
    assert (ran.code, causes(ran)[0][0]) == (1, "rule-missing-inner")


def test_where_all_is_well_nobody_is_sent_to_read_numbers(fresh: Lab) -> None:
    ran = why(fresh)
    assert ran.document["ok"] is True
    assert all(row["equal"] is not None for row in ran.document["comparisons"])
