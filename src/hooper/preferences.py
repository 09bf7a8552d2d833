"""What a person always wants: a small file in the platform's folder for configurations, below every option."""

from __future__ import annotations

import re
import tomllib
from functools import cache
from pathlib import Path
from typing import NamedTuple

from hooper.chosen import nearest
from hooper.environment import named_lab
from hooper.errors import UsageError
from hooper.files import machine_error, read_whole


class Preferences(NamedTuple):
    """site: the site file, where neither an option, the environment nor this folder has one. state: where results are
    kept. place: from where is looked, as --from takes it. colour: false: none. pager: the command that shows what is
    longer than the screen; empty: none; null: the environment's PAGER.
    """

    site: Path | None = None
    state: Path | None = None
    place: str | None = None
    colour: bool = True
    pager: str | None = None


KINDS: dict[str, tuple[type, str]] = {
    "site": (str, "a path"), "state": (str, "a path"), "place": (str, "such as \"interface\""),
    "colour": (bool, "true or false"), "pager": (str, "a command, or \"\" for none"),
}  # fmt: skip


def preferences_path() -> Path:
    """Where the file stands, or would."""
    from platformdirs import user_config_path

    return user_config_path("hooper", appauthor=False) / "config.toml"


def preferences() -> Preferences:
    """The person's own; a lab has none but those of the screen. Raises: UsageError, MachineError."""
    return _read(preferences_path(), named_lab() is not None)


@cache
def _read(path: Path, lab: bool) -> Preferences:
    try:
        text = read_whole(path).decode("utf-8-sig", "replace")
    except FileNotFoundError:
        return Preferences()
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None
    given = _parsed(text, path)
    for key in ("site", "state"):
        if key in given:
            given[key] = path.parent / Path(str(given[key])).expanduser()
    if lab:
        given = {key: value for key, value in given.items() if key in ("colour", "pager")}
    return Preferences(**given)  # type: ignore[arg-type]


def _parsed(text: str, path: Path) -> dict[str, object]:
    """Each key with its value. Raises: UsageError, with the place in the file."""
    try:
        given: dict[str, object] = tomllib.loads(text)
    except tomllib.TOMLDecodeError as exc:
        place = re.search(r"line (\d+), column (\d+)", str(exc))
        where = f"{path}:{place[1]}:{place[2]}" if place else f"{path}:{text.count(chr(10)) + 1}:1"
        raise UsageError(f"{where}: this is no TOML: {exc}", remedy="Correct it, or take the file away.") from None
    for key, value in given.items():
        line = next((n for n, row in enumerate(text.splitlines(), 1) if re.match(rf"\s*\"?{re.escape(key)}\b", row)), 1)
        if key not in KINDS:
            near = nearest(key, KINDS)
            hint = f"Did you mean {near[0]}? " if near else ""
            raise UsageError(f"{path}:{line}:1: there is no {key}", remedy=f"{hint}There are: {', '.join(KINDS)}.")
        kind, words = KINDS[key]
        if not isinstance(value, kind):
            raise UsageError(f"{path}:{line}:1: {key} is {words}", remedy="Correct it, or take the line away.")
    return given
