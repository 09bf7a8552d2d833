"""Findings, as looks raise them: what a code means stands in the catalogue of words. Pure."""

from __future__ import annotations

from hooper.planning.values import Finding
from hooper.words.catalogue import CodeWords, Severity, meaning, severity_of
from hooper.words.said import NOTHING, Said, Value, general, told_of

_ORDER: dict[str, int] = {"error": 0, "warning": 1, "note": 2}


def entry_of(code: str) -> CodeWords:
    """What a finding's code means. Raises: KeyError: there is no such finding."""
    return meaning("finding", code)


def finding(
    code: str, subject: str, message: Said, remedy: Said | None = None, *, severity: Severity | None = None
) -> Finding:
    """A finding with the severity and the remedy that the catalogue gives it, unless the case at hand has others."""
    return Finding(code, severity or severity_of(code), subject, message, remedy or general("finding", code, "do"))


def finds(code: str, subject: str, *, do: Said = NOTHING, severity: Severity | None = None, **values: Value) -> Finding:
    """A finding in the words that said.json has for it: CODE.says and CODE.do, or of a variant, given as CODE.VARIANT.

    do: another remedy. values: all that the words name.
    """
    remedy = do or told_of(code, "do", values)
    return finding(code.partition(".")[0], subject, told_of(code, "says", values), remedy, severity=severity)


def rank(item: Finding) -> tuple[int, str, str, str]:
    """Sorting key: most severe first, then by code, subject and message."""
    return _ORDER[item.severity], item.code, item.subject, str(item.message)
