"""The automatic slice in the lab, from another terminal: routers, names, certificates, cards; broken half-way too."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509

from support.program import Lab, Ran, hooper, town_here, valid

NAME = "boathouse.heronquay.example"


@pytest.fixture
def own(running_lab: Lab, tmp_path: Path) -> Iterator[Lab]:
    """The module's lab with a router that has just restarted, an empty page, and a state of this test's own."""
    running_lab.ask("mend")
    running_lab.ask("restart", gateway="club-router")
    yield Lab({**running_lab.env, "STATE": str(tmp_path / "state")}, running_lab.folder)
    running_lab.run("router", "close", "--state", str(tmp_path / "state"))
    running_lab.ask("mend")


def run(lab: Lab, *arguments: str) -> Ran:
    return lab.run(*arguments, "--state", lab.env["STATE"], "--json")


def outcomes(ran: Ran) -> dict[str, str]:
    changes = valid("router-changes", ran.document)["changes"]
    return {change["rule"]["service"]: change["outcome"] for change in changes}


def rules(lab: Lab) -> list[dict[str, Any]]:
    (gateway,) = valid("router-list", run(lab, "router", "list").document)["gateways"]
    return list(gateway["rules"])


def codes(ran: Ran) -> list[str]:
    return [error["code"] for error in ran.document.get("errors", ())]


BY_PROTOCOL = {"film-page", "hub-page", "recorder-stream", "recorder-app", "slip-film", "gate"}


def test_rules_by_protocol_and_by_hand(own: Lab) -> None:
    ran = run(own, "router", "open")
    found = outcomes(ran)
    assert found == {**dict.fromkeys(BY_PROTOCOL, "added"), "desk": "by-hand", "timing-desk": "by-hand"}
    assert ran.code == 1  # a person is needed for two
    assert {row["service"] for row in rules(own)} == BY_PROTOCOL
    assert all(row["owner"] == "ours" and row["meets_plan"] and 0 < row["lease_s"] <= 604_800 for row in rules(own))
    rest = own.run("worksheet", "--rest", "--json", "--state", own.env["STATE"])
    left = {sheet["gateway"]: {rule["service"] for rule in sheet["rules"]} for sheet in rest.document["sheets"]}
    assert left == {"club-router": {"desk", "timing-desk"}, "fibre-box": BY_PROTOCOL | {"desk", "timing-desk"}}
    assert own.run("worksheet", "club-router", "--ticked", "--state", own.env["STATE"]).code == 0
    assert run(own, "router", "open").code == 0
    text = own.run("router", "open", "--state", own.env["STATE"])
    assert "10.44.7.30:443" in text.out
    assert "hooper worksheet fibre-box" in text.err
    assert outcomes(run(own, "router", "close", "film-page")) == {"film-page": "removed"}
    assert outcomes(run(own, "router", "close")) == dict.fromkeys(BY_PROTOCOL - {"film-page"}, "removed")
    assert run(own, "router", "close").document["changes"] == []


def test_a_state_that_was_lost_is_no_reason_to_leave_rules_open(own: Lab, tmp_path: Path) -> None:
    """What carries Hooper's label is named, taken up where it meets the plan, and can be taken away."""
    other = Lab({**own.env, "STATE": str(tmp_path / "other")}, own.folder)
    assert outcomes(run(other, "router", "open", "film-page", "gate")) == {"film-page": "added", "gate": "added"}
    listed = run(own, "router", "list")
    assert (listed.code, codes(listed)) == (1, ["labelled-unknown"])
    assert {(row["service"], row["owner"]) for row in rules(own)} == {("film-page", "labelled"), ("gate", "labelled")}
    closed = run(own, "router", "close")
    assert (closed.code, closed.document["changes"], codes(closed)) == (1, [], ["labelled-unknown"])
    ran = run(own, "router", "open", "film-page")
    (change,) = ran.document["changes"]
    assert (change["outcome"], ran.code, "by its label" in change["detail"]) == ("already", 0, True)
    assert run(own, "router", "close", "--labelled", "--dry-run").code == 0
    assert len(rules(own)) == 2
    assert outcomes(run(own, "router", "close", "--labelled")) == {"film-page": "removed", "gate": "removed"}
    assert rules(own) == []


