"""The automatic slice against real software in namespaces: a router's IGD daemon, BIND, nginx."""

from __future__ import annotations

import base64
import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support.namespaces import PUBLIC, RENTED, SITE, KernelTown, kernel_town
from support.program import Ran, hooper, start_lab, valid

pytestmark = pytest.mark.real
NAMES = f"""\
[measure]
resolvers = ["{RENTED}"]
[names."boathouse.heronquay.example"]
line = "fibre"
updated_by = "own-zone"
[updaters.own-zone]
kind = "dns-update"
key = "boathouse-key"
token = "file:zone-key"
"""
SECRET = base64.b64encode(b"heron" * 6).decode()
OTHER_SECRET = base64.b64encode(b"grebe" * 6).decode()


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("kernel")) as town:
        (town.folder / "site.toml").write_text(SITE)
        (town.folder / "both.toml").write_text(SITE.replace('control = "hand"', 'control = "igd"'))
        (town.folder / "names.toml").write_text(SITE + NAMES)
        town.serve_page("film-page", "film-box", 443, "Race films")
        town.serve_shell("film-shell", "film-box", 22)
        yield town


@pytest.fixture
def town(built: KernelTown, tmp_path: Path) -> KernelTown:
    built.clear()
    for key in ("igd-club-router", "igd-fibre-box"):
        built.stop(key)
    (built.folder / "zone-key").write_text(SECRET + "\n")
    return KernelTown(built.prefix, built.folder, built.servers)


class Here:
    """The commands on the laptop at the site, with a state of their own."""

    def __init__(self, town: KernelTown, state: Path) -> None:
        self.town, self.state = town, state

    def __call__(self, *arguments: str, site: str = "site.toml", state: str = "state") -> Ran:
        more = ("--site", str(self.town.folder / site), "--state", str(self.state / state), "--json")
        return hooper(*arguments, *more, place=self.town.ns("here"))

    def outcomes(self, *arguments: str, **more: str) -> tuple[int, dict[str, str]]:
        ran = self(*arguments, **more)
        changes = valid("router-changes", ran.document)["changes"]
        return ran.code, {change["rule"]["service"]: change["outcome"] for change in changes}

    def table(self, **more: str) -> list[dict[str, Any]]:
        (gateway,) = valid("router-list", self("router", "list", "--gateway", "club-router", **more).document)[
            "gateways"
        ]
        return list(gateway["rules"])


@pytest.fixture
def here(town: KernelTown, tmp_path: Path) -> Here:
    return Here(town, tmp_path)


def soap(town: KernelTown, place: str, *arguments: tuple[str, str]) -> None:
    """Another program on the network maps a port, by the same library in a process of its own."""
    code = (
        "import sys, json, anyio\n"
        "from hooper.gateways.find import _search, _describe\n"
        "from hooper.store.journal import LiveRule\n"
        "from hooper.net.system import SystemDoor\n"
        "from ipaddress import IPv4Address\n"
        "async def main():\n"
        "    own, rule = json.loads(sys.argv[1])\n"
        "    door, router = SystemDoor(), IPv4Address('10.44.7.1')\n"
        "    found = await _search(door, IPv4Address(own), [router], 3, around=True)\n"
        "    igd = await _describe(door, 'x', router, [a.location for s, a in found if s == router], 3)\n"
        "    await igd.add(LiveRule(**rule))\n"
        "anyio.run(main)\n"
    )
    own = {"here": "10.44.7.105", "film-box": "10.44.7.30", "hub": "10.44.7.50"}[place]
    subprocess.run(
        [*town.wrap(place), sys.executable, "-c", code, json.dumps([own, dict(arguments)])], check=True, timeout=30
    )


def other_rule(port: int, target: str, target_port: int) -> tuple[tuple[str, Any], ...]:
    return (
        ("transport", "tcp"), ("outside_port", port), ("target_address", target), ("target_port", target_port),
        ("source", ""), ("label", "a game"), ("enabled", True), ("lease_s", 3600),
    )  # fmt: skip


