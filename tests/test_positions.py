"""The scanner gives, for every value of any TOML text, exactly the characters that make it."""

from __future__ import annotations

import tomllib
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from hooper.site.mistakes import DEPTH_LIMIT, Path
from hooper.site.positions import LineIndex, positions, too_deep
from support.program import BOATHOUSE

BARE = st.text("abcXYZ09_-", min_size=1, max_size=6)
SPACE = st.sampled_from(["", " ", "\t", "  "])
BREAK = st.sampled_from(["\n", "\r\n", " # note, with [brackets] = \"and\" 'quotes'\n", "\n\n  # more\n"])


def _quoted(text: str) -> str:
    inner = (
        text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n").replace("\r", "\\r").replace("\t", "\\t")
    )
    return f'"{inner}"'


TEXT = st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), max_size=12)
KEYS = st.one_of(BARE, TEXT.map(_quoted), st.from_regex(r"'[a-z .#\[\]={}]{0,6}'", fullmatch=True))
SCALARS = st.one_of(
    st.integers(-10_000, 10_000).map(str),
    st.booleans().map(lambda value: str(value).lower()),
    TEXT.map(_quoted),
    st.from_regex(r"'[a-z #\[\]={},]{0,8}'", fullmatch=True),
    st.sampled_from(["1.5", "-0.0", "inf", "2026-05-01", "2026-05-01T09:30:00Z", "09:30:00", "0xff", "1_000"]),
    st.sampled_from(['"""a\n"b" # c\\"""d"""', "'''x\n]} = '''", '"""\n""\\\n  z"""""', '""""q"""', "''''''"]),
)


@st.composite
def values(draw: st.DrawFn, depth: int = 2) -> str:
    if depth == 0 or draw(st.booleans()):
        return str(draw(SCALARS))
    items = draw(st.lists(values(depth - 1), max_size=3))
    if draw(st.booleans()):
        gap = st.one_of(SPACE, BREAK)
        return "[" + ",".join(draw(gap) + item + draw(gap) for item in items) + "]"
    names = draw(st.lists(BARE, min_size=len(items), max_size=len(items), unique=True))
    pairs = [draw(SPACE) + n + draw(SPACE) + "=" + draw(SPACE) + v for n, v in zip(names, items, strict=True)]
    return "{" + ",".join(pair + draw(SPACE) for pair in pairs) + "}"


@st.composite
def documents(draw: st.DrawFn) -> str:
    lines: list[str] = []
    for number in range(draw(st.integers(0, 3)) + 1):
        if number:
            header = draw(st.sampled_from(["[t{0}]", "[[list]]", "[ t{0} . 'sub.x' ]", "[list_{0}.x.y]"])).format(
                number
            )
            lines.append(header + draw(BREAK))
        for key in draw(st.lists(KEYS, max_size=3, unique=True)):
            prefix = draw(st.sampled_from(["", "d.", "d . e ."]))
            lines.append(draw(SPACE) + prefix + key + draw(SPACE) + "=" + draw(SPACE) + draw(values()) + draw(BREAK))
    return "".join(lines)


def _leaves(value: Any, path: Path = ()) -> Any:
    yield path, value
    if isinstance(value, dict):
        for key, item in value.items():
            yield from _leaves(item, (*path, key))
    elif isinstance(value, list):
        for number, item in enumerate(value):
            yield from _leaves(item, (*path, number))


@given(documents())
def test_every_value_is_found_where_it_stands(text: str) -> None:
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        return  # two keys of the same name, say
    found = positions(text)
    for path, value in _leaves(data):
        if not path:
            continue
        span = found[path]
        written = text[span.start : span.end]
        if not isinstance(value, dict | list) or written[:1] in "[{":
            if isinstance(value, dict) and not written.startswith("{"):
                continue  # a table: its span is its header
            if isinstance(value, list) and written.startswith("[["):
                continue
            assert repr(tomllib.loads("x = " + written)["x"]) == repr(value)


def test_the_boathouse_is_found_whole() -> None:
    found = positions(BOATHOUSE)
    for path, _ in _leaves(tomllib.loads(BOATHOUSE)):
        assert not path or path in found
    span = found["hosts", "recorder", "address"]
    assert BOATHOUSE[span.start : span.end] == '"010.044.007.022"'


def test_depth_is_measured_outside_of_texts_and_comments() -> None:
    assert too_deep("a = '" + "[" * 500 + "'\n# " + "[" * 500 + '\nb = """\n' + "{" * 500 + '"""') is None
    assert too_deep("a = " + "[" * DEPTH_LIMIT + "]" * DEPTH_LIMIT) is None
    assert too_deep("a = " + "[" * (DEPTH_LIMIT + 1)) == 4 + DEPTH_LIMIT
    assert too_deep("x = 1\n" + "a." * 5000 + "b = 1") == 6


def test_lines_count_from_one_and_carriage_returns_belong_to_their_line() -> None:
    lines = LineIndex("ab\r\ncd\n")
    assert [lines(offset) for offset in (0, 1, 4, 5, 7)] == [(1, 1), (1, 2), (2, 1), (2, 2), (3, 1)]
