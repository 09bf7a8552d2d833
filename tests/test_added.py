"""Parts that another package adds: found by their entry points, used as ours are, and told of in words when wrong."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from support.program import BOATHOUSE, ROOT, LabProcess, Ran, program, start_lab, valid

PARTS = "support.boathouse_parts"
RIGHT = {
    "hooper.publishers": {"board": "board"},
    "hooper.drivers": {"boathouse-box": "box"},
    "hooper.tunnels": {"rope": "rope"},
    "hooper.pages": {"boathouse-page": "ChalkedPage"},
}
ROPE_END = """
[services.rope-end]
host = "hub"
speaks = "tcp"
port = 4444
reach = "public"
"""
OARS = f"""{ROPE_END}
[tunnels.oars]
kind = "{{kind}}"
service = "rope-end"
subnet = "10.88.44.0/24"
options = {{{{ length = "44 m" }}}}
"""
BOARD = """
[updaters.quay-board]
kind = "board"
options = {{ board = "{where}" }}

[names."slip.heronquay.example"]
line = "fibre"
updated_by = "quay-board"
"""


def package(folder: Path, groups: dict[str, dict[str, str]]) -> dict[str, str]:
    """An installed package that adds these parts, as an installer leaves it; what the environment needs for it."""
    place = folder / "installed" / "boathouse_parts-1.0.dist-info"
    place.mkdir(parents=True)
    (place / "METADATA").write_text("Metadata-Version: 2.1\nName: boathouse-parts\nVersion: 1.0\n")
    lines = [
        f"[{group}]\n" + "".join(f"{n} = {PARTS}:{o}\n" for n, o in ones.items()) for group, ones in groups.items()
    ]
    (place / "entry_points.txt").write_text("\n".join(lines))
    return {"PYTHONPATH": os.pathsep.join([str(place.parent), str(ROOT / "tests")])}


def instead(part: tuple[str, str], of: str) -> dict[str, dict[str, str]]:
    """The same package with something else for one part."""
    group, name = part
    return {**RIGHT, group: {name: of}}


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabProcess]:
    with start_lab(tmp_path_factory.mktemp("town")) as lab:
        yield lab


class Quay:
    """A site whose parts are another package's. run: a command, with that package installed."""

    def __init__(self, town: LabProcess, folder: Path, groups: dict[str, dict[str, str]], more: str = "") -> None:
        self.folder, self.site = folder, folder / "site.toml"
        text = BOATHOUSE.replace(
            "[gateways.club-router]\n",
            '[gateways.club-router]\ncontrol = "boathouse-box"\n'
            f"options = {{ table = {json.dumps(str(folder / 'table.json'))} }}\n",
        )
        self.site.write_text(text + more, encoding="utf-8")
        self.env = {**package(folder, groups), "HOOPER_LAB": town.env["HOOPER_LAB"], "HOOPER_SITE": str(self.site)}

    def run(self, *words: str) -> Ran:
        return program(*words, "--state", str(self.folder / "state"), env=self.env)


def test_a_driver_enters_the_rules_of_the_plan(town: LabProcess, tmp_path: Path) -> None:
    quay = Quay(town, tmp_path, RIGHT)
    ran = quay.run("router", "open", "--json")
    changes = valid("router-changes", ran.document)["changes"]
    told = {change["rule"]["service"]: change["outcome"] for change in changes if change["gateway"] == "club-router"}
    assert told["film-page"] == "added"
    assert "by-hand" in told.values()  # what the driver says that it cannot
    table = json.loads((tmp_path / "table.json").read_text())
    assert all("film-page" in row["label"] for row in table if row["outside_port"] == 443)
    shown = quay.run("router", "list")
    assert "club-router: by boathouse-box, a box on the wall" in shown.out
    assert {change["outcome"] for change in quay.run("router", "close", "--json").document["changes"]} == {"removed"}
    assert json.loads((tmp_path / "table.json").read_text()) == []
    entering = [row for row in quay.run("plan", "--json").document["entering"] if row["gateway"] == "club-router"]
    assert {row["protocol"] for row in entering} == {"boathouse-box"}


