"""Tunnels that a device makes by itself: what its page is told, which secrets, who has to change what."""

from __future__ import annotations

import re
import tomllib
from datetime import UTC, datetime
from pathlib import Path

import anyio
import pytest

from hooper.store.sitefile import read_site
from hooper.usecases.private.tunnel_conditions import watch_tunnels
from hooper.usecases.run import Run, open_state
from support.program import Ran, hooper, valid
from support.sites import codes

SITE = """\
version = 1
[lines.fibre]
address = "203.0.113.44"
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
control = "hand"
[gateways.club-router]
behind = "fibre-box"
wan = "192.168.90.2"
lan = "10.44.7.1/24"
[hosts.film-box]
address = "10.44.7.30"
[names."boathouse.heronquay.example"]
line = "fibre"
updated_by = "router"
"""


class Site:
    """A site file, and the program run on it."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.path = folder, folder / "site.toml"
        self.path.write_text(SITE)

    def __call__(self, *words: str) -> Ran:
        ran = hooper(*words, "--site", str(self.path), "--state", str(self.folder / "state"))
        assert ran.code in (0, 1), ran.err
        return ran

    def secrets(self) -> list[str]:
        """All that is kept, wherever."""
        return [
            path.read_text().strip()
            for path in (self.folder / "state").rglob("*")
            if path.suffix in (".secret", ".password")
        ]


@pytest.fixture
def site(tmp_path: Path) -> Site:
    return Site(tmp_path)


def test_ipsec_on_the_router_needs_500_and_4500_and_never_1701(site: Site) -> None:
    site("tunnel", "add", "club", "--kind", "ipsec", "--host", "club-router", "--l2tp", "yes")
    plan = hooper("plan", "--json", "--site", str(site.path)).document
    rules = {(rule["gateway"], rule["transport"], rule["outside_ports"][0]) for rule in plan["forwards"]}
    assert rules == {("fibre-box", "udp", 500), ("fibre-box", "udp", 4500)}
    shown = valid("tunnel-show", site("tunnel", "show", "club", "--json").document)
    fields = {one["field"]: one["value"] for one in shown["server"]}
    assert fields["kind of server"] == "L2TP over IPsec"
    assert fields["own identity (local ID)"] == "boathouse.heronquay.example"
    assert "1701 stays closed" in fields["ports"]
    assert shown["steps"][0].startswith("First: change the default password of club-router")
    opened = SITE + '[services.l2tp]\nhost = "club-router"\nspeaks = "l2tp"\nreach = "public"\n'
    assert "inside-ipsec" in codes(opened)


def test_secrets_are_proposed_kept_and_shown_nowhere_but_in_the_files(site: Site) -> None:
    site("tunnel", "add", "club", "--kind", "ipsec", "--host", "club-router")
    printed = []
    for peer, device in (("cox", "phone"), ("shed", "router")):
        printed.append(site("peer", "add", peer, "--device", device, "--tunnel", "club"))
    printed.append(site("tunnel", "make", "club", "--out", str(site.folder / "sheet")))
    sheet = site.folder / "sheet" / "club-sheet.txt"
    assert sheet.stat().st_mode & 0o777 == 0o600
    (shared,) = re.findall(r"^pre-shared key.*: (.*)$", sheet.read_text(), re.MULTILINE)
    passwords = re.findall(r"^password: (.*)$", sheet.read_text(), re.MULTILINE)
    assert len({shared, *passwords}) == 3
    assert all(re.fullmatch(r"([a-z2-9]{5}-){4}[a-z2-9]{5}", one) for one in (shared, *passwords))
    handed = site("peer", "hand", "cox", "--out", str(site.folder / "cox.txt"), "--out", str(site.folder / "cox.html"))
    assert shared in (site.folder / "cox.txt").read_text()
    assert passwords[0] in (site.folder / "cox.txt").read_text()
    assert passwords[1] not in (site.folder / "cox.txt").read_text()
    assert shared in (site.folder / "cox.html").read_text()
    printed += [handed, site("tunnel", "show", "club"), site("peer", "list"), site("tunnel", "list", "--json")]
    printed += [site("peer", "hand", "cox", "--json", "--out", str(site.folder / "again.txt"))]
    for ran in printed:
        for secret in (shared, *passwords):
            assert secret not in ran.out + ran.err
    assert (site.folder / "again.txt").read_bytes() == (site.folder / "cox.txt").read_bytes()
    for path in (site.folder / "state").rglob("*"):
        if path.is_file() and any(secret in path.read_text(errors="replace") for secret in (shared, *passwords)):
            assert path.stat().st_mode & 0o77 == 0
    assert not any(secret in site.path.read_text() for secret in (shared, *passwords))


def test_another_secret_lists_every_device_far_ones_first_and_the_server_last(site: Site) -> None:
    site("tunnel", "add", "club", "--kind", "ipsec", "--host", "club-router")
    for peer, device in (("cox", "phone"), ("shed", "router"), ("coach", "laptop")):
        site("peer", "add", peer, "--device", device, "--tunnel", "club", "--person", f"the {peer}")
    site("tunnel", "make", "club", "--out", str(site.folder / "sheet"))
    before = site.secrets()
    assert "one-secret-for-all" in codes(site.path.read_text())
    follows = site("tunnel", "renew", "club", "--json").document["follows"]
    who = [re.search(r"\((\w+)\)|on (club-router), last", line) for line in follows[1:]]
    assert [match[1] or match[2] for match in who if match is not None] == ["shed", "cox", "coach", "club-router"]
    after = site.secrets()
    assert len(set(before) ^ set(after)) == 2  # the shared one alone
    dry = site.secrets()
    assert site("tunnel", "renew", "club", "--dry-run").code == 0
    assert site.secrets() == dry
    listed = site("peer", "revoke", "cox", "--json").document["follows"]
    assert any("tunnel renew club" in line for line in listed)
    site("tunnel", "remove", "club")
    assert not site.secrets()


def test_a_key_that_the_servers_page_makes_begins_there(site: Site) -> None:
    site(
        "tunnel", "add", "box", "--kind", "openvpn", "--made-by", "device", "--host", "film-box", "--one-secret", "yes"
    )
    for peer in ("cox", "coach"):
        site("peer", "add", peer, "--tunnel", "box")
    assert tomllib.loads(site.path.read_text())["tunnels"]["box"]["one_secret"] is True
    assert {"one-secret-for-all", "peer-without-key"} & codes(site.path.read_text()) == {"one-secret-for-all"}
    follows = site("tunnel", "renew", "box", "--json").document["follows"]
    assert [line.split(",")[0].split(":")[0] for line in follows] == [
        "on film-box", "on the phone (cox)", "on the phone (coach)",
    ]  # fmt: skip
    shown = site("tunnel", "show", "box", "--json").document
    fields = {one["field"]: one["value"] for one in shown["server"]}
    assert fields["public name or DDNS name in exported files"] == "boathouse.heronquay.example"
    assert fields["compression"] == "off"
    assert "profile check" in str(shown["steps"])


def test_a_network_that_the_provider_has_too_is_told_and_changed(site: Site) -> None:
    site("tunnel", "add", "box", "--kind", "openvpn", "--made-by", "device", "--host", "film-box", "--subnet",
         "192.168.90.0/24")  # fmt: skip
    found = [one for one in hooper("plan", "--json", "--site", str(site.path)).document["findings"]
             if one["code"] == "prefix-overlap"]  # fmt: skip
    assert [one["subject"] for one in found] == ["tunnels.box"]
    wanted = re.search(r"such as (\S+)\.$", found[0]["remedy"])
    assert wanted is not None
    site("tunnel", "change", "box", "--subnet", wanted[1])
    assert "prefix-overlap" not in codes(site.path.read_text())
    shown = site("tunnel", "show", "box", "--json").document
    assert wanted[1].partition("/")[0] in str(shown["server"])


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ('kind = "ipsec"\nservice = "s"\nsubnet = "10.9.0.0/24"\n', "made by the device itself"),
        ('kind = "ssh"\nservice = "s"\nsubnet = "10.9.0.0/24"\n', "has no `subnet`"),
        ('kind = "openvpn"\nservice = "s"\n', "needs a network"),
        ('kind = "wireguard"\nservice = "s"\nsubnet = "10.9.0.0/24"\nl2tp = true\n', "has no `l2tp`"),
        ('kind = "openvpn"\nservice = "s"\nsubnet = "10.9.0.0/24"\npublic_key = "ssh-ed25519 x"\n', "not a public key"),
        (f'kind = "openvpn"\nservice = "s"\nsubnet = "10.9.0.0/24"\npublic_key = "{"A" * 43}="\n', "not of the form"),
        ('kind = "openvpn"\nservice = "s"\nsubnet = "10.9.0.0/24"\none_secret = true\n', "makes by itself"),
        ('kind = "openvpn"\nservice = "s"\nsubnet = "10.9.0.0/24"\nalso = "s"\n', "over udp too"),
        ('kind = "ssh"\nservice = "s"\nserver = "macos"\n', "written for an OpenSSH server"),
    ],
)
def test_what_does_not_fit_together_is_told_with_its_place(site: Site, more: str, said: str) -> None:
    speaks = re.search(r'kind = "(\w+)"', more)
    assert speaks is not None
    name = {"ipsec": "ike"}.get(speaks[1], speaks[1])
    service = f'[services.s]\nhost = "film-box"\nspeaks = "{name}"\n'
    site.path.write_text(f"{SITE}{service}[tunnels.t]\n{more}")
    ran = hooper("tunnel", "list", "--site", str(site.path), "--state", str(site.folder / "state"))
    assert ran.code == 3
    assert said in ran.err
    assert re.search(r"site\.toml:\d+:\d+", ran.err)


@pytest.mark.parametrize(
    ("kind", "host", "more"),
    [
        ("ipsec", "club-router", ()),
        ("openvpn", "film-box", ("--one-secret", "yes")),
        ("openvpn", "film-box", ()),
    ],
)
def test_a_revocation_is_written_down_and_open_until_it_is_said_to_be_done(
    site: Site, kind: str, host: str, more: tuple[str, ...]
) -> None:
    made = ("--made-by", "device") if kind == "openvpn" else ()
    site("tunnel", "add", "club", "--kind", kind, "--host", host, *made, *more)
    site("peer", "add", "cox", "--tunnel", "club", "--person", "the cox")
    site("peer", "add", "coach", "--tunnel", "club")
    follows = " ".join(site("peer", "revoke", "cox", "--json").document["follows"])
    assert f"on the pages of {host}" in follows
    assert ("coach" in follows) == (kind == "ipsec" or bool(more))
    assert re.search(r"^revoked = \d{4}-\d\d-\d\d$", site.path.read_text(), re.MULTILINE)
    (row,) = (
        one for one in valid("peer-list", site("peer", "list", "--json").document)["peers"] if one["peer"] == "cox"
    )
    assert (row["ok"], bool(row["revoked"]), row["shut_out"]) == (False, True, None)
    status = valid("status", site("status", "--json").document)
    assert [one["subject"] for one in status["rows"] if one["needs"] and one["kind"] == "peer"] == ["cox"]
    hand = ("peer", "hand", "cox", "--out", str(site.folder / "cox.html"))
    ran = hooper(*hand, "--site", str(site.path), "--state", str(site.folder / "state"))
    assert (ran.code, (site.folder / "cox.html").exists()) == (5 if kind == "ipsec" else ran.code, False)
    assert ran.code in (2, 5)
    site("peer", "revoke", "cox", "--done", "--dry-run")
    assert not _row(site, "cox")["ok"]
    site("peer", "revoke", "cox", "--done")
    assert _row(site, "cox")["ok"]
    assert not [one for one in site("status", "--json").document["rows"] if one["needs"] and one["kind"] == "peer"]
    site("peer", "renew", "cox")
    assert "revoked" not in site.path.read_text()
    site("peer", "remove", "cox")  # who is removed stays open too
    status = site("status", "--json").document
    assert [one["subject"] for one in status["rows"] if one["needs"] and one["kind"] == "peer"] == ["cox"]
    site("peer", "revoke", "cox", "--done")
    assert not [one for one in site("status", "--json").document["rows"] if one["needs"] and one["kind"] == "peer"]
    ran = hooper("peer", "revoke", "nobody", "--done", "--site", str(site.path), "--state", str(site.folder / "state"))
    assert ran.code == 2


def _row(site: Site, peer: str) -> dict[str, object]:
    rows = site("peer", "list", "--json").document["peers"]
    return next(one for one in rows if one["peer"] == peer)


def kept_by_the_keeper(site: Site) -> set[tuple[str, str, str, str]]:
    """What the keeper's task of tunnels keeps; it asks no network."""
    run = Run(read_site(site.path), datetime.now(UTC), site.path)
    with open_state(run, site.folder / "state") as state:
        assert not anyio.run(watch_tunnels, run)
        stood = [one.condition for one in state.history.conditions()]
    return {(one.kind, one.subject, one.aspect, one.state) for one in stood}


