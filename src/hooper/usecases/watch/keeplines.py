"""What a keeper says as it goes: one document a line."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.errors import HooperError, Where
from hooper.usecases.watch.condition_kinds import aspect_words
from hooper.usecases.watch.history import EventRow
from hooper.words.said import NOTHING, Said, state_words

Saying = Literal["started", "heard", "done", "changed", "trouble", "reloaded", "told", "ended"]


@dataclass(frozen=True, slots=True)
class Trouble:
    """What a person should know. where: the place in a file; null: it is not about one."""

    code: str
    message: str
    remedy: str
    where: Where | None = None


@dataclass(frozen=True, slots=True)
class KeepLine:
    """`hooper keep`: one line.

    site: the site file. said: started: the keeper of this site; heard: an event that makes it look; done: a task;
    changed: something stands otherwise than before; trouble: what a person should know; reloaded: the site file was
    read again; told: a notice was sent; ended: the keeper. task: its key; null: this is about none. outcome: of the
    task; null as task. took_ms: the task took so many milliseconds. next: when it is due again, RFC 3339; null: that is
    not known, or it is about none. change: what changed; null: nothing. trouble: what is wrong; null:
    nothing. detail: in words.
    """

    site: str
    said: Saying
    task: str | None = None
    outcome: Literal["well", "failed", "stopped"] | None = None
    took_ms: int | None = None
    next: str | None = None
    change: EventRow | None = None
    trouble: Trouble | None = None
    detail: Said = NOTHING


def in_words(line: KeepLine) -> str:
    """A line for people."""
    if line.change is not None:
        one = line.change
        side = aspect_words(one.kind, one.aspect)
        what = f"{one.kind} {one.subject}" + (f" ({side})" if side else "")
        before = f"{state_words(one.before)} → " if one.before is not None else ""
        took = f", after {one.seconds:g} s" if one.seconds is not None else ""
        cause = f" [{one.cause}]" if one.cause is not None else ""
        return f"{what}: {before}{state_words(one.after)}{took}{cause}" + (f": {one.detail}" if one.detail else "")
    if line.trouble is not None:
        return f"{line.task or 'keeper'}: {line.trouble.message}"
    if line.said == "done":
        return f"{line.task}: {line.outcome}, {line.took_ms} ms" + (f"; next {line.next}" if line.next else "")
    return f"{line.said}: {line.detail}" if line.detail else line.said


def trouble_of(problem: HooperError) -> Trouble:
    return Trouble(problem.code, problem.message, problem.remedy, problem.where)
