"""Whatever people type: every option of every command, with strange words, ends in a sentence, never as our fault."""

from __future__ import annotations

import os
import random
import re
import shlex
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import typer

from hooper.cli.main import COMMANDS, app
from hooper.cli.parts.outcome import command_of
from hooper.store.place import store_name
from hooper.store.sitefile import read_site
from hooper.words.data import data
from support.program import LabHere, hooper, town_here

STRANGE = (
    "", " ", "nan", "inf", "-1", "0", "1e400", "٣", "9" * 400, "x" * 5000, "\ud800", "\udcff", "a\nb", "\x1b[2J", "..",
    "/", "/dev/null", "/proc/self/mem", "~nobody-of-this-name/x", "%s%n", "{0}", "[x](y)", "⟦name|x⟧", "-", "--", "=",
    "⟦open-rules|x; y⟧", "⟦renew-a-peer⟧", ":", "a=b=c", "interface:", "interface:" + "y" * 90, "socks5://",
    "socks5://[::1", "tcp 99999", "tcp 1-0", "10.0.0.0/99", "::ffff:1.2.3.4", "1.2.3.4%eth0", "fe80::1%lan0",
    "2026-99-99", "0001-01-01", "9999-12-31", "Tue 25:00", "5 parsecs", "file:", "env:", "file:/dev/zero",
    "env:NO_SUCH", "*.*", "xn--", "ä" * 64 + ".example", "film-page", "gate", "club-router", "everything",
    "hub-page=x", "b" * 20_000,
)  # fmt: skip
# what waits, serves, or is a whole job by itself
LONG = {"witness serve", "demo", "keep", "keep run", "lab run", "stand-in", "lab browse", "lab roam", "status"}


def commands(group: Any, words: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], Any]]:
    """Every command, with the words that call it."""
    context = typer.Context(group)
    for name in group.list_commands(context):
        one = group.get_command(context, name)
        if hasattr(one, "list_commands"):
            yield from commands(one, (*words, name))
        else:
            yield (*words, name), one


EVERY = {" ".join(words): command for words, command in commands(typer.main.get_command(app))}


def line_of(words: str, command: Any, dice: random.Random) -> list[str]:
    """One call: some of its options, each with a strange word or a number of them."""
    out = words.split()
    for one in command.params:
        wanted = one.param_type_name == "argument"
        if not wanted and dice.random() > 0.25:
            continue
        value = dice.choice(STRANGE)
        if wanted:
            out += [value] * dice.choice((1, 1, 1, 0, 2))
        elif one.name in ("help", "site_file", "state_folder"):
            continue
        else:
            name = dice.choice(one.opts)
            out += [name] if one.is_flag else [name, value]
    return out


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabHere]:
    folder = tmp_path_factory.mktemp("typed")
    with town_here(folder / "lab") as lab:
        before = Path.cwd()
        (folder / "here").mkdir()
        os.chdir(folder / "here")
        try:
            yield lab
        finally:
            os.chdir(before)


@pytest.mark.parametrize("words", sorted(EVERY.keys() - LONG))
def test_nothing_that_is_typed_is_a_fault_of_ours(town: LabHere, words: str) -> None:
    site = Path(town.env["HOOPER_SITE"])
    whole = site.read_bytes()
    for seed in range(int(os.environ.get("TYPED", "6"))):
        line = line_of(words, EVERY[words], random.Random(f"{words} {seed}"))
        deadline = (
            ["--deadline", "1"]
            if any("--deadline" in one.opts for one in EVERY[words].params) and "--deadline" not in line
            else []
        )
        ran = town.run(*line, *deadline)
        assert ran.code in (0, 1, 2, 3, 4, 5, 6), (line, ran.err)
        assert "Traceback" not in ran.err
        site.write_bytes(whole)
        town.ask("mend")


def _paths(command: Any, path: tuple[str, ...] = ()) -> Iterator[tuple[str, ...]]:
    if hasattr(command, "list_commands"):
        context = command.context_class(command)
        for name in command.list_commands(context):
            yield from _paths(command.get_command(context, name), (*path, name))
    else:
        yield path


def test_a_failed_command_goes_by_its_whole_name() -> None:
    """As a document of one that did not fail has it."""
    paths = list(_paths(typer.main.get_command(app)))
    assert len(paths) > 70
    for path in paths:
        assert command_of([*path, "--json", "--site", "elsewhere.toml"]) == " ".join(path)
    assert command_of(["keep", "--once"]) == "keep run"


@pytest.mark.parametrize("words", ["visit take", "tunnel seen x --state", "keep --site", "lab run --out", "--site"])
def test_an_option_without_its_value_leads_to_the_help_of_its_command(words: str) -> None:
    ran = hooper(*words.split())
    helps = re.findall(r"`hooper ?(.*) --help`", ran.err)
    assert (ran.code, helps) == (2, [{"--site": ""}.get(words, words.partition(" --")[0].removesuffix(" x"))])
    assert hooper(*helps[0].split(), "--help").code == 0


def test_every_command_is_among_them() -> None:
    assert len(EVERY) > 70
    assert EVERY.keys() | COMMANDS.keys() >= LONG


@pytest.mark.parametrize("words", sorted(EVERY.keys() - LONG))
def test_a_state_that_cannot_be_used_is_told_by_every_command(town: LabHere, words: str, tmp_path: Path) -> None:
    """Each example of each command, as its help has them, beside a state that is no database."""
    site = Path(town.env["HOOPER_SITE"])
    (tmp_path / store_name(read_site(site))).write_bytes(b"no database" * 999)
    whole = site.read_bytes()
    for example in data("examples").get(words, ()):
        if " | " in example or "$" in example:
            continue
        line = shlex.split(example)
        state = any("--state" in one.opts for one in EVERY[words].params)
        ran = town.run(*line, *(("--state", str(tmp_path)) if state else ()))
        assert ran.code in (0, 1, 2, 3, 4, 5, 6), (line, ran.err)
        site.write_bytes(whole)
        town.ask("mend")
