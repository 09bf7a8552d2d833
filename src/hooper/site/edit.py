"""Edits of a site file's text that change only the bytes they mean: comments and all else stay as they are. Pure.

Each edit ends with a proof: what tomllib reads afterwards is what it read before, with just this change.
"""

from __future__ import annotations

import copy
import json
import re
import tomllib
from collections.abc import Callable, Mapping, Sequence
from datetime import date
from typing import Any

from hooper.errors import UsageError
from hooper.site.mistakes import Path
from hooper.site.positions import KEYS, Header, Layout, Pair, comments, layout, texts

Value = str | bool | int | date | Sequence["Value"] | Mapping[str, "Value"]
Rows = Mapping[str, Value]


class CannotEdit(UsageError):
    """The file is written in a way that this edit would not survive."""

    code = "cannot-edit"
    remedy = "Change it by hand in your editor; nothing was written."


# --- values as text


def literal(value: Value) -> str:
    """A value as TOML writes it: text in quotes, numbers, true and false, dates, [lists], { tables }."""
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, Mapping):
        inside = ", ".join(f"{key_text(key)} = {literal(one)}" for key, one in value.items())
        return f"{{ {inside} }}" if inside else "{}"
    return "[" + ", ".join(literal(item) for item in value) + "]"


def key_text(key: str) -> str:
    """A key as TOML writes it: bare where it can be."""
    return key if re.fullmatch(r"[A-Za-z0-9_-]+", key) else literal(key)


def dotted_key(path: Path) -> str:
    """The text between the brackets of a table's header."""
    return ".".join(key_text(str(part)) for part in path if not isinstance(part, int))


# --- edits


def set_key(text: str, table: Path, key: str, value: Value) -> str:
    """Set one key of a table; the table is made where it is not there yet. Raises: CannotEdit."""

    def change(data: Any) -> None:
        _reach(data, table)[key] = _plain(value)

    return _proven(text, _set_key(text, table, key, literal(value)), change)


def add_keys(text: str, rows: Sequence[tuple[Path, str, Value]]) -> str:
    """Add many keys that are not there yet: (table, key, value). One reading for all of them. Raises: CannotEdit."""

    def change(data: Any) -> None:
        for table, key, value in rows:
            _reach(data, table)[key] = _plain(value)

    where = layout(text)
    headers = {header.path: header for header in where.headers}
    last: dict[Path, Pair] = {pair.base: pair for pair in where.pairs if not pair.inline}
    before, later, inserts = text, [], []
    for table, key, value in rows:
        if table not in headers:
            later.append((table, key, value))
            continue
        own = last.get(table)
        end = _line_end(text, own.end if own is not None else headers[table].end)
        indent = _indent(text, own.start if own is not None else headers[table].start)
        inserts.append((end, f"{indent}{key_text(key)} = {literal(value)}{_newline(text)}"))
    parts, at = [], 0
    for end, line in sorted(inserts):
        parts += [text[at:end], "" if text[:end].endswith("\n") else _newline(text), line]
        at = end
    text = "".join([*parts, text[at:]])
    for table, key, value in later:
        text = _set_key(text, table, key, literal(value))
    return _proven(before, text, change)


def remove_key(text: str, table: Path, key: str) -> str:
    """Take one key and its value away; its comment stays. Raises: CannotEdit."""

    def change(data: Any) -> None:
        del _reach(data, table)[key]

    return _proven(text, _cut(text, (*table, key)), change)


def add_table(text: str, path: Path, rows: Rows) -> str:
    """Add a table that is not there yet, after the last of its kind. Raises: CannotEdit."""

    def change(data: Any) -> None:
        _reach(data, path[:-1])[path[-1]] = _plain(rows)

    where = layout(text)
    inline = _pair_at(where, path[:1])
    if inline is not None and not any(header.path[:1] == path[:1] for header in where.headers):
        return _proven(text, _set_key(text, path[:-1], str(path[-1]), literal(rows)), change)
    return _proven(text, _with_block(text, path[:1], f"[{dotted_key(path)}]", rows), change)


def add_entry(text: str, path: Path, rows: Rows) -> str:
    """Add an entry to a list of tables; a table that stands alone there becomes the first entry. Raises: CannotEdit."""

    def change(data: Any) -> None:
        around = _reach(data, path[:-1])
        old = around.get(path[-1])
        before = [] if old is None else [old] if isinstance(old, dict) else old
        around[path[-1]] = [*before, _plain(rows)] if before else _plain(rows)

    return _proven(text, _add_entry(text, path, rows), change)


def remove_table(text: str, path: Path) -> str:
    """Take a table with all that belongs to it away; comments stay. Raises: CannotEdit."""

    def change(data: Any) -> None:
        del _reach(data, path[:-1])[path[-1]]

    return _proven(text, _cut(text, path), change)


