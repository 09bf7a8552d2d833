"""Publishing at BIND as its users do: all algorithms, records of others, aliases, a secondary that lags."""

from __future__ import annotations

import base64
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support.namespaces import RENTED, asked_there, kernel_town
from support.one_router import SECOND, OneRouterTown
from support.program import hooper, valid
from test_real_automatic import SECRET

pytestmark = pytest.mark.real
SITE = f"""\
version = 1
[measure]
resolvers = ["{RENTED}"]
[lines.fibre]
address = "203.0.113.44"
[gateways.club-router]
line = "fibre"
lan = "10.44.7.1/24"
control = "hand"
[names."boathouse.heronquay.example"]
line = "fibre"
updated_by = "own-zone"
[names."films.heronquay.example"]
line = "fibre"
updated_by = "own-zone"
[updaters.own-zone]
kind = "dns-update"
key = "boathouse-key"
token = "file:zone-key"
"""


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OneRouterTown]:
    with kernel_town(tmp_path_factory.mktemp("names"), OneRouterTown, "n") as built:
        assert isinstance(built, OneRouterTown)
        (built.folder / "zone-key").write_text(SECRET + "\n")
        yield built


class Updating:
    """`hooper name` at this site, with a state of its own."""

    def __init__(self, town: OneRouterTown, tmp_path: Path, text: str = SITE) -> None:
        self.town, self.state = town, tmp_path / "state"
        self.site = town.folder / f"{tmp_path.name}.toml"
        self.site.write_text(text)

    def __call__(self, *words: str) -> tuple[dict[str, dict[str, Any]], int]:
        more = ("--site", str(self.site), "--state", str(self.state), "--json")
        ran = hooper("name", *words, *more, place=self.town.ns("here"))
        rows = valid("name", ran.document)["names"]
        return {row["name"].partition(".")[0]: row for row in rows}, ran.code


@pytest.mark.parametrize(
    "algorithm",
    ["hmac-sha1", "hmac-sha224", "hmac-sha256", "hmac-sha384", "hmac-sha512", "hmac-sha256-128", "hmac-sha512-256"],
)
def test_every_algorithm(town: OneRouterTown, tmp_path: Path, algorithm: str) -> None:
    """BIND means by the bits at the end how short a signature may be, and takes a whole one. Two names go at once."""
    town.serve_names("rented", SECRET, algorithm=algorithm)
    algorithm = "-".join(algorithm.split("-")[:2])
    text = SITE.replace('key = "', f'algorithm = "{algorithm}"\nkey = "')
    rows, code = Updating(town, tmp_path, text)("update", "--accept", "a test")
    assert code == 0, rows
    assert {key: (row["action"], row["published"]) for key, row in rows.items()} == {
        "boathouse": ("updated", ["203.0.113.44"]), "films": ("updated", ["203.0.113.44"])
    }  # fmt: skip
    assert rows["boathouse"]["took_s"] < 5


def test_md5_is_called_by_its_own_name(town: OneRouterTown, tmp_path: Path) -> None:
    town.serve_names("rented", SECRET, algorithm="hmac-md5")
    text = SITE.replace('key = "', 'algorithm = "hmac-md5"\nkey = "')
    rows, code = Updating(town, tmp_path, text)("update", "--accept", "a test")
    assert (code, rows["boathouse"]["action"]) == (0, "updated")


def test_a_truncated_signature_that_bind_calls_otherwise(town: OneRouterTown, tmp_path: Path) -> None:
    town.serve_names("rented", SECRET, algorithm="hmac-sha256-128")
    text = SITE.replace('key = "', 'algorithm = "hmac-sha256-128"\nkey = "')
    rows, code = Updating(town, tmp_path, text)("update", "--accept", "a test")
    assert (code, rows["boathouse"]["action"], "BADKEY" in rows["boathouse"]["detail"]) == (4, "refused", True)


