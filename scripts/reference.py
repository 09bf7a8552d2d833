"""What is looked up, made from the program itself: pages of the docs, and the manual.

`python -m scripts.reference pages DIR` writes the pages of the reference; `python -m scripts.reference man DIR` the
pages of the manual: hooper(1), one for each command, hooper-site(5).
"""

from __future__ import annotations

import json
import re
import sys
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import typer

from hooper import __version__
from hooper.cli.main import COMMANDS, WORK, app
from hooper.cli.parts.spelling import spelled
from hooper.cli.parts.tables import BY_FORM
from hooper.clock import shown_duration
from hooper.words.data import data

ROOT = Path(__file__).parents[1]
USUAL = [
    "--help",
    *(row[0].split()[0] for row in data("options")["shared"].values()),
]  # options that many commands have
EXIT_CODES = (
    (0, "All is ok, as planned."),
    (1, "It works, and something needs you: a check failed, a rule is left to enter, a plan cannot work."),
    (2, "Wrong usage: an option or its value, or what was asked for makes no sense."),
    (3, "The site file is wrong, missing, or cannot take that edit."),
    (4, "A counterpart failed: a router, a server, an authority, or the lab."),
    (5, "Refused for safety: it would expose what is not ready, or overwrite what Hooper did not write."),
    (6, "Trouble on this computer: a file, the disk, a port in use, rights."),
    (70, "A fault of Hooper. Please report it with the message."),
    (130, "Ended by Ctrl-C, SIGTERM or SIGHUP; what was entered for the run alone was taken back."),
)


# --- what there is


@dataclass(frozen=True)
class Option:
    """As it is written, with what it takes; its help."""

    written: str
    text: str

    @property
    def usual(self) -> bool:
        """Whether many commands have it, so that it is described once."""
        return any(word in self.written.replace(",", "").split() for word in USUAL)


@dataclass(frozen=True)
class Command:
    """name: what follows "hooper". text: paragraphs. inner: those of a group."""

    name: str
    usage: str
    text: tuple[str, ...]
    arguments: tuple[Option, ...]
    options: tuple[Option, ...]
    examples: tuple[str, ...]
    inner: tuple[Command, ...] = ()


def commands() -> Iterator[tuple[str, list[Command]]]:
    """Each part of the work with its commands, as `hooper --help` has them."""
    root: Any = typer.main.get_command(app)
    for part, names in WORK.items():
        yield part, [_command(root.get_command(None, name), name) for name in names]


def _command(command: Any, name: str) -> Command:
    context = command.context_class(command, info_name=f"hooper {name}")
    rows: dict[bool, list[Option]] = {True: [], False: []}
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context)
        if record is not None:
            argument = parameter.param_type_name == "argument"
            written = (parameter.metavar or parameter.name.upper()) if argument else record[0]
            rows[argument].append(Option(written, record[1].replace("  [required]", "")))
    inner = command.list_commands(context) if hasattr(command, "list_commands") else []
    return Command(
        name,
        " ".join((context.command_path, *command.collect_usage_pieces(context))),
        tuple(" ".join(part.split()) for part in (command.help or "").split("\n\n")),
        tuple(rows[True]),
        tuple(rows[False]),
        tuple(data("examples").get(name, ())),
        tuple(_command(command.get_command(context, one), f"{name} {one}") for one in inner),
    )


@dataclass(frozen=True)
class Key:
    """A key of the site file. kind: what it takes, in words. default: as it is written; empty: none, it may be left
    out; None: it is required. example: a line of docs/every-key.toml.
    """

    name: str
    kind: str
    default: str | None
    text: str
    example: str


def site_keys() -> Iterator[tuple[str, list[Key]]]:
    """Each table of the site file, as its header is written, with its keys."""
    schema = json.loads((ROOT / "src/hooper/site/site.schema.json").read_text(encoding="utf-8"))
    shown: dict[str, Any] = tomllib.loads((ROOT / "docs/every-key.toml").read_text(encoding="utf-8"))
    for table, shape in schema["properties"].items():
        if table == "version":
            continue
        several = "$ref" not in shape
        (definition,) = set(_references(shape))
        entries = list(shown[table].values()) if several else [shown[table]]
        yield from _tables(f"{table}.NAME" if several else table, definition, entries, schema["$defs"])


def _tables(
    header: str, definition: str, entries: list[Any], definitions: Mapping[str, Any]
) -> Iterator[tuple[str, list[Key]]]:
    shape, keys, below = definitions[definition], [], []
    for name, row in shape["properties"].items():
        if name == "options":  # what another package asks for
            continue
        found = [entry[name] for entry in entries if isinstance(entry, dict) and name in entry]
        inner = set(_references(row))
        default = None if name in shape.get("required", ()) else _written(row.get("default"), row)
        text = " ".join(str(row.get("description", "")).split())
        keys.append(Key(name, _kind(row, inner), default, text, f"{name} = {_toml(found[0])}" if found else ""))
        if inner:
            whole = [one for value in found for one in (value if isinstance(value, list) else [value])]
            below += list(_tables(f"{header}.{name}", inner.pop(), whole, definitions))
    yield header, keys
    yield from below