def test_a_router_that_maps_for_others(town: KernelTown, here: Here) -> None:
    town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
    assert here.table() == []
    assert here.outcomes("router", "open", "--dry-run") == (0, {"film-page": "added", "film-shell": "added"})
    assert here.table() == []
    ran = here("router", "open")
    assert ran.code == 0
    changes = valid("router-changes", ran.document)["changes"]
    assert all(change["outcome"] == "added" and change["until"] is not None for change in changes)
    rows = {row["service"]: row for row in here.table()}
    assert {key: (row["owner"], row["meets_plan"]) for key, row in rows.items()} == {
        "film-page": ("ours", True), "film-shell": ("ours", True)
    }  # fmt: skip
    assert 604_000 < rows["film-page"]["lease_s"] <= 604_800
    assert here.outcomes("router", "open") == (0, {"film-page": "already", "film-shell": "already"})
    sheet = hooper("worksheet", "fibre-box", "--json", "--site", str(town.folder / "site.toml")).document["sheets"]
    town.enter(sheet)  # the outer one by hand
    ran = here("check", "film-page", "film-shell", "--from", "interface:usb0", "--public", PUBLIC, "--deadline", "3")
    assert [result["verdict"] for result in ran.document["results"]] == ["answered", "answered"], ran
    assert here.outcomes("router", "close") == (0, {"film-page": "removed", "film-shell": "removed"})
    assert here.table() == []
    ran = here("check", "film-page", "--from", "interface:usb0", "--public", PUBLIC, "--deadline", "1")
    assert ran.document["results"][0]["verdict"] == "silent"


def test_what_another_hand_made_is_left_or_taken_over_and_put_back(town: KernelTown, here: Here) -> None:
    town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
    soap(town, "hub", *other_rule(443, "10.44.7.50", 80))
    soap(town, "film-box", *other_rule(2222, "10.44.7.30", 22))
    code, outcomes = here.outcomes("router", "open")
    assert (code, outcomes) == (4, {"film-page": "failed", "film-shell": "left"})
    before = {row["outside_ports"][0]: row["target_address"] for row in here.table()}
    assert before == {443: "10.44.7.50", 2222: "10.44.7.30"}
    assert here.outcomes("router", "open", "--take-over") == (0, {"film-page": "replaced", "film-shell": "left"})
    assert {row["outside_ports"][0]: row["owner"] for row in here.table()} == {443: "ours", 2222: "other"}
    assert here.outcomes("router", "close") == (0, {"film-page": "put-back"})
    rows = {
        row["outside_ports"][0]: (row["target_address"], row["target_ports"][0], row["label"]) for row in here.table()
    }
    assert rows == {443: ("10.44.7.50", 80, "a game"), 2222: ("10.44.7.30", 22, "a game")}


def test_a_router_in_its_safe_mode(town: KernelTown, here: Here) -> None:
    town.serve_router("club-router", secure=True, more=f"ext_ip={PUBLIC}")
    ran = here("router", "open")
    assert ran.code == 4
    assert [error["code"] for error in ran.document["errors"]] == ["router-strict"]
    assert "film-page, film-shell" in ran.document["errors"][0]["message"]
    assert here.table() == []
    assert here.outcomes("router", "close") == (0, {})


def test_a_router_behind_a_private_address(town: KernelTown, here: Here) -> None:
    town.serve_router("club-router", secure=False)
    ran = here("router", "open")
    assert ran.code == 4
    assert [error["code"] for error in ran.document["errors"]] == ["router-behind-another"]
    (gateway,) = here("router", "list").document["gateways"]
    assert (gateway["protocol"], gateway["wan_address"], gateway["rules"]) == ("igd", None, [])


def test_the_outer_router_is_driven_through_the_inner_one(town: KernelTown, here: Here) -> None:
    """It sees the inner router as the asker, so even its safe mode does not mind. Both by one command."""
    town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
    town.serve_router("fibre-box", secure=True)
    ran = here("router", "open", site="both.toml")
    assert ran.code == 0, ran
    assert {(c["gateway"], c["outcome"]) for c in ran.document["changes"]} == {
        ("fibre-box", "added"), ("club-router", "added")
    }  # fmt: skip
    ran = here("check", "film-page", "--from", "interface:usb0", "--public", PUBLIC, site="both.toml")
    assert ran.document["results"][0]["ok"], ran
    assert here("router", "close", site="both.toml").code == 0


