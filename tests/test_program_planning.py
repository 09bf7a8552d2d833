"""The planning commands as a user runs them: edits, ticks, the gate, worksheets, tables, pictures, a new site."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from hooper.store.entries import Entered, LiveRule
from hooper.store.place import store_name
from hooper.store.sitefile import read_site
from hooper.store.state import State
from support.program import BOATHOUSE, Lab, Ran, hooper, town_here, valid


@pytest.fixture
def place(tmp_path: Path) -> Path:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    return tmp_path


def run(place: Path, *arguments: str, stdin: str = "") -> Ran:
    return hooper(*arguments, cwd=place, stdin=stdin, env={"HOOPER_SITE": ""})


def text(place: Path) -> str:
    return (place / "site.toml").read_text()


def test_a_device_and_its_service_are_added_and_removed_without_a_trace(place: Path) -> None:
    added = run(place, "host", "add", "pump", "--mac", "2-0-5e-44-7-70", "--json")
    assert added.code == 0, added
    assert {c["key"]: c["after"] for c in valid("edit", added.document)["changes"]}["address"] == "10.44.7.20"
    ran = run(place, "service", "add", "pump-page", "--host", "pump", "--speaks", "https", "--reach", "public")
    assert ran.code == 0
    assert "outside_port = 10443" in ran.out  # 443 is the storage's
    assert "outside_port = 10443" in text(place)
    refused = run(place, "host", "remove", "pump")
    assert (refused.code, "services.pump-page" in refused.err) == (2, True)
    gone = run(place, "host", "remove", "pump", "--with-services")
    assert "take the rule tcp 10443 away on fibre-box, club-router" in " ".join(gone.out.split())
    assert text(place) == BOATHOUSE


def test_changes_say_what_hangs_on_the_old_address(place: Path) -> None:
    ran = run(place, "host", "change", "hub", "--address", "10.44.7.51", "--json")
    follows = valid("edit", ran.document)["follows"]
    assert any("club-router" in line and "tcp 8443" in line for line in follows)
    assert any("hosts files" in line for line in follows)
    assert text(place) == BOATHOUSE.replace("10.44.7.50", "10.44.7.51")
    back = run(place, "service", "change", "desk", "--unset", "sources", "--reach", "tunnel")
    assert back.code == 0
    assert 'speaks = "rdp"\nreach = "tunnel"\n\n[services.timing-desk]' in text(place)


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (("host", "add", "hub"), 2, "already"),
        (("host", "add", "x", "--address", "nowhere"), 2, "not an IPv4 address"),
        (("host", "add", "router"), 2, "reserved"),
        (("host", "change", "hub"), 2, "nothing to change"),
        (("host", "change", "nix", "--mac", "1"), 2, "no host 'nix'"),
        (("host", "change", "hub", "--unset", "nix"), 2, "no key 'nix'"),
        (("host", "tick", "hub", "nix"), 2, "nothing to tick"),
        (("host", "tick", "hub", "--not"), 2, "needs an item"),
        (("host", "suggest", "nix"), 2, "no gateway"),
        (("service", "add", "x"), 2, "--host"),
        (("service", "add", "x", "--host", "hub", "--port", "many"), 2, "not a port"),
        (("service", "add", "x", "--host", "hub", "--speaks", "htps"), 2, "https"),
        (("service", "add", "x", "--host", "hub", "--transport", "6", "--port", "1"), 2, "TCP"),
        (("plan", "--against", "nix"), 2, "no file nix"),
        (("plan", "--chain", "--json"), 2, "--chain"),
        (("worksheet", "--devices", "--letter"), 2, "exclude"),
        (("worksheet", "--nftables"), 2, "one router"),
        (("worksheet", "--devices", "nix"), 2, "nix"),
        (("worksheet", "--until", "2027-01-01"), 2, "--accept"),
        (("worksheet", "--accept", "r", "--until", "soon"), 2, "not a date"),
        (("new", "--site", "site.toml"), 2, "exists"),
        (("new", "--site", "n.toml"), 2, "not answered"),
        (("new", "--site", "n.toml", "--blocked", "all"), 2, "makes no site"),
        (("new", "--site", "n.toml", "--gateway", "box=1"), 2, "length of the prefix"),
        (("new", "--site", "n.toml", "--gateway", "box=10.0.0.1/24", "--wan", "x=1"), 2, "no --gateway"),
    ],
)
def test_wrong_words_change_nothing(place: Path, arguments: tuple[str, ...], code: int, words: str) -> None:
    ran = run(place, *arguments)
    assert (ran.code, words in ran.err + ran.out) == (code, True), ran
    assert text(place) == BOATHOUSE
    assert [path.name for path in place.iterdir()] == ["site.toml"]


def test_an_edit_that_would_break_the_file_is_not_written(place: Path) -> None:
    ran = run(place, "host", "change", "hub", "--address", "172.30.0.9")
    assert (ran.code, "in no network" in ran.err) == (2, True)
    assert text(place) == BOATHOUSE
    dry = run(place, "host", "tick", "hub", "clock", "--dry-run")
    assert (dry.code, "not written" in dry.out) == (0, True)
    assert text(place) == BOATHOUSE


def test_a_mark_at_the_start_a_link_and_line_ends_survive_an_edit(place: Path) -> None:
    (place / "real.toml").write_bytes(b"\xef\xbb\xbf" + BOATHOUSE.replace("\n", "\r\n").encode())
    (place / "real.toml").chmod(0o640)
    (place / "site.toml").unlink()
    (place / "site.toml").symlink_to("real.toml")
    assert run(place, "host", "tick", "hub", "clock").code == 0
    data = (place / "real.toml").read_bytes()
    assert data.startswith(b"\xef\xbb\xbf# The boathouse")
    assert data.count(b"\n") == data.count(b"\r\n")
    assert b"second_factor = true, clock = true }" in data
    assert (place / "site.toml").is_symlink()
    assert (place / "real.toml").stat().st_mode & 0o777 == 0o640


def test_lists_and_ticks(place: Path) -> None:
    hosts = valid("host-list", run(place, "host", "list", "--json").document)["hosts"]
    assert [row["host"] for row in hosts][:2] == ["slip-cam", "recorder"]
    assert (hosts[1]["address"], hosts[1]["in_pool"]) == ("10.44.7.22", False)
    services = valid("service-list", run(place, "service", "list", "--json").document)["services"]
    assert {row["service"]: row["outside_ports"] for row in services}["slip-film"] == [10554, 10554]
    assert run(place, "host", "tick", "gate", "--all").code == 0
    rows = valid("host-list", run(place, "host", "tick", "gate", "--json").document)["hosts"]
    assert set(rows[0]["ready"].values()) == {True}
    found = valid("host-suggest", run(place, "host", "suggest", "--count", "3", "--json").document)
    assert (found["gateway"], len(found["addresses"])) == ("club-router", 3)
    masked = run(place, "host", "list", "--mask").out
    assert "02:00:5e:44:07:21" not in masked


def test_pinned_ports_stand_in_the_file_and_nothing_moves(place: Path) -> None:
    before = run(place, "plan", "--json").document["forwards"]
    ran = run(place, "plan", "--pin", "--json")
    pinned = valid("plan", ran.document)["pinned"]
    assert "services.film-page.outside_port = 443" in pinned
    assert len(pinned) == 6
    assert ran.document["forwards"] == before
    after = text(place)
    assert run(place, "plan", "--pin").code == 0
    assert text(place) == after
    lines = [line for line in after.splitlines() if line not in BOATHOUSE.splitlines() or "outside_port" in line]
    assert all("outside_port" in line for line in lines)


def unready(place: Path) -> None:
    """The camera's password is not ticked off, its film not accepted; the desk is open to all."""
    start = BOATHOUSE.index("[services.slip-film.accepted]")
    end = BOATHOUSE.index("[services.slip-page]")
    changed = BOATHOUSE[:start] + BOATHOUSE[end:]
    changed = changed.replace(
        'mac = "02:00:5e:44:07:30"\nready = { default_password_changed = true, second_factor = true }', ""
    )
    (place / "site.toml").write_text(changed.replace('sources = ["198.51.100.0/24"]\n', "", 1))