def _references(shape: Any) -> Iterator[str]:
    if isinstance(shape, dict):
        if "$ref" in shape:
            yield shape["$ref"].rpartition("/")[2]
        for value in shape.values():
            yield from _references(value)
    elif isinstance(shape, list):
        for value in shape:
            yield from _references(value)


def _kind(shape: Mapping[str, Any], inner: set[str]) -> str:
    ways = [one for one in shape.get("anyOf", [shape]) if one.get("type") != "null"]
    words = []
    for one in ways:
        item = one.get("items", {})
        if "enum" in one:
            words.append(" or ".join(f'"{word}"' for word in one["enum"]))
        elif one.get("type") == "array":
            choices = ", ".join(f'"{word}"' for word in item.get("enum", ()))
            words.append(f"a list of {choices}" if choices else "a list of tables" if inner else "a list")
        elif "$ref" in one or one.get("type") == "object":
            words.append("a table")
        elif one.get("pattern") in BY_FORM or one.get("description") in BY_FORM:
            words.append(BY_FORM[one["pattern"] if one.get("pattern") in BY_FORM else one["description"]])
        else:
            kinds = {"string": "text", "integer": "a number", "boolean": "true or false"}
            words.append(kinds.get(one.get("type", ""), "text"))
    return " or ".join(dict.fromkeys(words))


def _written(value: Any, shape: Mapping[str, Any]) -> str:
    if value in (None, [], {}):
        return ""
    if isinstance(value, float) and BY_FORM.get(shape.get("pattern", "")) == "TIME":
        return f'"{shown_duration(value).replace(" ", "").replace("min", "m")}"'
    return _toml(value)