def test_an_alias_is_not_overwritten(town: OneRouterTown, tmp_path: Path) -> None:
    town.serve_names("rented", SECRET)
    zone = town.folder / "names" / "zone.db"
    town.stop("names")
    zone.write_text(zone.read_text() + "films IN CNAME boathouse\n")
    town.serve("names", "rented", 53, "named", "-f", "-c", str(town.folder / "names" / "named.conf"))
    town._wait_for_zone("rented")
    update = Updating(town, tmp_path)
    rows, code = update("update", "films.heronquay.example", "--accept", "a test")
    assert (code, rows["films"]["action"]) == (4, "refused")
    assert "an alias of boathouse.heronquay.example" in rows["films"]["detail"]
    assert asked_there(town, RENTED, "CNAME", "films.heronquay.example") == ["boathouse.heronquay.example."]


def test_a_key_that_may_not_change_this_name(town: OneRouterTown, tmp_path: Path) -> None:
    town.serve_names("rented", SECRET)
    town.stop("names")
    config = town.folder / "names" / "named.conf"
    config.write_text(config.read_text().replace("zonesub A TXT", "name other.heronquay.example A"))
    town.serve("names", "rented", 53, "named", "-f", "-c", str(config))
    town._wait_for_zone("rented")
    update = Updating(town, tmp_path)
    rows, code = update("update", "--accept", "a test")
    assert (code, rows["films"]["action"], "(REFUSED)" in rows["films"]["detail"]) == (4, "refused", True)
    assert asked_there(town, RENTED) == ["203.0.113.40"]


def test_a_secondary_that_lags(town: OneRouterTown, tmp_path: Path) -> None:
    """It is looked at beside the primary; what lags is said, and the update is not made again."""
    town.serve_pair(SECRET)
    update = Updating(town, tmp_path)
    name = "boathouse.heronquay.example"
    rows, code = update("update", name, "--accept", "a test", "--for", "1s")
    row = rows["boathouse"]
    assert (row["action"], row["ok"], row["took_s"], code) == ("updated", False, None, 1)
    assert f"{SECOND} does not show it yet" in row["detail"]
    assert {one["server"]: one["ok"] for one in row["servers"] if one["kind"] == "authoritative"} == {
        RENTED: True, SECOND: False
    }  # fmt: skip
    serial = asked_there(town, RENTED, "SOA", "heronquay.example")
    rows, code = update("update", name, "--accept", "a test")
    assert (rows["boathouse"]["action"], code) == ("pending", 1)
    assert asked_there(town, RENTED, "SOA", "heronquay.example") == serial
    town.start_second()
    rows, code = update("update", name)
    assert (rows["boathouse"]["action"], rows["boathouse"]["ok"], code) == ("current", True, 0)
    town.stop("second")  # one that does not answer is no hindrance
    rows, code = update("list", name)
    assert (rows["boathouse"]["action"], code) == ("current", 0)


def test_another_hand_that_changes_it_is_told_of(town: OneRouterTown, tmp_path: Path) -> None:
    town.serve_names("rented", SECRET)
    update = Updating(town, tmp_path)
    name = "boathouse.heronquay.example"
    assert update("update", name, "--accept", "a test")[1] == 0
    other = town.folder / f"other-{os.getpid()}.toml"
    other.write_text(SITE.replace("203.0.113.44", "203.0.113.99"))
    more = ("--site", str(other), "--state", str(tmp_path / "other"), "--json", "--accept", "a test")
    assert hooper("name", "update", name, *more, place=town.ns("here")).code == 0
    rows, code = update("update", name, "--accept", "a test", "--dry-run")
    assert (rows["boathouse"]["action"], code) == ("needed", 0)
    assert "somebody else" in rows["boathouse"]["detail"]


def test_the_secret_is_in_no_output(town: OneRouterTown, tmp_path: Path) -> None:
    town.serve_names("rented", base64.b64encode(b"other" * 6).decode())
    update = Updating(town, tmp_path)
    more = ("--site", str(update.site), "--state", str(update.state), "--verbose")
    ran = hooper("name", "update", *more, place=town.ns("here"))
    assert "BADSIG" in ran.err
    assert SECRET not in ran.out + ran.err
    assert not any(SECRET.encode() in path.read_bytes() for path in update.state.rglob("*") if path.is_file())
