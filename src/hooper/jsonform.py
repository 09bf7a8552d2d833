"""The JSON that every command prints: one head, one form of errors, plain values."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Hashable, Iterable, Mapping
from datetime import date, datetime
from functools import cache
from typing import Any, TypeVar, cast

from hooper import __version__
from hooper.clock import rfc3339
from hooper.errors import HooperError, flatten
from hooper.secret import redact
from hooper.visible import as_json, in_json
from hooper.words.said import Said, quoted

T = TypeVar("T")
World = str  # "real" or "lab"


def head(command: str, at: datetime, world: World) -> dict[str, Any]:
    """What every document starts with."""
    return {"hooper": __version__, "command": command, "at": rfc3339(at), "world": world}


def plain(value: Any, told: Callable[[Said], Any] = lambda told: redact(str(told))) -> Any:
    """`value` as JSON knows it. Dataclasses become objects; secrets are taken out of every text.

    told: what becomes of what is told: its sentence.
    """
    if isinstance(value, Said):
        return told(value)
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        # a name that Python keeps for itself carries an underscore: from_
        return {field.name.rstrip("_"): plain(getattr(value, field.name), told) for field in dataclasses.fields(value)}
    if isinstance(value, Mapping):
        return {str(key): plain(item, told) for key, item in value.items()}
    if isinstance(value, str):
        return redact(value)
    if value is None or isinstance(value, bool | int | float):
        return value
    if isinstance(value, datetime):
        return rfc3339(value)
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, Iterable):
        return [plain(item, told) for item in value]
    return redact(str(value))


def kept(value: Any) -> Any:
    """`value` as it is kept, to be read again by `read_as`: what is told in it stays a code with its values."""
    return plain(value, lambda told: told.written(redact))


def each_text(value: T, change: Callable[[str], str]) -> T:
    """`value` with every text inside it changed: what holds one is rebuilt, dataclasses, tuples, lists and dicts."""
    return cast(T, _changed(value, change))


def _changed(value: Any, change: Callable[[str], str]) -> Any:
    if isinstance(value, str):
        return change(value)
    if isinstance(value, Said):
        return quoted(change(str(value)))
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        old = {field.name: getattr(value, field.name) for field in dataclasses.fields(value)}
        new = {name: _changed(item, change) for name, item in old.items()}
        return value if _same(old.values(), new.values()) else dataclasses.replace(value, **new)
    if isinstance(value, dict):
        return {_changed(key, change): _changed(item, change) for key, item in value.items()}
    if isinstance(value, tuple | list):
        items = [_changed(item, change) for item in value]
        if _same(value, items):
            return value
        return type(value)(*items) if hasattr(value, "_fields") else type(value)(items)
    return value


def _same(old: Iterable[Any], new: Iterable[Any]) -> bool:
    return all(one is other for one, other in zip(old, new, strict=True))


@cache
def _reader(kind: Any) -> Any:
    from pydantic import TypeAdapter

    return TypeAdapter(kind)


def read_as(kind: type[T], value: Any) -> T:
    """What `plain` was made of: a dataclass, or whatever else a type names. Raises: ValueError: it is none."""
    return cast(T, _reader(cast(Hashable, kind)).validate_python(value))


def read_json(kind: type[T], data: bytes) -> T:
    """A JSON text that is not ours, as that type. Raises: ValueError: it is no JSON, or of another form."""
    return cast(T, _reader(cast(Hashable, kind)).validate_json(data))


def read_if(kind: type[T], value: Any) -> T | None:
    """As `read_as`; None: it is none, such as what another version has kept."""
    try:
        return read_as(kind, value)
    except ValueError:
        return None


def error_objects(errors: Iterable[HooperError]) -> list[dict[str, Any]]:
    """The `errors` of a document, several inside single taken apart."""
    return [
        {
            "code": single.code,
            "message": redact(single.message if single.args else str(single)),
            "remedy": redact(single.remedy),
            "where": None
            if single.where is None
            else {
                "file": single.where.file,
                "line": single.where.line,
                "column": single.where.column,
                "path": single.where.path,
            },
        }
        for error in errors
        for single in flatten(error)
    ]


def dump(document: Mapping[str, Any]) -> str:
    """The document as text, ending in a newline."""
    import json

    return in_json(json.dumps(document, ensure_ascii=False, indent=2)) + "\n"


def in_encoding(text: str, encoding: str | None) -> str:
    """A JSON text for an output of that encoding: what it lacks is escaped (RFC 8259 section 7)."""
    try:
        text.encode(encoding or "ascii")
    except (UnicodeEncodeError, LookupError):
        return "".join(sign if sign.isascii() else as_json(sign) for sign in text)
    return text


def dump_line(document: Mapping[str, Any]) -> str:
    """The document as one line of JSON Lines."""
    import json

    return in_json(json.dumps(document, ensure_ascii=False, separators=(",", ":"))) + "\n"
