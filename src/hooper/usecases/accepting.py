"""Taking the risks that keep rules back: written into the site file, with an end."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date

from hooper.errors import UsageError
from hooper.planning.edits import ACCEPTED_FOR, accept
from hooper.planning.findings import entry_of
from hooper.planning.gate import kept_back
from hooper.site.load import parse_site
from hooper.store.sitefile import save_site
from hooper.usecases.run import Run


@dataclass(frozen=True)
class Acceptance:
    """reason: None: nothing is accepted. until: None: for as long as is usual. services: only theirs; empty: all."""

    reason: str | None
    until: date | None = None
    services: Collection[str] = ()
    dry_run: bool = False


NOTHING = Acceptance(None)


@dataclass(frozen=True)
class RisksTaken:
    """What was accepted: service and finding, each; until when."""

    risks: tuple[tuple[str, str], ...]
    until: date
    reason: str


def take_risks(run: Run, asked: Acceptance) -> RisksTaken | None:
    """Accept what keeps these services back, and go on with the site as it then is; None: no reason was given.

    Raises: UsageError, CannotEdit, SiteFileError, MachineError.
    """
    if asked.reason is None:
        return None
    if not asked.reason.strip():
        raise UsageError("a risk is accepted with a reason", remedy="Say in a few words why it has to be so.")
    today = run.at.date()
    end = asked.until or today + ACCEPTED_FOR
    if end < today:
        raise UsageError(f"{end} has passed", remedy="Give a day to come, or leave it out.")
    named, _, rest = asked.reason.partition("=")
    services, reason = asked.services, asked.reason.strip()
    if named.strip() in run.site.services and rest.strip():
        services, reason = (named.strip(),), rest.strip()
    kept = {
        key: codes
        for key, found in kept_back(run.site, run.plan).items()
        if (codes := [item.code for item in found if entry_of(item.code).acceptable])
    }
    if not services and len(kept) > 1:
        several = f"several services are kept back: {', '.join(kept)}"
        raise UsageError(several, remedy=f"Take each risk for a reason of its own: {next(iter(kept))}=REASON.")
    risks = tuple((key, code) for key, codes in kept.items() if not services or key in services for code in codes)
    if risks:
        edited = accept(run.file, list(risks), reason, end)
        if asked.dry_run:
            run.use(parse_site(edited.text.encode(), run.file.name))
        else:
            run.use(save_site(run.path, run.file, edited.text))
    return RisksTaken(risks, end, reason)
