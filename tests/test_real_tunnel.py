"""Tunnels against real WireGuard software (wireguard-go, wireguard-tools, nft) through kernel NATs, in namespaces."""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from functools import partial
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

import pytest

from hooper.lab.gate import Gate
from hooper.lab.things import Attachment, Machine
from hooper.lab.town import Town
from hooper.net.types import Endpoint
from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.tunnels.exported import look_at, mended
from support import profiles
from support.namespaces import PUBLIC, RENTED, inside
from support.program import hooper
from support.tunnels import GATE, TunnelTown, tunnel_town

pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not shutil.which("wireguard-go") or not shutil.which("wg-quick"), reason="no WireGuard here"),
]
COX, COACH = "10.88.44.11", "10.88.44.12"
HOSTS = ("10.44.7.1", "10.44.7.30", "10.44.7.50", "10.44.7.60", "10.44.7.105", "10.88.44.1", COX)
PORTS = (22, 53, 80, 443, 1900, 8081, 8443, 51820)


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[TunnelTown]:
    """The server on a host behind two NATs, one peer for the LAN and one for a single service."""
    with tunnel_town(tmp_path_factory.mktemp("tunnel")) as built:
        built.write_site()
        cox = built.add_peer(built.name("cox"), "--into", "lan")
        coach = built.add_peer(built.name("coach"), "--into", "film-files")
        built.serve_page("film-files", "film-box", 8443, "Films")
        built.serve_page("film-page", "film-box", 443, "Race films")
        built.enter_sheets()
        built.load()
        built.up("phone", cox)
        built.up("laptop", coach)
        built.serve_page("phone-page", "phone", 8081, "The phone")
        yield built


def test_lan_and_peer_reach_each_other_by_a_route(town: TunnelTown) -> None:
    town.wait_for("phone", "10.44.7.30", 443)
    town.wait_for("phone", "10.44.7.30", 8443)
    assert town.reaches("film-box", COX, 8081) == "open"
    assert town.reaches("phone", "10.44.7.50", 22) == "refused"  # it is there, and nothing listens


def test_a_peer_for_one_service_reaches_that_and_nothing_else(town: TunnelTown) -> None:
    town.wait_for("laptop", "10.44.7.30", 8443)
    town.run("laptop", "wg", "set", town.name("coach"), "peer", town.server_key(), "allowed-ips", "10.0.0.0/8")
    town.run("laptop", "ip", "route", "add", "10.0.0.0/8", "dev", town.name("coach"))  # as who wants more would do
    everything = [(host, port) for host in HOSTS for port in PORTS]
    everything += [(f"10.44.7.{number}", 443) for number in range(1, 255)]
    with ThreadPoolExecutor(32) as pool:
        came = list(pool.map(lambda to: town.reaches("laptop", *to, deadline=0.5), everything))
    assert {to for to, word in zip(everything, came, strict=True) if word == "open"} == {("10.44.7.30", 8443)}
    others = [word for to, word in zip(everything, came, strict=True) if to != ("10.44.7.30", 8443)]
    assert "prohibited" in others
    assert set(others) <= {"prohibited", "silent"}  # a kernel sends so many ICMP messages a second, and no more


def test_the_genuine_handshake_tells_this_server(town: TunnelTown) -> None:
    assert town.verdict("usb0") == "answered"
    assert town.verdict("here") == "answered"
    before = town.peers_seen()
    for _ in range(100):
        assert town.verdict_fast() == "answered"
    after = town.peers_seen()
    assert {key: seen[:2] for key, seen in before.items()} == {key: seen[:2] for key, seen in after.items()}
    assert town.reaches("phone", "10.44.7.30", 443) == "open"