def test_a_publisher_keeps_a_name(town: LabProcess, tmp_path: Path) -> None:
    quay = Quay(town, tmp_path, RIGHT, BOARD.format(where="board.txt"))
    ran = quay.run("name", "update", "--for", "1s", "--json")
    assert ran.code != 0  # a board is no name server: the name is not seen
    assert (tmp_path / "board.txt").read_text() == "slip.heronquay.example A 203.0.113.44\n"
    assert "known to the package" in program("name", "try", "slip.heronquay.example", env=quay.env).err


def test_a_kind_of_tunnel_gives_both_sides_their_files(town: LabProcess, tmp_path: Path) -> None:
    quay = Quay(town, tmp_path, RIGHT, ROPE_END)
    assert quay.run("tunnel", "add", "oars", "--kind", "rope", "--service", "rope-end").code == 0
    assert quay.run("peer", "add", "cox", "--tunnel", "oars", "--person", "cox").code == 0
    made = quay.run("tunnel", "make", "oars", "--out", str(tmp_path / "files"))
    assert made.code == 0, made.err
    assert "Tie oars to /etc/rope." in made.out
    assert (tmp_path / "files" / "oars.rope").read_text() == "length 10 m\nin /etc/rope\n"
    handed = quay.run("peer", "hand", "cox", "--out", str(tmp_path / "cox.rope"))
    assert handed.code == 0, handed.err
    assert (tmp_path / "cox.rope").read_text().startswith("rope to 203.0.113.44:4444\nknot ")
    assert "length" in quay.run("tunnel", "show", "oars").out
    removed = quay.run("tunnel", "remove", "oars")
    assert "untie oars" in removed.out
    assert "in the rope's own program" in removed.out


def test_a_reader_of_pages_is_asked_first(town: LabProcess, tmp_path: Path) -> None:
    quay = Quay(town, tmp_path, RIGHT)
    page = tmp_path / "page.txt"
    page.write_text("BOX ON THE WALL\n44443 10.44.7.20 443\n")
    ran = quay.run("plan", "--against", f"club-router={page}", "--json")
    (read,) = ran.document["understood"]
    assert read["rules"] == 1
    assert {row["state"] for row in ran.document["against"]} == {"missing", "unknown"}


NAME, BOX, ROPE = ("hooper.publishers", "board"), ("hooper.drivers", "boathouse-box"), ("hooper.tunnels", "rope")
UPDATE, ON_BOARD = ("name", "update"), BOARD.format(where="x")


@pytest.mark.parametrize(
    ("groups", "more", "words", "says"),
    [
        (instead(NAME, "not_there"), ON_BOARD, UPDATE, "cannot be loaded: AttributeError"),
        (instead(NAME, "no_board"), ON_BOARD, UPDATE, "made something without together, set, set_text, clear_text"),
        (instead(NAME, "lying_board"), ON_BOARD, UPDATE, "gave str for set, not UpdaterSaid"),
        (instead(NAME, "no_rope"), ON_BOARD, UPDATE, "is nothing that can be called"),
        (RIGHT, BOARD.format(where="gone/board.txt"), UPDATE, "there is no such board"),
        (instead(BOX, "broken_box"), "", ("router", "open"), "failed in it: ZeroDivisionError: the box fell off"),
        (instead(BOX, "no_rope"), "", ("router", "list"), "is nothing that can be called"),
        (instead(ROPE, "no_rope"), OARS.format(kind="rope"), ("plan",), "has no kind that is a TunnelKind"),
        (
            RIGHT,
            OARS.format(kind="ropes"),
            ("plan",),
            "did you mean 'rope'? allowed: wireguard, openvpn, ssh, ipsec, maker, rope",
        ),
        (RIGHT, OARS.format(kind="wireguard"), ("plan",), "a tunnel of wireguard has no `options`"),
    ],
)
def test_what_is_wrong_with_a_part_is_said_in_words(
    town: LabProcess, tmp_path: Path, groups: dict[str, dict[str, str]], more: str, words: tuple[str, ...], says: str
) -> None:
    ran = Quay(town, tmp_path, groups, more).run(*words)
    assert ran.code in (3, 4, 6), ran.out
    assert says in " ".join((ran.out + ran.err).split()), ran.out + ran.err
