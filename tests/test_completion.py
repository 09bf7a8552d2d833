"""What shells are offered, and help pages: whole, with examples that are commands, and quick to come by."""

from __future__ import annotations

import ast
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import pytest
import typer

from hooper.cli.main import COMMANDS, app
from hooper.cli.parts.session import KEEPS_NONE, KEEPS_STATE, NO_SITE
from hooper.cli.watch.history import KINDS as SUBJECTS
from hooper.lab.faults import FAULTS
from hooper.lab.lines import KINDS
from hooper.report.units import SYSTEMS
from hooper.site.model import READY_ITEMS
from hooper.site.protocols import SPEECHES
from hooper.site.updating import FORMS
from hooper.words import catalogue
from hooper.words.data import data
from support.program import BOATHOUSE, hooper, program
from support.source import nodes

PROGRAM = Path(sys.executable).with_name("hooper")


def test_the_words_are_those_that_they_stand_for() -> None:
    assert tuple(FAULTS) == tuple(catalogue.faults())
    assert tuple(KINDS) == tuple(catalogue.lines())
    assert tuple(READY_ITEMS) == tuple(tick.key for tick in catalogue.ticks())
    keys, commands = data("options")["keys"], data("options")["commands"]
    assert keys["service"]["speaks"][2] == " ".join(["words", *SPEECHES])
    assert keys["updater"]["form"][1:] == [f"http: {', '.join(FORMS)}; see below.", " ".join(["words", *FORMS])]
    assert commands["keep unit"]["system"][1:] == [f"One of {', '.join(SYSTEMS)}.", " ".join(["words", *SYSTEMS])]
    assert commands["history"]["kind"][1] == f"Only these: {', '.join(SUBJECTS)}."


def test_each_row_of_the_options_belongs_to_one_and_each_option_has_a_row() -> None:
    declared: set[tuple[str, str]] = set()
    for _, node in nodes():
        if not isinstance(node, ast.FunctionDef):
            continue
        for call in node.decorator_list:
            if isinstance(call, ast.Call) and ast.unparse(call.func) == "command":
                name = ast.literal_eval(call.args[1])
                given = any(word.arg == "keys" for word in call.keywords)
                declared |= {(name, one.arg) for one in (*node.args.args, *node.args.kwonlyargs)[2 if given else 1 :]}
    declared |= {
        (name, one) for name in _commands() for one in {"entry", "new"} & {*_taken(name)}
    }  # of the usual verbs
    rows = data("options")["commands"]
    found = {(name, one): next((at for at in (name, name.split()[0], "") if one in rows.get(at, {})), None)
             for name, one in declared}  # fmt: skip
    assert [key for key, at in found.items() if at is None] == []
    unused = {(at, one) for at, there in rows.items() for one in there} - {(at, one) for (_, one), at in found.items()}
    assert unused == set()


def test_an_option_means_the_same_in_every_command() -> None:
    """Where several commands have an option, with texts of their own, scripts/options.toml says what they have in
    common: one meaning, and what may follow it. No meaning is spelled twice.
    """
    told: dict[str, set[tuple[str, str]]] = {}
    for name in _commands():
        for parameter in _parameters(name):
            if parameter.param_type_name == "option":
                (spelled, *_) = (word for word in parameter.opts if word.startswith("--"))
                told.setdefault(spelled[2:], set()).add((parameter.metavar or "", parameter.help or ""))
    rows = tomllib.loads((Path(__file__).parents[1] / "scripts/options.toml").read_text(encoding="utf-8"))
    several = {word: {takes for takes, _ in texts} for word, texts in told.items() if len(texts) > 1}
    assert several == {word: set(row.get("takes", [""])) for word, row in rows.items()}
    meanings = [row["means"] for row in rows.values()]
    assert len(set(meanings)) == len(meanings)
    texts = [(text, word) for word, found in told.items() for _, text in found]
    assert {text for text, word in texts if any(text == one and word != other for one, other in texts)} == set()
    short = {word: one for name in _commands() for parameter in _parameters(name) for word in parameter.opts
             if len(word) == 2 for one in parameter.opts if one.startswith("--")}  # fmt: skip
    assert short == {"-n": "--dry-run", "-o": "--out", "-q": "--quiet", "-v": "--verbose"}


