"""What a person saw of a service: kept with its date, as evidence that proves nothing."""

from __future__ import annotations

from dataclasses import dataclass

from hooper.errors import HooperError
from hooper.usecases.run import Run


@dataclass(frozen=True, slots=True)
class ReportedDocument:
    """`hooper check --reported`. how: what was seen, in the person's words."""

    service: str
    how: str


def keep_reported(run: Run, service: str, how: str) -> tuple[ReportedDocument, list[HooperError]]:
    """Keep it.

    how: in the person's words. Raises: StateError.
    """
    if run.state is not None:
        run.state.ledger.tell(run.at, {f"services.{service}/saw": how}, basis=run.basis)
    return ReportedDocument(service, how), []
