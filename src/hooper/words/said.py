"""What is told, as a value: a code of said.json and what its words name. It becomes a sentence where it leaves. Pure.

Nothing below the command line and the report reads the sentence; what decides asks for codes and values.
"""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import date, datetime
from functools import cache, lru_cache
from typing import Any

from hooper.words.catalogue import Kind, catalogue
from hooper.words.data import data

Value = Any  # str, int, float, bool, None, datetime, date, Said, or a tuple of them


@dataclass(frozen=True)
class Said:
    """One thing that can be told. code: in said.json; empty: nothing. values: what its words name, in order of names.
    more: what is told with it, right behind it.
    """

    code: str
    values: tuple[tuple[str, Value], ...] = ()
    more: tuple[Said, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.code or self.more)

    def __str__(self) -> str:
        """As a sentence, or a part of one."""
        own = template(self.code).format_map({key: _Shown(value) for key, value in self.values}) if self.code else ""
        return own + "".join(map(str, self.more))

    def __add__(self, other: Said | str) -> Said:
        """What is told, and `other` behind it: more of it, or a mark such as a full stop."""
        if isinstance(other, str):
            other = quoted(other)
        if not self:
            return other
        return Said(
            self.code,
            self.values,
            (*self.more, *((Said(other.code, other.values),) if other.code else ()), *other.more),
        )

    def __getitem__(self, name: str) -> Value:
        """A value. Raises: KeyError."""
        return dict(self.values)[name]

    @property
    def parts(self) -> Iterator[Said]:
        """It, and what is told with it."""
        if self.code:
            yield Said(self.code, self.values)
        yield from self.more

    def written(self, shown: Callable[[str], str] = str) -> list[Any]:
        """As JSON keeps it: the code, the values, what is told with it. shown: what becomes of each text in it."""
        values = {key: _as_json(value, shown) for key, value in self.values}
        return [self.code, values, *(one.written(shown) for one in self.more)]

    @classmethod
    def read(cls, kept: Any) -> Said:
        """What `written` gave. Raises: ValueError: it is none."""
        if not isinstance(kept, list) or len(kept) < 2 or not (isinstance(kept[0], str) and isinstance(kept[1], dict)):
            raise ValueError(f"nothing that can be told: {kept!r:.60}")
        code, values, *more = kept
        read = tuple((key, _from_json(value)) for key, value in values.items())
        try:
            fits = not code or {key for key, _ in read} == fields(code)
        except KeyError:
            raise ValueError(f"there is no code {code!r:.60}") from None
        if not fits:
            raise ValueError(f"{code} has other values")
        return cls(code, read, tuple(cls.read(one) for one in more))

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: Any) -> Any:
        """For documents that are kept, and read again."""
        from pydantic_core import core_schema

        def read(value: Any) -> Said:
            if isinstance(value, str):  # as an earlier Hooper wrote it
                return quoted(value)
            return value if isinstance(value, Said) else cls.read(value)

        return core_schema.no_info_plain_validator_function(read)

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: Any, handler: Any) -> Any:
        """As it is printed."""
        return {"type": "string"}


NOTHING = Said("")


def say(code: str, /, **values: Value) -> Said:
    """What is told, by its code. What is neither a text, a number nor a moment is kept as it is written."""
    return Said(code, tuple((key, _value(value)) for key, value in values.items()))


def as_text(told: Said, shown: Callable[[str], str] = str) -> str:
    """As the state keeps it, in one text."""
    return json.dumps(told.written(shown), ensure_ascii=False)


@lru_cache(1024)
def from_text(kept: str) -> Said:
    """What `as_text` wrote. Raises: ValueError: it is none."""
    return Said.read(json.loads(kept))


def general(kind: Kind, code: str, slot: str) -> Said:
    """What a code means, as a value. slot: what, why or do, as the catalogue has it."""
    return Said(f"{kind}s/{code}/{slot}")


def state_words(state: str) -> Said:
    """How something stands, as people read it; an address, or a moment, stands for itself."""
    code = f"is.{state}"
    return say(code) if code in templates() else quoted(state)


