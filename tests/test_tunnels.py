"""Tunnels and peers as a user makes them: both sides match, who reaches what, what is told, and what is never told."""

from __future__ import annotations

import base64
import json
import random
import re
import tomllib
import zipfile
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, ip_network
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hooper.lab import devices
from hooper.lab.boathouse import INTERNET
from hooper.lab.faults import FAULTS
from hooper.lab.gate import Client, Gate
from hooper.lab.things import Attachment, Box, Machine, Rule, Turned
from hooper.lab.town import Town
from hooper.planning.access import grants
from hooper.planning.free_addresses import COMMON
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.tunnel_edits import Placing, add_peer, add_tunnel
from hooper.site.load import SiteFile, parse_site
from hooper.tunnels.keys import KeyRing
from hooper.tunnels.making import works_of
from hooper.tunnels.wireguard_files import FOLDER
from hooper.wire.wgfile import parse
from hooper.wire.wireguard import generate_private, public_of
from support.program import Lab, LabHere, Ran, hooper, town_here, valid

TODAY, NOW = date(2026, 5, 1), datetime(2026, 5, 1, 12, tzinfo=UTC)
SITE = """\
version = 1
[lines.fibre]
address = "203.0.113.44"
[gateways.box]
line = "fibre"
lan = "10.44.7.1/24"
[hosts.gate]
address = "10.44.7.60"
[services.gate]
host = "gate"
speaks = "wireguard"
reach = "public"
"""


# --- a hundred sites