def test_what_is_true_where_the_handshake_fails(town: TunnelTown) -> None:
    probe = town.site_value("probe_key")
    town.run("gate", "wg", "set", town.tunnel, "peer", probe, "remove")
    assert town.verdict("usb0") == "silent"
    town.run("gate", "wg", "set", town.tunnel, "peer", probe)
    assert town.verdict("usb0") == "answered"
    town.remove("club-router", "gate")
    assert town.verdict("usb0") == "silent"
    town.enter_sheets(only="club-router")
    assert town.verdict("usb0") == "answered"
    right = (town.folder / "server" / f"{town.tunnel}.conf").read_text()
    other = town.folder / "other.key"
    other.write_text(town.run("gate", "wg", "genkey"))
    town.run("gate", "wg", "set", town.tunnel, "private-key", str(other))
    try:
        assert town.verdict("usb0") == "silent"
        dump = town.run("gate", "wg", "show", "all", "dump")
        (town.folder / "dump.txt").write_text(dump)
        ran = town.hooper("tunnel", "seen", town.tunnel, str(town.folder / "dump.txt"), "--json")
        assert ran.document["server_key"] is False
    finally:
        other.write_text(next(line for line in right.splitlines() if line.startswith("PrivateKey"))[13:] + "\n")
        town.run("gate", "wg", "set", town.tunnel, "private-key", str(other))
    assert town.verdict("usb0") == "answered"


def test_what_the_server_tells_is_read(town: TunnelTown) -> None:
    (town.folder / "dump.txt").write_text(town.run("gate", "wg", "show", "all", "dump"))
    ran = town.hooper("tunnel", "seen", town.tunnel, str(town.folder / "dump.txt"), "--json")
    seen = {row["peer"]: row for row in ran.document["peers"]}
    assert ran.code == 0, ran.out
    assert seen[town.name("cox")]["last_handshake"] is not None
    assert seen[town.name("cox")]["from"].startswith("11.22.44.130:")
    assert ran.document["server_key"] is True
    here = town.hooper("tunnel", "seen", town.tunnel, "--json", place="gate")  # asked where it runs
    assert {row["peer"] for row in here.document["peers"]} == set(seen)


def test_a_revoked_peer_reaches_nothing_and_the_others_stay(town: TunnelTown) -> None:
    assert town.hooper("peer", "revoke", town.name("coach")).code == 0
    town.load(reload=True)
    assert town.reaches("laptop", "10.44.7.30", 8443, deadline=1.0) == "silent"
    assert town.reaches("phone", "10.44.7.30", 443) == "open"
    again = town.hooper("peer", "renew", town.name("coach"))
    assert again.code == 0, again.err
    town.down("laptop", town.folder / f"{town.name('coach')}.conf")
    path = town.hand(town.name("coach"))
    town.load(reload=True)
    town.up("laptop", path)
    town.wait_for("laptop", "10.44.7.30", 8443)


def test_everything_carries_ipv4_and_lets_no_ipv6_past(town: TunnelTown) -> None:
    town.serve("rented", "rented", 8080, sys.executable, "-m", "http.server", "--bind", "::", "8080")
    town.six_for("laptop")
    town.wait_for("laptop", "2001:db8:55::7", 8080)
    everything = town.add_peer(town.name("all"), "--into", "everything")
    town.load(reload=True)
    town.down("laptop", town.folder / f"{town.name('coach')}.conf")
    town.up("laptop", everything)
    try:
        town.wait_for("laptop", RENTED, 8080)
        assert town.shown_as("laptop") == PUBLIC
        assert town.reaches("laptop", "2001:db8:55::7", 8080) != "open"
    finally:
        town.down("laptop", everything)
        town.up("laptop", town.folder / f"{town.name('coach')}.conf")


def test_nat_on_the_server_needs_no_route(tmp_path: Path) -> None:
    with tunnel_town(tmp_path, mark="n") as town:
        town.write_site(GATE, "--subnet6", "", way_back="nat")
        peer = town.add_peer(town.name("cox"), "--into", "lan")
        everything = town.add_peer(town.name("all"), "--into", "everything")
        town.serve_page("film-page", "film-box", 443, "Race films")
        town.enter_sheets(routes=False)
        town.load()
        town.up("phone", peer)
        town.wait_for("phone", "10.44.7.30", 443)
        town.serve("rented", "rented", 8080, sys.executable, "-m", "http.server", "--bind", "::", "8080")
        town.six_for("laptop")
        town.wait_for("laptop", "2001:db8:55::7", 8080)
        town.up("laptop", everything)  # a tunnel without IPv6: it takes that too, and ends it
        town.wait_for("laptop", RENTED, 8080)
        assert town.shown_as("laptop") == PUBLIC
        assert town.reaches("laptop", "2001:db8:55::7", 8080) != "open"


