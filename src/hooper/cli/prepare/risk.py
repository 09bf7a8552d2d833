"""hooper risk ..."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.editing import finish
from hooper.cli.parts.session import Session, sub_app
from hooper.cli.parts.tables import day
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.documents import RisksDocument

app = sub_app("The risks that are taken knowingly: list, add, remove.", group=True)


@command(app, "risk list", site=True, mask=True)
def list_all(session: Session) -> int:
    """All risks that are taken: of which service, why, and until when."""
    from hooper.usecases.prepare.lists import list_risks

    return session.show(session.do(list_risks, session.read_site()).document, _render)


@command(app, "risk add", site=True, dry_run=EDIT_DRY_RUN)
def add(session: Session, service: str, code: str, reason: str | None = None, until: str | None = None) -> int:
    """Take a risk that `plan` names by its code. It comes back when its time is over."""
    from hooper.planning.edits import ACCEPTED_FOR, accept

    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    if not (reason or "").strip():
        raise UsageError("--reason is missing", remedy="Say in a few words why it has to be so.")
    today = session.at.date()
    end = day("--until", until) if until is not None else today + ACCEPTED_FOR
    if end < today:
        raise UsageError(f"--until {end} has passed", remedy="Give a day to come, or leave it out.")
    return finish(session, file, lambda file: accept(file, [(key, code)], str(reason).strip(), end))


@command(app, "risk remove", site=True, dry_run=EDIT_DRY_RUN)
def remove(session: Session, service: str, code: str) -> int:
    """Take a risk no more."""
    from hooper.planning.edits import no_more_accepted

    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    return finish(session, file, lambda file: no_more_accepted(file, key, code))


def _render(document: RisksDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table

    if not document.risks:
        out.print("No risk is taken.")
        return
    drawn = table("service", "finding", "until", "reason", prose=("reason",))
    for row in document.risks:
        drawn.add_row(row.service, row.finding, f"{row.until}, over" if row.over else row.until, row.reason)
    out.print(drawn)
