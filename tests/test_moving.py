"""A site goes to another machine whole, and a copy of its file is never taken for the site itself."""

from __future__ import annotations

import random
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from hooper.errors import HooperError, UsageError
from hooper.store.sealed import LARGEST, MAGIC, WrongPassphrase, seal, unseal
from support.program import BOATHOUSE, Ran, hooper, valid

UNNAMED = BOATHOUSE.replace('id = "boathouse"\n', "")  # as sites are that were begun before `new` gave an id
PHRASE = "four herons on a quay"
Site = Callable[..., Ran]


@pytest.fixture
def place(tmp_path: Path) -> Path:
    return made(tmp_path, UNNAMED)


def made(tmp_path: Path, text: str) -> Path:
    """A site with a tunnel, a peer and their keys, in a folder `old`."""
    folder = tmp_path / "old"
    folder.mkdir()
    (folder / "site.toml").write_text(text)
    for words in (("tunnel", "add", "oars", "--host", "hub"), ("peer", "add", "cox-two", "--into", "hub-page")):
        ran = run(folder, *words)
        assert ran.code == 0, ran
    made = run(folder, "tunnel", "make", "oars", "--out", "files")
    assert made.code == 0, made
    return folder


def run(folder: Path, *arguments: str, states: str = "states", phrase: str = PHRASE) -> Ran:
    given = () if arguments[0] == "new" else ("--state", str(folder.parent / states))
    return hooper(*arguments, *given, cwd=folder, env={"HOOPER_SITE": "", "HOOPER_LAB": "", "PHRASE": phrase})


def moved(folder: Path, *arguments: str, states: str = "states", phrase: str = PHRASE) -> Ran:
    return run(folder, "move", *arguments, "--passphrase", "env:PHRASE", states=states, phrase=phrase)


def server(folder: Path, states: str = "states") -> str:
    """What the server loads: its key is of the state."""
    ran = run(folder, "tunnel", "make", "oars", "--out", "files", states=states)
    assert ran.code == 0, ran
    return next(one for one in (folder / "files").glob("*.conf")).read_text()


def test_all_of_a_site_is_on_the_other_machine(place: Path, tmp_path: Path) -> None:
    before, there = server(place), tmp_path / "new"
    out = moved(place, "--out", str(tmp_path / "whole"), "--json")
    assert out.code == 0, out
    assert (tmp_path / "whole").stat().st_mode & 0o777 == 0o600
    assert b"PrivateKey" not in (tmp_path / "whole").read_bytes()
    valid("move", out.document)
    back = moved(place, "--in", "../whole", "--folder", "../new", states="other")
    assert back.code == 0, back
    assert (there / "site.toml").read_text() == (place / "site.toml").read_text()
    assert server(there, "other") == before  # the very same key


def test_what_is_there_is_never_replaced_and_what_is_wrong_is_said(place: Path, tmp_path: Path) -> None:
    assert moved(place, "--out", "whole").code == 0
    again = moved(place, "--out", "site.toml", "--force")
    assert again.code != 0
    assert (place / "site.toml").read_text().startswith(BOATHOUSE[:40])
    taken = moved(place, "--in", "whole")
    assert (taken.code, "is there already" in taken.err) == (5, True), taken
    wrong = moved(place, "--in", "whole", "--folder", "new", phrase="another one")
    assert (wrong.code, "does not open" in wrong.err) == (5, True), wrong
    assert not (place / "new").exists()
    (place / "cut").write_bytes((place / "whole").read_bytes()[:-40])
    assert "does not open" in moved(place, "--in", "cut", "--folder", "new").err
    assert "no moved site" in moved(place, "--in", "site.toml", "--folder", "new").err
    for arguments, words in (
        ((), "nothing was asked"),
        (("--out", "x", "--in", "whole"), "exclude each other"),
        (("--anew", "--folder", "new"), "--folder has no effect"),
        (("--out", "x", "--passphrase", "env:NO_SUCH"), "NO_SUCH"),
        (("--out", "x"), "passphrase"),
        (("--in", "nowhere"), "nowhere"),
    ):
        ran = run(place, "move", *arguments)
        assert (ran.code in (2, 6), words in ran.err) == (True, True), ran


def test_what_cannot_be_carried_is_named(place: Path) -> None:
    text = (place / "site.toml").read_text()
    (place / "town-ca.pem").write_text("heron\n")
    text = text.replace("file:secrets/club-names", "env:HERON").replace("file:town-ca.pem", "file:/etc/heron.pem", 1)
    (place / "site.toml").write_text(text)
    ran = moved(place, "--out", "whole", "--json")
    assert ran.code == 0, ran
    assert "town-ca.pem" in ran.document["carried"]
    left = " ".join(ran.document["left"])
    assert all(one in left for one in ("variable HERON", "/etc/heron.pem")), left
    assert moved(place, "--in", "whole", "--folder", "new", states="other").code == 0
    assert (place / "new" / "town-ca.pem").read_text() == "heron\n"
    assert (place / "new" / "town-ca.pem").stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize("gone", [False, True])
