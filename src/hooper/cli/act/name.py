"""hooper name ..."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

from hooper.chosen import chosen
from hooper.cli.parts.command import DRY_RUN, EDIT_DRY_RUN, command, within
from hooper.cli.parts.editing import finish
from hooper.cli.parts.entity import add_verbs
from hooper.cli.parts.from_where import differing, parse_public
from hooper.cli.parts.session import Done, Session, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.names.documents import NamesDocument
    from hooper.site.load import SiteFile
    from hooper.usecases.act.updaters import TryDocument

app = sub_app("Dynamic names: do they lead here, and making them.", group=True)
add_verbs(app, "names", "show", "change", "rename", "remove")

STYLE = {"current": "well", "updated": "well", "watched": "told", "needed": "doubtful", "waiting": "doubtful"}


@command(app, "name list", site=True, state=True, mask=True, deadline=5.0)
def list_names(session: Session, name: list[str] | None = None, public: list[str] | None = None) -> int:
    """Each name: the address it should have, the one its own servers have, and who keeps it."""
    from hooper.usecases.act.names import NamesRequest
    from hooper.usecases.act.names import list_names as look

    file = session.read_site()
    request = NamesRequest(_names(file, name), parse_public(public or [], file.site), session.deadline)
    done = session.look(lambda run: look(run, request), file)
    code = _show(session, done)
    session.ahead("name")
    return worst([code, 0 if all(row.ok for row in done.document.names) else EXIT_NEEDS_A_PERSON])


@command(app, "name update", site=True, state=True, mask=True, deadline=5.0, dry_run=DRY_RUN)
def update_names(
    session: Session,
    name: list[str] | None = None,
    public: list[str] | None = None,
    again: bool = False,
    patience: float = "30s",  # type: ignore[assignment]
    accept: str | None = None,
) -> int:
    """Update the names that do not lead here, and only those; then look at the name's own servers whether it arrived.

    An address that the provider keeps for itself (carrier NAT) is not published (exit code 5).
    Names that the router or a device keeps are looked at, not touched.
    """
    from hooper.usecases.act.names import NamesRequest
    from hooper.usecases.act.names import update_names as update

    within("--for", patience, 0, 3600)
    file = session.read_site()
    given = parse_public(public or [], file.site)
    request = NamesRequest(_names(file, name), given, session.deadline, patience, again, session.dry_run, accept)
    done = session.look(lambda run: update(run, request), file)
    good = session.dry_run or all(row.ok for row in done.document.names)
    return worst([_show(session, done), 0 if good else EXIT_NEEDS_A_PERSON])


@command(app, "name add", site=True, dry_run=EDIT_DRY_RUN, keys="name")
def add_name(session: Session, keys: dict[str, Any], name: str) -> int:
    """Add a name for a line to the site file, or have another updater keep it. Nothing is published by it."""
    from hooper.planning.edits import add, change

    file = session.read_site()
    lines = list(file.site.lines)
    name = name.lower().rstrip(".")
    known = name in file.site.names
    if "line" not in keys and not known:
        if len(lines) != 1:
            raise UsageError("--line is missing", remedy=f"Give one of: {', '.join(lines) or 'none; add a [lines.*]'}.")
        keys["line"] = lines[0]
    if known:
        return finish(session, file, lambda file: change(file, "names", name, keys))
    code = finish(session, file, lambda file: add(file, "names", name, keys), ahead=False)
    session.next("see-what-would", ("name", "try", name))
    session.then("publish-it", ("name", "update", name))
    return code


@command(app, "name try", site=True, mask=True)
def try_out(
    session: Session, name: str, address: str | None = None, status: int | None = None, response: str | None = None
) -> int:
    """What an update would send, its secret hidden, and what the provider's answers would mean. Nothing is sent."""
    from hooper.usecases.act.updaters import TryRequest, try_name

    if status is not None and not 100 <= status <= 599:
        raise UsageError(f"--status {status}: from 100 to 599")
    file = session.read_site()
    (key,) = chosen([name.lower()], file.site.names, "name")
    done = session.do(lambda run: try_name(run, TryRequest(key, address, status, response)), file)
    code = session.show(done.document, _render_try, errors=done.trouble)
    session.ahead("name")
    return code


def _render_try(document: TryDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, table

    heading(out, f"{document.updater} would be sent for {document.name}")
    for text in document.sent:
        out.print(f"  {text}")
    out.print()
    drawn = table("an answer of", "means", "so", prose=("an answer of", "so"))
    for row in document.meanings:
        drawn.add_row(row.when, row.means, row.words)
    out.print(drawn)
    if document.judged is not None:
        out.print()
        out.print(f"{document.judged.when} means {document.judged.means}: {document.judged.words}")


def _names(file: SiteFile, given: list[str] | None) -> tuple[str, ...]:
    return chosen([name.lower() for name in given or ()], file.site.names, "name")


def _show(session: Session, done: Done[NamesDocument]) -> int:
    told = {problem.message for problem in done.trouble}  # an error says it already
    code = session.show(done.document, partial(_render, told=told, would=session.dry_run), errors=done.trouble)
    wrong = any(finding.severity == "error" for finding in done.document.findings)
    return worst([code, EXIT_NEEDS_A_PERSON if wrong else 0])


def _render(document: NamesDocument, out: Screen, told: set[str], *, would: bool) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import indented, table

    drawn = table("", "name", "should be", "is", "kept by", "state")
    for row in document.names:
        mark = Text("✓", style="well") if row.ok else Text("✗", style="wrong")
        said = "would update" if would and row.action == "needed" else row.action
        state = Text(said, style=STYLE.get(row.action, "wrong"))
        wanted, shown = ", ".join(row.wanted) or "?", ", ".join(row.published) or "-"
        drawn.add_row(mark, row.name, wanted, shown, row.updated_by, state)
    out.print(drawn)
    for row in document.names:
        out.print(f"{row.name}")
        indented(out, str(row.wanted_source) or "nobody", mark="should be, says  ", left=2)
        indented(out, row.published_source, mark="is, says         ", left=2)
        if row.detail and str(row.detail) not in told:
            indented(out, row.detail, mark="→ ", left=2)
    differing(document.findings, out)
