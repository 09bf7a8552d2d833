"""OpenVPN tunnels against OpenVPN's own software through two kernel NATs, in namespaces."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from cryptography.x509.oid import ExtendedKeyUsageOID

from hooper.certs.inspect import key_fingerprint, load_pem
from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.tunnels.exported import mended
from hooper.tunnels.openvpn_profiles import look_at_openvpn
from support import exported_openvpn as exported
from support.namespaces import PUBLIC, RENTED
from support.openvpn import SITE, OpenVpnTown
from support.tunnels import tunnel_town

pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not shutil.which("openvpn") or not shutil.which("nft"), reason="no OpenVPN here"),
]
COX, SERVER_AUTH = "10.88.44.11", ExtendedKeyUsageOID.SERVER_AUTH
HOSTS = ("10.44.7.1", "10.44.7.30", "10.44.7.50", "10.44.7.60", "10.44.7.105", "10.88.44.1", COX)
PORTS = (22, 80, 443, 8081, 8443)


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OpenVpnTown]:
    """The server on a host behind two NATs, by UDP and by TCP; one peer for the LAN and one for a single service."""
    with tunnel_town(tmp_path_factory.mktemp("openvpn"), mark="o", kind=OpenVpnTown) as built:
        assert isinstance(built, OpenVpnTown)
        built.write_site(SITE, "--kind", "openvpn", "--second-port", "1443")
        cox = built.add_peer(built.name("cox"), "--into", "lan")
        coach = built.add_peer(built.name("coach"), "--into", "film-files")
        built.serve_page("film-files", "film-box", 8443, "Films")
        built.serve_page("film-page", "film-box", 443, "Race films")
        built.enter_sheets()
        built.load()
        built.start("cox", "phone", cox)
        built.start("coach", "laptop", coach)
        built.serve_page("phone-page", "phone", 8081, "The phone")
        yield built


def test_lan_and_peer_reach_each_other_by_a_route(town: OpenVpnTown) -> None:
    town.wait_for("phone", "10.44.7.30", 443)
    town.wait_for("phone", "10.44.7.30", 8443)
    assert town.reaches("film-box", COX, 8081) == "open"
    assert town.reaches("phone", "10.44.7.50", 22) == "refused"  # it is there, and nothing listens


def test_a_peer_for_one_service_reaches_that_and_nothing_else(town: OpenVpnTown) -> None:
    town.wait_for("laptop", "10.44.7.30", 8443)
    town.run("laptop", "ip", "route", "add", "10.44.7.0/24", "dev", "tun0")  # as who wants more would do
    everything = [(host, port) for host in HOSTS for port in PORTS]
    with ThreadPoolExecutor(32) as pool:
        came = list(pool.map(lambda to: town.reaches("laptop", *to, deadline=0.5), everything))
    assert {to for to, word in zip(everything, came, strict=True) if word == "open"} == {("10.44.7.30", 8443)}
    assert set(came) <= {"open", "prohibited", "silent"}


def test_the_server_is_told_by_its_certificate(town: OpenVpnTown) -> None:
    for service in ("gate", "gate-tcp"):
        ran = town.hooper("check", service, "--from", "interface:usb0", "--public", PUBLIC, "--json", place="here")
        (result,) = ran.document["results"]
        assert result["verdict"] == "answered", result
        assert "of the authority" in result["detail"]


def test_each_end_is_proven_on_the_peers_own_computer(town: OpenVpnTown) -> None:
    for peer, place in (("cox", "phone"), ("coach", "laptop")):
        ran = town.hooper("tunnel", "prove", town.name(peer), "--json", "--deadline", "3", place=place)
        proofs = {proof["what"]: proof for proof in ran.document["proofs"]}
        assert proofs["route"]["ok"], ran.out
        assert proofs["service film-files"]["after"] == "answered"
        assert proofs["size"]["ok"], proofs["size"]
        if peer == "coach":
            assert proofs["forbidden film-page"]["ok"]
            assert ran.code == 0, ran.out
    asking = ("why", "film-files", "--peer", town.name("coach"), "--from", "interface:tun0", "--public", PUBLIC)
    well = town.hooper(*asking, "--json", place="laptop")
    assert well.document["ok"] is True, well.out
    home = town.hooper("tunnel", "prove", town.name("cox"), "--json", place="here")
    assert home.code == 1
    assert home.document["errors"][0]["code"] == "same-network"


@pytest.mark.parametrize("version", ["1", "2", "3"])
def test_what_the_server_tells_is_read(town: OpenVpnTown, version: str) -> None:
    """In each form of its status file; of those in words, no time is taken."""
    path = town.folder / "status"
    town.stop(f"server-{town.tunnel}")
    conf = town.folder / "server" / f"{town.tunnel}.conf"
    path.unlink(missing_ok=True)
    town.start(f"server-{town.tunnel}", "gate", conf, "--status", str(path), "1", "--status-version", version)
    until = time.monotonic() + 120  # who lost its server tries again at growing intervals
    while not path.exists() or path.read_text().count("cox") == 0 or path.read_text().count("coach") == 0:
        assert time.monotonic() < until, path.read_text()
        time.sleep(0.1)
    ran = town.hooper("tunnel", "seen", town.tunnel, str(path), "--json")
    seen = {row["peer"]: row for row in ran.document["peers"]}
    assert ran.code == 0, ran.out
    assert set(seen) == {town.name("cox"), town.name("coach")}
    assert seen[town.name("cox")]["from"].startswith("11.22.44.130:")
    assert seen[town.name("cox")]["received"] > 0
    listed = town.hooper("peer", "list", "--json").document["peers"]
    assert all(row["last_seen"] is not None for row in listed)
    town.wait_for("laptop", "10.44.7.30", 8443)


def test_who_is_revoked_reaches_nothing_and_cannot_come_back(town: OpenVpnTown) -> None:
    assert town.hooper("peer", "revoke", town.name("coach")).code == 0
    town.load(reload=True)
    # the open session, at once; a kernel sends so many ICMP messages a second, and no more
    assert town.reaches("laptop", "10.44.7.30", 8443, deadline=1.0) in ("prohibited", "silent")
    town.stop("coach")
    town.launch("again", "laptop", town.folder / f"{town.name('coach')}.ovpn")
    town.wait_said(f"server-{town.tunnel}", "certificate revoked")
    assert "Initialization Sequence Completed" not in (town.folder / "again.log").read_text()
    town.stop("again")
    assert town.reaches("phone", "10.44.7.30", 443) == "open"  # the other's session stays
    assert town.hooper("peer", "renew", town.name("coach")).code == 0
    path = town.hand(town.name("coach"))
    town.load(reload=True)
    town.start("coach", "laptop", path)
    town.wait_for("laptop", "10.44.7.30", 8443)


def test_where_udp_is_blocked_it_comes_by_tcp(town: OpenVpnTown) -> None:
    town.stop("coach")
    block = "add table ip noudp\nadd chain ip noudp out { type filter hook output priority 0; }\n" + (
        "add rule ip noudp out udp dport 1194 drop\n"
    )
    town.run("laptop", "nft", "-f", "-", stdin=block)
    town.start("coach", "laptop", town.folder / f"{town.name('coach')}.ovpn", "--server-poll-timeout", "3")
    town.wait_for("laptop", "10.44.7.30", 8443)
    assert town.reaches("laptop", "10.44.7.30", 443, deadline=1.0) in ("prohibited", "silent")
    town.run("laptop", "nft", "delete", "table", "ip", "noudp")
    town.start("coach", "laptop", town.folder / f"{town.name('coach')}.ovpn")


def test_everything_carries_ipv4_and_lets_no_ipv6_past(town: OpenVpnTown) -> None:
    town.serve("rented", "rented", 8080, sys.executable, "-m", "http.server", "--bind", "::", "8080")
    town.six_for("laptop")
    town.wait_for("laptop", "2001:db8:55::7", 8080)
    everything = town.add_peer(town.name("all"), "--into", "everything")
    town.load(reload=True)
    town.stop("coach")
    town.start("all", "laptop", everything)
    try:
        town.wait_for("laptop", RENTED, 8080)
        assert town.shown_as("laptop") == PUBLIC
        assert town.reaches("laptop", "2001:db8:55::7", 8080) != "open"
    finally:
        town.stop("all")
        assert town.hooper("peer", "remove", town.name("all")).code == 0
        town.load(reload=True)
        town.start("coach", "laptop", town.folder / f"{town.name('coach')}.ovpn")


def test_the_inner_of_two_routers_is_the_server(tmp_path: Path) -> None:
    """The router behind the provider's: a forward on the outer box alone, and the journey proven from elsewhere."""
    with tunnel_town(tmp_path, mark="i", kind=OpenVpnTown) as inner:
        assert isinstance(inner, OpenVpnTown)
        inner.server = "club-router"
        text = SITE.replace('[hosts.gate]\naddress = "10.44.7.60"\n', "")
        inner.write_site(text.replace('host = "gate"', 'host = "club-router"'), "--kind", "openvpn")
        peer = inner.add_peer(inner.name("cox"), "--into", "film-page", "--into", "hub")
        inner.serve_page("film-page", "film-box", 443, "Race films")
        inner.serve_page("film-files", "film-box", 8443, "Films")
        sheets = inner.enter_sheets()
        assert not any(sheet["routes"] for sheet in sheets)
        assert [rule["gateway"] for one in sheets for rule in one["rules"] if rule["service"] == "gate"] == [
            "fibre-box"
        ]
        inner.run("club-router", "nft", "add", "rule", "ip", "town", "inward", "udp", "dport", "1194", "accept")
        inner.run("club-router", "nft", "add", "rule", "ip", "town", "through", "iifname", inner.tunnel, "accept")
        inner.load()
        assert inner.verdict("usb0") == "answered"
        inner.start("cox", "phone", peer)
        inner.wait_for("phone", "10.44.7.30", 443)
        assert inner.reaches("phone", "10.44.7.30", 8443) == "prohibited"