def rename_table(text: str, path: Path, new: str) -> str:
    """Another last name for a table, with all that belongs to it. Raises: CannotEdit."""
    at = len(path) - 1

    def change(data: Any) -> None:
        around = _reach(data, path[:-1])
        around[new] = around.pop(path[-1])

    def renamed(whole: Path, base: Path = ()) -> str:
        return dotted_key((*whole[:at], new, *whole[at + 1 :])[len(base) :])

    where, cuts = layout(text), list[tuple[int, int, str]]()
    for header in where.headers:
        if header.path[: at + 1] == path:
            inner = renamed(header.path)
            cuts.append((header.start, header.end, f"[[{inner}]]" if header.array else f"[{inner}]"))
    for pair in where.pairs:
        if pair.path[: at + 1] == path and len(pair.base) <= at:
            written = re.match(KEYS, text[pair.start : pair.value])
            assert written is not None
            cuts.append((pair.start, pair.start + written.end(), renamed(pair.path, pair.base)))
    return _proven(text, _spliced(text, cuts), change)


def set_item(text: str, table: Path, key: str, index: int, value: str) -> str:
    """Another text in a list of texts; all around it stays. Raises: CannotEdit."""

    def change(data: Any) -> None:
        _reach(data, table)[key][index] = value

    pair = _pair_at(layout(text), (*table, key))
    spans = texts(text, pair.value, pair.end) if pair is not None else []
    cut = [(*spans[index], literal(value))] if index < len(spans) else []
    return _proven(text, _spliced(text, cut), change)


def _spliced(text: str, cuts: Sequence[tuple[int, int, str]]) -> str:
    """Other text from start to end, for each."""
    for start, end, instead in sorted(cuts, reverse=True):
        text = text[:start] + instead + text[end:]
    return text


# --- how


def _proven(before: str, after: str, change: Callable[[Any], None]) -> str:
    """`after`, once it is sure that it says what was meant and nothing else."""
    try:
        wanted = copy.deepcopy(tomllib.loads(before))
        change(wanted)
        got = tomllib.loads(after)
    except (tomllib.TOMLDecodeError, KeyError, TypeError) as exc:
        raise CannotEdit(f"this file's way of writing tables does not take that edit ({exc})") from None
    # A table that a removal leaves empty may be gone or stay: both mean the same.
    if _without_empty(got) != _without_empty(wanted):
        raise CannotEdit("this file's way of writing tables does not take that edit")
    return after


def _without_empty(value: Any) -> Any:
    if isinstance(value, dict):
        inner = {key: _without_empty(one) for key, one in value.items()}
        return {key: one for key, one in inner.items() if one != {}}
    return value


def _plain(value: Value) -> Any:
    if isinstance(value, Mapping):
        return {key: _plain(one) for key, one in value.items()}
    if isinstance(value, str | bool | int | date):
        return value
    return [_plain(item) for item in value]


def _reach(data: Any, path: Path) -> Any:
    for part in path:
        data = data[part] if isinstance(part, int) else data.setdefault(part, {})
    return data


def _newline(text: str) -> str:
    return "\r\n" if "\r\n" in text else "\n"


def _pair_at(where: Layout, path: Path) -> Pair | None:
    return next((pair for pair in where.pairs if pair.path == path), None)


def _line_end(text: str, at: int) -> int:
    """The offset after the line that `at` is in, its newline included."""
    end = text.find("\n", at)
    return len(text) if end < 0 else end + 1


def _line_start(text: str, at: int) -> int:
    return text.rfind("\n", 0, at) + 1


def _inserted_line(text: str, at: int, line: str) -> str:
    """A line of its own, put after the line that `at` is in."""
    newline = _newline(text)
    end = _line_end(text, at)
    before = "" if text[:end].endswith("\n") or not end else newline
    return text[:end] + before + line + newline + text[end:]


def _set_key(text: str, table: Path, key: str, value: str) -> str:
    where = layout(text)
    pair = _pair_at(where, (*table, key))
    if pair is not None:
        return _replaced(text, pair, value)
    line = f"{key_text(key)} = {value}"
    header = next((head for head in where.headers if head.path == table), None)
    if header is not None:
        own = [pair for pair in where.pairs if pair.base == table and not pair.inline]
        last = max((pair.end for pair in own), default=header.end)
        return _inserted_line(text, last, _indent(text, own[-1].start if own else header.start) + line)
    braces = _pair_at(where, table)
    if braces is not None:
        return _into_braces(text, where, braces, line)
    spread = [pair for pair in where.pairs if pair.path[: len(table)] == table and not pair.inline]
    if spread:  # as ready.clock = true
        last_pair = spread[-1]
        prefix = dotted_key(table[len(last_pair.base) :])
        return _inserted_line(text, last_pair.end, f"{_indent(text, last_pair.start)}{prefix}.{line}")
    if len(table) > 1:
        return _set_key(text, table[:-1], str(table[-1]), f"{{ {line} }}")
    return _with_lines(text, table, [f"[{dotted_key(table)}]", line])


def _replaced(text: str, pair: Pair, value: str) -> str:
    """Another value; comments inside the old one move above the line."""
    inside = comments(text, pair.value, pair.end)
    text = text[: pair.value] + value + text[pair.end :]
    start = _line_start(text, pair.start)
    above = "".join(_indent(text, pair.start) + line + _newline(text) for line in inside)
    return text[:start] + above + text[start:]


