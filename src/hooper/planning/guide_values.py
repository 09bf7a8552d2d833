"""What a guided run is made of: questions, what is done, what is known, and how an answer is read. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv6Address
from typing import TYPE_CHECKING, Literal, NamedTuple

from hooper import deeds
from hooper.site.fields import dns_name, own_key
from hooper.words.said import NOTHING, Said, say

if TYPE_CHECKING:
    from hooper.planning.steps_ahead import AheadStep
    from hooper.planning.values import Plan
    from hooper.site.model import Site

SKIP = "skip"


class Choice(NamedTuple):
    """One answer that may be given: its word, and what it means."""

    word: str
    means: Said = NOTHING


@dataclass(frozen=True)
class Asking:
    """One question.

    key: of its answer. text: what is asked. why: why it is asked. default: what Enter answers. choices: the words that
    may be answered; empty: any text that `reads` takes; wan: an IPv4 address, or that there is none. several: some of
    them, with commas between. told: what is said before it.
    """

    key: str
    text: Said
    why: Said
    default: str = ""
    choices: tuple[Choice, ...] = ()
    several: bool = False
    told: tuple[Said, ...] = ()
    reads: Literal["text", "address", "wan", "address6", "key", "name"] = "text"


@dataclass(frozen=True)
class Doing:
    """One thing that is done next.

    name: by which it is known to be done. deed: as `deeds` has it, with what belongs to it. title: what it is for.
    kind: look: it changes nothing; edit: of the site file, which can be taken back; act: of anything else.
    """

    name: str
    deed: str
    kind: Literal["look", "edit", "act"]
    title: Said


Move = Asking | Doing


class DeviceHere(NamedTuple):
    """A new device that was found. about: what it probably is."""

    address: str
    name: str
    about: str


class Untold(NamedTuple):
    """A number that nobody here tells. where: it stands, in words."""

    gateway: str
    where: str


class Before(NamedTuple):
    """A router that another one stands before, by its own outside address."""

    gateway: str
    address: str


@dataclass(frozen=True)
class SoFar:
    """All that the next question depends on.

    site, plan: None while there is no file. steps: what is done and open. answers: of this run, by key; "skip": passed
    over. done: what was done in this run, by name, with the exit code. found: new devices. missing: of the survey.
    outside: the place outside that this computer can look from now; empty: none. system: as `keep unit` names it.
    before: routers that others stand before, which the file does not have.
    """

    site: Site | None = None
    plan: Plan | None = None
    steps: Sequence[AheadStep] = ()
    answers: Mapping[str, str] = field(default_factory=dict)
    done: Mapping[str, int] = field(default_factory=dict)
    found: Sequence[DeviceHere] = ()
    missing: Sequence[Untold] = ()
    outside: str = ""
    system: str = "systemd"
    before: Sequence[Before] = ()

    def said(self, key: str) -> str | None:
        """The answer to a question; None: there is none, or it says nothing."""
        answer = self.answers.get(key)
        return answer if answer not in (None, "", SKIP) else None

    def once(self, doing: Doing) -> Iterator[Move]:
        """It, unless it was done in this run."""
        if doing.name not in self.done:
            yield doing

    def ask(self, question: Asking) -> Iterator[Move]:
        """It, unless it was answered or passed over."""
        if question.key not in self.answers:
            yield question


@dataclass(frozen=True, slots=True)
class GuidedCommand:
    """A command that was run. command: whole. exit_code: of it."""

    command: str
    exit_code: int


@dataclass(frozen=True, slots=True)
class WaitsFor:
    """The question that nobody answered. question: its name, for --answer. text: what it asks. choices: the words that
    it takes; empty: any text. default: what Enter would answer.
    """

    question: str
    text: str
    choices: tuple[str, ...]
    default: str


@dataclass(frozen=True, slots=True)
class GuideDocument:
    """`hooper guide`.

    answers: what was answered, by question. commands: those that were run, in their order. left: how many steps are not
    done; 1 while there is no site file. waits_for: the question that nobody answered; null: none.
    """

    answers: dict[str, str]
    commands: tuple[GuidedCommand, ...]
    left: int
    waits_for: WaitsFor | None


def yes_or_no(yes: str, no: str) -> tuple[Choice, ...]:
    """Both choices, with the codes of what they mean."""
    return Choice("yes", say(yes)), Choice("no", say(no))


def given_as(**values: str | None) -> str:
    """The values that a deed takes, by their names; those that are None are left out."""
    return "".join(f" {deeds.GIVE(name, value)}" for name, value in values.items() if value is not None)


def listed(answer: str | None) -> list[str]:
    """What stands between the commas of an answer."""
    return [part.strip() for part in (answer or "").split(",") if part.strip() not in ("", SKIP)]


def read_answer(question: Asking, typed: str) -> str:
    """What an answer means: a word of the choices, its start or its number; nothing: the default.

    Raises: ValueError: it is no answer, and why.
    """
    text = typed.strip() or question.default
    if question.choices:
        words = [choice.word for choice in question.choices]
        if question.default and text.lower() in ("y", "yes") and "yes" not in words:
            text = question.default
        picked = [_picked(part, words) for part in (listed(text) if question.several else [text])]
        if not picked:
            raise ValueError("pick one or several by their numbers, or type skip")
        return ",".join(dict.fromkeys(picked))
    if text.lower() == "none" and question.reads == "wan":
        return str(IPv4Address(0))  # as a router shows it that has none
    if text and question.reads == "address6":
        try:
            return str(IPv6Address(text))
        except ValueError:
            raise ValueError(f"{text!r} is no IPv6 address, such as 2001:db8:44:7::30") from None
    if text and question.reads in ("address", "wan"):
        try:
            return str(IPv4Address(text))
        except ValueError:
            raise ValueError(f"{text!r} is no IPv4 address, such as 203.0.113.44") from None
    if text and question.reads == "key":
        return own_key(text)
    return dns_name(text) if text and question.reads == "name" else text


def _picked(text: str, words: Sequence[str]) -> str:
    lower = text.lower()
    if text.isascii() and text.isdigit() and 1 <= int(text) <= len(words):
        return words[int(text) - 1]
    fitting = [word for word in words if word.lower() == lower]
    fitting = fitting or [word for word in words if lower and word.lower().startswith(lower)]
    if len(fitting) != 1:
        raise ValueError(f"{text!r} is none of {', '.join(words)}, nor the number of one")
    return fitting[0]