# --- what devices make by themselves

GUARDS = {
    "plain": ("", ()),
    "tls-auth": (f"key-direction 1\nauth SHA256\n<tls-auth>\n{exported.STATIC}</tls-auth>", ("--auth", "SHA256")),
    "tls-crypt": (f"<tls-crypt>\n{exported.STATIC}</tls-crypt>", ()),
    "tls-crypt-v2": ("", ()),
}


@pytest.fixture(scope="module")
def device(town: OpenVpnTown) -> OpenVpnTown:
    """A storage box with a server of its own making, which the site file has beside the gate."""
    folder = town.folder
    authority = exported.certify("box", exported.CA_KEY)
    (folder / "box-ca.pem").write_text(exported.pem(authority))
    own = exported.certify("film-box", exported.SERVER_KEY, (authority, exported.CA_KEY), use=SERVER_AUTH)
    (folder / "box.pem").write_text(exported.pem(own) + exported.key_pem(exported.SERVER_KEY))
    (folder / "static.key").write_text(exported.STATIC)
    town.run("hub", "openvpn", "--genkey", "tls-crypt-v2-server", str(folder / "v2-server.key"))
    town.run("hub", "openvpn", "--tls-crypt-v2", str(folder / "v2-server.key"), "--genkey", "tls-crypt-v2-client",
             str(folder / "v2.key"))  # fmt: skip
    site = (folder / "site.toml").read_text()
    (folder / "site.toml").write_text(
        site + '[services.box-vpn]\nhost = "film-box"\nspeaks = "openvpn"\nreach = "public"\noutside_port = 21194\n'
        f'[tunnels.box]\nkind = "openvpn"\nmade_by = "device"\nservice = "box-vpn"\nsubnet = "10.88.45.0/24"\n'
        f'public_key = "{key_fingerprint(authority)}"\nprobe_profile = "file:{folder / "probe.ovpn"}"\n'
    )
    (folder / "probe.ovpn").write_text(exported.profile(guard=""))
    (folder / "probe.ovpn").chmod(0o600)
    town.enter([sheet | {"rules": [r for r in sheet["rules"] if r["service"] == "box-vpn"]}
                for sheet in town.hooper("worksheet", "--json").document["sheets"]])  # fmt: skip
    return town