@pytest.mark.parametrize("seed", range(100))
def test_both_sides_match_and_each_peer_reaches_exactly_its_into(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    file, ring = generated(chance, KeyRing(tmp_path))
    site = file.site
    topology = Topology(site)
    (tunnel,) = site.tunnels.values()
    server = works_of("wireguard").server_files(topology, "oars", ring, NOW, FOLDER)
    conf = parse(server.files["oars.conf"])
    assert not any(finding.severity == "error" for finding in make_plan(file, TODAY).findings)
    networks = [gateway.lan.network for gateway in site.gateways.values()]
    assert not any(tunnel.network.overlaps(other) for other in (*networks, *COMMON))
    known = {entry.value: section for section in conf.peers if (entry := section.get("PublicKey")) is not None}
    town, gate, outside = a_town(file, server.files)
    for number, key in enumerate(site.peers):
        profile = works_of("wireguard").profile_of(topology, key)
        private = ring.private(profile.public_key)
        (text,) = works_of("wireguard").peer_files(topology, profile, ring, TODAY).values()
        own = parse(text)
        assert private is not None
        assert own.interface is not None
        mine = own.peers[0]
        there = known[base64.b64encode(public_of(base64.b64decode(private.reveal()))).decode()]
        assert mine.get("PresharedKey").value == there.get("PresharedKey").value  # type: ignore[union-attr]
        assert own.interface.items("Address") == there.items("AllowedIPs")
        assert mine.get("PublicKey").value == tunnel.public_key  # type: ignore[union-attr]
        node = outside(number)
        client = Client.load(town, node, key, text)
        client.allowed = (IPv4Network("0.0.0.0/0"),)  # who wants more than it may sends everything
        reached = set(reachable(file, gate, client))
        wanted = {
            (str(host.address), port)
            for host in site.hosts.values()
            for port in PORTS
            if any(one.takes(host.address, "tcp", port) for one in grants(site, key))
        }
        assert reached == wanted, (key, site.peers[key].into)


PORTS = (22, 80, 443, 8443)


def generated(chance: random.Random, ring: KeyRing) -> tuple[SiteFile, KeyRing]:
    """A site with a few hosts and services, a tunnel, and peers that reach this and that."""
    text = SITE.replace("10.44.7.", f"10.{chance.randrange(30, 250)}.{chance.randrange(1, 250)}.")
    base = re.search(r"10\.\d+\.\d+\.", text)
    assert base is not None
    names = [f"host-{number}" for number in range(chance.randrange(1, 5))]
    for number, name in enumerate(names):
        text += f'[hosts.{name}]\naddress = "{base[0]}{70 + number}"\n'
        for port in chance.sample(PORTS, chance.randrange(1, len(PORTS))):
            text += f'[services.{name}-{port}]\nhost = "{name}"\nspeaks = "tcp"\nport = {port}\nreach = "tunnel"\n'
    file = parse_site(text.encode(), "site.toml")
    keys = {"public_key": ring.make(), "probe_key": ring.make()}
    rows: dict[str, Any] = {"way_back": chance.choice(("route", "nat"))}
    file = again(file, add_tunnel(file, "oars", rows, Placing(), keys, chance.randbytes(8)).text)
    for number in range(chance.randrange(1, 5)):
        things = [*file.site.services, *names, f"{base[0]}64/28"]
        into: Any = chance.choice(
            ["everything", "lan", chance.sample(things, chance.randrange(1, min(4, len(things))))]
        )
        peer = {"tunnel": "oars", "into": into, "public_key": ring.make(shared=True)}
        file = again(file, add_peer(file, f"peer-{number}", peer).text)
    return file, ring


def again(file: SiteFile, text: str) -> SiteFile:
    return parse_site(text.encode(), file.name)


def a_town(file: SiteFile, files: Any) -> tuple[Town, Gate, Callable[[int], Machine]]:
    """The site behind one router that has its rule and its routes; every host listens at every port."""
    town, site = Town(lambda: datetime(2026, 5, 1, tzinfo=UTC)), file.site
    lan = site.gateways["box"].lan
    town.segments = {INTERNET: IPv4Network("0.0.0.0/0"), "lan": lan.network}
    router = Box("box", INTERNET, IPv4Address("203.0.113.44"), "lan", IPv4Interface(str(lan)))
    gate_address = site.hosts["gate"].address
    router.rules = [Rule("gate", "udp", (51820, 51820), gate_address, (51820, 51820))]
    (tunnel,) = site.tunnels.values()
    if tunnel.way_back == "route":
        router.routes = [(tunnel.network, gate_address)]
    town.boxes = {"box": router}
    for key, host in site.hosts.items():
        node = Machine(key, [Attachment("eth0", "lan", host.address, "", lan.ip)])
        node.tcp = dict.fromkeys(PORTS, devices.silent)
        town.nodes[key] = node
    gate = town.gate = Gate(town, town.nodes["gate"])
    gate.load(files["oars.conf"], files["oars.nft"])

    def outside(number: int) -> Machine:
        node = Machine(f"out-{number}", [Attachment("eth0", INTERNET, IPv4Address(f"198.51.100.{7 + number}"), "")])
        town.nodes[node.key] = node
        return node

    return town, gate, outside


def reachable(file: SiteFile, gate: Gate, client: Client) -> Iterator[tuple[str, int]]:
    for host in file.site.hosts.values():
        for port in PORTS:
            came = client.route(gate, host.address, "tcp", port, client.town.free_port())
            if not isinstance(came, Turned):
                yield str(host.address), port


# --- the program


@pytest.fixture
def lab(tmp_path: Path) -> Iterator[LabHere]:
    with town_here(tmp_path / "lab") as found:
        yield found


def told(lab: LabHere, *words: str) -> Ran:
    ran = lab.run(*words)
    assert ran.code == 0, ran.err + ran.out
    return ran


def made(lab: LabHere, into: str = "film-shell") -> None:
    """A tunnel with a peer, both sides loaded, the laptop away from home with the peer's profile."""
    told(lab, "tunnel", "add", "oars", "--subnet", "10.88.44.0/24", "--dns", "10.44.7.1")
    told(lab, "peer", "add", "cox-phone", "--person", "the cox", "--into", into)
    told(lab, "tunnel", "make", "oars", "--out", str(lab.folder / "gate"))
    told(lab, "lab", "load", str(lab.folder / "gate" / "oars.conf"))
    sheets = lab.folder / "sheets.json"
    sheets.write_text(told(lab, "worksheet", "--json").out)
    told(lab, "lab", "type", str(sheets))
    told(lab, "peer", "hand", "cox-phone", "--out", str(lab.folder / "cox-phone.conf"))
    told(lab, "lab", "load", str(lab.folder / "cox-phone.conf"), "--on", "here")
    told(lab, "lab", "plug", "away")


def test_a_peer_is_made_handed_and_proven(lab: LabHere) -> None:
    made(lab)
    ran = lab.run("check", "film-shell", "film-page", "--from", "interface:cox-phone", "--json")
    document = valid("check", ran.document)
    assert [row["verdict"] for row in document["results"]] == ["answered", "refused"]
    leaves = {"line": None, "family": "ipv4"}
    assert document["from"] == {"kind": "interface", "name": "cox-phone", "proves_outside": True, **leaves}
    assert ran.code == 0
    gate = lab.run("check", "gate", "--from", "interface:usb0", "--json")
    assert [row["verdict"] for row in gate.document["results"]] == ["answered"]
    rows = valid("peer-list", told(lab, "peer", "list", "--json").document)["peers"]
    assert [(row["peer"], row["enforced"], row["ok"]) for row in rows] == [("cox-phone", "server", True)]
    assert valid("tunnel-list", told(lab, "tunnel", "list", "--json").document)["tunnels"][0]["ok"]
    dump = valid("lab", told(lab, "lab", "dump", "--json").document)["dump"]
    (lab.folder / "dump.txt").write_text(dump)
    seen = valid("tunnel-seen", told(lab, "tunnel", "seen", "oars", str(lab.folder / "dump.txt"), "--json").document)
    assert {row["peer"] for row in seen["peers"]} == {"cox-phone", "the probe, for checks"}
    assert lab.run("peer", "hand", "cox-phone", "--out", str(lab.folder / "again.conf")).code == 1
    assert not (lab.folder / "again.conf").exists()


def test_the_other_end_is_proven_away_from_home_and_refused_at_home(lab: LabHere) -> None:
    made(lab)
    told(lab, "lab", "plug", "home")
    for words in ((), ("--from", "interface:cox-phone"), ("--from", "interface")):
        why = lab.run("why", "film-shell", "--peer", "cox-phone", *words, "--json")
        assert (why.code, why.document["ok"]) == (1, None)
        assert [(one["code"], one["certainty"]) for one in why.document["causes"]] == [("asker-inside", "certain")]
    refused = lab.run("tunnel", "prove", "--json")
    assert refused.code == 1
    assert refused.document["errors"][0]["code"] == "same-network"
    told(lab, "lab", "plug", "away")
    ran = lab.run("tunnel", "prove", "--json")
    document = valid("tunnel-prove", ran.document)
    proofs = {proof["what"]: proof for proof in document["proofs"]}
    assert ran.code == 0, ran.out
    assert document["peer"] == "cox-phone"
    assert proofs["address"]["before"] == proofs["address"]["after"] == "198.51.100.130"
    assert proofs["route"] == {**proofs["route"], "before": "usb0", "after": "cox-phone", "ok": True}
    assert proofs["dns 10.44.7.1"]["ok"]
    assert proofs["service film-shell"]["after"] == "answered"
    assert (proofs["size"]["after"], proofs["size"]["ok"]) == ("1420", True)
    assert any(what.startswith("way-back") and proof["ok"] is None for what, proof in proofs.items())
    told(lab, "lab", "plug", "home")


@pytest.mark.parametrize("fault", [key for key in FAULTS if key.startswith("tunnel-")])
def test_each_fault_of_the_tunnel_has_its_cause(lab: LabHere, fault: str) -> None:
    made(lab, into="lan")
    words = ("why", "film-shell", "--peer", "cox-phone", "--from", "interface:cox-phone", "--deadline", "2", "--json")
    well = valid("why", told(lab, *words).document)
    assert well["ok"] is True
    told(lab, "lab", "break", fault)
    broken = lab.run(*words)
    document = valid("why", broken.document)
    assert broken.code == 1
    assert document["ok"] is False
    assert FAULTS[fault].cause in {cause["code"] for cause in document["causes"]}
    certain = {cause["code"] for cause in document["causes"] if cause["certainty"] == "certain"}
    assert certain <= {FAULTS[fault].cause}
    told(lab, "lab", "mend", fault)
    assert valid("why", told(lab, *words).document)["ok"] is True


@pytest.mark.parametrize("transport", ["udp", "tcp"])
def test_an_openvpn_server_of_the_town_is_told_and_a_strangers_is_too(lab: LabHere, transport: str) -> None:
    """Its control channel is genuine: packets, the shared key, TLS with the certificate of the server's file."""
    told(lab, "service", "add", "crew", "--host", "gate", "--speaks", "openvpn", "--transport", transport, "--reach",
         "public", "--outside-port", "11194")  # fmt: skip
    told(lab, "tunnel", "add", "crew", "--kind", "openvpn", "--service", "crew")
    told(lab, "tunnel", "make", "crew", "--out", str(lab.folder / "gate"))
    told(lab, "lab", "load", str(lab.folder / "gate" / "crew.conf"))
    sheets = lab.folder / "sheets.json"
    sheets.write_text(told(lab, "worksheet", "--json").out)
    told(lab, "lab", "type", str(sheets))
    words = ("check", "crew", "--from", "interface:usb0", "--json")
    (row,) = told(lab, *words).document["results"]
    assert (row["verdict"], row["ok"]) == ("answered", True)
    assert "of the authority of crew" in row["detail"]
    told(lab, "lab", "break", "openvpn-other-authority")
    (row,) = lab.run(*words).document["results"]
    assert row["verdict"] == "mismatched"
    document = lab.run("why", "crew", "--from", "interface:usb0", "--json").document
    assert document["ok"] is False
    assert [cause["code"] for cause in document["causes"] if cause["certainty"] == "certain"] == ["tunnel-key-other"]
    told(lab, "lab", "mend", "openvpn-other-authority")
    (row,) = told(lab, *words).document["results"]
    assert row["verdict"] == "answered"
    wrong = lab.run("lab", "load", str(lab.folder / "gate" / "crew.nft"))
    assert wrong.code == 2


def test_an_ssh_server_that_shows_no_host_key_is_told_and_can_be_looked_at_later(lab: LabHere) -> None:
    ran = lab.run("tunnel", "add", "quay", "--kind", "ssh", "--host", "hub")
    assert ran.code == 0, ran.err
    assert "Its host key is not known yet: 10.44.7.50:22" in ran.err
    assert "`hooper tunnel renew quay` looks at it" in ran.out
    assert lab.run("peer", "add", "coach-laptop", "--tunnel", "quay").code == 0
    handed = lab.run("peer", "hand", "coach-laptop", "--out", str(lab.folder / "coach.zip"))
    assert handed.code == 1
    assert "hooper tunnel renew quay" in handed.err


def test_forwards_through_ssh_lead_where_the_list_permits_and_nowhere_else(lab: LabHere) -> None:
    """By the files that real software loads: the order of starting on the card, a port here, the way home."""
    told(lab, "service", "change", "film-shell", "--reach", "public", "--outside-port", "2222")
    told(lab, "tunnel", "add", "quay", "--kind", "ssh", "--service", "film-shell")
    told(lab, "peer", "add", "coach", "--tunnel", "quay", "--device", "laptop", "--into", "hub-page")
    told(lab, "tunnel", "make", "quay", "--out", str(lab.folder / "quay"))
    sheets = lab.folder / "sheets.json"
    sheets.write_text(told(lab, "worksheet", "--json").out)
    told(lab, "lab", "type", str(sheets))
    told(lab, "lab", "load", str(lab.folder / "quay" / "quay.keys"), "--on", "film-box")
    told(lab, "peer", "hand", "coach", "--out", str(lab.folder / "coach.zip"))
    with zipfile.ZipFile(lab.folder / "coach.zip") as archive:
        archive.extractall(lab.folder / "ssh")
    told(lab, "lab", "load", str(lab.folder / "ssh" / "quay.config"), "--on", "here")
    told(lab, "lab", "plug", "away")
    proven = valid("tunnel-prove", told(lab, "tunnel", "prove", "coach", "--json").document)
    assert {p["what"]: p["after"] for p in proven["proofs"]}["service hub-page"] == "answered"
    (row,) = told(lab, "check", "film-shell", "--from", "interface:usb0", "--json").document["results"]
    assert "the one that the site file has for quay" in row["detail"]
    words = ("why", "hub-page", "--peer", "coach", "--deadline", "2", "--json")
    assert told(lab, *words).document["ok"] is True
    told(lab, "lab", "break", "ssh-not-started")
    broken = lab.run(*words).document
    assert "tunnel-not-started" in {cause["code"] for cause in broken["causes"]}
    told(lab, "lab", "mend", "ssh-not-started")
    # the server's list without the peer: the port takes a connection, and nothing comes of it
    told(lab, "peer", "revoke", "coach")
    told(lab, "tunnel", "make", "quay", "--out", str(lab.folder / "quay"))
    keys = lab.folder / "quay" / "quay.keys"
    keys.write_text(keys.read_text() + 'restrict,command="/bin/false" ssh-ed25519 AAAA other\n')
    told(lab, "lab", "load", str(keys), "--on", "film-box")
    proven = lab.run("tunnel", "prove", "coach", "--json").document
    assert {p["what"]: p["ok"] for p in proven["proofs"]}["service hub-page"] is False
    told(lab, "lab", "load", str(lab.folder / "ssh" / "quay.config"), "--on", "here", "--off")
    proven = lab.run("tunnel", "prove", "coach", "--json").document
    assert {p["what"]: p["after"] for p in proven["proofs"]}["service hub-page"] == "refused"


def test_a_busy_server_is_known_by_its_cookie(lab: LabHere) -> None:
    """Its cookie alone proves it; and it lets in who comes again with that."""
    made(lab)
    assert lab.board.town.gate is not None
    lab.board.town.gate.busy = True
    ran = lab.run("check", "gate", "--from", "interface:usb0", "--json")
    (row,) = ran.document["results"]
    assert (row["verdict"], ran.code) == ("answered", 0)
    assert "the handshake succeeds" in row["detail"]


def test_whoever_has_a_bare_address_is_named_when_it_changes(lab: LabHere) -> None:
    """Without a name the profile holds the number of the day; the keeper says who must be told, once it is another."""
    site = Path(lab.env["HOOPER_SITE"])
    text = site.read_text()
    site.write_text(text[: text.index("[names.")])
    told(lab, "tunnel", "add", "oars")
    told(lab, "peer", "add", "cox-phone")
    told(lab, "tunnel", "make", "oars", "--out", str(lab.folder / "gate"))
    assert "203.0.113.44:51820" in told(lab, "peer", "hand", "cox-phone", "--out", str(lab.folder / "x.conf")).out
    assert lab.run("plan").out.count("tunnel-by-number") == 1
    lab.run("keep", "--once")
    status = {(row["kind"], row["subject"]): row for row in lab.run("status", "--json").document["rows"]}
    assert status["peer", "cox-phone"]["level"] == "well"
    assert status["tunnel", "oars"]["level"] == "well"
    told(lab, "lab", "readdress", "203.0.113.50")
    lab.run("survey", "--deadline", "2")
    told(lab, "lab", "clock", "--advance", "2h")
    lab.run("keep", "--once")
    (row,) = lab.run("peer", "list", "--json").document["peers"]
    assert "203.0.113.44:51820" in row["detail"]
    assert "203.0.113.50:51820" in row["detail"]
    status = {(row["kind"], row["subject"]): row for row in lab.run("status", "--json").document["rows"]}
    assert (status["peer", "cox-phone"]["level"], status["peer", "cox-phone"]["cause"]) == ("wrong", "profile-outdated")
    changes = lab.run("history", "--json").document["events"]
    assert ("peer", "cox-phone") in {(event["kind"], event["subject"]) for event in changes}


def test_the_phone_and_the_rented_machine_can_be_peers(lab: LabHere) -> None:
    made(lab, into="lan")
    told(lab, "peer", "add", "rower", "--into", "film-page")
    told(lab, "peer", "hand", "rower", "--out", str(lab.folder / "rower.conf"))
    told(lab, "tunnel", "make", "oars", "--out", str(lab.folder / "gate"))
    told(lab, "lab", "load", str(lab.folder / "gate" / "oars.conf"))
    town = lab.board.town
    film_box = IPv4Address("10.44.7.30")
    for place, profile, reached in (("phone", "cox-phone", (22, 443)), ("rented", "rower", (443,))):
        told(lab, "lab", "load", str(lab.folder / f"{profile}.conf"), "--on", place)
        came = [port for port in (22, 443) if not isinstance(
            town.route(town.nodes[place], film_box, "tcp", port, town.free_port()), Turned)]  # fmt: skip
        assert came == list(reached), place


def test_what_the_server_told_makes_a_cause_certain(lab: LabHere) -> None:
    made(lab)
    told(lab, "lab", "plug", "home")
    told(lab, "lab", "break", "tunnel-other-key")
    (lab.folder / "dump.txt").write_text(told(lab, "lab", "dump").out)
    assert lab.run("tunnel", "seen", "oars", str(lab.folder / "dump.txt")).code == 1
    causes = lab.run("why", "gate", "--json").document["causes"]
    assert [cause["code"] for cause in causes if cause["certainty"] == "certain"] == ["tunnel-key-other"]


def test_revoked_renewed_ended_and_removed(lab: LabHere) -> None:
    made(lab)
    gone = told(lab, "peer", "revoke", "cox-phone")
    assert "film-box: change them there" in gone.out
    assert lab.run("tunnel", "list").code == 1  # the server lets it in until it has new files
    told(lab, "tunnel", "make", "oars", "--out", str(lab.folder / "gate"))
    assert "cox-phone" not in (lab.folder / "gate" / "oars.conf").read_text()
    told(lab, "lab", "load", str(lab.folder / "gate" / "oars.conf"))
    ran = lab.run("check", "film-shell", "--from", "interface:cox-phone", "--deadline", "1", "--json")
    assert ran.document["results"][0]["verdict"] == "silent"
    assert lab.run("peer", "revoke", "cox-phone").code == 2
    told(lab, "peer", "renew", "cox-phone")
    told(lab, "peer", "hand", "cox-phone", "--out", str(lab.folder / "cox-phone.conf"), "--keep-key")
    told(lab, "peer", "hand", "cox-phone", "--out", str(lab.folder / "again.conf"))
    assert (lab.folder / "again.conf").read_text() == (lab.folder / "cox-phone.conf").read_text()
    told(lab, "peer", "change", "cox-phone", "--until", "2020-01-01")
    assert lab.run("peer", "list").code == 1
    told(lab, "tunnel", "make", "oars", "--out", str(lab.folder / "gate"))
    assert "cox-phone" not in (lab.folder / "gate" / "oars.conf").read_text()
    removed = told(lab, "tunnel", "remove", "oars").out
    for words in ("wg-quick@oars", "10.88.44.0/24", "the cox's phone", "udp 51820"):
        assert words in removed
    assert not [path for path in lab.folder.rglob("*.key") if path.is_file()]
    assert "[peers" not in Path(lab.env["HOOPER_SITE"]).read_text()


def test_the_hand_over_page_stands_by_itself(lab: LabHere) -> None:
    made(lab)
    told(lab, "peer", "renew", "cox-phone")
    page = lab.folder / "cox-phone.html"
    told(lab, "peer", "hand", "cox-phone", "--out", str(page))
    text = page.read_text()
    assert page.stat().st_mode & 0o777 == 0o600
    assert not re.search(r'(?:src|href)="(?!data:)', text)
    held = re.search(r'href="data:text/plain;base64,([^"]+)"', text)
    assert held is not None
    assert "Endpoint = boathouse.heronquay.example:51820" in base64.b64decode(held[1]).decode()
    assert "When to stop" in text


def test_a_page_for_openvpn_promises_no_code_and_leaves_no_service_out(lab: LabHere) -> None:
    assert lab.run("tunnel", "add", "ov", "--kind", "openvpn", "--host", "gate").code == 0
    assert lab.run("peer", "add", "kim", "--tunnel", "ov", "--into", "lan").code == 0
    page = lab.folder / "kim.html"
    ran = lab.run("peer", "hand", "kim", "--out", str(page))
    assert ran.code in (0, 1), ran.err
    for text in (ran.out, page.read_text()):
        assert "scan" not in text
        assert all(name in text for name in ("film-page", "desk", "timing-desk", "hub-page"))


def test_a_peer_may_bring_its_own_key(lab: LabHere) -> None:
    private = generate_private()
    public = base64.b64encode(public_of(private)).decode()
    told(lab, "tunnel", "add", "oars")
    told(lab, "peer", "add", "rower", "--device", "laptop", "--public-key", public)
    out = lab.folder / "rower.conf"
    ran = told(lab, "peer", "hand", "rower", "--out", str(out))
    assert "has never been here" in ran.out
    assert "PUT-THE-PRIVATE-KEY" in out.read_text()
    assert "PresharedKey" not in out.read_text()


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (("peer", "add", "x", "--into", "film-shel"), 2, "film-shell"),
        (("peer", "add", "x", "--until", "tomorrow"), 2, "is not a date"),
        (("peer", "add", "x", "--address", "10.9.9.9"), 2, "10.88.44.2"),
        (("peer", "add", "x", "--public-key", "abc"), 2, "public-key"),
        (("peer", "hand", "nobody"), 2, "nobody"),
        (("peer", "hand", "cox-phone", "--out", "x.txt"), 2, ".conf"),
        (("peer", "hand", "cox-phone"), 2, "--out cox-phone.html"),
        (("tunnel", "add", "y", "--kind", "openvnp", "--host", "film-box"), 2, "Did you mean 'openvpn'"),
        (("tunnel", "add", "oars"), 2, "already"),
        (("tunnel", "add", "y", "--host", "film-box", "--service", "gate"), 2, "exclude"),
        (("tunnel", "change", "oars"), 2, "nothing to change"),
        (("tunnel", "seen", "oars", "/nowhere"), 6, "cannot be read"),
        (("service", "remove", "gate"), 2, "tunnels.oars"),
        (("profile", "check"), 2, "FILE is missing"),
        (("why", "film-shell", "--peer", "nobody"), 2, "nobody"),
    ],
)
def test_wrong_words_are_told(kept: Lab, words: tuple[str, ...], code: int, said: str) -> None:
    before = Path(kept.env["HOOPER_SITE"]).read_bytes()
    ran = kept.run(*words)
    assert ran.code == code
    assert said in ran.err
    assert Path(kept.env["HOOPER_SITE"]).read_bytes() == before