def test_a_copied_folder_is_recognised_and_asked_about(place: Path, tmp_path: Path, gone: bool) -> None:
    before = server(place)
    if gone:
        place.rename(tmp_path / "copy")
    else:
        shutil.copytree(place, tmp_path / "copy")
    copy = tmp_path / "copy"
    looked = run(copy, "plan")  # what only looks is not kept from it
    assert looked.code == 0, looked
    refused = run(copy, "tunnel", "make", "oars", "--out", "files")
    assert refused.code == 5, refused
    assert "move --state-of" in refused.err
    assert "move --anew" in refused.err
    took = run(copy, "move", "--state-of", str(place / "site.toml"))
    assert took.code == 0, took
    assert server(copy) == before


def test_a_copy_with_an_id_is_the_same_site_until_it_says_otherwise(tmp_path: Path) -> None:
    place = made(tmp_path, BOATHOUSE)
    before = server(place)
    shutil.copytree(place, tmp_path / "copy")
    first = run(tmp_path / "copy", "tunnel", "make", "oars", "--out", "files")
    assert (first.code, "both are one site" in first.err, "move --anew" in first.err) == (0, True, True), first
    assert "both are one site" not in run(tmp_path / "copy", "tunnel", "make", "oars", "--out", "files").err
    assert server(tmp_path / "copy") == before
    assert run(tmp_path / "copy", "move", "--anew").code == 0
    own = run(tmp_path / "copy", "tunnel", "make", "oars", "--out", "files")
    assert (own.code, "private key of oars is not kept here" in own.err) == (1, True), own
    assert server(place) == before  # the original goes on


def test_new_gives_an_id(tmp_path: Path) -> None:
    ids = set()
    for name in ("a.toml", "b.toml"):
        ran = hooper(
            "new", "--gateway", "own-router=10.44.7.1/24", "--title", "Boathouse", "--site", name, cwd=tmp_path
        )
        assert ran.code == 0, ran
        ids.add(next(line for line in (tmp_path / name).read_text().splitlines() if line.startswith("id = ")))
    assert len(ids) == 2
    assert all(one.startswith('id = "boathouse-') for one in ids)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_damaged_file_is_refused_and_nothing_else(seed: int) -> None:
    rng, whole = random.Random(seed), seal({"name": "site.toml", "site": "x" * 500}, PHRASE)
    assert unseal(whole, PHRASE)["name"] == "site.toml"
    for _ in range(12):
        data = bytearray(whole)
        for _ in range(rng.randint(1, 4)):
            data[rng.randrange(len(MAGIC), len(data))] ^= 1 << rng.randrange(8)
        with pytest.raises((UsageError, WrongPassphrase)):
            unseal(bytes(data), PHRASE)
    for _ in range(200):
        with pytest.raises(HooperError):
            unseal(MAGIC + rng.randbytes(rng.randrange(80)), PHRASE)


def test_another_plan_for_the_same_place_is_no_copy(place: Path) -> None:
    server(place)
    (place / "next.toml").write_text((place / "site.toml").read_text())
    ran = hooper(
        "tunnel", "renew", "oars", "--site", "next.toml", "--state", "../states", cwd=place,
        env={"HOOPER_SITE": "", "HOOPER_LAB": ""},
    )  # fmt: skip
    assert "is a copy of" not in ran.err


def test_what_could_not_be_opened_is_not_written() -> None:
    with pytest.raises(UsageError, match="more than"):
        seal({"state": "x" * LARGEST}, PHRASE)


def test_a_state_whose_last_run_was_killed_while_writing_is_taken_over_whole(place: Path, tmp_path: Path) -> None:
    before = server(place)
    (state,) = (tmp_path / "states").glob("*.sqlite3")
    writing = (
        "import os, sqlite3, sys; db = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
        "db.execute('PRAGMA cache_size = 1'); db.execute('BEGIN'); db.execute('DELETE FROM told')\n"
        "db.executemany('INSERT INTO told VALUES (?, ?, ?)', [(str(n), 'x' * 500, 'x') for n in range(3000)])\n"
        "os._exit(9)"
    )
    subprocess.run([sys.executable, "-c", writing, str(state)], check=False)
    assert Path(f"{state}-journal").exists()
    place.rename(tmp_path / "copy")
    took = run(tmp_path / "copy", "move", "--state-of", str(place / "site.toml"))
    assert took.code == 0, took
    assert server(tmp_path / "copy") == before