def start_box(town: OpenVpnTown, guard: str, *more: str, pair: str = "box.pem") -> None:
    town.stop("box")
    files = {
        "plain": (), "tls-auth": ("--tls-auth", str(town.folder / "static.key"), "0"),
        "tls-crypt": ("--tls-crypt", str(town.folder / "static.key")),
        "tls-crypt-v2": ("--tls-crypt-v2", str(town.folder / "v2-server.key")),
    }[guard]  # fmt: skip
    ca, own = str(town.folder / "box-ca.pem"), str(town.folder / pair)
    command = (
        "--mode",
        "server",
        "--tls-server",
        "--dev",
        "box",
        "--dev-type",
        "tun",
        "--topology",
        "subnet",
        "--ifconfig",
        "10.88.45.1",
        "255.255.255.0",
        "--ifconfig-pool",
        "10.88.45.10",
        "10.88.45.20",
        "--push",
        "topology subnet",
        "--push",
        "route 10.44.7.0 255.255.255.0 10.88.45.1",
        "--dh",
        "none",
        "--keepalive",
        "10",
        "60",
        "--ca",
        ca,
        "--cert",
        own,
        "--key",
        own,
        "--port",
        "1194",
        *files,
        *more,
    )
    (town.folder / "empty.conf").write_text("")
    town.start("box", "film-box", town.folder / "empty.conf", *command)