def test_odd_settings_of_the_software(town: KernelTown, here: Here) -> None:
    """The old version of the protocol, a name that breaks the XML, a port that is kept, single sources."""
    text = SITE.replace("outside_port = 2222", 'outside_port = 2222\nsources = ["11.22.44.130", "11.22.55.7/32"]')
    (town.folder / "sources.toml").write_text(text)
    more = f"ext_ip={PUBLIC}\nforce_igd_desc_v1=yes\nfriendly_name=Box & <co>\ndeny 443 0.0.0.0/0 0-65535"
    town.serve_router("club-router", secure=False, more=more)
    ran = here("router", "open", site="sources.toml")
    assert ran.code == 4
    assert [(c["rule"]["service"], c["outcome"]) for c in ran.document["changes"]] == [
        ("film-page", "failed"), ("film-shell", "by-hand"), ("film-shell", "by-hand")
    ]  # fmt: skip
    assert [error["code"] for error in ran.document["errors"]] == ["router-refuses"]
    assert here.table(site="sources.toml") == [], "what would have been open to everyone is not there"


def test_after_a_restart_the_rules_are_entered_again(town: KernelTown, here: Here) -> None:
    """The control address moves and the rules are lost."""
    town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
    assert here("router", "open").code == 0
    town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
    assert here.table() == []
    assert here.outcomes("router", "open") == (0, {"film-page": "restored", "film-shell": "restored"})


def test_a_router_that_is_gone(town: KernelTown, here: Here) -> None:
    town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
    assert here("router", "open").code == 0
    town.stop("igd-club-router")
    for arguments in (("router", "list"), ("router", "open"), ("router", "close")):
        ran = here(*arguments)
        assert (ran.code, [error["code"] for error in ran.document["errors"]]) == (4, ["router-mute"])


# --- names


def name(here: Here, *arguments: str) -> dict[str, Any]:
    ran = here("name", *arguments, "--public", "203.0.113.44", site="names.toml")
    (row,) = valid("name", ran.document)["names"]
    return {**row, "code": ran.code, "errors": [e["message"] for e in ran.document.get("errors", ())]}


@pytest.mark.parametrize("algorithm", ["hmac-sha256", "hmac-sha512"])
def test_dynamic_update_with_the_right_key(town: KernelTown, here: Here, algorithm: str) -> None:
    town.serve_names("rented", SECRET, algorithm=algorithm)
    text = (SITE + NAMES).replace('key = "', f'algorithm = "{algorithm}"\nkey = "')
    (town.folder / "names.toml").write_text(text)
    row = name(here, "list")
    assert (row["action"], row["published"], row["code"]) == ("needed", ["203.0.113.40"], 1)
    row = name(here, "update", "--dry-run")
    assert (row["action"], row["published"], row["code"]) == ("needed", ["203.0.113.40"], 0)
    row = name(here, "update")
    assert (row["action"], row["published"], row["ok"], row["code"]) == ("updated", ["203.0.113.44"], True, 0)
    assert row["published_source"] == f"authoritative server {RENTED}"
    row = name(here, "update")
    assert (row["action"], row["code"]) == ("current", 0)