def offered(folder: Path, line: str, shell: str = "bash") -> list[str]:
    words = line.split(" ")
    if shell == "bash":
        env = {"COMP_WORDS": line, "COMP_CWORD": str(len(words) - 1)}
    else:
        env = {"_TYPER_COMPLETE_ARGS": line, "_TYPER_COMPLETE_FISH_ACTION": "get-args"}
    ran = program(env={**env, "_HOOPER_COMPLETE": f"complete_{shell}"}, cwd=folder)
    assert (ran.code, ran.err) == (0, ""), ran
    return ran.out.split()


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("hooper ch", ["check"]),
        ("hooper cert res", ["restore"]),
        ("hooper check fi", ["film-page", "film-shell"]),
        ("hooper check film-page --deadl", ["--deadline"]),
        ("hooper why --from int", ["interface"]),
        ("hooper lab break service", ["service-stopped"]),
        ("hooper host tick hub up", ["updates"]),
        ("hooper lab line shared", ["shared-ports"]),
        ("hooper explain port-kept", ["port-kept"]),
        ("hooper worksheet fibre", ["fibre-box"]),
        ("hooper survey --wan club", ["club-router="]),
        ("hooper service add x --host hu", ["hub"]),
        ("hooper service change desk --speaks wire", ["wireguard"]),
        ("hooper host change hub --address-from res", ["reservation"]),
        ("hooper plan --site nix check", []),
    ],
)
def test_a_shell_is_offered(tmp_path: Path, line: str, words: list[str]) -> None:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    found = offered(tmp_path, line)
    assert found[: len(words)] == words
    assert words or not found


def test_a_broken_site_file_offers_nothing(tmp_path: Path) -> None:
    for text in (
        "services = 3",
        "[services",
        "\udcff".encode("utf-8", "surrogateescape").decode("latin-1"),
        "[" * 9000,
    ):
        (tmp_path / "site.toml").write_text(text)
        assert offered(tmp_path, "hooper check fi") == []


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_real_shells_complete(tmp_path: Path, shell: str) -> None:
    """The script that the program prints, in the shell itself."""
    if shutil.which(shell) is None:
        pytest.skip(f"{shell} is not installed")
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    script = program(env={"_HOOPER_COMPLETE": f"source_{shell}"}, cwd=tmp_path).out
    assert "hooper" in script
    (tmp_path / "script").write_text(script)
    ask = {
        "bash": 'source ./script; COMP_WORDS=(hooper check fi); COMP_CWORD=2; "$(complete -p hooper |'
        ' sed \'s/.*-F \\([^ ]*\\).*/\\1/\')" hooper; echo "${COMPREPLY[@]}"',
        "zsh": "autoload -U compinit; compinit -D; source ./script; whence _hooper_completion >/dev/null &&"
        ' _TYPER_COMPLETE_ARGS="hooper check fi" _HOOPER_COMPLETE=complete_zsh hooper',
        "fish": 'source ./script; complete -C "hooper check fi"',
    }[shell]
    ran = subprocess.run(
        [shell, "-c", ask], cwd=tmp_path, capture_output=True, text=True, timeout=60,
        env={"PATH": f"{PROGRAM.parent}:/usr/bin:/bin", "HOME": str(tmp_path), "TERM": "xterm"},
    )  # fmt: skip
    assert "film-page" in ran.stdout, ran
    assert "film-shell" in ran.stdout


def _commands() -> list[str]:
    found = []
    for name in COMMANDS:
        command = typer.main.get_command(app).get_command(None, name)  # type: ignore[attr-defined]
        inner = command.list_commands(None) if hasattr(command, "list_commands") else []
        found += [f"{name} {word}" for word in inner] or [name]
    return found


def _parameters(name: str) -> list[Any]:
    """The parameters of a command."""
    first, _, inner = name.partition(" ")
    command = typer.main.get_command(app).get_command(None, first)  # type: ignore[attr-defined]
    command = command.get_command(None, inner) if inner else command
    return list(command.params)


def _taken(name: str) -> set[str]:
    """What a command calls its parameters."""
    return {parameter.name for parameter in _parameters(name)}


def test_a_next_step_names_the_file_and_the_state_where_commands_take_them() -> None:
    """The lists by which it is decided, which would be too much to load for one line, are what commands declare."""
    for name in _commands():
        first, taken = name.split()[0], _taken(name)
        if first != "lab":  # whose steps go by the variables that it prints
            assert ("site_file" in taken) == (not {first, name} & {*NO_SITE}), name
            keeps = (first in KEEPS_STATE and name not in KEEPS_NONE) or first == "worksheet" or name in KEEPS_STATE
            assert ("state_folder" in taken) == keeps, name


def test_every_command_has_examples() -> None:
    assert sorted(data("examples")) == sorted(_commands())


@pytest.mark.parametrize("command", ["", *COMMANDS, *data("examples")])
def test_help_is_whole(command: str) -> None:
    text = hooper(*command.split(), "--help", columns=80).out
    assert "..." not in text.replace("...  ", "").replace("]...", "").replace("}...", ""), "a summary that is cut"
    assert "<" not in text
    assert max(map(len, text.splitlines())) <= 80
    if command in data("examples") or not command:
        assert "Examples:\n  hooper " in text


@pytest.mark.parametrize("example", [example for rows in data("examples").values() for example in rows])
def test_examples_are_commands_that_are_understood(example: str, tmp_path: Path) -> None:
    """Each with --help behind it, which is read after everything else is."""
    ran = hooper(*example.split(), "--nothing-such", cwd=tmp_path)
    assert ran.code == 2
    assert "has no option --nothing-such" in ran.err, ran