def seen_of_box(town: OpenVpnTown) -> tuple[str, str]:
    ran = town.hooper("check", "box-vpn", "--from", "interface:usb0", "--public", PUBLIC, "--json", "--deadline", "3",
                      place="here")  # fmt: skip
    (result,) = ran.document["results"]
    return str(result["verdict"]), str(result["detail"])


@pytest.mark.parametrize("guard", GUARDS)
def test_a_devices_own_server_is_told_with_the_key_of_a_profile(device: OpenVpnTown, guard: str) -> None:
    text, more = GUARDS[guard]
    if guard == "tls-crypt-v2":
        text = f"<tls-crypt-v2>\n{(device.folder / 'v2.key').read_text()}</tls-crypt-v2>"
    profile = device.folder / "probe.ovpn"
    profile.write_text(exported.profile(guard=text, ca=(device.folder / "box-ca.pem").read_text()))
    profile.chmod(0o600)
    start_box(device, guard, *more)
    assert seen_of_box(device)[0] == "answered"
    device.wait_said("box", "TLS handshake failed")  # nothing of it stays
    # another server behind the same port, with a certificate of another authority
    other = exported.certify("stranger", exported.OTHER_KEY)
    (device.folder / "other.pem").write_text(
        exported.pem(exported.certify("film-box", exported.SERVER_KEY, (other, exported.OTHER_KEY), use=SERVER_AUTH))
        + exported.key_pem(exported.SERVER_KEY)
    )
    start_box(device, guard, *more, pair="other.pem")
    assert seen_of_box(device)[0] == "mismatched"
    if guard != "plain":
        profile.write_text(exported.profile(guard=""))  # without the key
        assert seen_of_box(device)[0] in ("silent", "unproven")


def test_without_the_key_silence_proves_nothing(device: OpenVpnTown) -> None:
    start_box(device, "tls-crypt")
    site = device.folder / "site.toml"
    whole = site.read_text()
    site.write_text(whole.replace("probe_profile", "# probe_profile"))
    try:
        verdict, detail = seen_of_box(device)
        assert verdict == "unproven"
        assert "this look has none" in detail
    finally:
        site.write_text(whole)


REFUSED = ("key-malformed", "keys-mixed-up", "file-missing", "file-elsewhere", "profile-incomplete", "certificate-weak",
           "option-refused",
           "profile-unreadable")  # fmt: skip


def test_mended_profiles_are_loaded_by_the_real_software(town: OpenVpnTown) -> None:
    topology = Topology(parse_site(exported.SITE.encode(), "site.toml").site)
    asking = ("password-by-a-path", "proxy-with-a-file")  # a person, or a proxy that is not here
    mendable = [one for one in exported.EXPORTED if not set(one.left) & set(REFUSED) and one.name not in asking]
    assert len(mendable) >= 25

    def load(one: exported.ExportedOpenVpn) -> tuple[str, str]:
        taken = frozenset(one.beside)
        new, _ = mended(lambda text: look_at_openvpn(topology, text, {}, one.beside, exported.NOW, taken), one.text)
        path = town.folder / f"mended-{one.name}.ovpn"
        path.write_text(new.replace("boathouse.heronquay.example", "127.0.0.1"))
        key = f"load-{one.name}"
        with (town.folder / f"{key}.log").open("wb") as out:
            command = [*town.wrap("hub"), "openvpn", "--config", str(path), "--dev", "null", "--dev-type", "tun"]
            ran = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=out, stderr=out)
        until = time.monotonic() + 20
        try:
            while time.monotonic() < until:
                said = (town.folder / f"{key}.log").read_text()
                if "link remote" in said or "Connection refused" in said or ran.poll() is not None:
                    break
                time.sleep(0.05)
        finally:
            ran.kill()
            ran.wait()
        return one.name, said

    with ThreadPoolExecutor(4) as pool:
        for name, said in pool.map(load, mendable):
            assert "link remote" in said, f"{name}: {said}"