def test_what_the_plan_has_no_more_is_taken_away(own: Lab) -> None:
    """A service that was made private, one that is gone, and one that has another port."""
    site = Path(own.env["HOOPER_SITE"])
    text = site.read_text()
    try:
        assert run(own, "router", "open", "film-page", "recorder-app", "hub-page").code == 0
        for change in (
            ("service", "change", "film-page", "--reach", "lan"),
            ("service", "remove", "recorder-app"),
            ("service", "change", "hub-page", "--outside-port", "9443"),
        ):
            assert own.run(*change).code == 0, change
        listed = run(own, "router", "list")
        assert (listed.code, "rule-not-planned" in codes(listed)) == (1, True)
        exposed = own.run("audit", "--state", own.env["STATE"], "--json").document["exposed"]
        rows = {row["service"]: row for row in exposed}
        assert {"film-page", "recorder-app"} <= set(rows)
        assert rows["film-page"]["findings"][0] == "rule-still-stands"
        planned = own.run("plan", "--state", own.env["STATE"], "--json").document
        found = [f["subject"] for f in planned["findings"] if f["code"] == "rule-still-stands"]
        assert len(found) == 3
        dry = run(own, "router", "open", "film-page", "hub-page", "--dry-run").document["changes"]
        assert {(c["action"], c["rule"]["outside_ports"][0]) for c in dry} == {
            ("close", 443), ("close", 8443), ("open", 9443)
        }  # fmt: skip
        assert len(rules(own)) == 3
        ran = run(own, "router", "open")
        removed = {c["rule"]["service"]: c for c in ran.document["changes"] if c["action"] == "close"}
        assert {key: change["outcome"] for key, change in removed.items()} == {
            "film-page": "removed", "recorder-app": "removed", "hub-page": "removed"
        }  # fmt: skip
        assert "the plan has it no more" in removed["film-page"]["detail"]
        there = {(row["outside_ports"][0], row["owner"], row["meets_plan"]) for row in rules(own)}
        assert all(owner == "ours" and meets for _, owner, meets in there)
        assert not {443, 8443} & {port for port, _, __ in there}
        assert not [f for f in own.run("plan", "--state", own.env["STATE"], "--json").document["findings"]
                    if f["code"] == "rule-still-stands"]  # fmt: skip
    finally:
        site.write_text(text)


def test_rules_at_a_router_that_is_driven_no_more_are_not_forgotten(own: Lab) -> None:
    site = Path(own.env["HOOPER_SITE"])
    text = site.read_text()
    assert run(own, "router", "open", "film-page").code == 0
    try:
        site.write_text(text.replace("opens_for_others = true", 'opens_for_others = true\ncontrol = "hand"', 1))
        found = own.run("plan", "--state", own.env["STATE"], "--json").document["findings"]
        assert "rule-still-stands" not in {f["code"] for f in found}, "it is planned, by hand now"
        own.run("service", "change", "film-page", "--reach", "lan")
        found = own.run("plan", "--state", own.env["STATE"], "--json").document["findings"]
        assert "rule-still-stands" in {f["code"] for f in found}
        ran = run(own, "router", "close", "--given-up", "club-router")
        assert outcomes(ran) == {"film-page": "gone"}
        assert run(own, "router", "close", "--given-up", "club-router").code == 2
        assert run(own, "router", "close", "--given-up", "club-router", "--labelled").code == 2
    finally:
        site.write_text(text)


def test_short_leases_are_renewed_and_told(own: Lab) -> None:
    ran = run(own, "router", "open", "film-page", "--lease", "3600")
    assert outcomes(ran) == {"film-page": "added"}
    assert 3500 < rules(own)[0]["lease_s"] <= 3600
    assert outcomes(run(own, "router", "open", "film-page")) == {"film-page": "renewed"}
    assert rules(own)[0]["lease_s"] > 600_000
    ran = run(own, "router", "open", "hub-page", "--lease", "0")  # what this router makes of it: a week
    assert ran.document["changes"][0]["until"] is not None
    ran = run(own, "router", "open", "slip-film", "--lease", "31536000")
    assert "grants 604800 s" in ran.document["changes"][0]["detail"]


