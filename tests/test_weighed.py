"""What decides nothing: what was measured by another line, before a change, by one clock alone, or not at all."""

from __future__ import annotations

import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from hooper.keep.metrics import exposition
from hooper.store.kept import Condition, Heard, Level, Made, Stood
from hooper.store.sitefile import read_site
from hooper.store.state import State
from hooper.usecases.prove.gathering import tunnels_seen
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import of_service
from hooper.usecases.watch.conditions import how_all_stands
from hooper.usecases.watch.reporting import report
from hooper.usecases.watch.status import status
from hooper.words.said import NOTHING
from support.program import LabHere, town_here
from support.sites import ONE_BOX, site

NOW = datetime(2026, 11, 30, 12, tzinfo=UTC)
LEVELS: tuple[Level, ...] = ("well", "wrong", "unknown")
HOUR, DAY = timedelta(hours=1), timedelta(days=1)
TEXT = ONE_BOX + '[services.hub-page]\nhost = "hub"\nspeaks = "https"\nreach = "public"\n'


@pytest.fixture
def town(tmp_path: Path) -> Iterator[LabHere]:
    with town_here(tmp_path / "lab") as lab:
        lab.enter_sheets()
        yield lab


def test_a_name_is_not_published_by_what_another_line_says(town: LabHere) -> None:
    """This computer is on the site's network, and goes out by a router of somebody else."""
    attachment = town.board.town.nodes["here"].attachments[0]
    right, attachment.gateway = attachment.gateway, IPv4Address("10.44.7.99")
    town.run("lab", "break", "name-stale")
    ran = town.run("name", "update", "--json")
    (row, *_) = ran.document["names"]
    assert (ran.code, row["action"]) != (0, "updated")
    assert "goes out by 10.44.7.99" in ran.out + ran.err
    attachment.gateway = right
    assert town.run("name", "update").code == 0


def test_no_outage_is_told_of_what_nobody_has_looked_at(town: LabHere) -> None:
    assert "Nobody has looked from outside since" in town.run("report").out
    town.run("check", "film-page", "--from", "interface:usb0", "--deadline", "1.5")
    assert "No outage seen in 1 look since" in town.run("report").out


def test_what_was_merely_not_proven_blames_no_router(town: LabHere) -> None:
    """WireGuard is silent to strangers: from between the boxes that says nothing of the outer one's rule."""
    town.run("check", "gate", "--from", "interface:usb0", "--deadline", "1.5")
    town.run("lab", "plug", "between")
    told = town.run("survey", "--between", "--deadline", "2", "--json")
    assert "gate" not in str(told.document["between"]["meaning"])


def test_a_certificate_is_certainly_over_only_by_a_second_clock(town: LabHere) -> None:
    """The film box does not say what time it is by it, and the hub does."""
    for service, certainty in (("hub-page", "certain"), ("film-page", "likely")):
        town.run("lab", "break", "certificate-expired", service)
        found = town.run("why", service, "--from", "interface:usb0", "--deadline", "1.5", "--json").document["causes"]
        told = {one["code"]: one for one in found}
        assert told["certificate-expired"]["certainty"] == certainty, found
        assert ("own-clock" in told) == (certainty == "likely")
        if certainty == "likely":
            assert "Compare this computer's clock" in told["certificate-expired"]["would_make_certain"]
        town.run("lab", "mend")


@pytest.mark.parametrize("fault", ["forward-wrong-host", "forward-off", "forward-wrong-port"])
@pytest.mark.parametrize("look", ["why", "check"])
def test_a_rule_that_its_table_denies_is_not_called_entered(town: LabHere, fault: str, look: str) -> None:
    """Whoever reads the table: `why` was certain that it is gone, and status called it entered."""

    def level() -> str:
        rows = town.run("status", "--json").document["rows"]
        (row,) = [r for r in rows if (r["kind"], r["subject"], r["aspect"]) == ("rule", "film-page", "club-router")]
        return str(row["level"])

    def seen() -> list[str]:
        town.run(look, "film-page", "--from", "interface:usb0", "--deadline", "1.5")
        steps = town.run("next", "--json").document["steps"]
        return [one["state"] for one in steps if (one["step"], one["subject"]) == ("rule", "club-router")]

    town.run("router", "open")
    assert (level(), seen()) == ("well", ["done"])
    town.ask("break", fault=fault, service="film-page")
    assert (seen(), level()) == (["open"], "wrong")
    town.ask("mend")
    assert (seen(), level()) == (["done"], "well")


