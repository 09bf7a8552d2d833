"""From the bytes of a site file to its model, or to all its mistakes with line and column."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from hooper import deeds
from hooper.addresses import has_leading_zeros, plain_digits
from hooper.chosen import nearest, not_known
from hooper.errors import HooperError, SeveralErrors, SiteFileError, Where
from hooper.site.mistakes import DEPTH_LIMIT, Path
from hooper.site.model import VERSION, Site, fields_of
from hooper.site.references import MOST, mistakes_between_tables
from hooper.visible import is_plain, shown

if TYPE_CHECKING:
    from hooper.site.positions import LineIndex, Span

SIZE_LIMIT = 32 * 1024 * 1024  # bytes; 10,000 services take about 2 MiB


@dataclass(frozen=True, eq=False)
class SiteFile:
    """A site file that was read: the model and its text; another one, even of the same text, is not the same.

    padded: the addresses written with leading zeros, as (path, as written, as read).
    """

    name: str
    text: str
    site: Site
    padded: tuple[tuple[str, str, str], ...] = ()

    @cached_property
    def spans(self) -> dict[Path, Span]:
        """Where everything stands in the text; looked for when it is first wanted."""
        from hooper.site.positions import positions

        return positions(self.text)

    @cached_property
    def _lines(self) -> LineIndex:
        from hooper.site.positions import LineIndex

        return LineIndex(self.text)

    def where(self, path: Path) -> Where:
        """The place of `path`, or of the nearest table around it."""
        return _where(self.name, path, self.spans, self._lines)


def dotted(path: Path) -> str:
    """`path` as it is written in TOML: names."a.b".line, measure.stun[0]."""
    out = ""
    for part in path:
        if isinstance(part, int):
            out += f"[{part}]"
        else:
            plain = re.fullmatch(r"[A-Za-z0-9_-]+", part)
            out += ("." if out else "") + (part if plain else f'"{part}"')
    return out


def parse_site(data: bytes, name: str) -> SiteFile:
    """Read a site file.

    Args: data: the file's bytes, UTF-8 with or without a byte order mark. name: what to call it in messages.
    Raises: SiteFileError: it is not TOML, or has one mistake. SeveralErrors: it has several, all of them inside.
    """
    text = _decode(data, name)
    raw = parse_toml(text, name)
    if hidden := list(_hidden(raw)):
        file = SiteFile(name, text, Site(version=1))
        raise _one_or_several([_unseen(path, file) for path in hidden])
    try:
        site = Site.model_validate(raw)
    except ValidationError as exc:
        from hooper.site.positions import LineIndex, positions

        spans, lines = positions(text), LineIndex(text)
        found = [_mistake(error, name, spans, lines) for error in exc.errors(include_url=False)]
        raise _one_or_several(sorted(found, key=_place)) from None
    file = SiteFile(name, text, site, tuple(_padded(raw)))
    found = [
        SiteFileError(message, about=dotted(path), remedy=remedy, where=file.where(path), place=path)
        for path, message, remedy in mistakes_between_tables(site)
    ]
    if len(found) >= MOST:
        more = SiteFileError(
            f"there are more: only {MOST} mistakes are told", remedy="Correct these first: often one causes many."
        )
        raise _one_or_several([*sorted(found, key=_place), more])
    if found:
        raise _one_or_several(sorted(found, key=_place))
    return file


def _hidden(value: Any, path: Path = ()) -> Iterator[Path]:
    """Where a text or a key has signs that cannot be seen: nothing in a site file needs them."""
    if isinstance(value, str) and not is_plain(value):
        yield path
    elif isinstance(value, dict):
        for key, item in value.items():
            yield from _hidden(item, (*path, key)) if is_plain(key) else ((*path, key),)
    elif isinstance(value, list):
        for item in value:
            yield from _hidden(item, path)


def _unseen(path: Path, file: SiteFile) -> SiteFileError:
    return SiteFileError(
        "there is a sign in it that cannot be seen, such as a line's end",
        about=shown(dotted(path)),
        remedy="Write it on one line, without control characters.",
        where=file.where(path),
    )


def _place(error: HooperError) -> tuple[int, int]:
    where = error.where
    return (where.line or 0, where.column or 0) if where else (0, 0)


def _one_or_several(errors: list[SiteFileError]) -> HooperError:
    return errors[0] if len(errors) == 1 else SeveralErrors(errors)


def _decode(data: bytes, name: str) -> str:
    if len(data) > SIZE_LIMIT:
        raise SiteFileError(f"the file is larger than {SIZE_LIMIT} bytes", where=Where(name))
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as exc:
        from hooper.site.positions import LineIndex

        before = data[: exc.start].decode("utf-8-sig", "replace")
        line, column = LineIndex(before)(len(before))
        raise SiteFileError(
            f"the byte 0x{data[exc.start]:02x} is not UTF-8",
            remedy="Save the file as UTF-8 in your editor.",
            where=Where(name, line, column),
        ) from None
    bad = re.search(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]", text)
    if bad:
        from hooper.site.positions import LineIndex

        line, column = LineIndex(text)(bad.start())
        raise SiteFileError(
            f"there is a control character here (U+{ord(bad[0]):04X})",
            remedy="Delete it; a site file is plain text.",
            where=Where(name, line, column),
        )
    if not text.strip():
        raise SiteFileError(
            "the file is empty",
            remedy=f"Start with `version = 1`; `{deeds.EXAMPLE}` leaves a complete example in DIR.",
            where=Where(name, 1, 1),
        )
    return text


_AT = re.compile(r" \(at (?:line (\d+), column (\d+)|end of document)\)$")


def parse_toml(text: str, name: str) -> dict[str, Any]:
    """TOML, with the place of what is wrong. Raises: SiteFileError."""
    deep = _too_deep(text)
    if deep is not None:
        line, column = deep
        raise SiteFileError(
            f"brackets or dotted keys are nested more than {DEPTH_LIMIT} deep",
            remedy="A site file needs no such nesting; look for brackets that were never closed.",
            where=Where(name, line, column),
        )
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as exc:
        message = str(exc)
        at = _AT.search(message)
        if at and at[1]:
            line, column = int(at[1]), int(at[2])
        else:
            from hooper.site.positions import LineIndex

            line, column = LineIndex(text)(len(text.rstrip()))
        message, remedy = _plain_words(_AT.sub("", message))
        raise SiteFileError(message, remedy=remedy, where=Where(name, line, column)) from None
    except (RecursionError, ValueError):  # digits past Python's limit for whole numbers
        raise SiteFileError("a value is too long to be read", where=Where(name, 1, 1)) from None


def _too_deep(text: str) -> tuple[int, int] | None:
    """Line and column of what nests too deep, or None. The exact look is only taken where it could be."""
    opened = 0
    for line in text.splitlines():
        opens = line.count("[") + line.count("{")
        closes = 0 if '"' in line or "'" in line or "#" in line else line.count("]") + line.count("}")
        opened += max(0, opens - closes)
        if opens > 8 or line.count(".") >= DEPTH_LIMIT:
            opened = DEPTH_LIMIT
    if opened + 8 <= DEPTH_LIMIT:
        return None
    from hooper.site.positions import LineIndex, too_deep

    deep = too_deep(text)
    return LineIndex(text)(deep) if deep is not None else None


def _plain_words(message: str) -> tuple[str, str]:
    """tomllib's message in our words, and what to do."""
    if match := re.match(r"Cannot declare \((.*?),?\) twice", message):
        parts = [part.strip().strip("'\"") for part in match[1].split(",")]
        return f"the table [{dotted(tuple(parts))}] stands here a second time", "Put its keys into the first one."
    if message.startswith("Cannot overwrite a value"):
        return "this key stands here a second time", "Keep one of the two."
    if message.startswith("Cannot mutate immutable namespace"):
        return "this table was closed above and cannot be added to", "Put all its keys into one place."
    return (
        f"not TOML: {message[:1].lower()}{message[1:]}",
        'A value is text in "quotes", a number, true or false, or a [list]; one key = value on each line.',
    )