def test_what_a_server_tells_by_its_own_command_shuts_a_revoked_peer_out(site: Site) -> None:
    """Loaded, old and revoked are known by themselves; the commands are the site file's own."""
    site("tunnel", "add", "oars", "--host", "film-box")
    site("peer", "add", "cox", "--tunnel", "oars")
    site("peer", "add", "coach", "--tunnel", "oars")
    entries = tomllib.loads(site.path.read_text())
    server, cox, coach = (entries["tunnels"]["oars"], entries["peers"]["cox"], entries["peers"]["coach"])
    dump = site.folder / "dump"
    for name in ("see", "load"):
        (site.folder / name).write_text(
            f"#!/bin/sh\necho $HOOPER_TUNNEL $HOOPER_FILES >> {site.folder}/ran\ncat {dump}\n"
        )
        (site.folder / name).chmod(0o755)
    site("tunnel", "change", "oars", "--seen-by", "./see", "--load-by", "./load")

    def told(*keys: str) -> None:
        rows = [f"oars\t(hidden)\t{server['public_key']}\t51820\toff"]
        rows += [f"oars\t{key}\t(none)\t(none)\t10.0.0.1/32\t0\t0\t0\toff" for key in (*keys, server["probe_key"])]
        dump.write_text("\n".join(rows) + "\n")

    told(cox["public_key"], coach["public_key"])
    assert site("tunnel", "seen", "oars", "--json").code == 0
    site("peer", "revoke", "cox")
    seen = site("tunnel", "seen", "oars", "--json")
    assert seen.code == 1
    (row,) = (one for one in valid("tunnel-seen", seen.document)["peers"] if one["revoked"])
    assert row["peer"] == "cox"
    assert not _row(site, "cox")["ok"]
    assert ("tunnel", "oars", "loaded", "other-files") in kept_by_the_keeper(site)
    told(coach["public_key"])
    assert site("tunnel", "seen", "oars").code == 0
    assert _row(site, "cox")["ok"]
    site("peer", "revoke", "coach")
    assert not _row(site, "coach")["ok"]
    before = (site.folder / "ran").read_text()
    ran = site("tunnel", "make", "oars", "--out", str(site.folder / "files"), "--load")
    assert "this runs: ./load" in ran.err
    assert (site.folder / "ran").read_text() == f"{before}oars {site.folder}/files\n"
    assert _row(site, "coach")["ok"]
    (site.folder / "load").write_text("#!/bin/sh\nexit 3\n")
    site("peer", "renew", "coach")
    site("peer", "revoke", "coach")
    failed = hooper("tunnel", "make", "oars", "--out", str(site.folder / "files"), "--load", "--site", str(site.path),
                    "--state", str(site.folder / "state"))  # fmt: skip
    assert (failed.code, "ends with code 3" in failed.err) == (4, True)
    assert not _row(site, "coach")["ok"]