def _toml(value: Any) -> str:
    """A value as TOML writes it, on one line."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list):
        return f"[{', '.join(map(_toml, value))}]"
    if isinstance(value, dict):
        return f"{{ {', '.join(f'{name} = {_toml(one)}' for name, one in value.items())} }}"
    return json.dumps(value, ensure_ascii=False) if isinstance(value, str) else str(value)


# --- as pages


def pages() -> dict[str, str]:
    """The pages of the reference, by their paths."""
    found = {"options.md": _options_page(), "site-file.md": _site_page(), "json.md": _json_page()}
    overview = ["# Commands", "", "In the order of the work, as `hooper --help` has them.", ""]
    names = []
    for part, rows in commands():
        overview += [f"## {part}", "", "| command | what it is for |", "|---|---|"]
        for command in rows:
            overview.append(f"| [`hooper {command.name}`](commands/{command.name}.md) | {_cell(command.text[0])} |")
            found[f"commands/{command.name}.md"] = _command_page(command)
            names.append(f"commands/{command.name}")
        overview.append("")
    overview += ["```{toctree}", ":hidden:", "", *names, "```", ""]
    found["commands.md"] = "\n".join(overview)
    return found


def _bar(text: str) -> str:
    """What stands in code, in a table."""
    return text.replace("|", "\\|")


def _cell(text: str) -> str:
    """Text that Markdown leaves as it is, its options as code."""
    return re.sub(r"(?<![\w`-])--[a-z][a-z-]*", r"`\g<0>`", text.replace("|", "\\|").replace("<", "&lt;"))


def _command_page(command: Command) -> str:
    lines = [f"# hooper {command.name}", ""]
    for text in command.text:
        lines += [_cell(text), ""]
    for one in command.inner or (command,):
        if command.inner:
            lines += [f"## hooper {one.name}", ""]
            for text in one.text:
                lines += [_cell(text), ""]
        lines += ["```text", one.usage, "```", ""]
        own = [*one.arguments, *(option for option in one.options if not option.usual)]
        if own:
            lines += ["| | |", "|---|---|", *(f"| `{_bar(row.written)}` | {_cell(row.text)} |" for row in own), ""]
        usual = [word for option in one.options if option.usual for word in re.findall("--[a-z-]+", option.written)]
        words = ", ".join(f"`{word}`" for word in usual)
        lines += [f"And [the usual ones](../options.md): {words}.", ""]
        if one.examples:
            lines += ["For example:", "", "```text", *(f"hooper {example}" for example in one.examples), "```", ""]
    return "\n".join(lines)


def _options_page() -> str:
    lines = [
        "# Options",
        "",
        "The same spelling means the same in every command. These many commands have:",
        "",
        "| option | what it does |",
        "|---|---|",
    ]
    texts = {"--dry-run": "Say what would be done; do nothing."}
    for written, text in data("options")["shared"].values():
        (first, *rest) = written.split()
        shown = " ".join([", ".join([first, *(word for word in rest if word.startswith("-"))]),
                          *(word for word in rest if not word.startswith("-"))])  # fmt: skip
        lines.append(f"| `{shown}` | {_cell(text or texts[first])} |")
    lines += [
        "| `--help, -h` | Show what the command does. |",
        "",
        "The usual ones may stand before the command too: `hooper --json plan`. `hooper --version` (`-V`) prints the",
        "version.",
        "",
        "## One meaning each",
        "",
        "| option | takes | meaning |",
        "|---|---|---|",
    ]
    rows = tomllib.loads((ROOT / "scripts/options.toml").read_text(encoding="utf-8"))
    for name, row in sorted(rows.items()):
        lines.append(f"| `--{name}` | {_cell(', '.join(row.get('takes', ['nothing'])))} | {_cell(row['means'])} |")
    return "\n".join([*lines, ""])


def _site_page() -> str:
    lines = [
        "# The site file",
        "",
        "One TOML file, `site.toml`, with these tables. NAME is a name of your own: letters, digits, `-` and `_`; of",
        "`[names]` it is a DNS name. A key without a default may be left out. `hooper schema` prints all of this as a",
        "JSON schema for editors. The examples are lines of [a file that has every key](../every-key.toml).",
        "",
        "`version = 1` stands at its beginning.",
        "",
    ]
    for header, keys in site_keys():
        lines += [f"## [{header}]", "", "| key | takes | default | meaning | example |", "|---|---|---|---|---|"]
        for key in keys:
            default = "required" if key.default is None else f"`{key.default}`" if key.default else ""
            example = f"`{_bar(key.example)}`" if key.example else ""
            lines.append(f"| `{key.name}` | {_cell(key.kind)} | {_bar(default)} | {_cell(key.text)} | {example} |")
        lines.append("")
    return "\n".join(lines)


def _json_page() -> str:
    lines = [
        "# JSON",
        "",
        "`--json` prints one document (of what goes on for a while: one a line), with closed schemas in",
        "`docs/schemas/`; what is not named there is not in it. Every document has `hooper`, `command`, `at` and",
        "`world`, and `errors` where something went wrong.",
        "",
    ]
    for path in sorted((ROOT / "docs/schemas").glob("*.schema.json")):
        schema = json.loads(path.read_text(encoding="utf-8"))
        rows = {name: row for name, row in schema.get("properties", {}).items()
                if name not in ("hooper", "command", "at", "world", "errors")}  # fmt: skip
        lines += [f"## {path.name.partition('.')[0]}", ""]
        if schema.get("description"):
            lines += [_cell(" ".join(str(schema["description"]).split())), ""]
        if rows:
            lines += ["| field | meaning |", "|---|---|"]
            lines += [f"| `{name}` | {_cell(str(row.get('description', '')))} |" for name, row in rows.items()]
            lines.append("")
    return "\n".join(lines)


# --- as a manual


def _roff(text: str) -> str:
    text = text.replace("\\", "\\e").replace("-", "\\-").replace("`", "")
    return f"\\&{text}" if text[:1] in (".", "'") else text


def _page(name: str, section: int, what: str, body: Iterable[str]) -> str:
    title = name.upper().replace("-", "\\-")
    head = [
        '.\\" Made by Hooper: python -m scripts.reference man',
        f'.TH "{title}" "{section}" "" "Hooper {__version__}" "Hooper"',
        ".SH NAME",
        f"{_roff(name)} \\- {_roff(what)}",
    ]
    return "\n".join([*head, *body, ""])


def _rows(rows: Iterable[tuple[str, str]]) -> Iterator[str]:
    for written, text in rows:
        yield ".TP"
        yield f"\\fB{_roff(written)}\\fR"
        yield _roff(text) or "\\&"


def _paragraphs(texts: Iterable[str]) -> Iterator[str]:
    for text in texts:
        yield ".PP"
        yield _roff(text)


def _examples(examples: Iterable[str]) -> Iterator[str]:
    yield ".EX"
    yield from (_roff(f"hooper {example}") for example in examples)
    yield ".EE"


def _sentence(text: str) -> str:
    """The first sentence, as the line of NAME has it."""
    first = text.partition(". ")[0].rstrip(".")
    return first[:1].lower() + first[1:] if first[1:2].islower() else first


def manual() -> dict[str, str]:
    """The pages of the manual, by their file names."""
    found = {"hooper.1": _overview(), "hooper-site.5": _site_manual()}
    for _, rows in commands():
        for command in rows:
            found[f"hooper-{command.name}.1"] = _command_manual(command)
    return found


def _overview() -> str:
    body = [".SH SYNOPSIS", "\\fBhooper\\fR \\fICOMMAND\\fR [\\fIOPTION\\fR]...", ".SH DESCRIPTION"]
    body.append(_roff("From a box on your shelf to a service that answers, safely and under a name, from anywhere."))
    body += _paragraphs([
        "Hooper keeps what there is in one site file, hooper-site(5): lines, routers, devices, services, names. It"
        " plans the rule that each router needs, enters it where a router takes rules from a program, says what to type"
        " where it does not, and proves from outside that the service answers.",
        "New here? Try: hooper demo",
    ])  # fmt: skip
    for part, names in WORK.items():
        body += [f".SH {part.upper()}"]
        body += _rows((f"hooper-{name}(1)", COMMANDS[name][1]) for name in names)
    body += [".SH OPTIONS", *_rows(_usual())]
    body += [".SH EXIT STATUS", *_rows((str(code), text) for code, text in EXIT_CODES)]
    body += [".SH ENVIRONMENT", *_rows(ENVIRONMENT), ".SH FILES", *_rows(FILES)]
    body += [".SH SEE ALSO", _roff("hooper-site(5)")]
    return _page("hooper", 1, "make devices at home reachable from the internet, and prove it", body)


def _usual() -> Iterator[tuple[str, str]]:
    for written, text in data("options")["shared"].values():
        yield written, text or "Say what would be done; do nothing."


ENVIRONMENT = (
    ("HOOPER_SITE", "The site file, where --site is not given."),
    ("HOOPER_LAB", "The lab in which everything happens; `hooper lab run` prints it."),
    ("NO_COLOR", "No colour and no other escape."),
    ("PAGER", "Shows what is longer than the screen."),
    ("VISUAL, EDITOR", "What `hooper edit` opens."),
    ("XDG_STATE_HOME, XDG_CONFIG_HOME", "Where the state and the preferences stand on Linux."),
)
FILES = (
    ("site.toml", "The site file, in the folder of the command; see hooper-site(5)."),
    ("~/.config/hooper/config.toml", "What you always want: site, state, place, colour, pager."),
    ("~/.local/state/hooper/", "What was seen and entered, keys, certificates; a folder and a database for each site."),
    ("secrets/", "Beside the site file: private files that it names, such as passwords of providers."),
)


def _command_manual(command: Command) -> str:
    inner = command.inner or (command,)
    body = [".SH SYNOPSIS"]
    for number, one in enumerate(inner):
        body += [*([".br"] if number else []), _roff(one.usage)]
    body += [".SH DESCRIPTION", _roff(command.text[0]), *_paragraphs(command.text[1:])]
    for one in inner:
        own = [*one.arguments, *(option for option in one.options if not option.usual)]
        if command.inner:
            body += [f".SH {_roff(one.name.upper())}", _roff(one.text[0]), *_paragraphs(one.text[1:])]
        elif own:
            body.append(".SH OPTIONS")
        body += _rows((row.written, row.text) for row in own)
        if one.examples:
            body += [".PP", "Examples:", *_examples(one.examples)]
    body += [".SH SEE ALSO", _roff("hooper(1) has the options that many commands have, exit statuses, files;"
                                   " hooper-site(5) the site file.")]  # fmt: skip
    return _page(f"hooper-{command.name}", 1, _sentence(COMMANDS[command.name][1]), body)


def _site_manual() -> str:
    body = [".SH DESCRIPTION", _roff("One TOML file, site.toml, that begins with version = 1 and has these tables.")]
    body += _paragraphs(["NAME is a name of your own: letters, digits, - and _; of [names] it is a DNS name."])
    for header, keys in site_keys():
        body.append(f".SH {_roff(f'[{header}]')}")
        for key in keys:
            more = "required" if key.default is None else f"default: {key.default}" if key.default else ""
            body += _rows([(key.name, f"{key.text} Takes {key.kind}{f'; {more}' if more else ''}.")])
            if key.example:
                body += [".EX", _roff(key.example), ".EE"]
    body += [".SH SEE ALSO", "hooper(1)"]
    return _page("hooper-site", 5, "the site file of Hooper", body)


def write(kind: str, folder: Path) -> None:
    """Write all of one kind, and take away what is there no more."""
    made = {name: spelled(text) for name, text in (pages() if kind == "pages" else manual()).items()}
    for name, text in made.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        if not path.exists() or path.read_text(encoding="utf-8") != text:
            path.write_text(text, encoding="utf-8")
    pattern = re.compile(r".*\.md" if kind == "pages" else r"hooper.*\.[15]")
    for path in folder.rglob("*"):
        if path.is_file() and pattern.fullmatch(path.name) and path.relative_to(folder).as_posix() not in made:
            path.unlink()


if __name__ == "__main__":
    write(sys.argv[1], Path(sys.argv[2]))
