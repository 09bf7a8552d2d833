"""hooper name ..."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.common import (
    DryRunFlag,
    JsonFlag,
    MaskFlag,
    QuietFlag,
    Session,
    SiteOption,
    StateOption,
    VerboseFlag,
    choose,
    deadline_seconds,
    run_async,
    sub_app,
)
from hooper.cli.looking import DeadlineOption, PublicOption, looking, parse_public
from hooper.errors import EXIT_NEEDS_A_PERSON, HooperError, UsageError, worst

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.addresses import IPAddress
    from hooper.names.rows import NameRow, NamesDocument
    from hooper.site.load import SiteFile

app = sub_app("Dynamic names: do they lead here, and making them.", group=True)

NameArgument = Annotated[list[str] | None, typer.Argument(metavar="NAME", help="Only these names; else all.")]
STYLE = {"current": "green", "updated": "green", "watched": "cyan", "needed": "orange3", "waiting": "orange3"}


@app.command("list")
def list_names(
    name: NameArgument = None,
    public: PublicOption = None,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Each name: the address it should have, the one its own servers have, and who keeps it."""
    session = Session("name list", json, quiet, verbose)
    _run(session, name, public, deadline, 0.0, site, state, mask=mask, change=False, again=False, dry=True)


@app.command("update")
def update_names(
    name: NameArgument = None,
    public: PublicOption = None,
    again: Annotated[
        bool, typer.Option("--again", help="Ask the provider also where it said to wait, or never again.")
    ] = False,
    patience: Annotated[
        float, typer.Option("--patience", metavar="SECONDS", help="How long to wait until the name's servers show it.")
    ] = 30.0,
    dry_run: DryRunFlag = False,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Update the names that do not lead here, and only those; then look at the name's own servers whether it arrived.

    Names that the router or a device keeps are looked at, not touched.
    """
    session = Session("name update", json, quiet, verbose)
    _run(session, name, public, deadline, patience, site, state, mask=mask, change=True, again=again, dry=dry_run)


def _run(
    session: Session,
    name: list[str] | None,
    public: list[str] | None,
    deadline: float,
    patience: float,
    site: Path | None,
    state: Path | None,
    *,
    mask: bool,
    change: bool,
    again: bool,
    dry: bool,
) -> None:
    from hooper.names.rows import NamesDocument
    from hooper.names.update import names_to_update

    deadline = deadline_seconds(deadline)
    if not 0 <= patience <= 3600:
        raise UsageError(f"--patience {patience:g}: from 0 to 3600 seconds", remedy="Give seconds, such as 30.")
    file = session.read_site(site, mask=mask)
    names = names_to_update(file.site, choose([n.lower() for n in name or ()], file.site.names, "name"))
    given = parse_public(public or [], file.site)
    rows, trouble = run_async(_work, session, file, names, given, deadline, patience, state, change, again, dry)
    told = {problem.message for problem in trouble}  # an error says it already
    document = NamesDocument(dry, tuple(rows))
    code = session.show(document, lambda shown, out: _render(shown, out, told), errors=trouble)
    if not change and any(row.action == "needed" for row in rows):
        session.note("\nNext: `hooper name update`.")
    raise typer.Exit(worst([code, 0 if all(row.ok for row in rows) or (dry and change) else EXIT_NEEDS_A_PERSON]))


async def _work(
    session: Session,
    file: SiteFile,
    names: tuple[str, ...],
    given: dict[str, IPAddress],
    deadline: float,
    patience: float,
    state: Path | None,
    change: bool,
    again: bool,
    dry: bool,
) -> tuple[list[NameRow], list[HooperError]]:
    from hooper.names.update import Names

    async with looking(session, file, state) as opened:
        told = opened.state.told() if opened.state is not None else {}
        base = Path(file.name).parent
        work = Names(opened.here, file.site, base, told, given, deadline, patience, opened.state)
        if change and opened.state is not None:
            rows = await work.update(names, again=again, dry=dry)
        else:
            rows = await work.look(names)
        return rows, [*opened.trouble, *work.trouble]


def _render(document: NamesDocument, out: Console, told: set[str]) -> None:
    from rich.text import Text

    from hooper.cli.render import indented, table

    drawn = table("", "name", "should be", "is", "kept by", "state")
    for row in document.names:
        mark = Text("✓", style="green") if row.ok else Text("✗", style="red")
        state = Text(row.action, style=STYLE.get(row.action, "bold red"))
        wanted, shown = ", ".join(row.wanted) or "?", ", ".join(row.published) or "-"
        drawn.add_row(mark, row.name, wanted, shown, row.updated_by, state)
    out.print(drawn)
    for row in document.names:
        out.print(f"{row.name}")
        indented(out, row.wanted_source or "nobody", mark="should be, says  ", left=2)
        indented(out, row.published_source, mark="is, says         ", left=2)
        if row.detail and row.detail not in told:
            indented(out, row.detail, mark="→ ", left=2)