def test_a_mended_profile_connects(device: OpenVpnTown) -> None:
    """As it was exported, it leads to the inner address, by an old cipher, and nothing looks at the server."""
    start_box(device, "tls-crypt")
    authority = (device.folder / "box-ca.pem").read_text()
    (ca,) = load_pem(authority.encode())
    own = exported.certify("coach", exported.COACH_KEY, (ca, exported.CA_KEY))
    path = device.folder / "coach-box.ovpn"
    path.write_text(exported.profile(
        remote="remote 10.44.7.30 1194 udp", verify="", cipher="cipher BF-CBC", more="key-method 2", ca=authority,
        cert=exported.pem(own),
    ))  # fmt: skip
    path.chmod(0o600)
    looked = device.hooper("profile", "check", str(path), "--public", PUBLIC, "--json")
    assert {"endpoint-private", "cipher-old", "option-refused", "server-unverified"} <= {
        one["code"] for one in looked.document["profiles"][0]["findings"]
    }
    new = device.folder / "mended-box.ovpn"
    assert device.hooper("profile", "mend", str(path), "--out", str(new), "--public", PUBLIC).code in (0, 1)
    assert f"remote {PUBLIC} 21194 udp" in new.read_text()
    device.start("mended", "rented", new)
    device.wait_for("rented", "10.88.45.1", 443)  # the box itself, through its own tunnel
    # and the LAN behind it, both ways, by the route that the sheet of the router has
    device.run("film-box", "sysctl", "-qw", "net.ipv4.ip_forward=1")
    routes = [(sheet["gateway"], route) for sheet in device.hooper("worksheet", "--json").document["sheets"]
              for route in sheet["routes"] if route["prefix"] == "10.88.45.0/24"]  # fmt: skip
    assert [(gateway, route["via"]) for gateway, route in routes] == [("club-router", "10.44.7.30")]
    device.serve_page("hub-page", "hub", 8443, "Heating")
    assert device.reaches("rented", "10.44.7.50", 8443, deadline=1.0) == "silent"  # its answer goes elsewhere
    for gateway, route in routes:
        device.run(gateway, "ip", "route", "replace", route["prefix"], "via", route["via"])
    device.wait_for("rented", "10.44.7.50", 8443)
    shown = re.search(r"inet (10\.88\.45\.\d+)/", device.run("rented", "ip", "address", "show", "dev", "tun0"))
    assert shown is not None
    device.serve("rented-page", "rented", 8082, sys.executable, "-m", "http.server", "8082")
    device.wait_for("hub", shown[1], 8082)


def test_where_ipv6_is_switched_off_the_server_comes_up(town: OpenVpnTown, tmp_path: Path) -> None:
    made = town.hooper(
        "tunnel", "make", town.tunnel, "--out", str(tmp_path / "files"), "--server-folder", str(tmp_path / "files")
    )
    assert made.code == 0, made.err
    conf = next((tmp_path / "files").glob("*.conf"))
    script = (
        "ip link set lo up; sysctl -qw net.ipv6.conf.all.disable_ipv6=1 net.ipv6.conf.default.disable_ipv6=1;"
        f" timeout 4 openvpn --config {conf} & sleep 2; ip -br address; wait"
    )
    ran = subprocess.run(["unshare", "-n", "sh", "-c", script], capture_output=True, text=True, timeout=30, check=False)
    assert "Initialization Sequence Completed" in ran.stdout, ran.stdout + ran.stderr
    assert re.search(r"fd[0-9a-f:]+1/6[45]", ran.stdout), ran.stdout