def quoted(text: str) -> Said:
    """What somebody else said, in their words: a device, a server, an error."""
    return Said("quoted", (("text", text),)) if text else NOTHING


def together(parts: Iterable[Said], between: str = "; ") -> Said:
    """Several things one after another, with a mark between them."""
    out = NOTHING
    for part in parts:
        if part:
            out = out + quoted(between) + part if out else part
    return out


@cache
def fields(code: str) -> frozenset[str]:
    """The names of the values that a code has. Raises: KeyError."""
    from string import Formatter

    return frozenset(name for _, name, _, _ in Formatter().parse(template(code)) if name)


def template(code: str) -> str:
    """The words of a code, with its values as {names}. Raises: KeyError: there is none such."""
    if code.count("/") == 2:
        kind, known, slot = code.split("/")
        text: str = catalogue()[kind][known][slot]
        return text.replace("{", "{{").replace("}", "}}")
    return templates()[code]


def told_of(code: str, part: str, values: Mapping[str, Value]) -> Said:
    """One part of what is told of a finding or a cause: `says`, `do`, or `sure`, what would make it certain.

    code: with its variant behind a dot, where the case at hand has words of its own; a part that has none of these is
    as the code has it. values: of all its parts. NOTHING: it has no such part.
    """
    name, used = _part(code, part)
    return Said(name, tuple((key, _value(values[key])) for key in used)) if name else NOTHING


@cache
def _part(code: str, part: str) -> tuple[str, tuple[str, ...]]:
    """The code of one part of what is told, and the values that it has; empty: there is no such part."""
    stem = code.partition(".")[0]
    name = next((one for one in (f"{code}.{part}", f"{stem}.{part}") if one in templates()), "")
    return name, tuple(sorted(fields(name))) if name else ()


def templates() -> Mapping[str, str]:
    """All sentences and parts of some, by code."""
    return data("said")


class _Shown:
    """A value as it stands in a sentence. A tuple is a list; its format says what stands for none, and behind | what
    stands between two: {names:no name}, {lines:| and }. {option:quoted} is a word of a command.
    """

    def __init__(self, value: Value) -> None:
        self.value = value

    def __format__(self, form: str) -> str:
        if isinstance(self.value, tuple):
            none, _, between = form.partition("|")
            return (between or ", ").join(map(str, self.value)) or none
        if isinstance(self.value, datetime):
            # kept in UTC, shown as clocks here go
            return format(self.value.astimezone(), form or "%Y-%m-%d %H:%M")
        if form == "quoted":
            return shlex.quote(str(self.value))
        try:
            return format(self.value, form)
        except (ValueError, TypeError):  # what was kept by others need not be a date
            return str(self.value)

    def __repr__(self) -> str:
        return repr(self.value)


_PLAIN = (str, int, Said)  # most are


def _value(value: Value) -> Value:
    if value is None or type(value) in _PLAIN or isinstance(value, str | int | float | date):
        return value
    if isinstance(value, Iterable) and not hasattr(value, "_fields") and not hasattr(value, "prefixlen"):
        return tuple(_value(one) for one in value)
    return str(value)  # an address, a network, a range of ports


def _as_json(value: Value, shown: Callable[[str], str]) -> Any:
    if isinstance(value, str):
        return shown(str(value))
    if isinstance(value, Said):
        return {"said": value.written(shown)}
    if isinstance(value, datetime):
        return {"moment": value.isoformat()}
    if isinstance(value, date):
        return {"day": value.isoformat()}
    if isinstance(value, tuple):
        return [_as_json(one, shown) for one in value]
    return value


def _from_json(value: Any) -> Value:
    """Raises: ValueError."""
    if isinstance(value, list):
        return tuple(map(_from_json, value))
    if isinstance(value, dict):
        ((kind, inner),) = value.items()
        if kind == "said":
            return Said.read(inner)
        return datetime.fromisoformat(inner) if kind == "moment" else date.fromisoformat(inner)
    return value