def _where(name: str, path: Path, spans: dict[Path, Span], lines: LineIndex, *, key: bool = False) -> Where:
    known = path
    while known and known not in spans:
        known = known[:-1]
    if not known:
        return Where(name, 1, 1, dotted(path) or None)
    span = spans[known]
    line, column = lines(span.key if key or known != path else span.start)
    return Where(name, line, column, dotted(path))


_PLAIN: dict[str, str] = {
    "bool_type": "this is true or false, without quotes",
    "string_type": "this is text, in quotes",
    "int_type": "this is a whole number, without quotes",
    "dict_type": "this is a table with keys of its own",
    "model_type": "this is a table with keys of its own",
    "model_attributes_type": "this is a table with keys of its own",
    "tuple_type": "this is a list in [ ]",
    "date_type": "this is a date, such as 2027-03-31, without quotes",
    "date_parsing": "this is a date, such as 2027-03-31, without quotes",
    "date_from_datetime_parsing": "this is a date, such as 2027-03-31, without quotes",
    "date_from_datetime_inexact": "this is a date without a time, such as 2027-03-31",
    "string_too_short": "this may not be empty",
    "too_short": "this needs at least one entry",
}


def _mistake(error: Any, name: str, spans: dict[Path, Span], lines: LineIndex) -> SiteFileError:
    kind, context = error["type"], error.get("ctx", {})
    # pydantic adds parts to the path for keys and for members of a union, which do not stand in the file
    path: Path = tuple(error["loc"])
    if path and path[-1] == "[key]":
        path = path[:-1]
        where = _where(name, path, spans, lines, key=True)
        return SiteFileError(str(error["msg"]), about=dotted(path), remedy="Choose another name.", where=where)
    while path and path not in spans and kind not in ("missing", "extra_forbidden"):
        path = path[:-1]
    where = _where(name, path, spans, lines, key=kind == "extra_forbidden")
    if kind == "missing":
        return SiteFileError(
            f"the key {path[-1]!r} is missing",
            about=dotted(path[:-1]) or "the file",
            remedy=f"Add a line `{path[-1]} = ...`"
            + (f" below [{dotted(path[:-1])}]." if path[:-1] else " at the top."),
            where=where,
            place=path,
            missing=True,
        )
    if kind == "extra_forbidden":
        allowed = fields_of(path[:-1])
        near = nearest(str(path[-1]), allowed)
        hint = f"did you mean {near[0]!r}? " if near else ""
        return SiteFileError(
            f"no such key here; {hint}allowed: {', '.join(allowed)}",
            about=dotted(path),
            remedy=f"Write {near[0]!r} instead." if near else "Remove it, or use one of the allowed keys.",
            where=where,
        )
    if kind == "literal_error" and path == ("version",):
        return SiteFileError(
            f"this Hooper reads site files of version {VERSION}, not {error['input']!r}",
            about="version",
            remedy=f"Write `version = {VERSION}`, or update Hooper if the file comes from a newer one.",
            where=where,
        )
    if kind == "literal_error":
        choices = re.findall(r"'([^']*)'", str(context.get("expected", "")))
        message = not_known(error["input"], choices)
    elif kind == "string_pattern_mismatch":
        message = f"this does not have the form {context.get('pattern', '')}"
    elif kind in ("greater_than_equal", "less_than_equal"):
        message = str(error["msg"]).replace("Input should be", "this must be")
    else:
        message = _PLAIN.get(kind, str(error["msg"]))
    return SiteFileError(message, about=dotted(path), where=where, place=path)


def _padded(value: Any, path: Path = ()) -> Iterator[tuple[str, str, str]]:
    if isinstance(value, dict):
        for key, item in value.items():
            yield from _padded(item, (*path, key))
    elif isinstance(value, list):
        for number, item in enumerate(value):
            yield from _padded(item, (*path, number))
    elif isinstance(value, str) and has_leading_zeros(value):
        yield dotted(path), value, plain_digits(value)
