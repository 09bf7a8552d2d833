"""hooper worksheet"""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import command
from hooper.cli.parts.editing import acceptance, taken
from hooper.cli.parts.session import Done, Session, sub_app
from hooper.cli.parts.spelling import spelled
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.files import MADE_BY
from hooper.planning.documents import WorksheetDocument
from hooper.visible import shown_lines

if TYPE_CHECKING:
    from collections.abc import Sequence

    from hooper.cli.parts.render import Screen
    from hooper.planning.topology import Topology
    from hooper.usecases.prepare.worksheet import WorksheetRequest
    from hooper.usecases.run import Run

app = sub_app("What to enter by hand: routers, devices, the letter to the provider.")


@command(app, "worksheet", site=True, state=True, mask=True, dry_run="Accept and tick off nothing: only print.")
def worksheet(
    session: Session,
    keys: list[str] | None = None,
    devices: bool = False,
    letter: bool = False,
    removal: bool = False,
    changed: bool = False,
    clients: bool = False,
    nftables: bool = False,
    markdown: bool = False,
    html: bool = False,
    out: Path | None = None,
    force: bool = False,
    ticked: bool = False,
    rest: bool = False,
    accept: list[str] | None = None,
    until: str | None = None,
) -> int:
    """What to enter by hand on each router, with the words that their pages use, and how to prove it.

    What would be exposed before it is ready is left out, and said (exit code 5).
    """
    from hooper.usecases.prepare.worksheet import WorksheetRequest
    from hooper.usecases.prepare.worksheet import worksheet as make

    flags = {"devices": devices, "letter": letter, "removal": removal, "changed": changed}
    kind = _one_of({**flags, "clients": clients, "nftables": nftables})
    form = _one_of({"markdown": markdown, "html": html, "json": session.json})
    kept = ticked or rest
    _fitting(session, kind, form, kept=kept, out=out, force=force)
    file = session.read_site()
    known = {**file.site.gateways, **(file.site.hosts if kind == "devices" else {})}
    chosen_keys = chosen(keys or (), known, "gateway or host" if kind == "devices" else "gateway")
    asked = acceptance(accept, until, (), dry_run=session.dry_run)
    request = WorksheetRequest(kind, chosen_keys, html, rest, ticked and not session.dry_run, asked)  # type: ignore[arg-type]
    done = session.do(lambda run: make(run, request), file, state=kept or changed)
    _remarks(session, done, request)
    shown = _render_ticked if ticked and not form else partial(_print, session, done.run, form, out, force)
    code = session.show(done.document, shown, errors=done.trouble)
    if ticked:
        session.not_written()
    _next(session, done, keys or (), listed=not (form or kind or ticked))
    if ticked and not session.dry_run:
        session.ahead()
    return worst([code, 0 if done.run.plan.feasible else EXIT_NEEDS_A_PERSON])


def _fitting(session: Session, kind: str, form: str, *, kept: bool, out: Path | None, force: bool) -> None:
    """kept: what was ticked off or entered counts. Raises: UsageError: the options do not go together."""
    if (out is not None and form not in ("html", "markdown")) or (force and out is None):
        raise UsageError("--out and --force have no effect here", remedy="They go with --html or --markdown.")
    if kind and kept:
        raise UsageError(f"--ticked and --rest say nothing with --{kind}", remedy="They are for the routers' sheets.")
    if session.state_folder is not None and not kept and kind != "changed":
        raise UsageError("--state has no effect here", remedy="It goes with --ticked, --rest or --changed.")


def _next(session: Session, done: Done[WorksheetDocument], named: Sequence[str], *, listed: bool) -> None:
    """listed: the sheets were printed to be entered now."""
    if not done.run.plan.feasible:
        session.ahead()
    elif listed and any(sheet.rules for sheet in done.document.sheets):
        session.next("once-it-is-entered-tell", ("worksheet", *named, "--ticked"))


def _remarks(session: Session, done: Done[WorksheetDocument], request: WorksheetRequest) -> None:
    """What was accepted and ticked off, and what is new."""
    document = done.document
    if done.run.accepted is not None:
        taken(session, done.run.accepted)
    for gateway in document.never_ticked:
        session.note(f"No sheet of {gateway} was ticked off yet, so all of it is new.")
    if request.kind == "changed" and not document.changes:
        session.note("Nothing is different from the sheets that were ticked off.")
    if request.ticked:
        session.note(f"Ticked off: {', '.join(sheet.gateway for sheet in document.sheets)}.")


def _render_ticked(document: WorksheetDocument, out: Screen) -> None:
    """What was ticked off, a line for each sheet."""
    from hooper.cli.parts.render import counted, line

    for sheet in document.sheets:
        others = (
            (len(sheet.reservations), "reservation"),
            (len(sheet.routes), "route"),
            (len(sheet.own), "own service"),
        )
        more = "".join(f", {counted(number, word)}" for number, word in others if number)
        names = ", ".join(dict.fromkeys(rule.service for rule in sheet.rules)) or "none"
        told = f": {counted(len(sheet.rules), 'rule')}{more}: {names}"
        line(out, ("✓ ", "well"), (sheet.gateway, "bold"), told, hang=2)


def _print(
    session: Session, run: Run, form: str, file: Path | None, force: bool, shown: WorksheetDocument, out: Screen
) -> None:
    """The sheets as text, Markdown or one page."""
    title, day = run.site.site.title or "this site", str(session.at.date())
    if session.mask:
        title = session.mask.text(title)
    if form == "html":
        text = _page(session, run.topology, shown, title, day)
    elif form == "markdown":
        from hooper.report.sheets import as_markdown

        text = f"<!-- {MADE_BY.decode()} -->\n\n{as_markdown(shown, run.site, title, day)}"
    else:
        from hooper.cli.prepare.sheets import as_text

        as_text(shown, run.site, title, out)
        return
    session.give(shown_lines(spelled(text)).rstrip("\n") + "\n", file, force=force)


def _page(session: Session, topology: Topology, shown: WorksheetDocument, title: str, day: str) -> str:
    """The sheets as one HTML page; the routers' sheets have the picture of the chain on top."""
    from hooper.report.chain import as_rows, as_svg
    from hooper.report.sheets import as_html

    drawn = as_svg(topology, "", said="The chain of routers") if shown.sheets else ""
    picture = session.mask.text(drawn) if session.mask else drawn
    ways = as_rows(topology) if shown.sheets else []
    return as_html(shown, topology.site, title, day, picture, ways, lab=session.world == "lab")


def _one_of(flags: dict[str, bool]) -> str:
    """The flag that was given, or nothing. Raises: UsageError: there are several."""
    given = [name for name, on in flags.items() if on]
    if len(given) > 1:
        raise UsageError(
            f"{' and '.join(f'--{name}' for name in given)} exclude each other", remedy="Give one of them."
        )
    return given[0] if given else ""