def test_a_server_on_the_gateway_itself_behind_one_nat(tmp_path: Path) -> None:
    """It needs a forward on the provider's box alone, and no route at all."""
    with tunnel_town(tmp_path, mark="g") as town:
        town.server = "club-router"
        town.write_site(
            '[services.gate]\nhost = "club-router"\nspeaks = "wireguard"\nreach = "public"\n'
            '[services.film-files]\nhost = "film-box"\nspeaks = "https"\nport = 8443\nreach = "tunnel"\n'
        )
        peer = town.add_peer(town.name("cox"), "--into", "film-page")
        town.serve_page("film-page", "film-box", 443, "Race films")
        town.serve_page("film-files", "film-box", 8443, "Films")
        entered = town.enter_sheets()
        assert not any(sheet["routes"] for sheet in entered)
        assert [rule["gateway"] for sheet in entered for rule in sheet["rules"] if rule["service"] == "gate"] == [
            "fibre-box"
        ]
        town.run("club-router", "nft", "add", "rule", "ip", "town", "inward", "udp", "dport", "51820", "accept")
        town.run("club-router", "nft", "add", "rule", "ip", "town", "through", "iifname", town.tunnel, "accept")
        town.load()
        town.up("phone", peer)
        town.wait_for("phone", "10.44.7.30", 443)
        assert town.reaches("phone", "10.44.7.30", 8443) == "prohibited"
        assert town.verdict("usb0") == "answered"


def test_mended_profiles_are_loaded_by_the_real_software(town: TunnelTown) -> None:
    topology = Topology(parse_site(profiles.SITE.encode(), "site.toml").site)
    name = town.name("load")
    town.start_interface("hub", name)
    for exported in profiles.EXPORTED:
        if "profile-unreadable" in exported.left:
            continue
        new, _ = mended(lambda text: look_at(topology, text, {}), exported.text)
        conf = town.folder / f"{name}.conf"
        conf.write_text(new.replace("boathouse.heronquay.example", "203.0.113.44"))
        stripped = town.folder / "stripped"
        stripped.write_text(town.run("hub", "wg-quick", "strip", str(conf)))
        town.run("hub", "wg", "setconf", name, str(stripped))
        shown = town.run("hub", "wg", "showconf", name)
        assert "AllowedIPs" in shown, exported.name


