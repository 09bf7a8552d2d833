"""The documents that commands print, as dataclasses; `docs/schemas/` is generated from them."""

from __future__ import annotations

from dataclasses import dataclass

from hooper.planning.model import Finding, Forward, Sheet


@dataclass(frozen=True, slots=True)
class PlanDocument:
    """`hooper plan`."""

    forwards: tuple[Forward, ...]
    findings: tuple[Finding, ...]
    feasible: bool


@dataclass(frozen=True, slots=True)
class WorksheetDocument:
    """`hooper worksheet`."""

    sheets: tuple[Sheet, ...]
