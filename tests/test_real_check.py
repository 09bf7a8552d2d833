"""The program against kernel NAT, nginx and OpenSSH, in namespaces."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support.namespaces import CARRIER, PUBLIC, SITE, KernelTown, kernel_town
from support.program import Ran, hooper, valid

pytestmark = pytest.mark.real


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("kernel")) as town:
        (town.folder / "site.toml").write_text(SITE)
        town.serve_page("hub-page", "hub", 8443, "Heating")
        town.serve_page("hub-other", "hub", 443, "Heating too")
        yield town


def sheets(town: KernelTown) -> list[dict[str, Any]]:
    ran = hooper("worksheet", "--json", "--site", str(town.folder / "site.toml"))
    return list(valid("worksheet", ran.document)["sheets"])


@pytest.fixture
def town(built: KernelTown) -> KernelTown:
    """Both sheets entered, all servers up."""
    built.clear()
    built.enter(sheets(built))
    if "film-page" not in built.servers:
        built.serve_page("film-page", "film-box", 443, "Race films")
    if "film-shell" not in built.servers:
        built.serve_shell("film-shell", "film-box", 22)
    return built


def check(town: KernelTown, *arguments: str, origin: str = "interface:usb0", place: str = "here") -> Ran:
    site, state = str(town.folder / "site.toml"), str(town.folder / "state")
    public = () if origin == "here" else ("--public", PUBLIC)
    return hooper(
        "check", *arguments, "--from", origin, *public, "--site", site, "--state", state, "--json", "--deadline", "2",
        place=town.ns(place),
    )  # fmt: skip


def verdicts(ran: Ran) -> dict[str, str]:
    return {result["service"]: result["verdict"] for result in valid("check", ran.document)["results"]}


def test_all_is_well_from_the_mobile_network(town: KernelTown) -> None:
    ran = check(town)
    assert verdicts(ran) == {"film-page": "answered", "film-shell": "answered", "hub-page": "silent"}
    assert ran.code == 0
    page, shell, _ = ran.document["results"]
    assert page["fingerprint"] == page["evidence"]["inside"]["fingerprint"] is not None
    assert page["evidence"]["page"]["title"] == "Race films"
    assert shell["evidence"]["greeting"].startswith("SSH-2.0-OpenSSH")
    assert shell["port"] == 2222
    leaves = {"line": None, "family": "ipv4"}
    assert ran.document["from"] == {"kind": "interface", "name": "usb0", "proves_outside": True, **leaves}


def test_from_here_everything_is_probed_inside(town: KernelTown) -> None:
    ran = check(town, origin="here")
    assert set(verdicts(ran).values()) == {"answered"}
    assert ran.code == 0
    assert ran.document["from"]["proves_outside"] is False


def test_the_host_key_of_openssh_is_proven_and_tells_servers_apart(town: KernelTown) -> None:
    (result,) = [r for r in check(town, "film-shell").document["results"] if r["service"] == "film-shell"]
    blob = base64.b64decode((town.folder / "film-shell" / "host.pub").read_text().split()[1])
    assert result["fingerprint"] == "sha256:" + hashlib.sha256(blob).hexdigest()
    assert "same host key as inside" in result["detail"]
    town.serve_shell("other-shell", "hub", 22)
    town.remove("club-router", "film-shell")
    rule = {"outside_ports": [2222, 2222], "target_address": "10.44.7.50", "target_ports": [22, 22]}
    town.enter(
        [{"gateway": "club-router", "rules": [{**rule, "service": "film-shell", "transport": "tcp", "sources": []}]}]
    )
    try:
        assert verdicts(check(town, "film-shell")) == {"film-shell": "mismatched"}, "it greets in the same words"
    finally:
        town.stop("other-shell")


def test_without_the_inner_rule_it_is_silent(town: KernelTown) -> None:
    town.remove("club-router", "film-page")
    ran = check(town)
    assert verdicts(ran) == {"film-page": "silent", "film-shell": "answered", "hub-page": "silent"}
    assert ran.code == 1


def test_without_the_outer_rule_it_is_silent(town: KernelTown) -> None:
    town.remove("fibre-box", "film-page")
    assert verdicts(check(town, "film-page")) == {"film-page": "silent"}


def test_with_the_service_stopped_it_is_refused(town: KernelTown) -> None:
    town.stop("film-page")
    ran = check(town)
    assert verdicts(ran) == {"film-page": "refused", "film-shell": "answered", "hub-page": "silent"}
    assert ran.code == 1


def test_a_rule_to_another_tls_host_is_mismatched(town: KernelTown) -> None:
    town.remove("club-router", "film-page")
    (inner,) = (sheet for sheet in sheets(town) if sheet["gateway"] == "club-router")
    rules = [{**rule, "target_address": "10.44.7.50"} for rule in inner["rules"] if rule["service"] == "film-page"]
    town.enter([{**inner, "rules": rules}])
    ran = check(town, "film-page")
    assert verdicts(ran) == {"film-page": "mismatched"}
    (result,) = ran.document["results"]
    assert result["fingerprint"] != result["evidence"]["inside"]["fingerprint"]
    town.stop("film-page")  # the inside cannot be seen now, but it was seen before
    assert verdicts(check(town, "film-page")) == {"film-page": "mismatched"}


def test_a_rule_to_another_protocol_is_mismatched(town: KernelTown) -> None:
    town.remove("club-router", "film-page")
    rules = [dict(r, target_ports=[22, 22]) for s in sheets(town) for r in s["rules"] if r["service"] == "film-page"]
    town.enter([{"gateway": "club-router", "rules": [rules[1]]}])
    ran = check(town, "film-page")
    assert verdicts(ran) == {"film-page": "mismatched"}
    assert "ssh" in ran.document["results"][0]["detail"]


def test_a_host_that_moved_is_reported_by_its_router(town: KernelTown) -> None:
    town.move("film-box", "10.44.7.132")
    try:
        ran = hooper(
            "check", "film-page", "--from", "interface:usb0", "--public", PUBLIC, "--json",
            "--site", str(town.folder / "site.toml"), "--state", str(town.folder / "state"), place=town.ns("here"),
        )  # fmt: skip
        assert verdicts(ran) == {"film-page": "silent"}
        icmp = ran.document["results"][0]["evidence"]["icmp"]
        assert (icmp["type"], icmp["code"], icmp["by"]) == (3, 1, PUBLIC)
    finally:
        town.move("film-box", "10.44.7.30")


@pytest.mark.parametrize(
    ("kind", "code", "verdict"),
    [
        ("net-unreachable", 0, "silent"),
        ("host-unreachable", 1, "silent"),
        ("port-unreachable", 3, "refused"),
        ("net-prohibited", 9, "refused"),
        ("host-prohibited", 10, "refused"),
        ("admin-prohibited", 13, "refused"),
    ],
)
def test_icmp_errors_are_told_apart_with_their_sender(town: KernelTown, kind: str, code: int, verdict: str) -> None:
    rule = f"insert rule ip town through tcp dport 443 reject with icmp type {kind}\n"
    town.run("club-router", "nft", "-f", "-", stdin=rule)
    try:
        ran = check(town, "film-page")
        assert verdicts(ran) == {"film-page": verdict}
        icmp = ran.document["results"][0]["evidence"]["icmp"]
        assert (icmp["type"], icmp["code"], icmp["by"]) == (3, code, PUBLIC)
    finally:
        listed = town.run("club-router", "nft", "-a", "list", "chain", "ip", "town", "through")
        handle = next(line.split("handle ")[1] for line in listed.splitlines() if "reject" in line)
        town.run("club-router", "nft", "delete", "rule", "ip", "town", "through", "handle", handle)


def test_allowed_sources_are_kept(town: KernelTown) -> None:
    """The rule lets the mobile network in and nobody else."""
    for allowed, verdict in ((f"{CARRIER}/32", "answered"), ("11.22.99.0/24", "silent")):
        town.clear()
        rules = sheets(town)
        for sheet in rules:
            for rule in sheet["rules"]:
                rule["sources"] = [allowed] if sheet["gateway"] == "club-router" else []
        town.enter(rules)
        ran = check(town, "film-page")
        assert verdicts(ran) == {"film-page": verdict}, ran.document


def test_an_interface_that_proves_nothing_is_unproven(town: KernelTown) -> None:
    ran = check(town, "film-page", origin="interface:lan0")
    assert (verdicts(ran), ran.code) == ({"film-page": "unproven"}, 1)
    town.run("here", "ip", "route", "del", "default", "dev", "usb0")
    try:
        ran = check(town, "film-page")
        assert (verdicts(ran), ran.code) == ({"film-page": "unproven"}, 1)
        assert "no default route" in ran.document["results"][0]["detail"]
        assert ran.document["from"]["proves_outside"] is False
        assert check(town, "film-page", "--allow-unproven").code == 0
    finally:
        town.run("here", "ip", "route", "add", "default", "via", "100.72.5.9", "dev", "usb0", "metric", "700")
    town.run("here", "sysctl", "-qw", "net.ipv4.conf.usb0.rp_filter=1")
    try:
        ran = check(town, "film-page")
        assert "rp_filter" in ran.document["results"][0]["detail"]
        town.run("here", "sysctl", "-qw", "net.ipv4.conf.all.rp_filter=2")
        assert verdicts(check(town, "film-page")) == {"film-page": "answered"}
    finally:
        town.run("here", "sysctl", "-qw", "net.ipv4.conf.usb0.rp_filter=0", "net.ipv4.conf.all.rp_filter=0")


def test_from_a_machine_outside_there_is_nothing_to_compare_with(town: KernelTown, tmp_path: Path) -> None:
    """The same program on the rented machine: no inside, and the private addresses are not asked for there."""
    ran = hooper(
        "check", "film-page", "--from", "interface:eth0", "--public", PUBLIC, "--json", "--state", str(tmp_path),
        "--site", str(town.folder / "site.toml"), place=town.ns("rented"),
    )  # fmt: skip
    assert (verdicts(ran), ran.code) == ({"film-page": "answered"}, 0)
    assert ran.document["results"][0]["evidence"]["inside"] is None


def test_no_network_at_all(town: KernelTown) -> None:
    name = town.ns("nothing")
    import subprocess

    subprocess.run(["ip", "netns", "add", name], check=True)
    for origin in ("here", "interface:usb0"):
        ran = check(town, origin=origin, place="nothing")
        assert ran.code == 4
        assert valid("errors", json.loads(ran.out))["errors"][0]["code"] == "no-network"