@pytest.fixture(scope="module")
def kept(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    with town_here(tmp_path_factory.mktemp("kept") / "lab") as found:
        told(found, "tunnel", "add", "oars", "--subnet", "10.88.44.0/24")
        told(found, "peer", "add", "cox-phone", "--into", "film-shell")
        yield found


def test_no_private_key_is_shown_or_left_readable(lab: LabHere) -> None:
    """All output of all commands, and every file that others can read, searched for every private and shared key."""
    said = ""

    def run(*words: str) -> None:
        nonlocal said
        ran = lab.run(*words)
        said += ran.out + ran.err

    run("tunnel", "add", "oars", "--verbose")
    run("peer", "add", "cox-phone", "--into", "film-shell", "--verbose")
    keys = [path.read_text().strip() for path in lab.folder.rglob("*") if path.suffix in (".key", ".shared")]
    assert len(keys) == 4  # of the server, the probe and the peer, and what that shares with the server
    gate, conf = lab.folder / "gate", lab.folder / "cox-phone.conf"
    run("tunnel", "make", "oars", "--out", str(gate), "--verbose", "--json")
    run("lab", "load", str(gate / "oars.conf"), "--verbose")
    run("peer", "hand", "cox-phone", "--out", str(conf), "--keep-key", "--verbose", "--json")
    for words in (("tunnel", "show", "oars"), ("tunnel", "list"), ("peer", "list"), ("plan",), ("audit",), ("status",)):
        run(*words, "--json")
        run(*words)
    run("profile", "check", str(conf), str(gate / "oars.conf"), "--json")
    broken = lab.folder / "broken.conf"
    broken.write_text(conf.read_text().replace("boathouse.heronquay.example", "10.44.7.60"))
    run("profile", "mend", str(broken), "--out", str(lab.folder / "mended.conf"))
    run("why", "film-shell", "--peer", "cox-phone", "--deadline", "1", "--json", "--verbose")
    (lab.folder / "dump.txt").write_text(lab.run("lab", "dump").out.replace("(hidden)", keys[0]))
    run("tunnel", "seen", "oars", str(lab.folder / "dump.txt"), "--json")
    (lab.folder / "dump.txt").unlink()
    broken.unlink()
    for key in keys:
        for form in (key, base64.b64decode(key).hex()):
            assert form not in said
    for path in lab.folder.rglob("*"):
        if path.is_file() and any(key.encode() in path.read_bytes() for key in keys):
            assert path.stat().st_mode & 0o077 == 0, path


# --- edits and prefixes


@settings(max_examples=30)
@given(st.binary(min_size=1, max_size=16))
def test_a_chosen_network_meets_nothing(seed: bytes) -> None:
    file = parse_site(SITE.encode(), "site.toml")
    edited = add_tunnel(file, "oars", {}, Placing(), {}, seed)
    data = tomllib.loads(edited.text)
    subnet, subnet6 = ip_network(data["tunnels"]["oars"]["subnet"]), ip_network(data["tunnels"]["oars"]["subnet6"])
    assert not any(subnet.overlaps(other) for other in (*COMMON, ip_network("10.44.7.0/24")))
    assert subnet6.subnet_of(ip_network("fd00::/8"))  # type: ignore[arg-type]
    assert edited.text.startswith(SITE)  # all that stood there stands there still


def test_a_gateway_that_is_the_server_needs_no_route_and_no_forward_of_its_own(tmp_path: Path) -> None:
    text = SITE.replace('host = "gate"', 'host = "box"') + '[gateways.inner]\nbehind = "box"\nwan = "10.44.7.2"\n'
    (tmp_path / "site.toml").write_text(text + 'lan = "10.44.9.1/24"\n')
    more = ("--site", str(tmp_path / "site.toml"), "--state", str(tmp_path / "state"))
    assert hooper("tunnel", "add", "oars", *more).code == 0
    sheets = json.loads(hooper("worksheet", "--json", *more[:2]).out)["sheets"]
    assert [(sheet["gateway"], sheet["rules"], sheet["routes"]) for sheet in sheets] == [
        ("box", [], []),
        ("inner", [], []),
    ]
    assert sheets[0]["own"][0]["service"] == "gate"
    assert sheets[0]["own"][0]["ports"] == [51820, 51820]


def test_peers_go_with_their_tunnel_into_another_network(tmp_path: Path) -> None:
    site = tmp_path / "site.toml"
    site.write_text(SITE)
    more = ("--site", str(site), "--state", str(tmp_path / "state"))
    assert hooper("tunnel", "add", "oars", "--subnet", "10.88.44.0/24", *more).code == 0
    assert hooper("peer", "add", "cox-phone", *more).code == 0
    ran = hooper("tunnel", "change", "oars", "--subnet", "10.99.1.0/24", *more)
    assert ran.code == 0, ran.err
    assert tomllib.loads(site.read_text())["peers"]["cox-phone"]["address"] == "10.99.1.11"
    assert "peer hand cox-phone" in ran.out
    assert hooper("tunnel", "change", "oars", "--subnet", "10.99.1.0/29", *more).code == 2
    assert hooper("peer", "change", "cox-phone", "--public-key", "x", *more).code == 2


def test_a_tunnel_that_a_device_makes_has_its_fields_and_makes_no_keys_here(tmp_path: Path) -> None:
    site = tmp_path / "site.toml"
    site.write_text(SITE)
    more = ("--site", str(site), "--state", str(tmp_path / "state"))
    assert hooper("tunnel", "add", "oars", "--made-by", "device", "--subnet", "10.88.44.0/24", *more).code == 0
    assert hooper("peer", "add", "cox-phone", "--into", "gate", *more).code == 0
    shown = valid("tunnel-show", hooper("tunnel", "show", "oars", "--json", *more).document)
    assert [peer["peer"] for peer in shown["peers"]] == ["cox-phone", "the probe, for checks"]
    assert "10.88.44.11/32" in str(shown["peers"][0])
    codes = {one["code"] for one in json.loads(hooper("plan", "--json", *more[:2]).out)["findings"]}
    assert {"tunnel-key-unknown", "peer-without-key", "peer-not-kept"} <= codes
    assert "--public-key KEY" in hooper("peer", "list", *more).out
    for words in (
        ("peer", "renew", "cox-phone"),
        ("peer", "hand", "cox-phone", "--out", "x.conf"),
    ):
        assert hooper(*words, *more).code == 2
    key = base64.b64encode(public_of(generate_private())).decode()
    assert hooper("peer", "renew", "cox-phone", "--public-key", key, *more).code == 0
    assert hooper("peer", "list", *more).code == 0
    assert not list((tmp_path / "state").rglob("*.shared"))


@pytest.mark.parametrize(
    ("came_from", "outside"),
    [
        ("198.51.100.130:40001", True),
        ("100.64.7.7:40001", True),  # a customer of the same provider
        ("10.44.7.105:40001", False),  # at home
        ("10.44.7.1:40001", False),  # led back in by the router, or one that hides who comes
        ("203.0.113.44:40001", False),  # the line's own address
        ("10.88.44.2:40001", False),  # out of the tunnel itself
        ("[2001:db8:77::5]:40001", True),
        ("[2001:db8:44:7::105]:40001", False),
        ("(none)", False),
    ],
)
def test_only_who_comes_from_outside_proves_a_tunnel(lab: LabHere, came_from: str, *, outside: bool) -> None:
    made(lab)
    lab.run("check", "film-shell", "--from", "interface:cox-phone")
    told(lab, "lab", "plug", "home")
    told(lab, "survey", "--wan", "fibre-box=203.0.113.44")
    rows = [line.split("\t") for line in told(lab, "lab", "dump").out.splitlines()]
    came = next(row for row in rows if len(row) == 9 and row[5] != "0")
    assert came[3].startswith("198.51.100.130:")
    came[3] = came_from
    (lab.folder / "dump.txt").write_text("\n".join("\t".join(row) for row in rows) + "\n")
    assert lab.run("tunnel", "seen", "oars", str(lab.folder / "dump.txt")).code == 0
    steps = {(one["step"], one["subject"]): one for one in lab.run("next", "--json").document["steps"]}
    assert (steps["entry", "cox-phone"]["state"] == "done") == outside
    service = next(
        row for row in lab.run("status", "--json").document["rows"]
        if (row["kind"], row["subject"]) == ("service", "gate")
    )  # fmt: skip
    assert (service["level"] == "well") == outside, service
    # another file: what came in with the old one proves nothing of it
    told(lab, "peer", "renew", "cox-phone")
    told(lab, "tunnel", "make", "oars", "--out", str(lab.folder / "anew"))
    told(lab, "peer", "hand", "cox-phone", "--out", str(lab.folder / "anew.conf"))
    steps = {(one["step"], one["subject"]): one for one in lab.run("next", "--json").document["steps"]}
    assert steps["entry", "cox-phone"]["state"] != "done"