def test_the_router_sheet_leaves_out_what_is_not_ready(place: Path) -> None:
    unready(place)
    ran = run(place, "worksheet", "--json")
    document = valid("worksheet", ran.document)
    assert ran.code == 5
    assert {error["code"] for error in document["errors"]} == {"not-ready"}
    assert sorted(error["message"].partition(":")[0] for error in document["errors"]) == [
        "desk",
        "film-page",
        "slip-film",
    ]
    entered = {rule["service"] for sheet in document["sheets"] for rule in sheet["rules"]}
    assert entered.isdisjoint({"desk", "film-page", "slip-film"})
    assert "hub-page" in entered
    assert run(place, "audit").code == 1
    ran = run(place, "worksheet", "--accept", "only for the regatta", "--json")
    assert ran.code == 2
    assert all(key in ran.document["errors"][0]["message"] for key in ("desk", "film-page", "slip-film"))
    for key in ("desk", "film-page", "slip-film"):
        accept = ("--accept", f"{key}=only for the regatta", "--until", "2999-01-01")
        ran = run(place, "worksheet", *accept, "--json")
    assert ran.code == 0, ran
    assert {"desk", "film-page", "slip-film"} <= {r["service"] for s in ran.document["sheets"] for r in s["rules"]}
    assert text(place).count('reason = "only for the regatta"\nuntil = 2999-01-01') == 3
    assert run(place, "worksheet").code == 0
    found = valid("audit", run(place, "audit", "--json").document)
    assert {one["finding"] for one in found["accepted"]} == {"desktop-open", "default-password", "clear-text-open"}


