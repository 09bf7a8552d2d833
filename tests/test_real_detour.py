"""A line without a public address: a rented machine stands for the site, and a tunnel outward carries what it forwards.

Real WireGuard software and nft, in namespaces, behind a carrier's NAT.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from support.namespaces import RENTED
from support.tunnels import TunnelTown, tunnel_town

pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not shutil.which("wireguard-go") or not shutil.which("wg-quick"), reason="no WireGuard here"),
]
SITE = """\
version = 1
[site]
title = "Boathouse behind a carrier"
[lines.fibre]
address = "dynamic"
[lines.rented]
address = "{rented}"
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
control = "hand"
[gateways.club-router]
behind = "fibre-box"
wan = "192.168.90.2"
lan = "10.44.7.1/24"
control = "hand"
[gateways.rented]
line = "rented"
lan = "10.99.7.1/24"
tunnel = "{tunnel}"
control = "hand"
form.sources = true
[gateways.gate]
behind = "rented"
wan = "10.99.7.2"
lan = "10.44.7.60/24"
control = "hand"
[hosts.film-box]
address = "10.44.7.30"
behind = "gate"
ready.default_password_changed = true
[hosts.hub]
address = "10.44.7.50"
behind = "gate"
ready.default_password_changed = true
[services.detour]
host = "rented"
speaks = "wireguard"
reach = "public"
[services.film-page]
host = "film-box"
speaks = "https"
reach = "public"
[services.hub-page]
host = "hub"
speaks = "https"
port = 8443
reach = "public"
sources = ["11.22.44.131"]
[names."boathouse.heronquay.example"]
line = "rented"
updated_by = "router"
[tunnels.{tunnel}]
service = "detour"
subnet = "10.99.7.0/24"
way_back = "nat"
[peers.{end}]
tunnel = "{tunnel}"
device = "server"
address = "10.99.7.2"
"""


@dataclass
class DetourTown(TunnelTown):
    """The gate reaches out to the rented machine; the fibre box has an address of the carrier's NAT."""

    def write(self) -> None:
        self.end, self.server = f"end{self.mark}", "rented"
        text = SITE.format(rented=RENTED, tunnel=self.tunnel, end=self.end)
        (self.folder / "site.toml").write_text(text)
        for words in (("tunnel", "renew", self.tunnel), ("peer", "renew", self.end)):
            ran = self.hooper(*words)
            assert ran.code == 0, ran.err

    def load(self, *, reload: bool = False) -> None:
        folder = self.folder / "server"
        ran = self.hooper("tunnel", "make", self.tunnel, "--out", str(folder), "--server-folder", str(folder))
        assert ran.code == 0, ran.err
        if reload:
            step = next(line for line in ran.out.splitlines() if "syncconf" in line).partition(": ")[2]
            self.run("rented", "bash", "-c", step)
            self.run("gate", "nft", "-f", str(folder / f"{self.end}-forwards.nft"))
        else:
            self.up("rented", folder / f"{self.tunnel}.conf")

    def far_end(self) -> Path:
        """The gate's own file, with the rules beside it where the steps put them."""
        path = self.folder / f"{self.end}.conf"
        ran = self.hooper("peer", "hand", self.end, "--out", str(path))
        assert ran.code == 0, ran.err
        path.write_text(path.read_text().replace("/etc/wireguard", str(self.folder / "server")))
        return path

    def seen(self, service: str, place: str = "usb0") -> tuple[str, bool, str]:
        ran = self.hooper(
            "check",
            service,
            "--from",
            f"interface:{place}",
            "--public",
            f"rented={RENTED}",
            "--json",
            "--deadline",
            "3",
            place="here",
        )
        (result,) = ran.document["results"]
        return result["verdict"], result["ok"], f"{result['target_address']}:{result['port']}"


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[DetourTown]:
    with tunnel_town(tmp_path_factory.mktemp("detour"), mark="r", kind=DetourTown) as built:
        assert isinstance(built, DetourTown)
        built.carrier_nat(on=True)
        built.serve_page("film-page", "film-box", 443, "Race films")
        built.serve_page("hub-page", "hub", 8443, "Heating")
        built.write()
        built.load()
        built.up("gate", built.far_end())
        yield built


