"""--accept and --until: taking the risks that keep rules back."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date
from typing import TYPE_CHECKING

from hooper.cli.common import Session
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.usecases.accepting import Acceptance
    from hooper.usecases.run import RisksTaken


def acceptance(
    reasons: Collection[str] | None, until: str | None, services: Collection[str], *, dry_run: bool = False
) -> Acceptance:
    """What the options say. Raises: UsageError."""
    from hooper.usecases.accepting import Acceptance

    if not reasons and until is not None:
        raise UsageError("--until says nothing without --accept", remedy="Give --accept REASON, or leave it out.")
    return Acceptance(tuple(reasons or ()), _date(until) if until is not None else None, services, dry_run)


def taken(session: Session, accepted: RisksTaken) -> None:
    """Say what was accepted."""
    if not accepted.risks:
        session.note("Nothing is kept back, so nothing was accepted.")
    for key, code in accepted.risks if not session.dry_run else ():
        end, reason = accepted.until, accepted.reasons[key]
        session.note(f"Accepted for {key} until {end}: {code} ({reason}); it stands in {session.site_path}.")


def _date(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise UsageError(f"--until {text!r} is not a date", remedy="Write it like 2027-03-31.") from None
