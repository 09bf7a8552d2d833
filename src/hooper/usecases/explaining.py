"""What the codes of findings, causes and problems mean."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.errors import UsageError
from hooper.planning.catalogue import CATALOGUE
from hooper.site.words import guess
from hooper.usecases.occasions import OCCASIONS
from hooper.why.catalogue import CAUSES


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
    known = tuple(dict.fromkeys([*CATALOGUE, *CAUSES, *OCCASIONS]))
    if code is not None and code not in known:
        raise UsageError(f"there is no code {code!r}", remedy=f"{guess(code, known)}All of them: leave the code out.")
    wanted = (code,) if code is not None else known
    return ExplainDocument(tuple(meaning for one in wanted for meaning in _meanings(one)))


def _meanings(code: str) -> list[CodeMeaning]:
    found = []
    if code in CATALOGUE:
        entry = CATALOGUE[code]
        found.append(
            CodeMeaning(code, "finding", entry.severity, entry.what, entry.why, entry.do, entry.acceptable, entry.gate)
        )
    if code in CAUSES:
        cause = CAUSES[code]
        found.append(
            CodeMeaning(code, "cause", None, cause.what, cause.why, cause.do, acceptable=False, holds_back=False)
        )
    if code in OCCASIONS:
        said = OCCASIONS[code]
        found.append(CodeMeaning(code, "occasion", None, *said, acceptable=False, holds_back=False))
    return found
