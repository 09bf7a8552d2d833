"""What the codes of findings, causes and problems mean."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.chosen import guess
from hooper.errors import UsageError
from hooper.words.catalogue import codes, meanings


@dataclass(frozen=True, slots=True)
class CodeMeaning:
    """What one code means: as a finding of the plan, as a cause of a diagnosis, as what a keeper or status tells.

    severity: of a finding; null: it is a cause. what: in one clause. why: what it does to people. do: the remedy in
    general. acceptable: a person may take the risk. holds_back: rules are not entered while it stands. kind: which.
    """

    code: str
    kind: Literal["finding", "cause", "occasion"]
    severity: str | None
    what: str
    why: str
    do: str
    acceptable: bool
    holds_back: bool


@dataclass(frozen=True, slots=True)
class ExplainDocument:
    """`hooper explain`. meanings: of one code, or of all."""

    meanings: tuple[CodeMeaning, ...]


def explain(code: str | None) -> ExplainDocument:
    """What a code means, or all of them. Raises: UsageError: there is none such."""
    known = codes()
    if code is not None and code not in known:
        raise UsageError(f"there is no code {code!r}", remedy=f"{guess(code, known)}All of them: leave the code out.")
    return ExplainDocument(
        tuple(
            CodeMeaning(one.code, one.kind, one.severity, one.what, one.why, one.do, one.acceptable, one.gate)
            for wanted in ((code,) if code is not None else known)
            for one in meanings(wanted)
        )
    )