def test_a_public_service_answers_from_outside_though_the_line_has_no_address(town: DetourTown) -> None:
    town.wait_for("phone", RENTED, 443)
    asked = town.run("phone", "curl", "-sk", "--max-time", "5", f"https://{RENTED}/")
    assert "Race films" in asked
    assert town.seen("film-page") == ("answered", True, f"{RENTED}:443")


def test_its_name_leads_to_the_rented_machine(town: DetourTown) -> None:
    listed = town.hooper("name", "list", "--json", place="here").document["names"]
    assert [(row["name"], row["wanted"]) for row in listed] == [("boathouse.heronquay.example", [RENTED])]
    assert "https://boathouse.heronquay.example/" in town.hooper("card", "film-page", place="here").out


def test_its_source_limits_are_kept(town: DetourTown) -> None:
    assert town.reaches("phone", RENTED, 8443, deadline=1.0) == "refused"  # it comes from 11.22.44.130
    site = town.folder / "site.toml"
    site.write_text(site.read_text().replace("11.22.44.131", "11.22.44.130"))
    listed = town.hooper("tunnel", "list", "--json").document["tunnels"][0]
    assert not listed["ok"]  # the rented machine needs other rules now
    town.load(reload=True)
    assert town.hooper("tunnel", "list", "--json").document["tunnels"][0]["ok"]
    town.wait_for("phone", RENTED, 8443)
    site.write_text(site.read_text().replace("11.22.44.130", "11.22.44.131"))
    town.load(reload=True)
    assert town.reaches("phone", RENTED, 8443, deadline=1.0) == "refused"


def test_nothing_else_of_the_lan_is_reached(town: DetourTown) -> None:
    town.run("rented", "ip", "route", "replace", "10.44.7.0/24", "dev", town.tunnel)  # as who holds it might
    town.run("rented", "wg", "set", town.tunnel, "peer", peer_key(town), "allowed-ips", "10.99.7.2/32,10.44.7.0/24")
    for address, port in (("10.44.7.30", 443), ("10.44.7.50", 8443), ("10.44.7.1", 443)):
        assert town.reaches("rented", address, port, deadline=1.0) != "open"
    town.run("rented", "wg", "set", town.tunnel, "peer", peer_key(town), "allowed-ips", "10.99.7.2/32")
    town.run("rented", "ip", "route", "delete", "10.44.7.0/24", "dev", town.tunnel)
    assert town.reaches("gate", RENTED, 22, deadline=1.0) != "open"


def peer_key(town: DetourTown) -> str:
    return town.run("rented", "wg", "show", town.tunnel, "peers").strip()


def test_why_names_the_broken_link(town: DetourTown) -> None:
    well = town.hooper(
        "why", "film-page", "--from", "interface:usb0", "--public", f"rented={RENTED}", "--json", place="here"
    ).document
    assert well["ok"] is True, well["steps"]
    town.stop("film-page")
    try:
        came = town.hooper(
            "why", "film-page", "--from", "interface:usb0", "--public", f"rented={RENTED}", "--json", place="here"
        ).document
        assert came["ok"] is False
        assert came["causes"][0]["code"] == "service-stopped", came["causes"]
    finally:
        town.serve_page("film-page", "film-box", 443, "Race films")
    town.run("gate", "ip", "link", "set", town.end, "down")
    try:
        came = town.hooper(
            "why", "film-page", "--from", "interface:usb0", "--public", f"rented={RENTED}", "--json", place="here"
        ).document
        assert came["ok"] is False
        assert not [cause for cause in came["causes"] if cause["code"] == "service-stopped"]
    finally:
        town.run("gate", "ip", "link", "set", town.end, "up")
        town.run("gate", "ip", "route", "replace", "10.99.7.0/24", "dev", town.end)  # it went with the link