def test_a_service_for_a_tunnel_is_judged_by_its_tunnel(town: LabHere) -> None:
    """Shut outside is as it should be, and says nothing of who is to come in."""
    looked = ("why", "film-shell", "--from", "interface:usb0", "--deadline", "1.5")
    ran = town.run(*looked)
    assert (ran.code, "all is well" in ran.out, "its tunnel was not looked through" in ran.out) == (1, False, True)
    assert "`hooper tunnel add` makes one" in ran.out
    for words in (
        ("tunnel", "add", "oars", "--kind", "wireguard", "--service", "gate", "--subnet", "10.88.44.0/24"),
        ("peer", "add", "cox-phone", "--tunnel", "oars", "--into", "film-shell"),
    ):
        assert town.run(*words).code == 0
    assert "hooper why film-shell --peer cox-phone" in town.run(*looked).err


def test_a_typed_word_that_names_nothing_is_no_fact(town: LabHere) -> None:
    assert town.run("history", "film-page").code == 0
    ran = town.run("history", "film-pag")
    assert (ran.code, "film-pag" in ran.err, "film-page" in ran.err) == (2, True, True)


@pytest.mark.parametrize(("heard", "known"), [(-30, None), (-5, False)])
def test_what_a_server_told_before_its_files_were_made_is_history(
    heard: int, known: bool | None, tmp_path: Path
) -> None:
    """heard: minutes, when the server was asked; its files were made 10 minutes ago."""
    text = TEXT + (
        '[hosts.gate]\naddress = "10.44.7.60"\n[services.gate]\nhost = "gate"\nspeaks = "wireguard"\nreach = "public"\n'
        '[tunnels.oars]\nservice = "gate"\nsubnet = "10.88.44.0/24"\n'
        'public_key = "GATEgateGATEgateGATEgateGATEgateGATEgateGAE="\n'
        'probe_key = "PROBprobPROBprobPROBprobPROBprobPROBprobPRE="\n'
    )
    with State(tmp_path / "state.sqlite3") as state:
        run = Run(site(text), NOW, state=state)
        server = run.site.tunnels["oars"].public_key
        assert server is not None
        state.tunnelling.make("oars", Made("mark", NOW - timedelta(minutes=10)))
        at = NOW + timedelta(minutes=heard)
        state.ledger.hear(
            "oars", [Heard("OTHERotherOTHERotherOTHERotherOTHERotherOTE=", "oars", server, None, None, 0, 0, at)]
        )
        assert tunnels_seen(run)["gate"].probe is known


def stood(place: str, level: Level, age: timedelta) -> Stood:
    state = {"well": "answers", "wrong": "broken", "unknown": "unproven"}[level]
    return Stood(Condition("service", "hub-page", place, state, level, NOTHING), NOW - age, NOW - age)


@pytest.mark.parametrize(
    ("looks", "level"),
    [
        ([("interface:usb0", "unknown", 2 * DAY), ("interface:usb1", "well", HOUR)], "well"),
        ([("interface:usb0", "unknown", HOUR), ("interface:usb1", "well", 2 * HOUR)], "well"),
        ([("interface:usb0", "wrong", HOUR), ("interface:usb1", "well", 2 * HOUR)], "wrong"),
        ([("interface:usb0", "wrong", 30 * DAY), ("interface:usb1", "well", HOUR)], "well"),
        ([("interface:usb0", "unknown", HOUR)], "unknown"),
    ],
)
def test_among_places_what_was_told_counts(
    looks: list[tuple[str, Level, timedelta]], level: str, tmp_path: Path
) -> None:
    with State(tmp_path / "state.sqlite3") as state:
        for place, how, age in sorted(looks, key=lambda look: -look[2]):
            one = stood(place, how, age)
            state.history.note(one.at, [one.condition])
        document, _ = status(Run(site(TEXT), NOW, state=state))
    assert {row.subject: row.level for row in document.rows}["hub-page"] == level


