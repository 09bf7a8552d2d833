"""OpenVPN tunnels against OpenVPN's own software through two kernel NATs, in namespaces."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest

from support.namespaces import PUBLIC, RENTED
from support.openvpn import SITE, OpenVpnTown, openvpn_town

pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not shutil.which("openvpn") or not shutil.which("nft"), reason="no OpenVPN here"),
]
COX = "10.88.44.11"
HOSTS = ("10.44.7.1", "10.44.7.30", "10.44.7.50", "10.44.7.60", "10.44.7.105", "10.88.44.1", COX)
PORTS = (22, 80, 443, 8081, 8443)


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OpenVpnTown]:
    """The server on a host behind two NATs, by UDP and by TCP; one peer for the LAN and one for a single service."""
    with openvpn_town(tmp_path_factory.mktemp("openvpn")) as built:
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


def test_who_is_revoked_reaches_nothing_and_cannot_come_back(town: OpenVpnTown) -> None:
    assert town.hooper("peer", "revoke", town.name("coach")).code == 0
    town.load(reload=True)
    assert town.reaches("laptop", "10.44.7.30", 8443, deadline=1.0) == "prohibited"  # the open session, at once
    town.stop("coach")
    with pytest.raises(AssertionError):
        town.start("again", "laptop", town.folder / f"{town.name('coach')}.ovpn", "--connect-retry-max", "1")
    assert "certificate revoked" in (town.folder / f"server-{town.tunnel}.log").read_text()
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


def test_everything_carries_ipv4_and_lets_no_ipv6_past(town: OpenVpnTown) -> None:
    town.serve("rented", "rented", 8080, sys.executable, "-m", "http.server", "--bind", "::", "8080")
    town.six_for("laptop")
    town.wait_for("laptop", "2001:db8:55::7", 8080)
    everything = town.add_peer(town.name("all"), "--into", "everything")
    town.load(reload=True)
    town.stop("coach")
    town.start("all", "laptop", everything)
    town.wait_for("laptop", RENTED, 8080)
    assert town.shown_as("laptop") == PUBLIC
    assert town.reaches("laptop", "2001:db8:55::7", 8080) != "open"
