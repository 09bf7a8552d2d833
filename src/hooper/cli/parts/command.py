"""Declaring a command. What its options are called, and their help, stands in words/options.json; those that many have
come to it in its session.
"""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, get_type_hints

import typer

from hooper.cli.parts.completing import offer
from hooper.cli.parts.helping import helped
from hooper.cli.parts.session import Session
from hooper.clock import parse_duration, shown_duration
from hooper.errors import UsageError
from hooper.secret import allow_shared_files
from hooper.words.data import data

Body = Callable[..., int | None]
EDIT_DRY_RUN = "Say what would be written; write nothing."
DRY_RUN = "Look, and say what would be done; change nothing."


def _declared(name: str, kind: Any, default: Any, row: Sequence[str]) -> inspect.Parameter:
    """A parameter as options.json has it: how it is written and what it takes, its help, what a shell is offered."""
    written, text, *offered = row
    words = re.findall(r"(?<!\S)-\S+", written) if written.startswith("-") else []
    taken = written.removeprefix(" ".join(words)).strip()
    more: dict[str, Any] = {"metavar": taken or None, "help": text}
    if offered:
        more["autocompletion"] = offer(offered[0])
    if taken == "TIME" and kind in (float, float | None):
        more["parser"] = duration(words[0])
        if isinstance(default, (int, float)):
            more["show_default"] = shown_duration(default)
    declared = Annotated[kind, typer.Option(*words, **more) if words else typer.Argument(**more)]
    return inspect.Parameter(
        name.replace(".", "__"), inspect.Parameter.KEYWORD_ONLY, default=default, annotation=declared
    )


def _row(command: str, name: str) -> Sequence[str]:
    """What options.json says of a parameter: at its command, else at the group, else for all of them."""
    table = data("options")["commands"]
    found: Sequence[str] = next(
        there[name] for there in (table.get(at, {}) for at in (command, command.split()[0], "")) if name in there
    )
    return found


def _keys(table: str | None) -> list[inspect.Parameter]:
    """The options that set the keys of a table of the site file; one that can be given again ends with "..."."""
    if table is None:
        return []
    rows = data("options")["keys"].get(table)
    if rows is None:
        from hooper.cli.parts.tables import rows_of

        rows = rows_of(table)
    return [
        _declared(
            f"key_{key.replace('.', '__')}",
            list[str] | None if several else str | None,
            None,
            [written.removesuffix(" ..."), *more],
        )
        for key, (written, *more) in rows.items()
        for several in [written.endswith(" ...")]
    ]


def duration(option: str) -> Callable[[str | float], float]:
    """How an option reads a duration, in seconds; it raises UsageError."""

    def parse(text: str | float) -> float:
        try:
            return parse_duration(str(text))
        except ValueError as exc:
            raise UsageError(f"{option}: {exc}", remedy="Write 5, 5s, 2m, 1h, 3d or 1w.") from None

    return parse


def _to_stdout(out: Path | Sequence[Path] | None, written: str, json: bool = False, **others: Any) -> bool:
    """Whether standard output gets a file (`--out -`), so that what is said goes elsewhere. Raises: UsageError."""
    if Path("-") not in ([out] if isinstance(out, Path) else out or ()):
        return False
    if written.endswith("DIR"):
        raise UsageError("--out -: a folder cannot go to standard output", remedy="Name a folder.")
    if json:
        raise UsageError("--out - and --json exclude each other", remedy="Give one of them.")
    return True


def within(option: str, seconds: float, least: float, most: float) -> float:
    """`seconds`, checked. Raises: UsageError."""
    if not least <= seconds <= most:
        limits = f"from {shown_duration(least)} to {shown_duration(most)}"
        raise UsageError(f"{option} {shown_duration(seconds)}: {limits}", remedy="Write 5, 5s, 2m, 1h, 3d or 1w.")
    return seconds


def _shared(
    has: Mapping[str, bool], deadline: float | None, texts: Mapping[str, str | None]
) -> list[inspect.Parameter]:
    """The options of a command that others have too, as its help shows them."""
    rows = data("options")["shared"]
    shown = shown_duration(deadline) if deadline is not None else None
    kinds: dict[str, tuple[Any, Any]] = {
        "site_file": (Path | None, None),
        "state_folder": (Path | None, None),
        "deadline": (float, shown),
    }
    return [
        _declared(name, kind, default, [row[0], texts.get(name) or row[1]])
        for name, row in rows.items()
        if has.get(name, True)
        for kind, default in [kinds.get(name, (bool, False))]
    ]


def command(
    app: typer.Typer,
    name: str,
    *,
    site: bool = False,
    state: bool = False,
    mask: bool = False,
    deadline: float | None = None,
    deadline_help: str | None = None,
    dry_run: str | None = None,
    keys: str | None = None,
    secrets: bool = True,
) -> Callable[[Body], Body]:
    """Register a command with the options it shares with others.

    The function gets a Session first, then its own options; it returns the exit code. Its help shows its own options
    before the shared ones. name: all words, such as "name list". deadline: the default in seconds; None: it waits for
    nobody. dry_run: the help of --dry-run; None: it has none. keys: the table whose keys have options; those that
    were given reach the function as its second argument. secrets: it may need what the site file's references lead to.
    """
    has = {"dry_run": dry_run is not None, "deadline": deadline is not None, "site_file": site, "state_folder": state,
           "masked": mask, "insecure_files": site and secrets and deadline is not None}  # fmt: skip
    shared = _shared(has, deadline, {"deadline": deadline_help, "dry_run": dry_run})
    of_keys = _keys(keys)

    def decorate(body: Body) -> Body:
        hints = get_type_hints(body)
        own = list(inspect.signature(body).parameters.values())[2 if keys else 1 :]

        def run(**given: Any) -> None:
            values = {parameter.name: given.pop(parameter.name) for parameter in shared}
            within("--deadline", values.get("deadline", 1), 0.05, 3600)
            if values.pop("insecure_files", False):
                allow_shared_files()
            rows = {
                parameter.name.removeprefix("key_").replace("__", "."): value
                for parameter in of_keys
                if (value := given.pop(parameter.name)) not in (None, [])
            }
            to_stdout = _to_stdout(given.get("out"), _row(name, "out")[0] if "out" in given else "", **values)
            session = Session(name, keeps=state, out_taken=to_stdout, edits=dry_run == EDIT_DRY_RUN, **values)
            raise typer.Exit(body(session, *((rows,) if keys else ()), **given) or 0)

        declared = [_declared(one.name, hints[one.name], one.default, _row(name, one.name)) for one in own]
        everything = [*of_keys, *declared, *shared]
        run.__signature__ = inspect.Signature(everything)  # type: ignore[attr-defined]
        run.__annotations__ = {parameter.name: parameter.annotation for parameter in everything}
        run.__doc__, run.__name__ = body.__doc__, body.__name__
        app.command(name.rpartition(" ")[2], cls=helped(*data("examples")[name]))(run)
        return body

    return decorate