@pytest.mark.parametrize("seed", range(8))
def test_status_report_and_metrics_have_one_answer(seed: int, tmp_path: Path) -> None:
    """Whatever was seen, from wherever, however long ago."""
    from prometheus_client.openmetrics.parser import text_string_to_metric_families

    rng = random.Random(seed)
    with State(tmp_path / "state.sqlite3") as state:
        run = Run(site(TEXT + '[keep]\nplaces = ["interface:usb0"]\n'), NOW, state=state)
        looks = [
            stood(place, rng.choice(LEVELS), rng.choice((HOUR / 2, DAY, 8 * DAY, 40 * DAY)))
            for place in ("here", "interface:usb0", "interface:usb1", "proxy:socks5://192.0.2.1:1080")
            if rng.random() < 0.7
        ]
        for one in sorted(looks, key=lambda look: look.at):
            state.history.note(one.at, [one.condition])
        said = status(run)[0].rows
        (shown,) = report(run, NOW - 90 * DAY)[0].exposed
        text = exposition(run.site, "here", state.history.conditions(), {}, NOW).decode()
    (service,) = [row for row in said if row.kind == "service"]
    told = {
        sample.labels["aspect"]: sample.value
        for family in text_string_to_metric_families(text)  # type: ignore[no-untyped-call]
        for sample in family.samples
        if sample.name == "hooper_well" and sample.labels["kind"] == "service"
    }
    assert told.get("") == {"well": 1.0, "wrong": 0.0}.get(service.level)
    assert (shown.state, shown.proven) == (service.state, service.seen)


def test_rules_that_people_enter_are_judged_too(town: LabHere) -> None:
    """Not checked, proven as far as something came in by them, or ticked off: no router is left out."""

    def rules() -> tuple[str, str, str]:
        rows = town.run("status", "--json").document["rows"]
        (row,) = [one for one in rows if (one["kind"], one["aspect"]) == ("router", "by-hand")]
        return row["subject"], row["state"], row["level"]

    looked = ("--from", "interface:usb0", "--deadline", "1.5")
    assert rules() == ("fibre-box", "not-looked-at", "unknown")
    town.run("check", *looked)
    assert rules() == ("fibre-box", "partly-proven", "unknown")  # WireGuard tells strangers nothing
    assert town.run("worksheet", "fibre-box", "--ticked").code == 0
    assert rules() == ("fibre-box", "ticked", "fact")


def test_what_was_seen_before_a_change_is_history(tmp_path: Path) -> None:
    """A rule that was taken out or entered, or another address in the site file: the proof of before proves nothing."""
    with town_here(tmp_path / "lab") as lab:
        lab.run("router", "open")
        lab.run("lab", "type", "-", stdin=lab.run("worksheet", "--rest", "--json").out)

        def stands() -> tuple[str, str]:
            rows = lab.run("status", "--json").document["rows"]
            return next((r["state"], r["level"]) for r in rows if (r["kind"], r["subject"]) == ("service", "hub-page"))

        assert stands() == ("not-looked-at", "unknown")
        lab.run("check", "hub-page", "--from", "interface:usb0")
        assert stands() == ("answers", "well")
        lab.run("lab", "clock", "--advance", "1m")
        lab.run("router", "close", "hub-page")
        assert stands() == ("outdated", "unknown")
        lab.run("router", "open", "hub-page")
        lab.run("lab", "clock", "--advance", "1m")
        lab.run("check", "hub-page", "--from", "interface:usb0")
        assert stands() == ("answers", "well")
        lab.run("service", "change", "hub-page", "--port", "8444")
        assert stands() == ("outdated", "unknown")
        report = lab.run("report", "--json").document["exposed"]
        assert {one["state"] for one in report if one["service"] == "hub-page"} == {"outdated"}
        lab.run("service", "change", "hub-page", "--port", "8443")
        assert stands() == ("answers", "well"), "the same as it was seen"


