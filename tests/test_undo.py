"""Taking edits back byte for byte, and the site file in an editor."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from hooper.store.earlier import KEPT, edits_of, kept_in, remember
from support.program import BOATHOUSE, Ran, hooper, valid
from test_first_hour import on_a_terminal

WAYS = {
    "as it is": lambda text: text,
    "with CR LF": lambda text: text.replace("\n", "\r\n"),
    "with the mark of UTF-8": lambda text: "\ufeff" + text,
    "without an end": lambda text: text.rstrip("\n"),
}
EDITS = (
    ("host", "add", "cam{n}", "--address", "10.44.7.9{n}"),
    ("host", "change", "recorder", "--mac", "02:00:00:00:00:0{n}"),
    ("host", "tick", "hub", "clock"), ("host", "tick", "hub", "clock", "--not"), ("plan", "--pin"),
    ("service", "add", "ear{n}", "--host", "hub", "--port", "7{n}00"),
    ("service", "change", "hub-page", "--port", "90{n}0"),
    ("service", "remove", "desk"), ("name", "add", "n{n}.heronquay.example"), ("worksheet", "--accept", "it has to be"),
    ("tunnel", "add", "oars{n}", "--kind", "wireguard", "--service", "gate"),
    ("service", "change", "desk", "--reach", "lan"),
)  # fmt: skip


def written(folder: Path, text: str = BOATHOUSE) -> Path:
    site = folder / "site.toml"
    site.write_bytes(text.encode())
    return site


def run(site: Path, *words: str) -> Ran:
    return hooper(*words, "--site", str(site))


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("seed", range(3))
def test_all_edits_are_taken_back_byte_for_byte(tmp_path: Path, way: str, seed: int) -> None:
    chance, site = random.Random(seed), written(tmp_path, WAYS[way](BOATHOUSE))
    before = [site.read_bytes()]
    for number in range(8):
        run(site, *(word.format(n=number) for word in chance.choice(EDITS)))
        if site.read_bytes() != before[-1]:
            before.append(site.read_bytes())
    assert len(before) > 3
    listed = valid("undo-list", run(site, "undo", "--list", "--json").document)["edits"]
    assert len(listed) == len(before) - 1
    assert all(one["changes"] for one in listed)
    for earlier in reversed(before[:-1]):
        would = valid("edit", run(site, "undo", "--dry-run", "--json").document)
        done = valid("edit", run(site, "undo", "--json").document)
        assert (would["changes"], would["dry_run"], done["dry_run"]) == (done["changes"], True, False)
        assert site.read_bytes() == earlier
    ran = run(site, "undo")
    assert (ran.code, site.read_bytes()) == (2, before[0])
    assert "no edit of" in ran.err


def test_what_a_hand_has_changed_since_is_never_lost(tmp_path: Path) -> None:
    site = written(tmp_path)
    run(site, "host", "add", "cam", "--address", "10.44.7.90")
    site.write_text(site.read_text() + "# mine\n")
    mine = site.read_bytes()
    ran = run(site, "undo")
    assert (ran.code, site.read_bytes()) == (2, mine)
    assert "by hand" in ran.err
    record = next(Path(word.rstrip(".")) for word in ran.err.split() if word.endswith(".json."))
    assert BOATHOUSE.splitlines()[0] in record.read_text()


def test_an_edit_that_was_never_made_is_passed_over(tmp_path: Path) -> None:
    """Something ended it between its record and the file; and a record is damaged."""
    site = written(tmp_path)
    run(site, "host", "add", "cam", "--address", "10.44.7.90")
    text = site.read_text()
    remember(site, text, text + "[hosts.never]\n")
    (kept_in(site) / "000000.json").write_text("{")
    assert run(site, "undo").code == 0
    assert site.read_text() == BOATHOUSE


def test_an_edit_is_made_where_it_cannot_be_remembered(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    site = written(tmp_path)
    (tmp_path / "no-folder").write_text("")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "no-folder"))
    assert run(site, "host", "add", "cam", "--address", "10.44.7.90").code == 0
    assert "10.44.7.90" in site.read_text()
    assert run(site, "undo").code == 2


def test_so_many_edits_are_kept_and_no_more(tmp_path: Path) -> None:
    site = written(tmp_path)
    for number in range(KEPT + 5):
        remember(site, f"{number}", f"{number + 1}")
    kept = edits_of(site)
    assert [one.before for one in kept] == [str(number) for number in range(KEPT + 4, 4, -1)]
    assert all(one.record.stat().st_mode & 0o777 == 0o600 for one in kept)


def test_keys_that_went_with_a_tunnel_are_said_to_be_gone(tmp_path: Path) -> None:
    site = written(tmp_path)
    run(site, "tunnel", "add", "oars", "--kind", "wireguard", "--service", "gate")
    run(site, "tunnel", "remove", "oars")
    assert run(site, "undo", "--json").document["follows"] == [
        "the key of oars was destroyed with it: `hooper tunnel renew oars`"
    ]


# --- in the editor


def editor(folder: Path, *lines: str) -> str:
    """An editor that does this to its file, $f, which it names in a log with the line that it was opened at."""
    path = folder / "nano"
    path.write_text(
        "\n".join(["#!/bin/sh", f'echo "$@" >> {folder}/opened', 'for f in "$@"; do :; done', *lines]) + "\n"
    )
    path.chmod(0o755)
    return str(path)


def test_what_is_sound_takes_the_files_place_and_can_be_taken_back(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    site = written(tmp_path, "\ufeff" + BOATHOUSE.replace("\n", "\r\n"))
    before = site.read_bytes()
    monkeypatch.setenv("EDITOR", editor(tmp_path, 'sed -i "s/port = 8443/port = 8444/" "$f"'))
    document = valid("edit", run(site, "edit", "--json").document)
    assert [(one["key"], one["before"], one["after"]) for one in document["changes"]] == [
        ("services.hub-page.port", "8443", "8444")
    ]
    assert site.read_bytes() == before.replace(b"port = 8443", b"port = 8444")
    assert run(site, "undo").code == 0
    assert site.read_bytes() == before
    monkeypatch.setenv("EDITOR", editor(tmp_path))
    assert "Nothing to change" in run(site, "edit").out


def test_a_mistake_leaves_the_file_alone_and_the_draft_is_taken_up(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    site = written(tmp_path)
    monkeypatch.setenv("VISUAL", editor(tmp_path, 'sed -i "s/port = 8443/port = much/" "$f"'))
    ran = run(site, "edit")
    assert (ran.code, site.read_text()) == (3, BOATHOUSE)
    line = BOATHOUSE[: BOATHOUSE.index("port = 8443")].count("\n") + 1
    assert f"draft.toml:{line}:" in ran.err
    monkeypatch.setenv("VISUAL", editor(tmp_path, 'sed -i "s/port = much/port = 8444/" "$f"'))
    site.write_text(BOATHOUSE + "# meanwhile\n")
    ran = run(site, "edit")
    assert "has been changed since" in ran.err
    assert (ran.code, site.read_text()) == (0, BOATHOUSE.replace("port = 8443", "port = 8444"))
    assert not list(kept_in(site).glob("draft*"))


def test_somebody_else_who_writes_meanwhile_is_not_overwritten(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    site = written(tmp_path)
    monkeypatch.setenv("EDITOR", editor(tmp_path, f'echo "# other" >> {site}', 'echo "# mine" >> "$f"'))
    ran = run(site, "edit", "--json")
    assert ran.document["errors"][0]["code"] == "changed-meanwhile"
    assert site.read_text() == BOATHOUSE + "# other\n"


@pytest.mark.parametrize(("name", "code"), [("false", "editor-failed"), ("no-such-editor", "editor-missing")])
def test_without_an_editor_nothing_is_left_behind(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str, code: str
) -> None:
    site = written(tmp_path)
    monkeypatch.setenv("EDITOR", name)
    ran = run(site, "edit", "--json")
    assert (ran.code, ran.document["errors"][0]["code"], site.read_text()) == (6, code, BOATHOUSE)
    assert not list(kept_in(site).glob("draft*"))


def test_a_site_file_that_is_not_there_is_not_made(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("EDITOR", editor(tmp_path))
    assert run(tmp_path / "nowhere.toml", "edit").code == 3


def test_at_a_terminal_one_goes_back_to_the_mistake(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    site = written(tmp_path)
    mended = 'if grep -q much "$f"; then sed -i "s/port = much/port = 8444/" "$f"; exit; fi'
    monkeypatch.setenv("EDITOR", editor(tmp_path, mended, 'sed -i "s/port = 8443/port = much/" "$f"'))
    code, seen = on_a_terminal(tmp_path, "edit")
    assert (code, site.read_text()) == (0, BOATHOUSE.replace("port = 8443", "port = 8444")), seen
    line = BOATHOUSE[: BOATHOUSE.index("port = 8443")].count("\n") + 1
    opened = (tmp_path / "opened").read_text().splitlines()
    assert [words.split()[0] for words in opened][1:] == [f"+{line}"]
    monkeypatch.setenv("EDITOR", editor(tmp_path, 'echo "port = much" >> "$f"'))
    code, seen = on_a_terminal(tmp_path, "edit", answers={"Back to the editor": "no"})
    assert (code, "go on with it" in seen) == (3, True)
