"""What a person always wants: a small file in the platform's folder for configurations, below every option."""

from __future__ import annotations

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
    path = preferences_path()
    try:
        written = path.stat().st_mtime_ns
    except OSError:
        written = None
    return _read(path, written, named_lab() is not None)


@cache
def _read(path: Path, written: int | None, lab: bool) -> Preferences:
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
    from hooper.errors import SiteFileError
    from hooper.site.load import parse_toml
    from hooper.site.positions import LineIndex, positions

    try:
        given: dict[str, object] = parse_toml(text, str(path))
    except SiteFileError as exc:
        raise UsageError(f"{exc.where}: {exc.message}", remedy=exc.remedy) from None
    lines, spans = LineIndex(text), positions(text)
    for key, value in given.items():
        line, column = lines(spans[(key,)].key) if (key,) in spans else (1, 1)
        where = f"{path}:{line}:{column}"
        if key not in KINDS:
            near = nearest(key, KINDS)
            hint = f"Did you mean {near[0]}? " if near else ""
            raise UsageError(f"{where}: there is no {key}", remedy=f"{hint}There are: {', '.join(KINDS)}.")
        kind, words = KINDS[key]
        if not isinstance(value, kind):
            raise UsageError(f"{where}: {key} is {words}", remedy="Correct it, or take the line away.")
    return given