@pytest.mark.parametrize("kind", ["several-nats", "third-box", "carrier-nat", "hidden-carrier", "shared-ports"])
def test_the_keeper_and_the_survey_say_the_same_of_a_line(kind: str, tmp_path: Path) -> None:
    """With routers that say nothing, the hops alone tell."""
    with town_here(tmp_path / "lab") as lab:
        lab.ask("line", shape={"kind": kind})
        surveyed = lab.run("survey", "--json").document
        lab.run("keep", "--once", "--json")
        rows = lab.run("status", "--json").document["rows"]
        (row,) = [one for one in rows if (one["kind"], one["subject"]) == ("line", "fibre")]
        assert {True: "well", False: "wrong", None: "unknown"}[surveyed["can_forward"]] == row["level"]


@pytest.mark.parametrize(
    "fault",
    [None, "forward-wrong-host", "service-stopped", "host-moved", "name-private", "certificate-expired", "port-blocked",
     "address-taken", "forward-missing-inner", "resolver-dead"],
)  # fmt: skip
def test_all_commands_say_the_same_of_a_service(town: LabHere, fault: str | None) -> None:
    """check, why, status, report, audit, card, history and metrics, each by itself."""
    service = "hub-page"
    if fault is not None:
        town.run("lab", "break", fault, service)
    looked = town.run("check", service, "--from", "interface:usb0", "--json").document["results"]
    outside = {
        "wrong" if not one["ok"] and (one["verdict"] != "unproven" or one["problems"]) else "well" if one["ok"] else ""
        for one in looked
    }
    level = "wrong" if "wrong" in outside else "well" if "well" in outside else "unknown"
    rows = town.run("status", "--json").document["rows"]
    (row,) = [one for one in rows if (one["kind"], one["subject"]) == ("service", service)]
    assert row["level"] == level
    exposed = {one["service"]: one["state"] for one in town.run("report", "--json").document["exposed"]}
    audited = {one["service"]: one["state"] for one in town.run("audit", "--json").document["exposed"]}
    assert exposed[service] == audited[service] == row["state"]
    card = town.run("card", service, "--json").document
    assert (card["state"], card["level"], card["seen"]) == (row["state"], level, row["seen"])
    events = [one for one in town.run("history", service, "--json").document["events"] if one["kind"] == "service"]
    assert (events[-1]["after"], events[-1]["level"]) == (row["state"], level)
    (kept,) = Path(town.env["STATE"] if "STATE" in town.env else town.folder / "state").glob("*.sqlite3")
    with State(kept) as state:
        run = Run(read_site(Path(town.env["HOOPER_SITE"])), NOW, state=state)
        text = exposition(run.site, "site", how_all_stands(run), {}, datetime.fromisoformat(row["seen"])).decode()
    shown = {line for line in text.splitlines() if f'subject="{service}"' in line and 'aspect=""' in line}
    wanted = {"well": "1.0", "wrong": "0.0"}.get(level)
    assert {line.split(" ")[-1] for line in shown if line.startswith("hooper_well")} == ({wanted} if wanted else set())
    found = town.run("why", service, "--from", "interface:usb0", "--json").document
    assert found["ok"] is {"well": True, "wrong": False, "unknown": None}[level], (level, found["ok"])


def test_what_a_tunnel_leads_to_is_judged_by_the_tunnel(town: LabHere) -> None:
    """That it is shut outside is half of it: nobody has looked through the tunnel."""
    town.run("check", "film-shell", "--from", "interface:usb0")
    rows = town.run("status", "--json").document["rows"]
    (row,) = [one for one in rows if (one["kind"], one["subject"]) == ("service", "film-shell")]
    assert (row["state"], row["level"], "through its tunnel" in row["detail"]) == ("shut", "unknown", True)
    assert town.run("why", "film-shell", "--json").document["ok"] is None
    shut = Stood(Condition("service", "film-shell", "interface:usb0", "shut", "well"), NOW, NOW)
    by_peer = Stood(
        Condition("service", "film-shell", "interface:cox-phone", "answers", "well"), NOW - HOUR, NOW - HOUR
    )
    where = read_site(Path(town.env["HOOPER_SITE"])).site
    for looks, level in (((shut,), "unknown"), ((shut, by_peer), "well"), ((by_peer,), "well")):
        assert of_service(where, "film-shell", looks, NOW).level == level
