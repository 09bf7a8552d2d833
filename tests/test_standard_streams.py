"""`-` in the place of a file: standard input and standard output, wherever a file is named."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from hooper.usecases.prove.visit import read_pack
from support.program import Lab, hooper, program
from support.saved_pages import PAGES


@pytest.fixture
def own(lab: Lab, tmp_path: Path) -> Lab:
    """The town, with a site file and a folder of this test's own."""
    lab.as_built()
    own = lab.with_site_in(tmp_path)
    own.run("tunnel", "add", "oars", "--service", "gate")
    own.run("peer", "add", "cox-phone", "--into", "film-page")
    return own


@pytest.mark.parametrize(
    ("words", "begins"),
    [
        ("schema --out -", "{"), ("worksheet --html --out -", "<!DOCTYPE html>"),
        ("worksheet --markdown --out -", "<!--"), ("report --html --out -", "<!DOCTYPE html>"),
        ("plan --svg --out -", "<svg"), ("keep unit cron --out -", "# Made by"),
        ("card film-page --out -", "<?xml"), ("peer hand cox-phone --out -", "# cox-phone"),
        ("visit pack film-page --out -", "{"),
    ],
)  # fmt: skip
def test_standard_output_gets_the_file_alone(own: Lab, words: str, begins: str) -> None:
    ran = own.run(*words.split())
    assert ran.code in (0, 1, 5), ran.err
    assert ran.out.startswith(begins), ran.out[:80]
    assert not Path("-").exists()
    folder_or_json = own.run(*words.split(), "--json") if begins != "{" else None
    assert folder_or_json is None or folder_or_json.code == 2


def test_a_visit_goes_through_pipes(own: Lab) -> None:
    packed = own.run("visit", "pack", "film-page", "--out", "-").out
    path = own.folder / "pack.json"
    path.write_text(packed)
    assert read_pack(path).services == ("film-page",)
    own.run("lab", "plug", "away")
    seen = own.start("visit", "run", "-", "--yes", "--out", "-", stdin=packed, HOOPER_SITE="")
    own.run("lab", "plug", "home")
    assert seen.code == 0, seen.err
    assert json.loads(seen.out)["results"]
    taken = own.start("visit", "take", "-", stdin=seen.out)
    assert (taken.code, "film-page" in taken.out) == (0, True), taken.err


def test_what_is_read_may_come_by_a_pipe(own: Lab) -> None:
    handed = own.run("peer", "hand", "cox-phone", "--out", "-").out
    ran = program("profile", "check", "-", env=own.env, stdin=handed)
    assert ran.code == 0, ran
    bad = handed.replace("PersistentKeepalive", "# PersistentKeepalive")
    mended = program("profile", "mend", "-", "--out", "-", env=own.env, stdin=bad)
    assert mended.code in (0, 1), mended.err
    told = program("plan", "--against", "club-router=-", env=own.env, stdin=next(iter(PAGES.values())))
    assert (told.code, "club-router" in told.out) == (1, True), told.err


def test_what_is_no_file_cannot_be_a_stream(own: Lab) -> None:
    for words in ("tunnel make oars --out -", "demo --out -", "history --figures --out -", "plan --site -"):
        ran = hooper(*words.split(), env=own.env)
        assert (ran.code, "standard output" in ran.err or "where it stands" in ran.err) == (2, True), (words, ran)
