"""What the commands share that edit the site file."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from typing import TYPE_CHECKING

from hooper.cli.parts.session import Session
from hooper.cli.parts.tables import day, option_of
from hooper.errors import HooperError, SeveralErrors, SiteFileError, UsageError, flatten
from hooper.site.mistakes import singular
from hooper.words.data import data

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.documents import ChangedKey, EditDocument
    from hooper.planning.edits import Edited
    from hooper.site.load import SiteFile
    from hooper.site.mistakes import Path
    from hooper.usecases.prepare.edits import Acceptance
    from hooper.usecases.run import RisksTaken


def finish(
    session: Session,
    file: SiteFile,
    edit: Callable[[SiteFile], Edited],
    *,
    state: bool = False,
    ahead: bool = True,
) -> int:
    """Write the edited file, show what was done, and what comes next.

    state: what is kept follows, where there is any. ahead: false: the command says itself what comes next.
    """
    from hooper.usecases.prepare.edits import edit as do_edit

    try:
        done = session.do(lambda run: do_edit(run, edit, dry_run=session.dry_run), file, look=state)
    except (SiteFileError, SeveralErrors) as exc:  # the file was sound: what was given is not
        raise of_options(exc) from None
    code = session.show(done.document, render, errors=done.trouble)
    if ahead:
        session.ahead()
    return code


def of_options(error: HooperError) -> UsageError:
    """What is wrong with the file that would have been, as what is wrong with the options."""
    said: dict[str, None] = {}
    remedies: dict[str, None] = {}
    for single in flatten(error):
        option = _option_for(single.place) if isinstance(single, SiteFileError) else None
        if not isinstance(single, SiteFileError) or option is None:
            said[single.message] = remedies[single.remedy.removesuffix(".")] = None
        elif single.missing:
            said[f"{option} is missing"] = remedies["Give it too"] = None
        else:
            said[f"{option}: {single.bare}"] = None
            remedies["Correct it" if single.remedy is SiteFileError.remedy else single.remedy.removesuffix(".")] = None
    return UsageError("; ".join(said), remedy=f"{'; '.join(remedies)}. Nothing was written.")


def _option_for(place: Path) -> str | None:
    """The option that sets the key at this place of the file; None: it is of no single key."""
    table = str(place[0]) if place else ""
    key = ".".join(part for part in place[1 if table == "measure" else 2 :] if isinstance(part, str))
    if not key:
        return None
    written = data("options")["keys"].get(singular(table), {}).get(key)
    return str(written[0]).split()[0] if written else option_of(key)


def render(document: EditDocument, out: Screen) -> None:
    """What was changed, key by key, and what is left to do."""
    from hooper.cli.parts.render import findings, heading, indented

    if not document.changes and not document.follows:
        out.print(f"Nothing to change: {document.subject} is so already.")
        return
    would = f"would be {document.action}" if document.dry_run else document.action
    where = f" in {document.file}{' (not written)' if document.dry_run else ''}" if document.changes else ""
    heading(out, f"{document.subject}: {would}{where}")
    changed_keys(document.changes, out)
    if document.findings:
        out.print()
        findings(out, document.findings)
    if document.follows:
        out.print()
        heading(out, "Left to do, by hand")
        for follow in document.follows:
            indented(out, follow, mark="[ ] ", left=3)


def changed_keys(changes: Iterable[ChangedKey], out: Screen) -> None:
    """Keys of the site file, each with what it was."""
    from rich.text import Text

    for change in changes:
        line = Text(f"   {change.key}", style="bold" if change.after is not None else "")
        if change.after is None:
            line.append("  gone" if not change.before else f"  gone, was {change.before}", style="wrong")
        elif change.before is None:
            line.append(f" = {change.after}")
        else:
            line.append(f" = {change.after}").append(f"  was {change.before}", style="faint")
        out.print(line)


def acceptance(
    reasons: Collection[str] | None, until: str | None, services: Collection[str], *, dry_run: bool = False
) -> Acceptance:
    """What the options say. Raises: UsageError."""
    from hooper.usecases.prepare.edits import Acceptance

    if not reasons and until is not None:
        raise UsageError("--until says nothing without --accept", remedy="Give --accept REASON, or leave it out.")
    return Acceptance(tuple(reasons or ()), day("--until", until) if until is not None else None, services, dry_run)


def taken(session: Session, accepted: RisksTaken) -> None:
    """Say what was accepted."""
    if not accepted.risks:
        session.note("Nothing is kept back, so nothing was accepted.")
    for key, code in accepted.risks if not session.dry_run else ():
        end, reason = accepted.until, accepted.reasons[key]
        session.note(f"Accepted for {key} until {end}: {code} ({reason}); it stands in {session.site_path}.")