def test_a_makers_own_server_has_a_sheet_ticks_and_files_of_what_is_typed(site: Site) -> None:
    site("tunnel", "add", "shed", "--kind", "maker", "--host", "film-box")
    for peer in ("cox", "coach"):
        site("peer", "add", peer, "--tunnel", "shed", "--person", f"the {peer}")
    shown = valid("tunnel-show", site("tunnel", "show", "shed", "--json").document)
    fields = {one["field"]: one["value"] for one in shown["server"]}
    assert fields["address that clients are told"] == "boathouse.heronquay.example, port 443"
    assert any("relay" in field and value.startswith("off") for field, value in fields.items())
    assert [any(word in step for step in shown["steps"]) for word in ("default password", "relay_off")] == [True, True]
    assert "one-secret-for-all" not in codes(site.path.read_text())
    site("tunnel", "make", "shed", "--out", str(site.folder / "sheet"))
    site("peer", "hand", "cox", "--out", str(site.folder / "cox.txt"), "--out", str(site.folder / "cox.html"))
    passwords = re.findall(r"^password: (.*)$", (site.folder / "sheet" / "shed-sheet.txt").read_text(), re.MULTILINE)
    text = (site.folder / "cox.txt").read_text()
    assert (len({*passwords}), passwords[0] in text, passwords[1] in text) == (2, True, False)
    assert "pre-shared" not in text + (site.folder / "sheet" / "shed-sheet.txt").read_text()
    site("peer", "revoke", "cox")
    assert passwords[0] not in site.secrets()
    assert passwords[1] in site.secrets()
    tick = ("host", "tick", "film-box", "--site", str(site.path))
    assert hooper(*tick, "default_password_changed", "relay_off").code == 0
    assert len(valid("tunnel-show", site("tunnel", "show", "shed", "--json").document)["steps"]) == 1
    assert hooper(*tick, "--not", "relay_off").code == 0
    assert "relay-on" in codes(site.path.read_text())
    changed = site("tunnel", "renew", "shed", "--json").document["follows"]
    assert changed[0].startswith("on film-box, first: another password")
    assert re.fullmatch(r"on the cox.*: its new password", changed[1])
