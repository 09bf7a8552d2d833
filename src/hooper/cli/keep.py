"""hooper keep ..."""

from __future__ import annotations

import sys
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from hooper.cli.command import command
from hooper.cli.common import Session, run_async
from hooper.cli.helping import GuessingGroup

if TYPE_CHECKING:
    from hooper.usecases.keeplines import KeepLine


class KeepGroup(GuessingGroup):
    """`hooper keep` by itself, with options or with site files, is `hooper keep run`."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        known = self.list_commands(ctx)
        if not ctx.resilient_parsing and not (args and (args[0] in known or args[0] in ("-h", "--help"))):
            args = ["run", *args]
        return super().parse_args(ctx, args)


app = typer.Typer(
    cls=KeepGroup,
    help="Keep everything as it should be, from now on.",
    rich_markup_mode=None,
    add_completion=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


@app.callback()
def keep() -> None:
    """Keep everything as it should be, from now on. Without a command: `run`."""


@command(app, "keep run", site=True, state=True, mask=True)
def run(
    session: Session,
    site: Annotated[
        list[Path] | None, typer.Argument(metavar="SITE", help="The site files to keep; else the one of --site.")
    ] = None,
    once: Annotated[
        bool, typer.Option("--once", help="Do what is due now, and end: for those who have a timer.")
    ] = False,
) -> None:
    """Keep names, router rules, certificates and services as the site file wants them, until it is ended.

    It acts when something happens (a router that announces, a network that changes) and looks by itself now and then.
    Each thing that it does or sees is one line: JSON on a pipe, words on a terminal. SIGTERM ends it at a safe point,
    SIGHUP makes it read the site file again.
    """
    from hooper.keep.keeping import keep_sites
    from hooper.usecases.keeplines import in_words

    paths = tuple(site or (session.site_path,))
    for path in paths:
        session.mask_for(path)
    in_json = session.json or not sys.stdout.isatty()

    def say(line: KeepLine, at: datetime) -> None:
        if line.said == "done" and not session.verbose and not in_json:
            return
        if in_json:
            session.line(line, at)
        else:
            where = f"{Path(line.site).name}: " if len(paths) > 1 else ""
            session.say(f"{at.astimezone():%H:%M:%S} {where}{in_words(line)}")

    async def work() -> None:
        await keep_sites(paths, say, folder=session.state_folder, once=once)

    run_async(work)
