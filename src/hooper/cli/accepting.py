"""--accept: a person takes the risks that keep rules back; it is written into the site file with an end."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.common import Session, site_path
from hooper.errors import HooperError, UsageError

if TYPE_CHECKING:
    from hooper.planning.values import Plan
    from hooper.site.load import SiteFile

AcceptOption = Annotated[
    str | None,
    typer.Option("--accept", metavar="REASON", help="Take the risks that keep rules back; written into the site file."),
]
UntilOption = Annotated[
    str | None, typer.Option("--until", metavar="DATE", help="With --accept: until when; else for 90 days.")
]


def accepted(
    session: Session,
    file: SiteFile,
    given: Path | None,
    reason: str | None,
    until: str | None,
    services: Collection[str],
    *,
    dry_run: bool = False,
) -> SiteFile:
    """The site with the risks accepted that keep these services back (empty: all); as it was without a reason.

    Raises: UsageError, CannotEdit, SiteFileError, MachineError.
    """
    from hooper.planning.edits import ACCEPTED_FOR, accept
    from hooper.planning.gate import kept_back
    from hooper.planning.plan import make_plan
    from hooper.site.load import parse_site
    from hooper.store.sitefile import save_site

    if reason is None:
        if until is not None:
            raise UsageError("--until says nothing without --accept", remedy="Give --accept REASON, or leave it out.")
        return file
    if not reason.strip():
        raise UsageError("--accept needs a reason", remedy="Say in a few words why it has to be so.")
    today = session.at.date()
    end = _date(until) if until is not None else today + ACCEPTED_FOR
    if end < today:
        raise UsageError(f"--until {end} has passed", remedy="Give a day to come, or leave it out.")
    kept = kept_back(file.site, make_plan(file, today))
    risks = [(key, item.code) for key, found in kept.items() if not services or key in services for item in found]
    if not risks:
        session.note("Nothing is kept back, so nothing was accepted.")
        return file
    edited = accept(file, risks, reason.strip(), end)
    if dry_run:
        return parse_site(edited.text.encode(), file.name)
    saved = save_site(site_path(given), file, edited.text)
    for key, code in risks:
        session.note(f"Accepted for {key} until {end}: {code} ({reason.strip()}); it stands in {site_path(given)}.")
    return saved


def refusals(file: SiteFile, plan: Plan) -> dict[str, HooperError]:
    """Why services are left out of what is entered."""
    from hooper.planning.gate import kept_back, refusal

    return {key: refusal(found) for key, found in kept_back(file.site, plan).items()}


def _date(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise UsageError(f"--until {text!r} is not a date", remedy="Write it like 2027-03-31.") from None
