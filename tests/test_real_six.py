"""IPv6 as packets have it: an opening in the inner router's firewall, looked at from the rented machine."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support.namespaces import PUBLIC, SITE, KernelTown, kernel_town
from support.program import hooper, valid

pytestmark = pytest.mark.real
HOST6 = "2001:db8:44:7::30"
SIX = (
    SITE.replace('address = "dynamic"', f'address = "{PUBLIC}"')
    .replace('address = "10.44.7.30"', f'address = "10.44.7.30"\naddress6 = "{HOST6}"')
    .replace('lan = "10.44.7.1/24"', 'lan = "10.44.7.1/24"\nprefix6 = "2001:db8:44:7::/64"')
)
WALL = """\
table ip6 wall {
  chain through {
    type filter hook forward priority filter; policy drop;
    ct state established,related accept
    iifname "lan" accept
    icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept
  }
}
"""


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("kernel"), mark="s") as built:
        built.add_ipv6()
        built.run("film-box", "ip", "address", "add", f"{HOST6}/64", "dev", "eth0", "nodad")
        built.run("film-box", "ip", "-6", "route", "add", "default", "via", "2001:db8:44:7::1")
        built.run("club-router", "nft", "-f", "-", stdin=WALL)
        built.serve_page("film-page", "film-box", 443, "Race films", six=True)
        (built.folder / "site.toml").write_text(SIX)
        yield built


def visited(town: KernelTown, tmp_path: Path) -> dict[tuple[str, str], dict[str, Any]]:
    """What the rented machine sees, by service and family."""
    pack = tmp_path / "visit.json"
    site = ("--site", str(town.folder / "site.toml"), "--state", str(tmp_path / "state"))
    ran = hooper("visit", "pack", "film-page", "--out", str(pack), *site, "--json", "--force",
                  place=town.ns("here"))  # fmt: skip
    assert ran.code == 0, ran
    ran = hooper("visit", "run", str(pack), "--json", "--deadline", "1.5s", "--force", "--yes",
                  place=town.ns("rented"), cwd=tmp_path)  # fmt: skip
    return {(row["service"], row["family"]): row for row in valid("check", ran.document)["results"]}


def test_each_family_is_judged_by_itself(town: KernelTown, tmp_path: Path) -> None:
    sheets = hooper("worksheet", "--site", str(town.folder / "site.toml"), "--json").document["sheets"]
    town.enter([{**sheet, "rules": [rule for rule in sheet["rules"] if rule["kind"] == "forward"]} for sheet in sheets])
    shut = visited(town, tmp_path)
    assert (shut["film-page", "ipv4"]["verdict"], shut["film-page", "ipv6"]["verdict"]) == ("answered", "silent")
    (sheet,) = [sheet for sheet in sheets if sheet["gateway"] == "club-router"]
    (opening,) = [rule for rule in sheet["rules"] if (rule["kind"], rule["service"]) == ("pinhole", "film-page")]
    (first, _), target = opening["target_ports"], opening["target_address"]
    rule = f"add rule ip6 wall through ip6 daddr {target} {opening['transport']} dport {first} accept"
    town.run("club-router", "nft", "-f", "-", stdin=rule + "\n")
    told = visited(town, tmp_path)
    six = told["film-page", "ipv6"]
    assert (six["verdict"], six["ok"], six["target_address"], six["port"]) == ("answered", True, HOST6, 443)
    assert "same certificate as inside" in six["detail"]
    kept = hooper(
        "visit", "take", str(tmp_path / "visit-result.json"), "--site", str(town.folder / "site.toml"), "--state",
        str(tmp_path / "state"), "--json", place=town.ns("here"),
    )  # fmt: skip
    assert "ipv6" in json.dumps(kept.document)
