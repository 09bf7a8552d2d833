"""What a device probably is, by what it says of itself. Pure."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import NamedTuple

from hooper.words.data import data
from hooper.words.said import Said, say

Text = tuple[str, str]  # where it stands, as kind.by.* of said.json, and what it says


@dataclass(frozen=True, slots=True)
class Greeting:
    """What one device says of itself; each may be empty.

    announced: the types by which it announces itself: of UPnP without its wrapping, and of DNS-SD. speaks: the
    protocols that it was heard to speak. texts: its own words: titles, names.
    """

    announced: tuple[str, ...] = ()
    speaks: tuple[str, ...] = ()
    texts: tuple[Text, ...] = ()


class KindSeen(NamedTuple):
    """kind: a key of kinds.json; None: it cannot be told. title: in words. by: from what it says so."""

    kind: str | None
    title: str
    by: tuple[Said, ...]


def kind_of(greeting: Greeting) -> KindSeen:
    """The kind that its announcements and protocols name; else the one that its own words name.

    Words decide between a camera and its recorder, which speak alike; where two kinds have a claim, none is named.
    """
    made = [*_announced(greeting), *_spoken(greeting)]
    worded = [*_worded(greeting)]
    kinds, words = _keys(made), _keys(worded)
    if kinds == ["camera-or-recorder"] and len(words) == 1 and words[0] in ("camera", "recorder"):
        kinds, made = words, [*worded, *made]
    if not kinds:
        kinds, made = words, worded
    if "camera-or-recorder" in kinds and len(kinds) > 1:
        kinds = [kind for kind in kinds if kind != "camera-or-recorder"]
    if len(kinds) != 1:
        said = [say(f"kind.by.{place}", text=text) for place, text in greeting.texts if place in ("page", "described")]
        return KindSeen(None, "", tuple(said)[:2])
    wanted = (kinds[0], "camera-or-recorder")
    by = dict.fromkeys(said for kind, said in made if kind in wanted)
    return KindSeen(kinds[0], data("kinds")[kinds[0]]["title"], tuple(by)[:2])


def _keys(claims: list[tuple[str, Said]]) -> list[str]:
    return list(dict.fromkeys(kind for kind, _ in claims))


def _announced(greeting: Greeting) -> Iterator[tuple[str, Said]]:
    for kind, row in data("kinds").items():
        for text in greeting.announced:
            if text in row.get("announced", ()):
                yield kind, say("kind.by.announced", text=text)


def _spoken(greeting: Greeting) -> Iterator[tuple[str, Said]]:
    for kind, row in data("kinds").items():
        for protocol in greeting.speaks:
            if protocol in row.get("speaks", ()):
                yield kind, say("kind.by.speaks", text=protocol.upper())


def _worded(greeting: Greeting) -> Iterator[tuple[str, Said]]:
    for place, text in greeting.texts:
        for kind, pattern in _patterns():
            if pattern.search(text):
                yield kind, say(f"kind.by.{place}", text=text)


@cache
def _patterns() -> list[tuple[str, re.Pattern[str]]]:
    """Of each kind its words: long ones as parts of others too, since many languages write words together."""
    out = []
    for kind, row in data("kinds").items():
        parts = [re.escape(word) if len(word) > 5 else rf"\b{re.escape(word)}\b" for word in row.get("words", ())]
        if parts:
            out.append((kind, re.compile("|".join(parts), re.IGNORECASE)))
    return out
