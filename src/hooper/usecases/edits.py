"""Edits of the site file: written once it is sure that it is a site file, and told key by key."""

from __future__ import annotations

from collections.abc import Callable

from hooper.errors import HooperError
from hooper.planning.documents import EditDocument
from hooper.planning.edits import Edited
from hooper.site.load import SiteFile, parse_site
from hooper.store.sitefile import save_site
from hooper.usecases.run import Run


def edit(
    run: Run, change: Callable[[SiteFile], Edited], *, dry_run: bool = False
) -> tuple[EditDocument, list[HooperError]]:
    """change: what is to become of the file. dry_run: say so, and write nothing. Raises: UsageError, CannotEdit,
    SiteFileError, SeveralErrors, ChangedMeanwhile, MachineError.
    """
    edited = change(run.file)
    before = {(found.code, found.subject) for found in run.plan.findings}
    if dry_run:
        run.use(parse_site(edited.text.encode(), run.file.name))
    elif edited.text != run.file.text:
        run.use(save_site(run.path, run.file, edited.text))
    new = tuple(
        found
        for found in run.plan.findings
        if (found.code, found.subject) not in before and found.subject == edited.subject and found.severity != "note"
    )
    document = EditDocument(str(run.path), edited.action, edited.subject, edited.changes, edited.follows, dry_run, new)
    return document, []
