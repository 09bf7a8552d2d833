"""Edits of the site file: written once it is sure that it is a site file, and told key by key."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from datetime import date

from hooper.errors import HooperError, UsageError
from hooper.planning.documents import EditDocument
from hooper.planning.edits import ACCEPTED_FOR, Edited, accept
from hooper.planning.findings import entry_of
from hooper.planning.kept_back import kept_back
from hooper.planning.topology import Topology
from hooper.site.load import SiteFile, parse_site
from hooper.site.model import Site
from hooper.store.sitefile import Renamed, save_site
from hooper.usecases.run import RisksTaken, Run


def edit(
    run: Run, change: Callable[[SiteFile], Edited], *, dry_run: bool = False, remembered: bool = True
) -> tuple[EditDocument, list[HooperError]]:
    """change: what is to become of the file. dry_run: say so, and write nothing. remembered: it can be taken back.

    Raises: UsageError, CannotEdit, SiteFileError, SeveralErrors, ChangedMeanwhile, MachineError.
    """
    edited = change(run.file)
    before = {(found.code, found.subject) for found in run.plan.findings}
    if dry_run:
        run.use(parse_site(edited.text.encode(), run.file.name))
    elif edited.text != run.file.text:
        old = run.topology
        run.use(save_site(run.path, run.file, edited.text, remembered=remembered, renamed=edited.renamed))
        if edited.renamed is not None:
            _rename_kept(run, edited.renamed, old)
    new = tuple(
        found
        for found in run.plan.findings
        if (found.code, found.subject) not in before and found.subject == edited.subject and found.severity != "note"
    )
    document = EditDocument(str(run.path), edited.action, edited.subject, edited.changes, edited.follows, dry_run, new)
    return document, []


def _rename_kept(run: Run, renamed: Renamed, before: Topology) -> None:
    """What is kept of the entry has its new name too; what is wrong with that is trouble of the run."""
    from hooper.evidence.observations import basis_of
    from hooper.store.renaming import rename_kept

    table, old, new = renamed
    bases = []
    for key in before.site.services:
        now = new if (table, key) == ("services", old) else key
        bases.append((now, basis_of(before, key), basis_of(run.topology, now)))
    with run.keeping() as state:
        if state is not None:
            rename_kept(state, table, old, new, [one for one in bases if one[1] != one[2]])


@dataclass(frozen=True)
class Acceptance:
    """reasons: each perhaps as SERVICE=REASON; empty: nothing is accepted. until: None: for as long as is usual.
    services: only theirs; empty: all.
    """

    reasons: tuple[str, ...]
    until: date | None = None
    services: Collection[str] = ()
    dry_run: bool = False


NOTHING = Acceptance(())


def take_risks(run: Run, asked: Acceptance) -> RisksTaken | None:
    """Accept what keeps these services back, and go on with the site as it then is; None: no reason was given.

    Raises: UsageError, CannotEdit, SiteFileError, MachineError.
    """
    if not asked.reasons:
        return None
    today = run.at.date()
    end = asked.until or today + ACCEPTED_FOR
    if end < today:
        raise UsageError(f"{end} has passed", remedy="Give a day to come, or leave it out.")
    why = _by_service(run.site, asked)
    kept = {
        key: codes
        for key, found in kept_back(run.site, run.plan).items()
        if (codes := [item.code for item in found if entry_of(item.code).acceptable])
    }
    if (one := why.pop("", None)) is not None:
        meant = asked.services or kept
        if not asked.services and len(kept) > 1:
            several = f"several services are kept back: {', '.join(kept)}"
            raise UsageError(several, remedy=f"Take each risk for a reason of its own: {next(iter(kept))}=REASON.")
        why = {**dict.fromkeys(meant, one), **why}
    risks = tuple((key, code) for key, codes in kept.items() if key in why for code in codes)
    if risks:
        text = run.file
        for key in dict.fromkeys(key for key, _ in risks):
            edited = accept(text, [risk for risk in risks if risk[0] == key], why[key], end)
            text = parse_site(edited.text.encode(), run.file.name)
        run.use(text if asked.dry_run else save_site(run.path, run.file, text.text))
    return RisksTaken(risks, end, why)


def _by_service(site: Site, asked: Acceptance) -> dict[str, str]:
    """The reasons by service; under "" the one that names none. Raises: UsageError: empty, or two for one service."""
    why: dict[str, str] = {}
    for said in asked.reasons:
        named, _, rest = (part.strip() for part in said.partition("="))
        key, reason = (named, rest) if named in site.services and rest else ("", said.strip())
        if not reason:
            raise UsageError("a risk is accepted with a reason", remedy="Say in a few words why it has to be so.")
        if key in why:
            raise UsageError(
                f"two reasons for {key}" if key else "two reasons, and no service is named",
                remedy="Write SERVICE=REASON, once for each service.",
            )
        why[key] = reason
    return why
