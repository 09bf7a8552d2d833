"""Declaring a command: the options that many have are named here once, and come to it in its session."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, get_type_hints

import typer

from hooper.cli.common import Session
from hooper.cli.helping import helped
from hooper.durations import parse_duration, shown_duration
from hooper.errors import UsageError
from hooper.secret import allow_shared_files
from hooper.words.data import data

Body = Callable[..., int | None]
DEADLINE = "How long it may take; what is asked is asked side by side."
EDIT_DRY_RUN = "Say what would be written; write nothing."
DRY_RUN = "Look, and say what would be done; change nothing."


def _option(
    name: str,
    kind: Any,
    default: Any,
    *words: str,
    text: str,
    metavar: str | None = None,
    offer: Callable[..., list[str]] | None = None,
) -> inspect.Parameter:
    declared = Annotated[kind, typer.Option(*words, help=text, metavar=metavar, autocompletion=offer)]
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=declared)


def duration(option: str) -> Callable[[str | float], float]:
    """How an option reads a duration, in seconds; it raises UsageError."""

    def parse(text: str | float) -> float:
        try:
            return parse_duration(str(text))
        except ValueError as exc:
            raise UsageError(f"{option}: {exc}", remedy="Write 5, 5s, 2m, 1h, 3d or 1w.") from None

    return parse


def time_option(option: str, text: str) -> Any:
    """An option that takes a duration."""
    return typer.Option(option, metavar="TIME", help=text, parser=duration(option))


def within(option: str, seconds: float, least: float, most: float) -> float:
    """`seconds`, checked. Raises: UsageError."""
    if not least <= seconds <= most:
        limits = f"from {shown_duration(least)} to {shown_duration(most)}"
        raise UsageError(f"{option} {shown_duration(seconds)}: {limits}", remedy="Write 5, 5s, 2m, 1h, 3d or 1w.")
    return seconds


def key_option(
    key: str,
    metavar: str,
    text: str,
    *,
    words: str | None = None,
    several: bool = False,
    offer: Callable[..., list[str]] | None = None,
) -> inspect.Parameter:
    """An option that sets one key of a table of the site file.

    words: its name where the key is not it. offer: what a shell is offered for it.
    """
    kind = list[str] | None if several else str | None
    return _option(key, kind, None, words or f"--{key.replace('_', '-')}", text=text, metavar=metavar, offer=offer)


def _shared(
    *,
    site: bool,
    state: bool,
    mask: bool,
    deadline: float | None,
    deadline_help: str,
    dry_run: str | None,
    secrets: bool,
) -> list[inspect.Parameter]:
    """The options of a command that others have too, as its help shows them."""
    shared: list[inspect.Parameter] = []
    if dry_run is not None:
        shared.append(_option("dry_run", bool, False, "--dry-run", text=dry_run))
    if deadline is not None:
        option = time_option("--deadline", deadline_help)
        kind = inspect.Parameter.KEYWORD_ONLY
        shown = shown_duration(deadline)
        shared.append(inspect.Parameter("deadline", kind, default=shown, annotation=Annotated[float, option]))
    if site:
        text = "The site file. Else HOOPER_SITE, else site.toml here."
        shared.append(_option("site_file", Path | None, None, "--site", text=text, metavar="FILE"))
    if state:
        text = "Where results are kept. Else the platform's folder."
        shared.append(_option("state_folder", Path | None, None, "--state", text=text, metavar="DIR"))
    if mask:
        text = "Replace public addresses, names and MACs, so that the output can be posted."
        shared.append(_option("masked", bool, False, "--mask", text=text))
    if site and secrets and deadline is not None:
        text = "Take secrets from files that others can read too."
        shared.append(_option("insecure_files", bool, False, "--insecure-files", text=text))
    text = "Print one JSON document instead of text."
    shared.append(_option("json", bool, False, "--json", text=text))
    text = "One fact a line, words in place of signs: for screen readers and scripts."
    shared.append(_option("plain", bool, False, "--plain", text=text))
    shared.append(
        _option("quiet", bool, False, "--quiet", "-q", text="Nothing on stderr but errors and the lab's mark.")
    )
    text = "Say on stderr what is read, asked and written."
    shared.append(_option("verbose", bool, False, "--verbose", "-v", text=text))
    return shared


def command(
    app: typer.Typer,
    name: str,
    *,
    site: bool = False,
    state: bool = False,
    mask: bool = False,
    deadline: float | None = None,
    deadline_help: str = DEADLINE,
    dry_run: str | None = None,
    keys: tuple[inspect.Parameter, ...] = (),
    secrets: bool = True,
) -> Callable[[Body], Body]:
    """Register a command with the options it shares with others.

    The function gets a Session first, then its own options; it returns the exit code. Its help shows its own options
    before the shared ones. name: all words, such as "name list". deadline: the default in seconds; None: it waits for
    nobody. dry_run: the help of --dry-run; None: it has none. keys: options for the keys of a table; those that were
    given reach the function as its second argument. secrets: it may need what the site file's references lead to.
    """
    told = {"deadline": deadline, "deadline_help": deadline_help, "dry_run": dry_run, "secrets": secrets}
    shared = _shared(site=site, state=state, mask=mask, **told)  # type: ignore[arg-type]

    def decorate(body: Body) -> Body:
        hints = get_type_hints(body, include_extras=True)
        own = list(inspect.signature(body).parameters.values())[2 if keys else 1 :]

        def run(**given: Any) -> None:
            values = {parameter.name: given.pop(parameter.name) for parameter in shared}
            within("--deadline", values.get("deadline", 1), 0.05, 3600)
            if values.pop("insecure_files", False):
                allow_shared_files()
            rows = {parameter.name: given.pop(parameter.name) for parameter in keys}
            first = ({key: value for key, value in rows.items() if value not in (None, [])},) if keys else ()
            raise typer.Exit(body(Session(name, keeps=state, **values), *first, **given) or 0)

        parameters = [
            parameter.replace(annotation=hints[parameter.name], kind=inspect.Parameter.KEYWORD_ONLY)
            for parameter in own
        ]
        run.__signature__ = inspect.Signature([*keys, *parameters, *shared])  # type: ignore[attr-defined]
        run.__annotations__ = {parameter.name: parameter.annotation for parameter in (*keys, *parameters, *shared)}
        run.__doc__, run.__name__ = body.__doc__, body.__name__
        app.command(name.rpartition(" ")[2], cls=helped(*data("examples")[name]))(run)
        return body

    return decorate
