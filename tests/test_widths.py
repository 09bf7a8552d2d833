"""Whatever the width, the encoding and the output: values that people copy are whole, and no line is padded."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.folding import folded, lines_within, longest_piece, width_of
from support.program import Lab, hooper

WIDTHS = (40, 80, 120)
COMMANDS = (
    "plan", "plan --chain", "worksheet", "worksheet --devices", "worksheet --letter", "worksheet --removal",
    "worksheet --clients", "audit", "survey", "survey --verbose", "check", "check --from interface:usb0",
    "why film-page", "why gate --from interface:usb0", "card hub-page --no-code", "router list",
    "router open --dry-run", "name list", "cert list", "host list", "host find", "host suggest", "host tick hub",
    "service list", "lab faults", "lab line", "lab read",
)  # fmt: skip
# What people copy, wherever it stands: addresses, networks, MACs, names, URLs, commands.
COPIED = re.compile(
    r"`hooper [^`]+`|https?://[^\s,;)]+|\d+\.\d+\.\d+\.\d+(?:[:/]\d+)?|[0-9a-f:]*::[0-9a-f]+|(?:[0-9a-f]{2}:){5}[0-9a-f]{2}"
    r"|[a-z-]+(?:\.[a-z-]+)+\.example|sha256:[0-9a-f]+|--[a-z-]+|(?:/[\w.-]+){2,}"
)


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for item in value.values():
            yield from _texts(item)
    elif isinstance(value, list):
        for item in value:
            yield from _texts(item)


@pytest.mark.parametrize("command", COMMANDS)
def test_values_are_whole_at_every_width(lab: Lab, command: str, tmp_path: Path) -> None:
    kept = command.split()[0] in ("survey", "check", "why", "card", "router", "name", "cert")
    words = [*command.split(), *(("--state", str(tmp_path)) if kept else ())]
    piped = hooper(*words, env=lab.env)
    values = set(COPIED.findall(piped.out))
    if "--chain" not in command:
        document = hooper(*words, "--json", env=lab.env).document
        for head in ("hooper", "command", "at", "world"):
            del document[head]
        values |= {text for text in _texts(document) if text and " " not in text and text in piped.out}
    assert values
    assert not re.search(r"[ \t]+$", piped.out, re.MULTILINE)
    for columns in WIDTHS:
        shown = hooper(*words, env=lab.env, columns=columns)
        for value in values:
            assert value in shown.out, (columns, value, shown.out)
        for line in (*shown.out.splitlines(), *shown.err.splitlines()):
            assert line == line.rstrip(), (columns, line)
            most = max(columns, longest_piece(line) + len(line) - len(line.lstrip()))
            assert width_of(line) <= most or "█" in line or "hooper" in line, (columns, line)


@pytest.mark.parametrize("command", ["survey", "why film-page --from interface:usb0"])
def test_a_well_site_fits_a_screen(lab: Lab, command: str, tmp_path: Path) -> None:
    ran = hooper(*command.split(), "--state", str(tmp_path), env=lab.env, columns=80)
    assert ran.code == 0, ran
    assert len((ran.out + ran.err).splitlines()) <= 24, ran.out + ran.err


def test_a_pipe_gets_each_paragraph_on_one_line(lab: Lab) -> None:
    document = hooper("plan", "--json", env=lab.env).document
    piped = hooper("plan", env=lab.env).out.splitlines()
    for finding in document["findings"]:
        assert any(finding["message"] in line for line in piped)
        assert any(finding["remedy"] in line for line in piped)


@pytest.mark.parametrize("encoding", ["ascii", "cp1252", "latin-1", "cp437"])
@pytest.mark.parametrize("command", ["check --from interface:usb0", "why film-page", "name list", "plan", "worksheet"])
def test_words_stand_where_the_encoding_has_no_sign(
    lab: Lab, command: str, encoding: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    plain = hooper(*command.split(), env=lab.env)
    other = hooper(*command.split(), env=lab.env, encoding=encoding)
    assert other.code == plain.code
    assert other.out.count("?") == plain.out.count("?"), "a question mark means one thing"
    for sign, word in (("✓", "ok"), ("✗", "NO"), ("→", "->"), ("≠", "!=")):
        if sign in plain.out:
            assert word in other.out


def test_plain_text_has_a_fact_a_line(lab: Lab) -> None:
    shown = hooper("service", "list", "--plain", env=lab.env, columns=80).out.splitlines()
    assert "film-page: port: tcp 443" in shown
    assert "film-page: reach: public" in shown
    checked = hooper("check", "--from", "interface:usb0", "--plain", env=lab.env, columns=80)
    assert "film-page: verdict: answered" in checked.out
    assert checked.out.isascii()


PLAIN = (
    "survey", "host list", "host show hub", "host tick hub", "service list", "plan", "plan --chain", "audit",
    "worksheet", "worksheet --devices", "worksheet --letter", "router list", "name list", "updater list", "cert list",
    "tunnel list", "peer list", "check", "card film-page", "why film-page", "status", "history", "report",
    "explain carrier-nat", "risk list", "line list", "gateway show club-router", "measure show", "undo --list",
    "self check", "host suggest", "keep notice", "profile check exported.conf", "lab faults", "lab line", "lab read",
    "lab ledger", "lab clock",
)  # fmt: skip


@pytest.mark.parametrize("words", PLAIN)
def test_plain_text_has_a_fact_a_line_in_every_command(lab: Lab, words: str) -> None:
    """Nothing empty, nothing that is told by where it stands, no sign."""
    out = hooper(*words.split(), "--plain", env=lab.env, columns=80).out
    for row in out.splitlines():
        assert row == " ".join(row.split()) != "", (words, row)
        assert row.isascii() or "boathouse" in row.lower(), (words, row)
        assert set(row) - set("-=+|"), (words, row)


@given(st.text(st.sampled_from("ab `.1:tcp 4"), max_size=80), st.integers(1, 40), st.integers(0, 12))
def test_folding_breaks_at_spaces_alone(text: str, width: int, hang: int) -> None:
    lines = folded(text, width, hang=hang)
    assert [piece for line in lines for piece in line.split()] == text.split()
    for start, end in lines_within(text, width):
        line = text[start:end]
        assert width_of(line.strip()) <= max(width, longest_piece(line))