def test_the_labs_responder_answers_the_real_client(town: TunnelTown) -> None:
    """Handshake and transport both ways: a datagram of the real client comes back through the lab's own server."""
    made = Town(lambda: datetime.now(UTC))
    node = Machine("gate", [Attachment("eth0", "lan", IPv4Address("10.99.0.1"), "")])
    node.udp[7] = lambda data, _: data[::-1]
    made.segments, made.nodes = {"lan": IPv4Network("10.99.0.0/24")}, {"gate": node}
    gate = Gate(made, node)
    keys = {name: town.run("gate", "wg", "genkey").strip() for name in ("server", "peer")}
    public = {name: town.wg_pubkey(value) for name, value in keys.items()}
    gate.load(
        f"[Interface]\nPrivateKey = {keys['server']}\nAddress = 10.99.1.1/24\nListenPort = 51888\n"
        f"[Peer]\nPublicKey = {public['peer']}\nAllowedIPs = 10.99.1.2/32\n",
        "chain peers {\nip saddr 10.99.1.2 ip daddr 10.99.0.1/32 udp dport 7 accept\n}\n",
    )
    with inside(town.ns("rented")):
        server = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    server.bind(("", 51888))
    server.settimeout(0.2)
    ended = threading.Event()

    def serve() -> None:
        while not ended.is_set():
            try:
                data, (address, port) = server.recvfrom(2048)
            except TimeoutError:
                continue
            answer = gate.receive(data, Endpoint(IPv4Address(address), port))
            if answer is not None:
                server.sendto(answer, (address, port))

    thread = threading.Thread(target=serve)
    thread.start()
    conf = town.folder / f"{town.name('lab')}.conf"
    conf.write_text(
        f"[Interface]\nPrivateKey = {keys['peer']}\nAddress = 10.99.1.2/32\n"
        f"[Peer]\nPublicKey = {public['server']}\nAllowedIPs = 10.99.0.0/24\nEndpoint = {RENTED}:51888\n"
    )
    conf.chmod(0o600)
    try:
        town.up("phone", conf)
        with inside(town.ns("phone")):
            client = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        client.settimeout(1.0)
        until = time.monotonic() + 10
        with client:
            while True:
                client.sendto(b"films", ("10.99.0.1", 7))
                try:
                    assert client.recvfrom(64)[0].rstrip(b"\0") == b"smlif"
                    break
                except TimeoutError:
                    assert time.monotonic() < until
    finally:
        ended.set()
        thread.join()
        server.close()
        town.down("phone", conf)


def test_where_ipv6_is_switched_off_both_ends_come_up(tmp_path: Path) -> None:
    """The server's interface has its own all the same; a peer without IPv6 has a file without."""
    site = tmp_path / "site.toml"
    own = 'address = "10.88.44.12"\n'
    site.write_text(profiles.SITE.replace(own, f'{own}address6 = "fd44:88:44::c"\n'))
    run = partial(hooper, env={"HOOPER_SITE": str(site)})
    state = ("--state", str(tmp_path / "state"))
    assert run("tunnel", "renew", "oars", *state).code == 0
    assert run("peer", "renew", "coach-laptop", *state).code == 0
    made = run(
        "tunnel", "make", "oars", "--out", str(tmp_path / "files"), "--server-folder", str(tmp_path / "files"), *state
    )
    assert made.code == 0, made.err

    def up(conf: Path) -> subprocess.CompletedProcess[str]:
        text = conf.read_text().replace("boathouse.heronquay.example", "203.0.113.44")
        conf = tmp_path / f"six{os.getpid() % 100_000}.conf"  # its socket is seen from every namespace
        conf.write_text("\n".join(line for line in text.splitlines() if not line.startswith("DNS")))
        script = (
            "ip link set lo up; ip route add default dev lo; sysctl -qw net.ipv6.conf.all.disable_ipv6=1"
            f" net.ipv6.conf.default.disable_ipv6=1; wg-quick up {conf} && ip -br address && wg-quick down {conf}"
        )
        environment = {**os.environ, "WG_QUICK_USERSPACE_IMPLEMENTATION": "wireguard-go"}
        return subprocess.run(["unshare", "-n", "sh", "-c", script], env=environment, capture_output=True, text=True,
                              timeout=60, check=False)  # fmt: skip

    server = up(tmp_path / "files" / "oars.conf")
    assert server.returncode == 0, server.stderr
    assert "fd44:88:44::1/64" in server.stdout
    hand = ("peer", "hand", "coach-laptop", "--out", str(tmp_path / "coach.conf"), "--keep-key", "--force", *state)
    assert run(*hand).code == 0
    with_six = up(tmp_path / "coach.conf")
    assert "IPv6 is disabled" in with_six.stderr  # as the hand-over says it might
    assert "--unset address6" in run(*hand).out
    assert run("peer", "change", "coach-laptop", "--unset", "address6", *state).code == 0
    assert run(*hand).code == 0
    assert ":" not in re.sub(r"(?m)^(Endpoint|#).*$", "", (tmp_path / "coach.conf").read_text())
    without = up(tmp_path / "coach.conf")
    assert without.returncode == 0, without.stderr
