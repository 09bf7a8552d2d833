"""A phone's network that has IPv6 alone: IPv4 goes through a NAT64, found by DNS64; looked at with the real software of
both.
"""

from __future__ import annotations

import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import dns.exception
import dns.message
import dns.query
import pytest

from support.namespaces import PUBLIC, RENTED, SITE, KernelTown, inside, kernel_town, sh
from support.program import Ran, program, valid

pytestmark = pytest.mark.real
NAT64, PHONE, GATE = "2001:db8:64::/96", "2001:db8:66::20", "2001:db8:66::1"
TRANSLATOR = """\
tun-device nat64
ipv4-addr 192.168.255.1
prefix {prefix}
dynamic-pool 192.168.255.0/24
data-dir {folder}
"""
NAMED = """\
options {{
  directory "{folder}"; listen-on {{ none; }}; listen-on-v6 {{ any; }}; recursion no; dnssec-validation no;
  pid-file "{folder}/pid"; session-keyfile "{folder}/session"; managed-keys-directory "{folder}";
  dns64 {prefix} {{ clients {{ any; }}; }};
}};
controls {{ }};
zone "ipv4only.arpa" {{ type primary; file "only.db"; }};
"""
ONLY = """\
$TTL 60
@ IN SOA ns.ipv4only.arpa. net.ipv4only.arpa. 1 3600 600 86400 60
@ IN NS ns.ipv4only.arpa.
ns IN A 192.0.0.170
@ IN A 192.0.0.170
@ IN A 192.0.0.171
"""
MASQUERADE = """\
table ip six {
  chain post { type nat hook postrouting priority srcnat; oifname "wan" masquerade; }
}
"""


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("kernel"), mark="6") as built:
        built.serve_page("film-page", "film-box", 443, "Race films")
        built.serve_stun("stun", "rented")
        site = SITE + f'[measure]\nstun = ["{RENTED}:3478"]\n'
        (built.folder / "site.toml").write_text(site)
        etc = Path("/etc/netns") / built.ns("here")
        etc.mkdir(parents=True)
        (etc / "resolv.conf").write_text(f"nameserver {GATE}\n")
        sh("ip", "netns", "add", built.ns("mobile6"))
        try:
            _mobile_network(built)
            yield built
        finally:
            shutil.rmtree(etc)
            sh("ip", "netns", "delete", built.ns("mobile6"))


def _mobile_network(town: KernelTown) -> None:
    """A router with IPv4 outside and IPv6 inside, and what leads from one to the other."""
    town.run("mobile6", "ip", "link", "set", "lo", "up")
    town._link("inet", "tomobile6", "11.22.66.1", "mobile6", "wan", "11.22.66.6")
    town._link("mobile6", "lan", None, "here", "usb6", None)
    town.run("mobile6", "ip", "route", "add", "default", "via", "11.22.66.1")
    town.run("mobile6", "ip", "address", "add", f"{GATE}/64", "dev", "lan", "nodad")
    town.run("here", "ip", "address", "add", f"{PHONE}/64", "dev", "usb6", "nodad")
    town.run("here", "ip", "-6", "route", "add", "default", "via", GATE, "dev", "usb6")
    for setting in ("net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1"):
        town.run("mobile6", "sysctl", "-qw", setting)
    town.run("mobile6", "nft", "-f", "-", stdin=MASQUERADE)
    folder = town.folder / "mobile6"
    folder.mkdir()
    conf = folder / "nat64.conf"
    conf.write_text(TRANSLATOR.format(prefix=NAT64, folder=folder))
    town.run("mobile6", "tayga", "--config", str(conf), "--mktun")
    town.run("mobile6", "ip", "link", "set", "nat64", "up")
    town.run("mobile6", "ip", "route", "add", "192.168.255.0/24", "dev", "nat64")
    town.run("mobile6", "ip", "-6", "route", "add", NAT64, "dev", "nat64")
    town.servers["nat64"] = subprocess.Popen(
        [*town.wrap("mobile6"), "tayga", "--config", str(conf), "--nodetach"],
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    _dns64(town, folder)


def _dns64(town: KernelTown, folder: Path) -> None:
    (folder / "only.db").write_text(ONLY)
    (folder / "named.conf").write_text(NAMED.format(folder=folder, prefix=NAT64))
    town.servers["dns64"] = subprocess.Popen(
        [*town.wrap("mobile6"), "named", "-f", "-c", str(folder / "named.conf")],
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    asked, until = dns.message.make_query("ipv4only.arpa", "AAAA"), time.monotonic() + 15
    while time.monotonic() < until:
        with inside(town.ns("here")), suppress(OSError, dns.exception.DNSException):
            if dns.query.udp(asked, GATE, timeout=1).answer:
                return
        time.sleep(0.02)
    raise AssertionError("the resolver of the mobile network does not answer")


def check(town: KernelTown, tmp_path: Path, *arguments: str) -> Ran:
    """As a program of its own, which reads the resolvers of its namespace."""
    options = ("--site", str(town.folder / "site.toml"), "--state", str(tmp_path / "state"), "--json")
    return program("check", *arguments, *options, "--deadline", "3s", wrap=town.wrap("here"))


def test_ipv4_is_reached_through_a_nat64(town: KernelTown, tmp_path: Path) -> None:
    sheets = program("worksheet", "--site", str(town.folder / "site.toml"), "--json").document["sheets"]
    town.enter(sheets)
    ran = check(town, tmp_path, "film-page", "--from", "interface:usb6")
    (row,) = valid("check", ran.document)["results"]
    assert (row["verdict"], row["ok"], row["target_address"]) == ("answered", True, PUBLIC), ran
    assert "same certificate as inside" in row["detail"]
    assert row["evidence"]["place_address"]["value"] == "11.22.66.6", "as the server outside sees it"
    assert any("has IPv6 alone: IPv4 goes through the NAT64 of 2001:db8:64::/96" in one for one in
               ran.document["remarks"])  # fmt: skip
    town.clear()
    (row,) = check(town, tmp_path, "film-page", "--from", "interface:usb6").document["results"]
    assert (row["verdict"], row["ok"]) == ("silent", False)


def test_without_a_nat64_nothing_is_called_silent(town: KernelTown, tmp_path: Path) -> None:
    town.stop("dns64")
    try:
        ran = check(town, tmp_path, "film-page", "--from", "interface:usb6")
    finally:
        _dns64(town, town.folder / "mobile6")
    (row,) = ran.document["results"]
    assert (row["verdict"], ran.code) == ("unproven", 1)
    assert row["detail"] == "usb6 has IPv6 alone, and its resolvers tell of no NAT64 that leads to IPv4"
