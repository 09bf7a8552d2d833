"""What a person always wants, and what is longer than the screen."""

from __future__ import annotations

import os
import pty
import subprocess
import sys
from pathlib import Path

import pytest

from support.program import BOATHOUSE, hooper


@pytest.fixture
def config(tmp_path: Path) -> Path:
    path = tmp_path / "config-home/hooper/config.toml"
    path.parent.mkdir(parents=True)
    return path


def test_the_site_and_the_state_of_a_person_are_found_from_anywhere(
    config: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    site, elsewhere = config.parent / "home.toml", tmp_path / "elsewhere"
    site.write_text(BOATHOUSE)
    elsewhere.mkdir()
    monkeypatch.chdir(elsewhere)
    assert hooper("host", "list").code == 3
    config.write_text('site = "home.toml"\nstate = "kept"\n')
    assert "hub" in hooper("host", "list").out
    assert hooper("worksheet", "--ticked").code in (0, 5)
    assert list((config.parent / "kept").glob("*.sqlite3"))
    (elsewhere / "site.toml").write_text(BOATHOUSE.replace("[hosts.hub]", "[hosts.other]").replace('"hub"', '"other"'))
    assert "other" in hooper("host", "list").out  # this folder's comes first, an option before both
    assert "other" not in hooper("host", "list", "--site", str(site)).out
    assert "other" not in hooper("host", "list", env={"HOOPER_SITE": str(site)}).out


def test_from_where_is_looked_is_written_once(config: Path, tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    config.write_text('place = "interface:nowhere0"\n')
    for words in (("check", "film-page"), ("why", "film-page")):
        ran = hooper(*words, "--site", str(tmp_path / "site.toml"))
        assert "nowhere0" in ran.err, words


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("site = home\n", ":1:8: not TOML"),
        ("colour = true\nsite == 1\n", ":2:7: not TOML"),
        ("# mine\nsite = 3\n", ":2:1: site is a path"),
        ("colour = 'never'\n", ":1:1: colour is true or false"),
        ("\nsyte = 'a'\n", ":2:1: there is no syte"),
        ("[site]\nx = 1\n", "site is a path"),
    ],
)
def test_a_mistake_is_said_with_its_place(config: Path, text: str, said: str) -> None:
    config.write_text(text)
    ran = hooper("host", "list")
    assert (ran.code, said in ran.err, "Traceback" in ran.err) == (2, True, False), ran.err


def in_window(words: list[str], folder: Path, rows: int = 24, **more: str) -> str:
    """What a terminal window of so many rows shows of a command."""
    main, other = pty.openpty()
    import fcntl
    import struct
    import termios

    fcntl.ioctl(other, termios.TIOCSWINSZ, struct.pack("HHHH", rows, 80, 0, 0))
    environment = {**os.environ, "TERM": "xterm", **more}
    process = subprocess.Popen(
        [sys.executable, "-m", "hooper", *words], cwd=folder, env=environment, stdin=other, stdout=other, stderr=other
    )
    os.close(other)
    shown = b""
    while True:
        try:
            piece = os.read(main, 65536)
        except OSError:  # how Linux says that the other side is closed
            break
        if not piece:
            break
        shown += piece
    os.close(main)
    assert process.wait(30) in (0, 1)
    return shown.decode()


def test_what_is_longer_than_the_screen_goes_through_the_pager(config: Path, tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    pager = f"{sys.executable} -c \"import sys; print('PAGED', len(sys.stdin.read().splitlines()) > 10)\""
    assert "PAGED True" in in_window(["host", "list"], tmp_path, rows=6, PAGER=pager)
    assert "PAGED" not in in_window(["host", "list"], tmp_path, rows=200, PAGER=pager)
    assert "PAGED" not in in_window(["host", "list", "--no-pager"], tmp_path, rows=6, PAGER=pager)
    assert "PAGED" not in in_window(["host", "list", "--plain"], tmp_path, rows=6, PAGER=pager)
    assert "film-box" in in_window(["host", "list"], tmp_path, rows=6, PAGER="no-such-pager")
    assert "film-box" in in_window(["host", "list"], tmp_path, rows=6, PAGER="'")
    config.write_text(f"pager = '''{pager}'''\n")
    assert "PAGED True" in in_window(["host", "list"], tmp_path, rows=6)
    config.write_text('pager = ""\n')
    assert "PAGED" not in in_window(["host", "list"], tmp_path, rows=6, PAGER=pager)


def test_colour_can_be_switched_off_for_good(config: Path, tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    assert "\x1b[" in in_window(["plan"], tmp_path)
    config.write_text("colour = false\n")
    assert "\x1b[" not in in_window(["plan"], tmp_path)