def test_a_rule_ends_with_its_lease(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as started:
        lab = Lab({**started.env, "STATE": str(tmp_path / "state")}, started.folder)
        run(lab, "router", "open", "film-page")
        lab.run("lab", "clock", "--advance", "604801")
        assert rules(lab) == []
        assert outcomes(run(lab, "router", "close")) == {"film-page": "gone"}


def test_a_dry_run_changes_nothing(own: Lab) -> None:
    ran = run(own, "router", "open", "--dry-run")
    assert set(outcomes(ran).values()) == {"added", "by-hand"}
    assert ran.document["dry_run"] is True
    assert rules(own) == []
    run(own, "router", "open", "film-page")
    assert outcomes(run(own, "router", "close", "--dry-run")) == {"film-page": "removed"}
    assert len(rules(own)) == 1


def test_routers_that_refuse_and_that_are_gone(own: Lab) -> None:
    own.run("lab", "break", "router-strict")
    ran = run(own, "router", "open", "film-page", "hub-page")
    assert (ran.code, codes(ran)) == (4, ["router-strict"])
    assert set(outcomes(ran).values()) == {"failed"}
    own.run("lab", "mend")
    assert outcomes(run(own, "router", "open", "film-page")) == {"film-page": "added"}
    own.run("lab", "break", "router-mute")
    for arguments in (("list",), ("open",), ("close",)):
        ran = run(own, "router", *arguments, "--deadline", "0.5")
        assert (ran.code, codes(ran)) == (4, ["router-mute"])
    own.run("lab", "mend")
    assert outcomes(run(own, "router", "close")) == {"film-page": "removed"}, "what was ours is still known"
    run(own, "router", "open", "film-page")
    own.run("lab", "restart", "club-router")
    assert rules(own) == []
    assert outcomes(run(own, "router", "open", "film-page")) == {"film-page": "restored"}


def test_what_the_plan_forbids_is_not_entered(own: Lab, tmp_path: Path) -> None:
    """Sources that no box keeps would open a desktop to everyone; a port that two want has no right target."""
    site = site_with(
        own, tmp_path, ("form.sources = true", "form.sources = false"), ("outside_port = 10554", "outside_port = 443")
    )
    ran = run(own, "router", "open", *site)
    found = outcomes(ran)
    assert (found.get("desk"), found.get("timing-desk"), found["hub-page"]) == (None, None, "added")
    assert {found["film-page"], found["slip-film"]} == {"added"}  # 443 is written down for one, the other gets 10443
    assert (ran.code, set(codes(ran))) == (5, {"plan-error"})
    assert all(any(key in error["message"] for error in ran.document["errors"]) for key in ("desk", "timing-desk"))
    assert not [row for row in rules(own) if row["outside_ports"][0] in (3389, 13389)]


def test_wrong_words_to_the_router_commands(own: Lab) -> None:
    for arguments, words in (
        (("open", "nix"), "there is no service 'nix'"),
        (("open", "film-shell"), "is not public"),
        (("open", "--gateway", "fibre-box"), 'control = "hand"'),
        (("list", "--gateway", "nix"), "there is no gateway"),
        (("open", "--lease", "-5"), "--lease: '-5'"),
    ):
        ran = own.run("router", *arguments)
        assert (ran.code, words in ran.err) == (2, True), ran


def test_without_a_journal_nothing_is_touched(own: Lab, tmp_path: Path) -> None:
    (tmp_path / "file").write_text("x")
    ran = own.run("router", "open", "--state", str(tmp_path / "file"), "--json")
    assert (ran.code, codes(ran), ran.document["changes"]) == (6, ["state"], [])
    assert rules(own) == []


@pytest.mark.skipif(sys.platform == "win32", reason="signals")
@pytest.mark.parametrize("after", [0.45, 0.6, 0.8])
def test_kill_minus_nine(own: Lab, after: float) -> None:
    """At whatever point it hits, the next run ends right."""
    environment = {**os.environ, **own.env}
    for command in (("router", "open"), ("cert", "order", "--again"), ("router", "close")):
        process = subprocess.Popen(
            [sys.executable, "-m", "hooper", *command, "--state", own.env["STATE"], "--quiet"],
            env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(after)
        process.send_signal(signal.SIGKILL)
        process.wait(10)
    assert set(outcomes(run(own, "router", "open")).values()) <= {"added", "already", "by-hand"}
    assert {row["service"] for row in rules(own)} == BY_PROTOCOL
    assert run(own, "cert", "order").code == 0
    run(own, "router", "close")
    assert rules(own) == []


# --- names


def name(lab: Lab, *arguments: str) -> tuple[dict[str, Any], Ran]:
    ran = run(lab, "name", *arguments)
    (row,) = valid("name", ran.document)["names"]
    return row, ran


def test_a_name_is_updated_only_when_needed(own: Lab) -> None:
    own.run("lab", "break", "name-stale")
    row, ran = name(own, "list")
    assert (row["action"], row["wanted"], row["published"], ran.code) == (
        "needed",
        ["203.0.113.44"],
        ["203.0.113.40"],
        1,
    )
    row, ran = name(own, "update", "--dry-run")
    assert (row["action"], row["published"], ran.code) == ("needed", ["203.0.113.40"], 0)
    row, ran = name(own, "update")
    assert (row["action"], row["ok"], ran.code) == ("updated", True, 0)
    before = own.run("lab", "ledger", "--json").document["entries"]
    row, ran = name(own, "update")
    assert (row["action"], ran.code) == ("current", 0)
    fresh = own.run("lab", "ledger", "--json").document["entries"][len(before) :]
    assert not [entry for entry in fresh if entry["to"].startswith("198.51.100.90")], "the provider was left alone"


def test_a_provider_that_says_never_is_not_asked_again(own: Lab) -> None:
    own.run("lab", "break", "name-stale")
    own.run("lab", "break", "provider-refuses")
    row, ran = name(own, "update")
    assert (row["action"], ran.code, codes(ran)) == ("refused", 4, ["updater-refused"])
    own.run("lab", "mend", "provider-refuses")
    row, ran = name(own, "update")
    assert (row["action"], ran.code, codes(ran)) == ("refused", 1, [])
    row, ran = name(own, "update", "--again")
    assert (row["action"], row["ok"], ran.code) == ("updated", True, 0)


def test_a_provider_that_asks_to_wait_is_left_alone_until_then(own: Lab) -> None:
    own.run("lab", "break", "name-stale")
    own.run("lab", "break", "provider-busy")
    row, ran = name(own, "update")
    assert (row["action"], ran.code, codes(ran)) == ("waiting", 4, ["updater-busy"])
    own.run("lab", "mend", "provider-busy")
    row, ran = name(own, "update")
    assert (row["action"], ran.code, codes(ran)) == ("waiting", 1, [])
    own.run("lab", "clock", "--advance", "121")
    row, ran = name(own, "update")
    assert (row["action"], row["ok"]) == ("updated", True)


def site_with(lab: Lab, tmp_path: Path, *changes: tuple[str, str]) -> tuple[str, str]:
    """A site file beside the lab's own secrets, with some text changed."""
    text = Path(lab.env["HOOPER_SITE"]).read_text()
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    path = lab.folder / f"{tmp_path.name}.toml"
    path.write_text(text)
    return "--site", str(path)


def test_dynamic_update_in_the_lab(own: Lab, tmp_path: Path) -> None:
    own.run("lab", "break", "name-stale")
    site = site_with(own, tmp_path, ('updated_by = "club-names"', 'updated_by = "own-zone"'))
    row, ran = name(own, "update", *site)
    assert (row["action"], row["ok"], row["published"], ran.code) == ("updated", True, ["203.0.113.44"], 0)
    wrong = site_with(own, tmp_path, ('updated_by = "club-names"', 'updated_by = "own-zone"'), ("boathouse-key", "nix"))
    own.run("lab", "mend")
    own.run("lab", "break", "name-stale")
    row, ran = name(own, "update", *wrong)
    assert (row["action"], ran.code, "BADKEY" in row["detail"]) == ("refused", 4, True)


def test_names_that_others_keep_are_watched(own: Lab, tmp_path: Path) -> None:
    site = site_with(own, tmp_path, ('updated_by = "club-names"', 'updated_by = "router"'))
    row, ran = name(own, "update", *site)
    assert (row["action"], row["ok"], ran.code) == ("watched", True, 0)
    own.run("lab", "break", "name-stale")
    row, ran = name(own, "update", *site)
    assert (row["action"], row["ok"], ran.code) == ("watched", False, 1)


def test_where_the_address_comes_from(own: Lab, tmp_path: Path) -> None:
    own.run("lab", "break", "name-stale")
    row, _ = name(own, "list", "--public", "203.0.113.77")
    assert (row["wanted"], row["wanted_source"]) == (["203.0.113.77"], "given on the command line")
    mute = site_with(own, tmp_path, ('stun = ["192.0.2.10:3478", "192.0.2.11:3478"]', "stun = []"))
    row, ran = name(own, "list", *mute)
    assert (row["action"], row["wanted"], ran.code) == ("unknown", [], 1)
    own.run("survey", "--wan", "fibre-box=203.0.113.44", "--state", own.env["STATE"], *mute)
    row, _ = name(own, "list", *mute)
    assert (row["wanted"], row["wanted_source"]) == (["203.0.113.44"], "told as WAN address of fibre-box just now")
    own.run("lab", "break", "carrier-nat")
    row, _ = name(own, "list", "--public", "100.64.44.9")
    assert (row["action"], "RFC 6598" in row["detail"]) == ("unknown", True)


def test_a_name_that_is_missing(own: Lab, tmp_path: Path) -> None:
    site = site_with(own, tmp_path, (NAME, "regatta.heronquay.example"))
    ran = own.run("why", "film-page", *site, "--deadline", "2", "--state", own.env["STATE"], "--json")
    causes = {cause["code"]: cause for cause in ran.document["causes"]}
    assert causes["name-missing"]["certainty"] == "certain"
    assert "hooper name update regatta.heronquay.example" in causes["name-missing"]["remedy"]
    row, _ = name(own, "update", *site)
    assert (row["action"], row["ok"]) == ("updated", True)


# --- certificates


def certificate(lab: Lab, *arguments: str) -> tuple[dict[str, Any], Ran]:
    ran = run(lab, "cert", *arguments)
    (row,) = valid("cert", ran.document)["certificates"]
    return row, ran


def test_a_certificate_that_is_of_no_use_replaces_nothing(tmp_path: Path) -> None:
    """The authority issues one that has ended, or is for another name: what is kept stays, and can be brought back."""
    with town_here(tmp_path / "lab") as started:
        own = Lab({**started.env, "STATE": str(tmp_path / "state")}, started.folder)
        row, ran = certificate(own, "order")
        assert (row["state"], ran.code) == ("ordered", 0)
        before = Path(row["chain"]).read_bytes()
        authority = started.board.town.acme.authority
        right = authority.issue
        wrong: dict[str, Callable[..., bytes]] = {
            "ended already": lambda names, public, start, _: right(names, public, start - timedelta(days=400)),
            "not for all names": lambda names, public, start, _: right(["other.example"], public, start),
        }
        for words, issue in wrong.items():
            authority.issue = issue  # type: ignore[method-assign]
            row, ran = certificate(own, "order", "--again")
            assert (ran.code, codes(ran), row["ok"]) == (4, ["certificate-unfit"], True), words
            assert words in ran.document["errors"][0]["message"]
            assert Path(row["chain"]).read_bytes() == before
        authority.issue = right  # type: ignore[method-assign]
        row, ran = certificate(own, "order", "--again")
        assert ran.code == 0
        assert Path(row["chain"]).read_bytes() != before
        listed = valid("cert", run(own, "cert", "list", "--all").document)
        (earlier,) = listed["earlier"]
        row, ran = certificate(own, "restore", "boathouse", "--generation", earlier["generation"])
        assert (ran.code, Path(row["chain"]).read_bytes() == before) == (0, True)
        assert run(own, "cert", "restore", "boathouse", "--generation", "nix").code == 2


def test_a_certificate_from_nothing_to_the_device(own: Lab) -> None:
    own.run("lab", "break", "certificate-own")
    row, ran = certificate(own, "list")
    assert (row["state"], row["ok"], ran.code) == ("absent", False, 1)
    row, ran = certificate(own, "order")
    assert (row["state"], row["days_left"], ran.code) == ("ordered", 89, 0)
    chain = x509.load_pem_x509_certificates(Path(row["chain"]).read_bytes())
    shown = chain[0].extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert (len(chain), shown.get_values_for_type(x509.DNSName)) == (2, [NAME])
    if sys.platform != "win32":
        assert {oct(Path(row[part]).stat().st_mode & 0o777) for part in ("chain", "key")} == {"0o600"}
    row, ran = certificate(own, "order")
    assert (row["state"], ran.code) == ("current", 0)
    ran = own.run("check", "hub-page", "--state", own.env["STATE"], "--json")
    assert ran.document["results"][0]["problems"] == ["certificate-absent"]
    assert own.run("lab", "install", "boathouse", "hub-page", "--state", own.env["STATE"]).code == 0
    ran = own.run("check", "hub-page", "--state", own.env["STATE"], "--json")
    assert (ran.document["results"][0]["ok"], ran.code) == (True, 0)


def test_a_certificate_is_ordered_anew_when_it_ends_soon(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as started:
        lab = Lab({**started.env, "STATE": str(tmp_path / "state")}, started.folder)
        first, _ = certificate(lab, "order")
        lab.run("lab", "clock", "--advance", str(61 * 86400))
        row, _ = certificate(lab, "list")
        assert (row["state"], row["ok"]) == ("due", True)
        row, _ = certificate(lab, "order")
        assert (row["state"], row["not_after"] > first["not_after"]) == ("ordered", True)
        lab.run("lab", "clock", "--advance", str(91 * 86400))
        row, ran = certificate(lab, "list")
        assert (row["state"], row["ok"], ran.code) == ("expired", False, 1)


def test_an_authority_that_refuses(own: Lab, tmp_path: Path) -> None:
    own.run("lab", "break", "ca-refuses")
    row, ran = certificate(own, "order")
    assert (row["state"], ran.code, codes(ran)) == ("failed", 4, ["ca-refused"])
    own.run("lab", "mend")
    own.run("lab", "break", "provider-refuses")
    row, ran = certificate(own, "order")
    assert (row["state"], ran.code, codes(ran)) == ("failed", 4, ["updater-refused"])
    own.run("lab", "mend")
    row, ran = certificate(own, "order")
    assert (row["state"], ran.code) == ("ordered", 0)
    for change, code, error in (
        (("agreed = true", "agreed = false"), 5, "refused-for-safety"),
        (("ca.heronquay.example/directory", "ca.heronquay.example/nowhere"), 4, "ca-failed"),
        (("ca.heronquay.example/directory", "nobody.heronquay.example/directory"), 4, "ca-failed"),
        (('updated_by = "club-names"', 'updated_by = "device"'), 1, "no-challenge"),
    ):
        changes = [change, ('"tcp 80"]', '"tcp 80", "tcp 443"]')]  # else it would come in there for the proof
        row, ran = certificate(own, "order", "--again", *site_with(own, tmp_path, *changes))
        assert (row["state"], ran.code, codes(ran)) == ("current", code, [error]), change
    untrusted = site_with(own, tmp_path, ('agreed = true                            # to its terms of service\n'
                                          'trust = "file:town-ca.pem"', "agreed = true"))  # fmt: skip
    _, ran = certificate(own, "order", "--again", *untrusted)
    assert (ran.code, "not to be trusted" in ran.document["errors"][0]["message"]) == (4, True)


def test_a_wildcard_beside_its_base(own: Lab, tmp_path: Path) -> None:
    names = f'names = ["{NAME}"]'
    site = site_with(own, tmp_path, (names, f'names = ["{NAME}", "*.{NAME}"]'))
    row, ran = certificate(own, "order", *site)
    assert (row["state"], ran.code) == ("ordered", 0), ran
    (leaf, _) = x509.load_pem_x509_certificates(Path(row["chain"]).read_bytes())
    shown = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert sorted(shown.get_values_for_type(x509.DNSName)) == [f"*.{NAME}", NAME]


HELPER = """
[hosts.laptop]
address = "10.44.7.105"
[services.proof]
host = "laptop"
speaks = "http"
port = 8080
outside_port = 80
reach = "public"
"""


def test_a_page_at_port_80_is_only_tried_where_the_plan_lets_it_in(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as started:
        lab = Lab({**started.env, "STATE": str(tmp_path / "state")}, started.folder)
        by_page = ('services = ["hub-page"]', 'services = ["hub-page"]\nchallenge = "http-01"\n')
        row, ran = certificate(lab, "order", *site_with(lab, tmp_path, by_page))
        assert (row["state"], ran.code, codes(ran)) == ("failed", 1, ["no-challenge"])
        assert "blocks port 80" in ran.document["errors"][0]["message"]
        unblocked = ('blocked = ["tcp 25", "tcp 80"]', 'blocked = ["tcp 25"]')
        row, ran = certificate(lab, "order", *site_with(lab, tmp_path, by_page, unblocked))
        assert "no public service of the plan comes in at port 80" in ran.document["errors"][0]["message"]
        name_part = "# --- its name, and"
        site = site_with(lab, tmp_path, by_page, unblocked, (name_part, HELPER + name_part))
        sheets = lab.run("worksheet", "--json", *site).out
        assert lab.run("lab", "type", "-", stdin=sheets).code == 0
        row, ran = certificate(lab, "order", *site)
        assert (row["state"], codes(ran)) == ("failed", ["ca-refused"]), "the lab's provider does block it"


def test_orders_and_accounts_that_the_authority_has_forgotten(own: Lab) -> None:
    assert certificate(own, "order")[0]["state"] == "ordered"
    (store,) = Path(own.env["STATE"]).glob("*.sqlite3")
    with closing(sqlite3.connect(store)) as db, db:
        db.execute("UPDATE accounts SET url = 'https://ca.heronquay.example/account/4711'")
        db.execute(
            "INSERT INTO orders SELECT 'boathouse', directory, 'https://ca.heronquay.example/order/o4711', ?, '' "
            "FROM accounts",
            (f'["{NAME}"]',),
        )
    row, ran = certificate(own, "order", "--again")
    assert (row["state"], ran.code) == ("ordered", 0), ran


def test_a_key_beside_another_chain_is_put_right(own: Lab) -> None:
    row, _ = certificate(own, "order")
    key = Path(row["key"]).read_bytes()
    Path(row["key"]).write_bytes(b"half")
    Path(row["chain"]).unlink()
    row, ran = certificate(own, "list")
    assert (row["state"], Path(row["key"]).read_bytes() == key, Path(row["chain"]).exists()) == ("current", True, True)
    Path(row["key"]).with_name("pair.pem").write_bytes(b"nonsense")
    ran = run(own, "cert", "list")
    assert (ran.code, "damaged" in ran.document["errors"][0]["message"]) == (6, True)


# --- cards


def test_cards(own: Lab) -> None:
    card = valid("card", run(own, "card", "hub-page").document)
    assert (card["kind"], card["type"]) == ("url", f"https://{NAME}:8443/")
    assert any("film-page" in line for line in card["expect"])
    own.run("check", "--state", own.env["STATE"])
    card = valid("card", run(own, "card", "film-page").document)
    assert (card["type"], any("fingerprint begins with" in line for line in card["expect"])) == (
        f"https://{NAME}/",
        True,
    )
    card = valid("card", run(own, "card", "desk").document)
    assert (card["kind"], card["type"], card["port"]) == ("address", f"{NAME}:3389", 3389)
    assert any("198.51.100.0/24" in line for line in card["expect"])
    assert valid("card", run(own, "card", "slip-film").document)["type"] == f"rtsp://{NAME}:10554/"
    assert run(own, "card", "gate").document["transport"] == "udp"
    for service, code in (("film-shell", 1), ("slip-page", 1), ("nix", 2)):
        assert run(own, "card", service).code == code
    text = own.run("card", "hub-page").out
    assert "█" in text
    assert "█" not in own.run("card", "hub-page", "--no-code").out
    assert own.run("card", "hub-page", "--mask").out.count(NAME) == 0


def test_a_card_without_a_name(tmp_path: Path) -> None:
    site = tmp_path / "site.toml"
    site.write_text(
        'version = 1\n[lines.l]\n[gateways.g]\nline = "l"\nlan = "10.44.7.1/24"\n[hosts.h]\naddress = "10.44.7.9"\n'
        '[services.s]\nhost = "h"\nspeaks = "ssh"\nreach = "public"\n'
    )
    assert hooper("card", "s", cwd=tmp_path).code == 2
    ran = hooper("card", "s", "--public", "203.0.113.44", "--json", cwd=tmp_path)
    assert (ran.code, ran.document["type"]) == (0, "ssh 203.0.113.44")


def test_a_refused_take_over_leaves_no_trace(tmp_path: Path) -> None:
    """The journal holds nothing of it, so that a later close neither tells of it nor makes another's rule anew."""
    with town_here(tmp_path / "lab") as town:
        own = Lab({**town.env, "STATE": str(tmp_path / "state")}, town.folder)
        (sheet,) = own.run("worksheet", "club-router", "--json").document["sheets"]
        (rule,) = [row for row in sheet["rules"] if row["service"] == "film-page"]
        typed = {"gateway": "club-router", "rules": [{**rule, "target_address": "10.44.7.50"}]}
        assert own.run("lab", "type", "-", stdin=json.dumps({"sheets": [typed]})).code == 0
        own.run("lab", "break", "router-strict")
        assert run(own, "router", "open", "film-page", "--take-over").code != 0
        own.run("lab", "mend")
        ran = run(own, "router", "close")
        assert (ran.code, outcomes(ran)) == (0, {})
        assert [row["target_address"] for row in rules(own) if row["outside_ports"] == [443, 443]] == ["10.44.7.50"]


def test_what_a_router_has_lost_is_told(own: Lab) -> None:
    assert run(own, "router", "open", "film-page").code == 0
    assert run(own, "router", "list").code == 0
    own.ask("restart", gateway="club-router")
    ran = run(own, "router", "list")
    assert (ran.code, codes(ran)) == (1, ["rules-lost"])
    assert "film-page (tcp 443)" in ran.document["errors"][0]["message"]
    assert run(own, "router", "open", "film-page").code == 0
    assert run(own, "router", "list").code == 0


def test_a_name_whose_own_servers_are_down_is_not_called_current(own: Lab) -> None:
    own.ask("break", fault="zone-down")
    ran = run(own, "name", "list")
    (row,) = valid("name", ran.document)["names"]
    assert (ran.code, row["ok"], row["action"] in ("unknown", "needed")) == (1, False, True)
    own.ask("mend")
    assert run(own, "name", "list").code == 0


def test_every_service_without_a_rule_is_named(own: Lab) -> None:
    ran = run(own, "router", "open", "film-shell", "slip-page")
    assert ran.code == 2
    assert "film-shell, slip-page are not public" in ran.document["errors"][0]["message"]


def test_an_address_behind_the_providers_nat_is_not_published(own: Lab) -> None:
    own.ask("break", fault="carrier-nat")
    own.ask("break", fault="name-stale")
    ran = run(own, "name", "update")
    (row,) = valid("name", ran.document)["names"]
    assert (ran.code, codes(ran), row["action"], row["ok"]) == (5, ["line-behind-carrier"], "refused", False)
    ran = run(own, "name", "update", "--accept", "the tunnel goes by it")
    assert (ran.code, ran.document["names"][0]["action"]) == (0, "updated")
