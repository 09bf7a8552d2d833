"""hooper keep ..."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from hooper.chosen import chosen
from hooper.cli.parts.command import command
from hooper.cli.parts.helping import GuessingGroup
from hooper.cli.parts.session import Session, run_async
from hooper.clock import shown_duration
from hooper.errors import HooperError
from hooper.report.units import SYSTEMS

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.watch.keeplines import KeepLine
    from hooper.usecases.watch.noticing import NoticesDocument


class KeepGroup(GuessingGroup):
    """`hooper keep` by itself, with options or with site files, is `hooper keep run`."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        known = self.list_commands(ctx)
        if not ctx.resilient_parsing and not (args and (args[0] in known or args[0] in ("-h", "--help"))):
            args = ["run", *args]
        return super().parse_args(ctx, args)


app = typer.Typer(
    cls=KeepGroup,
    help="Keep everything as planned, from now on.",
    rich_markup_mode=None,
    add_completion=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


@app.callback()
def keep() -> None:
    """Keep everything as planned, from now on. Without a command: `run`."""


@command(app, "keep run", site=True, state=True, mask=True)
def run(session: Session, site: list[Path] | None = None, once: bool = False) -> int:
    """Keep names, router rules, certificates and services as the site file wants them, until it is ended.

    It acts when something happens (a router that announces, a network that changes) and looks by itself now and then.
    Each thing that it does or sees is one line of words, or of JSON with --json. SIGTERM ends it at a safe point,
    SIGHUP makes it read the site file again. The exit code of --once is that of what went wrong in it.
    """
    from hooper.keep.keeping import keep_sites
    from hooper.usecases.watch.keeplines import in_words

    paths = tuple(site or (session.site_path,))
    for path in paths:
        session.mask_for(path)

    def say(line: KeepLine, at: datetime) -> None:
        if line.said == "done" and not session.verbose and not session.json:
            return
        if session.json:
            session.line(line, at)
        else:
            where = f"{Path(line.site).name}: " if len(paths) > 1 else ""
            session.say(f"{at.astimezone():%H:%M:%S} {where}{in_words(line)}")

    async def work() -> list[HooperError]:
        return await keep_sites(paths, say, folder=session.state_folder, once=once)

    return session.failed(run_async(work))


@command(app, "keep notice", site=True, state=True, mask=True)
def notice(session: Session, notice: list[str] | None = None, test: bool = False) -> int:
    """Whom a keeper tells of what, and when it last did; with --test each gets a test."""
    from hooper.usecases.watch.noticing import NoticesRequest, list_notices

    file = session.read_site()
    chosen_ones = chosen(notice or (), file.site.notices, "notice") or tuple(file.site.notices)
    if not test:
        done = session.do(lambda run: list_notices(run, NoticesRequest(chosen_ones)), file, look=True)
        return session.show(done.document, _render_notices, errors=done.trouble)
    from hooper.keep.notices import test_notices

    sent = session.look(lambda run: test_notices(run, NoticesRequest(chosen_ones)), file)
    return session.show(sent.document, _render_notices, errors=sent.trouble)


def _render_notices(document: NoticesDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table

    drawn = table("notice", "tells of", "quiet", "digest", "masked", "last told", prose=("tells of",))
    for row in document.notices:
        digest = shown_duration(row.digest_s) if row.digest_s else "-"
        masked = "yes" if row.masked else "no"
        drawn.add_row(row.notice, ", ".join(row.about), row.quiet or "-", digest, masked, row.last_told or "never")
    out.print(drawn)
    for row in document.notices:
        if row.test is not None:
            out.print(f"{row.notice}: {row.test}")


@command(app, "keep unit", site=True, state=True)
def unit(session: Session, system: str, user: str | None = None, out: Path | None = None, force: bool = False) -> None:
    """What your system needs to run the keeper by itself, as text that you install.

    systemd: a service. timer: a service that does one round, and its timer. launchd: macOS. windows: the task
    scheduler. cron: a line for a crontab.
    """
    from hooper.report.units import unit as make
    from hooper.store.place import state_folder
    from hooper.usecases.watch.noticing import UnitDocument, unit_asked

    (kind,) = chosen([system], SYSTEMS, "system")
    file = session.read_site()
    state = state_folder(session.state_folder).absolute()
    words_of_it = ("keep", "run", str(session.site_path.absolute()), "--state", str(state))
    asked = unit_asked(file, words_of_it, ("--once", "--quiet"), session.state_folder, user)
    text, steps = make(kind, asked)  # type: ignore[arg-type]
    if session.json:
        session.show(UnitDocument(kind, text, steps), lambda shown, screen: None)
        return
    session.give(text, out, force=force)
    session.note()
    for step in steps:
        session.note(f"  {step}")
