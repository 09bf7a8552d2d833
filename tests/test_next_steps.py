"""Every command and option that a text of the program names is there: no next step that does not work."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from functools import cache
from typing import Any

import typer

from hooper import deeds
from hooper.cli.main import app
from hooper.cli.parts.spelling import COMMANDS, OPTIONS
from support.program import ROOT
from support.source import nodes

SOURCE = ROOT / "src" / "hooper"
QUOTED = re.compile(r"`hooper ([^`]+)`")
AS_TYPED = re.compile(r"^(?:\$ )?hooper ([^#|>\n]+)", re.MULTILINE)  # in the docs
OPTION = re.compile(r"(?<![\w`/-])--[a-z][a-z0-9-]+")
NOT_MESSAGES = ("usecases/demo.py",)  # starts the program itself
OF_OTHERS = {"--dns", "--now"}  # options of the systems' own programs


@cache
def _options() -> dict[str, frozenset[str]]:
    """By command, such as "name list": its options."""
    found: dict[str, frozenset[str]] = {}

    def walk(command: Any, context: Any, path: str) -> None:
        words = (word for parameter in command.params for word in (*parameter.opts, *parameter.secondary_opts))
        found[path] = frozenset(words) | {"--help"}
        for name in command.list_commands(context) if hasattr(command, "list_commands") else ():
            walk(command.get_command(context, name), context, f"{path} {name}".strip())

    root = typer.main.get_command(app)
    walk(root, root.make_context("hooper", ["survey"], resilient_parsing=True), "")
    return found


@cache
def _nodes() -> tuple[tuple[str, ast.AST], ...]:
    """Everything in the source with its place."""
    return tuple((f"{path}:{getattr(node, 'lineno', 0)}", node) for path, node in nodes())


@cache
def _texts() -> tuple[tuple[str, str], ...]:
    """Every text in the source and the docs with its place; what is filled in while it runs is X."""
    return tuple(_each_text())


def _each_text() -> Iterator[tuple[str, str]]:
    yield from (("deeds", f"`hooper {command}`") for command in COMMANDS.values())
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
        yield page.name, re.sub(r"\\\n\s*", "", page.read_text(encoding="utf-8"))
    for place, node in _nodes():
        if isinstance(node, ast.JoinedStr):
            parts = (part.value if isinstance(part, ast.Constant) else "X" for part in node.values)
            yield place, "".join(map(str, parts))
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield place, node.value


def _messages() -> Iterator[tuple[str, str]]:
    """Every text below the command line that is no docstring."""
    for place, text in _texts():
        if place.endswith(".md") or place == "deeds" or place.startswith(("cli/", *NOT_MESSAGES)):
            continue
        if text not in _docstrings():
            yield place, text


@cache
def _docstrings() -> frozenset[str]:
    holders = (node for _, node in _nodes() if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef))
    return frozenset(ast.get_docstring(node, clean=False) or "" for node in holders)


def _command(words: list[str]) -> str | None:
    """The command that a line begins with; None: there is no such command."""
    return next((" ".join(words[:n]) for n in (2, 1) if words[:n] and " ".join(words[:n]) in _options()), None)


def test_every_command_that_is_named_is_there() -> None:
    lines = [(place, line.strip()) for place, text in _texts() for line in QUOTED.findall(text)]
    lines += [(place, line) for place, text in _texts() if place.endswith(".md") for line in AS_TYPED.findall(text)]
    assert len(lines) > 100
    lacking = []
    for place, line in lines:
        words = line.split()
        if words[0] == "help":  # of another command
            words = words[1:] if words[1] != "COMMAND" else ["plan"]
        command = "" if words[0].startswith("-") else _command(words)
        options = {word.partition("=")[0] for word in words if word.startswith("--")}
        if command is None or options - _options()[command]:
            lacking.append((place, line))
    assert not lacking


def test_below_the_command_line_messages_name_deeds() -> None:
    """What a command or an option is called, its table in `cli` says."""
    named = {
        (place, text)
        for place, text in _messages()
        if re.search(r"`hooper |(?<![\w`/-])--[a-z]", text) and not OF_OTHERS & set(OPTION.findall(text))
    }
    assert not named


def test_every_deed_is_spelled_once() -> None:
    made = {value for value in vars(deeds).values() if isinstance(value, deeds.Deed)}
    assert made == COMMANDS.keys() | OPTIONS.keys()
    assert not COMMANDS.keys() & OPTIONS.keys()


def test_every_option_that_is_named_is_there() -> None:
    known = set[str]().union(*_options().values(), OF_OTHERS)
    named = {(place, option) for place, text in _texts() for option in OPTION.findall(text)}
    assert len(named) > 100
    assert not {(place, option) for place, option in named if option not in known}