def test_dynamic_update_with_wrong_keys_and_clocks(town: KernelTown, here: Here) -> None:
    town.serve_names("rented", SECRET)
    (town.folder / "names.toml").write_text(SITE + NAMES)
    (town.folder / "zone-key").write_text(OTHER_SECRET)
    row = name(here, "update")
    assert (row["action"], row["code"]) == ("refused", 4)
    assert "BADSIG" in row["errors"][0]
    row = name(here, "update")  # nothing has changed: it is not asked again
    assert (row["action"], row["code"], row["errors"]) == ("refused", 1, [])
    (town.folder / "zone-key").write_text("not base64!")
    assert name(here, "update")["code"] == 6
    (town.folder / "zone-key").write_text(SECRET)
    (town.folder / "names.toml").write_text((SITE + NAMES).replace("boathouse-key", "another-key"))
    assert "BADKEY" in name(here, "update")["errors"][0]
    (town.folder / "names.toml").write_text((SITE + NAMES).replace('key = "', 'zone = "grebe.example"\nkey = "'))
    assert "NOTAUTH" in name(here, "update")["errors"][0]
    (town.folder / "names.toml").write_text(SITE + NAMES)
    late = (
        "import sys, time\nreal = time.time\ntime.time = lambda: real() - 4000\n"
        "from hooper.cli.main import run\nrun(sys.argv[1:])"
    )
    arguments = ["name", "update", "--public", "203.0.113.44", "--json", "--state", str(here.state / "late")]
    done = subprocess.run(
        [*town.wrap("here"), sys.executable, "-c", late, *arguments, "--site", str(town.folder / "names.toml")],
        capture_output=True, text=True, timeout=60, check=False, env={**os.environ},
    )  # fmt: skip
    assert done.returncode == 4, done.stderr
    (error,) = json.loads(done.stdout)["errors"]
    assert "BADTIME" in error["message"]
    assert "differ by 40" in error["message"] or "differ by 39" in error["message"]
    assert name(here, "list")["published"] == ["203.0.113.40"]  # nothing of it was taken


def test_a_name_server_that_is_gone(town: KernelTown, here: Here) -> None:
    town.serve_names("rented", SECRET)
    town.stop("names")
    (town.folder / "names.toml").write_text(SITE + NAMES)
    row = name(here, "update", "--deadline", "1")
    assert row["code"] == 4
    assert row["action"] == "failed"
    town.serve_names("rented", SECRET)
    assert name(here, "update")["action"] == "updated"
    town.stop("names")
    row = name(here, "update", "--deadline", "1")  # nobody tells what is published: it is not published again
    assert (row["action"], row["code"], row["errors"]) == ("unknown", 1, [])


# --- certificates


def test_nginx_shows_the_certificate_that_was_ordered(town: KernelTown, here: Here, tmp_path: Path) -> None:
    """Ordered in the lab, served by nginx behind two kernel NATs, judged from the mobile network."""
    with start_lab(tmp_path / "lab") as lab:
        (row,) = valid("cert", lab.run("cert", "order", "--json").document)["certificates"]
        root = (lab.folder / "town-ca.pem").read_text()
        chain, key = Path(row["chain"]).read_text(), Path(row["key"]).read_text()
    (town.folder / "town-ca.pem").write_text(root)
    text = SITE + (
        '[names."boathouse.heronquay.example"]\nline = "fibre"\n'
        '[certificates.boathouse]\nnames = ["boathouse.heronquay.example"]\nauthority = "town-ca"\n'
        'services = ["film-page"]\n[authorities.town-ca]\ndirectory = "https://ca.heronquay.example/directory"\n'
        'agreed = true\ntrust = "file:town-ca.pem"\n'
    )
    (town.folder / "certified.toml").write_text(text)
    sheets = hooper("worksheet", "--json", "--site", str(town.folder / "site.toml")).document["sheets"]
    town.enter(sheets)

    def problems(site: str = "certified.toml") -> tuple[int, list[str]]:
        arguments = ("check", "film-page", "--from", "interface:usb0", "--public", PUBLIC)
        ran = here(*arguments, site=site)
        (result,) = valid("check", ran.document)["results"]
        return ran.code, result["problems"]

    assert problems() == (1, ["certificate-absent"])
    town.stop("film-page")
    town.serve_page("film-page", "film-box", 443, "Race films", pair=chain + key)
    assert problems() == (0, [])
    (town.folder / "certified.toml").write_text(text.replace('trust = "file:town-ca.pem"\n', ""))
    assert problems() == (1, ["certificate-untrusted"])
    other = text.replace("boathouse.heronquay.example", "regatta.heronquay.example")
    (town.folder / "certified.toml").write_text(other)
    assert problems() == (1, ["certificate-other-name"])
    town.stop("film-page")
    town.serve_page("film-page", "film-box", 443, "Race films")
