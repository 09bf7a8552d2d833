"""survey and host find against kernel NAT, coturn with RFC 5780, router software, tunnels and IPv6, in namespaces."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import anyio
import pytest

from hooper.errors import HooperError
from hooper.net.exchange import exchange
from hooper.net.types import Endpoint, Surroundings
from support.namespaces import PUBLIC, RENTED, SITE, KernelTown, kernel_town
from support.program import ROOT, Ran, program, valid

pytestmark = pytest.mark.real
SECOND = "11.22.55.8"
MEASURE = f'[measure]\nstun = ["{RENTED}:3478", "{SECOND}:3479"]\n'
ONE_BOX = """\
version = 1
[lines.fibre]
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
"""


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("kernel")) as town:
        town.run("rented", "ip", "address", "add", f"{SECOND}/24", "dev", "eth0")
        town.add_ipv6()
        town.serve_stun("stun", "rented", SECOND, "2001:db8:55::7")
        (town.folder / "two.toml").write_text(SITE + MEASURE)
        (town.folder / "one.toml").write_text(ONE_BOX + MEASURE)
        (town.folder / "six.toml").write_text(SITE + MEASURE.replace('"]', '", "[2001:db8:55::7]:3478"]'))
        yield town


def survey(town: KernelTown, *arguments: str, site: str = "two", place: str = "here") -> Any:
    ran = run(town, "survey", *arguments, "--json", site=site, place=place)
    assert ran.code in (0, 1), ran.err
    return valid("survey", ran.document)


def run(town: KernelTown, *arguments: str, site: str = "two", place: str = "here") -> Ran:
    path, state = str(town.folder / f"{site}.toml"), str(town.folder / "state")
    options = () if arguments[0] == "host" else ("--state", state)
    return program(*arguments, "--site", path, *options, wrap=town.wrap(place))


def judged(document: Any) -> tuple[str, bool | None]:
    return document["situation"], document["can_forward"]


def test_two_nats_that_say_nothing_are_counted_by_hops(town: KernelTown) -> None:
    got = survey(town)
    assert judged(got) == ("several-nats", True)
    assert got["way"] == {"seen": ["10.44.7.1"], "nats": [2, 2]}
    assert got["public_address"]["ipv4"] == PUBLIC
    assert [row["control"] for row in got["gateways"]] == [[], []]
    assert got["missing"] == []
    assert got["outstanding"] == []


def test_one_nat(town: KernelTown) -> None:
    got = survey(town, site="one", place="club-router")
    assert judged(got) == ("one-nat", True)
    assert got["way"]["nats"] == [1, 1]
    assert got["own_address"]["ipv4"] == "192.168.90.2"


def test_how_the_kernels_nat_behaves_says_coturn(town: KernelTown) -> None:
    nat = survey(town)["nat"]
    assert nat["mapping"] == "endpoint-independent"
    assert nat["filtering"] == "address-and-port-dependent"
    assert nat["hairpin"] is None, "a filter that depends on the port hides it from this test"
    assert nat["ports_kept"] is True
    assert nat["own_ports"] is None


def test_a_carrier_nat_is_seen_by_hops_alone(town: KernelTown) -> None:
    town.carrier_nat(on=True)
    try:
        got = survey(town)
    finally:
        town.carrier_nat(on=False)
    assert judged(got) == ("carrier-nat", False)
    assert got["way"]["seen"] == ["10.44.7.1", "192.168.90.1"]
    assert any("100.64.44.1" in said for said in got["evidence"])
    assert [f["code"] for f in got["findings"] if f["severity"] == "error"] == ["line-behind-carrier"]


def test_routers_that_speak(town: KernelTown) -> None:
    """The inner one has a private WAN address and says so by NAT-PMP; the outer one is asked through it."""
    town.serve_router("club-router", secure=True, natpmp=True)
    town.serve_router("fibre-box", secure=True, natpmp=True)
    try:
        got = survey(town)
    finally:
        town.stop("igd-club-router")
        town.stop("igd-fibre-box")
    rows = {row["gateway"]: row for row in got["gateways"]}
    assert set(rows["club-router"]["control"]) == {"igd", "natpmp", "pcp"}
    assert set(rows["fibre-box"]["control"]) == {"igd", "natpmp", "pcp"}
    assert rows["fibre-box"]["wan_address"] == PUBLIC
    assert judged(got) == ("several-nats", True)
    assert any(PUBLIC in said and "it says so by" in said for said in got["evidence"])
    assert not any("NAT stands between it" in remark for remark in got["remarks"])  # PCP was given the right address
    listed = json.loads(town.run("club-router", "nft", "-j", "list", "chain", "inet", "filter", "prerouting_miniupnpd"))
    assert not any("rule" in entry for entry in listed["nftables"])  # looking leaves nothing behind


def test_ipv6_is_seen_from_outside(town: KernelTown) -> None:
    got = survey(town, site="six")
    assert got["own_address"]["ipv6"] == got["public_address"]["ipv6"] == "2001:db8:44:7::105"
    assert any(row["left"]["what"] == "own IPv6 address" and row["equal"] for row in got["comparisons"])


def test_a_tunnel_that_was_left_on(town: KernelTown) -> None:
    """The line is measured all the same, and 100.64.0.0/10 on the tunnel is no carrier NAT."""
    town.run("here", "ip", "tuntap", "add", "dev", "tun0", "mode", "tun")
    try:
        town.run("here", "ip", "address", "add", "100.80.1.2/24", "dev", "tun0")
        town.run("here", "ip", "link", "set", "tun0", "up")
        for half in ("0.0.0.0/1", "128.0.0.0/1"):
            town.run("here", "ip", "route", "add", half, "dev", "tun0")
        got = survey(town)
    finally:
        town.run("here", "ip", "link", "del", "tun0")
    assert got["tunnel"] == "tun0"
    assert judged(got) == ("several-nats", True)
    assert got["public_address"]["ipv4"] == PUBLIC
    assert "way-out-by-tunnel" in {f["code"] for f in got["findings"]}


def test_a_dead_stun_server_is_told_within_the_deadline(town: KernelTown) -> None:
    town.run("inet", "nft", "add", "table", "ip", "dead")
    town.run("inet", "nft", "add", "chain", "ip", "dead", "f", "{ type filter hook forward priority 0; }")
    town.run("inet", "nft", "add", "rule", "ip", "dead", "f", "udp", "dport", "3478-3479", "drop")
    try:
        ran = run(town, "survey", "--json", "--deadline", "2")
    finally:
        town.run("inet", "nft", "delete", "table", "ip", "dead")
    assert ran.code == 4
    got = valid("survey", ran.document)
    assert judged(got) == ("unclear", None)
    assert [row["gateway"] for row in got["missing"]] == ["fibre-box"]
    assert [error["code"] for error in got["errors"]] == ["no-stun"]


def test_hosts_are_found_by_a_sweep(town: KernelTown) -> None:
    town.run("here", "ip", "neigh", "flush", "all")
    ran = run(town, "host", "find", "--sweep", "--no-ports", "--json")
    got = valid("host-find", ran.document)
    found = {row["address"]: row for row in got["hosts"]}
    assert set(found) == {"10.44.7.1", "10.44.7.30", "10.44.7.50", "10.44.7.105"}
    assert found["10.44.7.30"]["mac"] == town.mac("film-box")
    assert (found["10.44.7.30"]["host"], found["10.44.7.30"]["state"]) == ("film-box", "planned")
    assert (found["10.44.7.1"]["state"], found["10.44.7.105"]["state"]) == ("gateway", "self")


AVAHI = """\
[server]
host-name={name}
use-ipv6=no
enable-dbus=no
[publish]
publish-workstation=no
"""
SERVICE = """\
<?xml version="1.0"?><!DOCTYPE service-group SYSTEM "avahi-service.dtd">
<service-group><name>{title}</name><service><type>{kind}</type><port>{port}</port></service></service-group>
"""


@contextmanager
def announcing(town: KernelTown, name: str, title: str, kind: str, port: int) -> Iterator[None]:
    """A real responder of multicast DNS on a machine, with files of its own."""
    folder = town.folder / f"avahi-{name}"
    (folder / "services").mkdir(parents=True, exist_ok=True)
    (folder / "avahi.conf").write_text(AVAHI.format(name=name))
    (folder / "services" / "one.service").write_text(SERVICE.format(title=title, kind=kind, port=port))
    own = (
        f"mount -t tmpfs none /run/avahi-daemon && mount --bind {folder}/services /etc/avahi/services"
        f" && exec avahi-daemon -f {folder}/avahi.conf --no-drop-root --no-chroot --no-rlimits"
    )
    Path("/run/avahi-daemon").mkdir(exist_ok=True)
    command = [*town.wrap(name), "unshare", "-m", "sh", "-c", own]
    with (folder / "log").open("w") as log:
        daemon = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=log, stderr=log)
    try:
        until = time.monotonic() + 15
        while "established" not in (folder / "log").read_text():
            assert daemon.poll() is None, (folder / "log").read_text()
            assert time.monotonic() < until, (folder / "log").read_text()
            time.sleep(0.05)
        yield
    finally:
        daemon.terminate()
        daemon.wait(10)


def test_devices_that_announce_themselves_are_heard_with_any_address(town: KernelTown) -> None:
    """By a real responder: one with an address of this network, and one as it came from the factory."""
    with (
        town.another("quay-cam", "192.168.1.64"),
        announcing(town, "film-box", "Race films", "_webdavs._tcp", 443),
        announcing(town, "quay-cam", "Quay camera", "_rtsp._tcp", 554),
    ):
        got = valid("host-find", run(town, "host", "find", "--sweep", "--json").document)
    found = {row["address"]: row for row in got["hosts"]}
    assert (found["10.44.7.30"]["kind"], found["10.44.7.30"]["name"]) == ("storage", "film-box")
    (foreign,) = got["foreign"]
    assert (foreign["address"], foreign["kind"], foreign["by"]) == ("192.168.1.64", "camera", ["mDNS"])
    assert "Quay camera" in str(foreign["says"])


def test_an_address_at_which_somebody_is_is_not_offered(town: KernelTown) -> None:
    town.run("film-box", "ip", "address", "add", "10.44.7.254/24", "dev", "eth0")
    try:
        got = valid("host-suggest", run(town, "host", "suggest", "--count", "2", "--json").document)
    finally:
        town.run("film-box", "ip", "address", "del", "10.44.7.254/24", "dev", "eth0")
    assert got["looked"] is True
    assert got["answered"] == ["10.44.7.254"]
    assert got["addresses"] == ["10.44.7.253", "10.44.7.252"]


def test_a_box_with_two_addresses_has_not_moved(town: KernelTown) -> None:
    text = SITE.replace('address = "10.44.7.30"', f'address = "10.44.7.30"\nmac = "{town.mac("film-box")}"')
    (town.folder / "macs.toml").write_text(text)
    town.run("film-box", "ip", "address", "add", "10.44.7.31/24", "dev", "eth0")
    try:
        ran = run(town, "host", "find", "--sweep", "--no-ports", "--json", site="macs")
        both = {row["address"]: row for row in valid("host-find", ran.document)["hosts"]}
        town.move("film-box", "10.44.7.31", forgotten=False)
        ran = run(town, "host", "find", "--sweep", "--no-ports", "--json", site="macs")
        moved = [row for row in valid("host-find", ran.document)["hosts"] if row["host"] == "film-box"]
    finally:
        town.move("film-box", "10.44.7.30")
    assert (both["10.44.7.30"]["state"], both["10.44.7.30"]["host"]) == ("planned", "film-box")
    assert (both["10.44.7.31"]["state"], both["10.44.7.31"]["host"]) == ("new", "film-box")
    assert "a second address of film-box" in both["10.44.7.31"]["meaning"]
    assert [(row["address"], row["state"]) for row in moved] == [("10.44.7.31", "moved")], "it is listed once"


HOPS = f"""
import anyio, os
from ipaddress import IPv4Address
from hooper.net.system import SystemDoor
from hooper.line.facts import between
from hooper.line.hops import trace
async def main():
    assert os.geteuid() == 65534
    to_self = await trace(SystemDoor(), IPv4Address("{PUBLIC}"))
    outward = await trace(SystemDoor(), IPv4Address("{RENTED}"))
    print([str(one) for one in outward.seen[:3]], between(to_self, outward))