def _indent(text: str, at: int) -> str:
    line = text[_line_start(text, at) : at]
    return line if not line.strip() else ""


def _into_braces(text: str, where: Layout, braces: Pair, line: str) -> str:
    inner = [pair for pair in where.pairs if braces.value < pair.start and pair.end < braces.end]
    direct = [pair for pair in inner if not any(o.value < pair.start and pair.end <= o.end for o in inner if o != pair)]
    if not direct:
        return text[: braces.value] + f"{{ {line} }}" + text[braces.end :]
    last = max(pair.end for pair in direct)
    return text[:last] + ", " + line + text[last:]


def _with_block(text: str, kind: Path, header: str, rows: Rows) -> str:
    return _with_lines(text, kind, [header, *(f"{key_text(key)} = {literal(value)}" for key, value in rows.items())])


def _with_lines(text: str, kind: Path, lines: list[str]) -> str:
    """A block of lines after the last table whose path starts with `kind`, else at the end."""
    where, newline = layout(text), _newline(text)
    at = max((_block_end(where, header) for header in where.headers if header.path[: len(kind)] == kind), default=None)
    block = newline.join(lines) + newline
    if at is None:
        gap = "" if not text or text.endswith("\n\n") else newline if text.endswith("\n") else newline * 2
        return text + gap + block
    end = _line_end(text, at)
    before = newline if text[:end].endswith("\n") else newline * 2
    return text[:end] + before + block + text[end:]


def _block_end(where: Layout, header: Header) -> int:
    """The end of the last pair under a header, or of the header."""
    own = [
        pair.end for pair in where.pairs if pair.base == header.path and not pair.inline and pair.start > header.start
    ]
    return max(own, default=header.end)


def _add_entry(text: str, path: Path, rows: Rows) -> str:
    where = layout(text)
    pair = _pair_at(where, path)
    if pair is not None:
        if text[pair.value] == "{":
            return text[: pair.value] + f"[{text[pair.value : pair.end]}, {literal(rows)}]" + text[pair.end :]
        inner = text[pair.value + 1 : pair.end - 1]
        if not inner.strip():
            return text[: pair.value] + f"[{literal(rows)}]" + text[pair.end :]
        entries = [entry for entry in where.pairs if pair.value < entry.start and entry.end < pair.end]
        last = text.rindex("}", pair.value, pair.end) if entries else pair.end - 2
        return text[: last + 1] + f", {literal(rows)}" + text[last + 1 :]
    single = next((header for header in where.headers if header.path == path and not header.array), None)
    if single is not None:
        text = text[: single.start] + f"[{text[single.start : single.end]}]" + text[single.end :]
        return _with_block(text, path, f"[[{dotted_key(path)}]]", rows)
    if any(head.path[:-1] == path and head.array for head in where.headers):
        return _with_block(text, path, f"[[{dotted_key(path)}]]", rows)
    if any(head.path == path[:-1] for head in where.headers):
        return _with_block(text, path[:-1], f"[{dotted_key(path)}]", rows)
    return _set_key(text, path[:-1], str(path[-1]), literal(rows))


def _cut(text: str, path: Path) -> str:
    """Without all that stands under `path`: headers, pairs, dotted keys. Comments stay."""
    where = layout(text)
    cuts: list[tuple[int, int]] = []
    for header in where.headers:
        if header.path[: len(path)] == path:
            cuts.append((header.start, header.end))
    for pair in where.pairs:
        if pair.path[: len(path)] == path and not any(start <= pair.start and pair.end <= end for start, end in cuts):
            cuts.append((pair.start, pair.end))
    outer = [cut for cut in cuts if not any(o != cut and o[0] <= cut[0] and cut[1] <= o[1] for o in cuts)]
    inline = {(pair.start, pair.end) for pair in where.pairs if pair.inline}
    for start, end in sorted(outer, reverse=True):
        text = _cut_inline(text, start, end) if (start, end) in inline else _cut_line(text, start, end)
    return text


def _cut_inline(text: str, start: int, end: int) -> str:
    """Without one pair in braces, and without the comma that it leaves behind."""
    after = re.match(r"[ \t]*,[ \t]*", text[end:])
    if after:
        return text[:start] + text[end + after.end() :]
    before = re.search(r"[ \t]*,[ \t]*$", text[:start])
    return (text[: before.start()] if before else text[:start]) + text[end:]


def _cut_line(text: str, start: int, end: int) -> str:
    """Without what stands from start to end; its line goes too where nothing is left on it."""
    kept, newline = comments(text, start, end), _newline(text)
    first, last = _line_start(text, start), _line_end(text, end)
    indent, rest = text[first:start], text[end:last]
    left = "".join(indent + line + newline for line in kept)
    if rest.strip():  # a comment behind it
        return text[:first] + left + indent + rest.lstrip(" \t") + text[last:]
    if left:
        return text[:first] + left + text[last:]
    blank_before = first == 0 or not text[_line_start(text, first - 1) : first].strip()
    following = text[last : _line_end(text, last)]
    if blank_before and last < len(text) and not following.strip():
        last = _line_end(text, last)  # not two blank lines in a row where there was a table
    return text[:first] + text[last:]
