"""What each code means: findings of a plan, causes of a diagnosis, occasions that a keeper tells of, faults of the lab.

The words stand in catalogue.json, one object a code, and nowhere else. A code may mean one thing as a finding and
another as a cause. Deeds stand in it as in messages, as ⟦see-the-plan⟧. Pure.
"""

from __future__ import annotations

from functools import cache
from typing import Any, Literal, NamedTuple

from hooper.words.data import data

Kind = Literal["finding", "cause", "occasion"]
Severity = Literal["error", "warning", "note"]
KINDS: tuple[Kind, ...] = ("finding", "cause", "occasion")


class CodeWords(NamedTuple):
    """What one code means.

    what: in one clause. why: one sentence on what it does to people. do: the remedy in general. Of a finding: severity
    and group; acceptable: a person may take the risk; gate: rules are not entered while it stands.
    """

    code: str
    kind: Kind
    what: str
    why: str
    do: str
    severity: Severity | None = None
    group: str | None = None
    acceptable: bool = False
    gate: bool = False


class Tick(NamedTuple):
    """One line of a device's list. key: in the site file. question: as a person ticks it off. code: of the finding,
    where it is not so.
    """

    key: str
    question: str
    code: str


class FaultWords(NamedTuple):
    """A fault that the lab can have. cause: the code that a diagnosis of it must come to. what: in one clause."""

    cause: str
    what: str


def catalogue() -> dict[str, dict[str, Any]]:
    """All of catalogue.json."""
    return data("catalogue")


def meaning(kind: Kind, code: str) -> CodeWords:
    """Raises: KeyError: no such code is known as that kind."""
    entry = catalogue()[f"{kind}s"][code]
    return CodeWords(code, kind, **{key: value for key, value in entry.items() if key in CodeWords._fields})


def codes(*kinds: Kind) -> tuple[str, ...]:
    """All codes of these kinds; without one, of all. Each once."""
    return tuple(dict.fromkeys(code for kind in kinds or KINDS for code in catalogue()[f"{kind}s"]))


def meanings(code: str) -> tuple[CodeWords, ...]:
    """All that a code means; empty: there is none such."""
    return tuple(meaning(kind, code) for kind in KINDS if code in catalogue()[f"{kind}s"])


def severity_of(code: str) -> Severity:
    """Of a finding. Raises: KeyError."""
    severity: Severity = catalogue()["findings"][code]["severity"]
    return severity


def groups() -> dict[str, str]:
    """The title of each group of findings, in the order of a page."""
    return dict(catalogue()["groups"])


@cache
def ticks() -> tuple[Tick, ...]:
    """What can be ticked off of a device."""
    return tuple(
        Tick(entry["tick"], entry["question"], code)
        for code, entry in catalogue()["findings"].items()
        if "tick" in entry
    )


@cache
def faults() -> dict[str, FaultWords]:
    """The faults of the lab, by name."""
    return {name: FaultWords(**entry) for name, entry in catalogue()["faults"].items()}


def lines() -> dict[str, str]:
    """The kinds of line that the lab can have, each in one clause."""
    return dict(catalogue()["lines"])