anyio.run(main)
"""


def test_hops_are_read_without_privileges(town: KernelTown) -> None:
    """As nobody, with the system's own Python, from a copy that nobody may read."""
    folder = Path(tempfile.mkdtemp(dir="/tmp"))
    try:
        shutil.copytree(ROOT / "src" / "hooper", folder / "hooper")
        installed = Path(sysconfig.get_paths()["purelib"])
        for name in ("anyio", "idna", "sniffio", "typing_extensions.py"):
            if (installed / name).is_dir():
                shutil.copytree(installed / name, folder / name)
            elif (installed / name).exists():
                shutil.copy(installed / name, folder / name)
        for path in (folder, *folder.rglob("*")):
            path.chmod(0o755 if path.is_dir() else 0o644)
        command = ("setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "--inh-caps=-all")
        done = subprocess.run(
            [*town.wrap("here"), *command, "/usr/bin/python3", "-c", HOPS],
            capture_output=True, text=True, timeout=60, cwd="/",
            env={"PYTHONPATH": str(folder), "PATH": "/usr/bin:/bin"},
        )  # fmt: skip
    finally:
        shutil.rmtree(folder)
    assert done.returncode == 0, done.stderr
    assert done.stdout.strip() == "['10.44.7.1', '192.168.90.1', '11.22.33.1'] (2, 2)"


CHANGES = """
import anyio
from hooper.net.system import SystemDoor
async def main():
    print("ready", flush=True)
    seen = set()
    async for change in SystemDoor().changes():
        seen.add(change.kind)
        if {"address", "route"} <= seen:
            print("seen", flush=True)
            return
anyio.run(main)
"""


def test_changes_are_noticed_as_they_happen(town: KernelTown) -> None:
    process = subprocess.Popen([*town.wrap("hub"), sys.executable, "-c", CHANGES], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    try:
        assert process.stdout.readline() == "ready\n"
        for _ in range(50):  # the first may come before it listens
            town.run("hub", "ip", "address", "add", "10.44.7.51/24", "dev", "eth0")
            town.run("hub", "ip", "route", "add", "198.51.100.0/24", "via", "10.44.7.1")
            town.run("hub", "ip", "route", "del", "198.51.100.0/24")
            town.run("hub", "ip", "address", "del", "10.44.7.51/24", "dev", "eth0")
            if process.poll() is not None:
                break
        assert process.stdout.readline() == "seen\n"
        assert process.wait(10) == 0
    finally:
        process.kill()
        process.stdout.close()
        process.wait()


def test_neighbours_of_both_families_and_routes(town: KernelTown) -> None:
    async def work() -> Surroundings:
        here = town.door("here")
        for router in ("10.44.7.1", "2001:db8:44:7::1"):  # the answer, or its refusal, makes them neighbours
            with suppress(HooperError):
                to = Endpoint(ip_address(router), 9)
                await exchange(here, to, b"", schedule=(0.0, 0.5), deadline=2, matches=lambda _: True)
        return await here.surroundings()

    around = anyio.run(work)
    assert around.default_gateway("lan0") is not None
    six = [route for route in around.routes or () if route.destination.version == 6 and not route.destination.prefixlen]
    assert [str(route.gateway) for route in six] == ["2001:db8:44:7::1"]
    known = {str(one.address) for one in around.neighbours if one.interface == "lan0"}
    assert known >= {"10.44.7.1", "2001:db8:44:7::1"}
    assert not any(one.tunnel for one in around.interfaces)