def test_the_router_is_not_opened_for_what_is_not_ready(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as lab:
        site = Path(lab.env["HOOPER_SITE"])
        site.write_text(re.sub(r'(:50"\n)ready = .*', r"\1", site.read_text()))  # of hub
        ran = opened(lab)
        assert ran.code == 5
        assert outcome(ran) == "refused"
        dry = opened(lab, "--accept", "for a test", "--dry-run")
        assert outcome(dry) == "added"
        assert "for a test" not in site.read_text()
        ran = opened(lab, "--accept", "for a test")
        assert (ran.code, outcome(ran)) == (0, "added"), ran
        assert 'finding = "default-password"' in site.read_text()


def test_what_the_plan_refuses_is_the_certain_cause_and_ipv6_is_not_judged_over_ipv4(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as lab:
        site = Path(lab.env["HOOPER_SITE"])
        clash = site.read_text().replace('sources = ["198.51.100.0/24"]', "outside_port = 3389", 1)
        site.write_text(clash.replace("outside_port = 13389", "outside_port = 3389"))
        ran = lab.run("why", "timing-desk", "--from", "interface:usb0", "--deadline", "2", "--json")
        causes = valid("why", ran.document)["causes"]
        assert [(cause["code"], cause["certainty"]) for cause in causes] == [("plan-error", "certain")]
        assert "outside_port" in causes[0]["remedy"]
        changed = lab.run("service", "change", "hub-page", "--family", "ipv6")
        assert changed.code == 0, changed
        ran = lab.run("check", "hub-page", "--from", "interface:usb0", "--deadline", "2", "--json")
        (result,) = valid("check", ran.document)["results"]
        assert (result["verdict"], result["ok"], "IPv6" in result["detail"]) == ("unproven", False, True)


def opened(lab: Lab, *more: str) -> Ran:
    return lab.run("router", "open", "hub-page", *more, "--json")


def outcome(ran: Ran) -> str:
    (change,) = valid("router-changes", ran.document)["changes"]
    return str(change["outcome"])


def test_sheets_of_all_kinds(place: Path) -> None:
    for flag, part in (
        ("--devices", "devices"),
        ("--letter", "letters"),
        ("--removal", "removals"),
        ("--clients", "clients"),
    ):
        document = valid("worksheet", run(place, "worksheet", flag, "--json").document)
        assert (bool(document[part]), document["sheets"]) == (True, []), flag
        for form in ((), ("--markdown",), ("--html",)):
            ran = run(place, "worksheet", flag, *form)
            assert (ran.code, len(ran.out) > 200) == (0, True), (flag, form, ran.err)
    page = run(place, "worksheet", "--html").out
    assert page.startswith("<!DOCTYPE html>")
    assert not re.findall(r"src=|url\(|@import|<script |<link", page)  # nothing is fetched from elsewhere
    masked = run(place, "worksheet", "--html", "--mask").out
    assert "heronquay" not in masked


def test_what_changed_since_the_ticked_sheet(place: Path) -> None:
    state = ("--state", str(place / "state"))
    first = run(place, "worksheet", "--changed", "--json", *state)
    assert {one["change"] for one in valid("worksheet", first.document)["changes"]} == {"enter"}
    assert run(place, "worksheet", "--ticked", *state).code == 0
    assert run(place, "worksheet", "--changed", "--json", *state).document["changes"] == []
    run(place, "service", "change", "hub-page", "--port", "8444")
    run(place, "service", "remove", "desk")
    changes = run(place, "worksheet", "--changed", "--json", *state).document["changes"]
    assert {(one["gateway"], one["change"], one["rule"]["service"]) for one in changes} == {
        (gateway, change, service)
        for gateway in ("fibre-box", "club-router")
        for change, service in (("remove", "desk"), ("remove", "hub-page"), ("enter", "hub-page"))
    }


def test_what_is_ticked_off_with_the_rest_is_the_whole_sheet(place: Path) -> None:
    """`--rest --ticked`: what a program has entered is on the router too, so nothing is left to do."""
    state = ("--state", str(place / "state"))
    with State(Path(state[1]) / store_name(read_site(place / "site.toml"))) as store:
        rule = LiveRule("tcp", 443, "10.44.7.30", 443, "", "hooper film-page", enabled=True, lease_s=0)
        store.journal.write(Entered("club-router", "film-page", rule, "open", (), None))
    rest = run(place, "worksheet", "club-router", "--rest", "--ticked", "--json", *state).document["sheets"]
    assert "film-page" not in {one["service"] for one in rest[0]["rules"]}
    assert run(place, "worksheet", "club-router", "--changed", "--json", *state).document["changes"] == []


def test_a_table_that_somebody_typed_is_held_against_the_plan(place: Path) -> None:
    table = run(place, "worksheet", "--json").out
    (place / "own.json").write_text(table)
    same = run(place, "plan", "--against", "own.json", "--json")
    assert (same.code, {row["state"] for row in valid("plan", same.document)["against"]}) == (0, {"same"})
    (place / "box.csv").write_text(
        "name,protocol,wan port,lan ip,lan port\nweb,tcp,443,192.168.90.3,443\nx,udp,1,192.168.90.9,1\n"
    )
    unclear = run(place, "plan", "--against", "box.csv")
    assert (unclear.code, "--against GATEWAY=" in unclear.err) == (2, True)
    ran = run(place, "plan", "--against", "fibre-box=box.csv", "--json")
    states = {(row["service"], row["state"]) for row in ran.document["against"]}
    assert ran.code == 1
    assert {("film-page", "different"), ("desk", "missing"), (None, "unknown")} <= states
    (place / "bad.csv").write_text("port,ip\n80,10.44.7.9\nx,y\n")
    bad = run(place, "plan", "--against", "fibre-box=bad.csv", "--json")
    assert (bad.code, bad.document["errors"][0]["where"]["line"]) == (2, 3)


def test_the_chain_is_drawn(place: Path) -> None:
    ran = run(place, "plan", "--chain", "--svg", "--out", "chain.svg")
    assert ran.code == 0
    assert "slip-film  rtsp 554: 10554 → 554, everyone" in ran.out
    assert (place / "chain.svg").read_text().startswith("<svg ")
    masked = run(place, "plan", "--svg", "--out", "masked.svg", "--mask")
    assert masked.code == 0
    assert "Heron" not in (place / "masked.svg").read_text()


def test_the_plan_says_how_each_rule_gets_there(place: Path) -> None:
    rows = valid("plan", run(place, "plan", "--json").document)["entering"]
    by = {(row["gateway"], row["service"]): row for row in rows}
    assert by["fibre-box", "desk"]["protocol"] is None
    assert by["club-router", "film-page"]["from_here"] == "yes"  # the file says that it opens for others
    assert by["club-router", "desk"]["from_here"] == "no"  # IGD cannot say a prefix
    assert "How the rules get there" in run(place, "plan").out


def test_a_new_site_by_options_by_questions_and_from_what_is_found(tmp_path: Path) -> None:
    ran = run(
        tmp_path, "new", "--title", 'The "boat" house', "--gateway", "outer=192.168.90.1/24", "--gateway",
        "inner=10.44.7.1/24", "--wan", "inner=192.168.90.2", "--provider", "outer", "--by-hand", "outer", "--host",
        "hub=10.44.7.50", "--name", "boathouse.heronquay.example", "--blocked", "tcp 25", "--json",
    )  # fmt: skip
    assert ran.code == 0, ran
    valid("edit", ran.document)
    assert run(tmp_path, "plan").code == 0
    boxes = ["", "", "?", "", "no", "yes", "inner", "10.44.7.1/24", "192.168.1.2", "", "", ""]
    line = ["", "", "", "", ""]
    asked = run(tmp_path, "new", "--site", "asked.toml", stdin="\n".join(["Boat", "2", *boxes, *line, "", ""]))
    assert asked.code == 0, asked
    made = (tmp_path / "asked.toml").read_text()
    assert 'behind = "provider-box"\nwan = "192.168.1.2"' in made
    assert 'control = "hand"\nmanaged_by = "provider"' in made
    assert "Devices that are reached from outside" in asked.err, "? explains"
    wrong = ["Boat", "9", "1", "router", "box", "10.0.0.1", "10.0.0.1/24", "all", "", "perhaps", "", "", "", "none"]
    wrong += ["", "", "", "cam", "10.0.0.999", "10.0.0.30", "rstp", "rtsp", "publc", "public", "1", "Boathouse", ""]
    again = run(tmp_path, "new", "--site", "again.toml", stdin="\n".join(wrong) + "\n")  # each is asked again at once
    assert again.code == 0, again
    made = (tmp_path / "again.toml").read_text()
    for words in ('lan = "10.0.0.1/24"', 'address = "10.0.0.30"', 'speaks = "rtsp"', 'title = "Boathouse"'):
        assert words in made
    assert "reserved" in again.err
    assert "did you mean rtsp" in again.err
    with town_here(tmp_path / "lab") as lab:
        found = lab.run("new", "--site", str(tmp_path / "found.toml"), "--found")
        assert found.code == 0, found
    made = (tmp_path / "found.toml").read_text()
    assert 'wan = "192.168.90.2"\nlan = "10.44.7.1/24"' in made
    assert "a guess" in made
    assert run(tmp_path, "plan", "--site", "found.toml").code == 0


def test_json_documents_say_why_a_command_failed(place: Path) -> None:
    ran = run(place, "host", "change", "nix", "--mac", "1", "--json")
    assert (ran.code, json.loads(ran.out)["command"]) == (2, "host change")


def test_a_service_behind_the_rule_of_another_is_found_everywhere(tmp_path: Path) -> None:
    """A range beside a shell that is for the LAN only: the plan, the audit, the check and the router agree."""
    with town_here(tmp_path / "lab") as lab:
        site = Path(lab.env["HOOPER_SITE"])
        added = '\n[services.wide]\nhost = "film-box"\nport = "20-30"\nreach = "public"\noutside_port = "2020-2030"\n'
        site.write_text(site.read_text() + added)
        ran = lab.run("plan", "--json")
        (found,) = [f for f in ran.document["findings"] if f["code"] == "open-by-another"]
        assert (ran.code, found["subject"], "film-shell" in found["message"]) == (1, "services.wide", True)
        assert [row["service"] for row in ran.document["held_back"]] == ["wide"]
        assert lab.run("router", "open", "wide").code == 5
        exposed = lab.run("audit", "--json").document["exposed"]
        (row,) = [row for row in exposed if row["service"] == "film-shell"]
        assert (row["risk"], row["findings"][0], "tcp 2022" in row["outside"][0]) == ("high", "open-by-another", True)
        sheets = [
            {"gateway": key, "rules": [rule for rule in ran.document["forwards"] if rule["gateway"] == key]}
            for key in ("fibre-box", "club-router")
        ]
        assert lab.run("lab", "type", "-", stdin=json.dumps({"sheets": sheets})).code == 0
        ran = lab.run("check", "film-shell", "--from", "interface:usb0", "--deadline", "1", "--json")
        results = {(r["port"], r["expected"], r["verdict"], r["ok"]) for r in valid("check", ran.document)["results"]}
        assert (2022, "unreachable", "answered", False) in results
        assert (22, "unreachable", "silent", True) in results
