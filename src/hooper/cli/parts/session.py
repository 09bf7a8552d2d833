"""What all commands share: their options, reading the site, and printing data to stdout and the rest to stderr."""

from __future__ import annotations

import gc
import os
import re
import shlex
import sys
from collections.abc import Awaitable, Callable, Iterable, Iterator, Sequence
from contextlib import nullcontext, suppress
from contextvars import ContextVar
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, NamedTuple, TypeVar

import typer

from hooper.cli.parts import outcome as report
from hooper.cli.parts.helping import GuessingGroup
from hooper.cli.parts.outcome import stderr_width
from hooper.cli.parts.spelling import spelled
from hooper.clock import SystemClock
from hooper.environment import named_site
from hooper.errors import HooperError, LabGone, UsageError, worst
from hooper.folding import folded_lines
from hooper.jsonform import dump, dump_line, each_text, head, in_encoding, plain
from hooper.secret import redact, secrets_in_use
from hooper.store.preferences import preferences
from hooper.visible import Lines, shown, shown_lines

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.masking import Mask
    from hooper.planning.steps_ahead import AheadStep
    from hooper.site.load import SiteFile
    from hooper.usecases.run import Run

NO_SITE = (
    "demo",
    "lab",
    "explain",
    "schema",
    "self",
    "visit run",
    "login password",
    "witness serve",
    "witness invite",
    "witness unit",
)  # commands without a site file
KEEPS_STATE = (
    "guide", "keep", "next", "status", "history", "report", "survey", "why", "check", "arrival", "self", "visit",
    "stand-in", "card", "drill", "plan", "audit", "router", "name", "cert", "updater", "tunnel", "peer", "move",
    "host know", "undo", "host rename", "service rename", "line rename", "gateway rename", "authority rename",
    "certificate rename", "notice rename", "account rename",
    "authority make", "service secure", "witness", "meeting now", "meeting rename",
)  # fmt: skip
KEEPS_NONE = (
    "name add", "name try", "name show", "name change", "name remove", "updater add", "updater show", "updater change",
    "updater remove", "peer show", "visit run", "cert trust", "witness serve", "witness invite",
    "witness unit",
)  # fmt: skip
T = TypeVar("T")
GUIDED: ContextVar[bool] = ContextVar("GUIDED", default=False)  # a guided run says what comes next


class Done(NamedTuple, Generic[T]):
    """What came of a use case."""

    document: T
    trouble: list[HooperError]
    run: Run


def sub_app(help_text: str, *, group: bool = False) -> typer.Typer:
    """A Typer application for one command, or for a group of commands, which shows its help when none is given."""
    app = typer.Typer(
        cls=GuessingGroup,
        help=help_text,
        no_args_is_help=group,
        rich_markup_mode=None,
        add_completion=False,
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    if group:  # a group of one command is a group too

        @app.callback(help=help_text)
        def _group() -> None: ...

    return app


@dataclass
class Session:
    """One run of one command: what the options that many commands have say, and the way its output goes."""

    command: str
    json: bool = False
    plain: bool = False
    quiet: bool = False
    verbose: bool = False
    site_file: Path | None = None
    state_folder: Path | None = None
    masked: bool = False
    keeps: bool = False
    edits: bool = False  # of the site file
    deadline: float = 5.0
    dry_run: bool = False
    mask: Mask | None = None
    no_pager: bool = False
    out_taken: bool = False  # standard output gets a file: what is said goes to stderr
    drawn: bool = False  # something is drawn anew in place: no line of progress goes between
    _progress: bool = False
    _private: set[str] = field(default_factory=set)
    at: datetime = field(default_factory=lambda: SystemClock().now())

    def __post_init__(self) -> None:
        secrets_in_use()  # those of this command, for all that it prints
        self.world = report.world()
        if self.world == "lab" and not GUIDED.get():
            mark = "[lab] the simulated town, not the real network"
            sys.stderr.write(folded_lines(mark, stderr_width()) + "\n")

    def note(self, text: str = "") -> None:
        """Something for the person on stderr: what it means, what is next."""
        if not self.quiet and not self.json:
            sys.stderr.write(folded_lines(shown_lines(self._said(text)), stderr_width()) + "\n")

    def told(self, *pieces: str | tuple[str, str], hang: int = 0) -> None:
        """As `note`, with the styles of its pieces. hang: how far in the further lines are."""
        if not self.quiet and not self.json:
            from hooper.cli.parts.render import line

            worded = [self._said(one) if isinstance(one, str) else (self._said(one[0]), one[1]) for one in pieces]
            line(console(stderr=True, plain=self.plain), *worded, hang=hang)

    def not_written(self) -> None:
        """With --dry-run, say so."""
        if self.dry_run:
            self.note("Nothing was written (--dry-run).")

    def next(self, code: str, *commands: str | tuple[str, ...], **values: Any) -> None:
        """The next step, for one purpose, each command on a line of its own, so that it can be pasted.

        code: next.CODE of said.json says what it is for, with values. commands: what follows "hooper", as text where
        all of it is ours or a key of the site file, else as words, which are quoted for a shell; they name the site
        file and the state as this one did.
        Nothing is next to what was not done (--dry-run of an edit).
        """
        self._upcoming("\nNext", code, commands, values)

    def ahead(self, *kinds: str, most: int = 2, then: bool = False) -> bool:
        """The next steps of the whole job that are open, from what is known now: nobody is asked.

        kinds: those of these alone; none: of all. most: how many. then: a next step was told before. Returns: whether
        any is open.
        """
        if self.quiet or self.json or GUIDED.get() or (self.dry_run and self.edits):
            return False
        from hooper.store.sitefile import read_site
        from hooper.usecases.watch.ahead import look_ahead

        try:
            steps = self.do(look_ahead, read_site(self.site_path), look=True).document.steps
        except HooperError:  # it was told by what came before
            return False
        opened: dict[str, AheadStep] = {}
        for step in steps:
            if step.state == "open" and (not kinds or step.step in kinds):
                opened.setdefault(step.command, step)  # the first of each command
        for word, step in zip(("Then" if then else "\nNext", "Then"), list(opened.values())[:most], strict=False):
            self.note(f"{word}: {str(step.why).rstrip('.')}:")
            self.note(f"   {self.here_whole(step.command)}")
        return bool(opened)

    def then(self, code: str, *commands: str | tuple[str, ...], **values: Any) -> None:
        """What comes after the step before: as `next`, with a purpose of its own."""
        self._upcoming("Then", code, commands, values)

    def _upcoming(
        self, word: str, code: str, commands: Sequence[str | tuple[str, ...]], values: dict[str, Any]
    ) -> None:
        from hooper.words.said import say

        in_lab = all(isinstance(one, tuple) and one[0] == "lab" for one in commands)
        if (self.dry_run and self.edits) or (GUIDED.get() and not in_lab):
            return
        self.note(f"{word}: {say(f'next.{code}', **values)}:")
        for command in commands:
            text = command if isinstance(command, str) else shlex.join(_typed(command))
            self.note(f"   hooper {self.here(text)}")

    def here(self, command: str) -> str:
        """A command with the site file and the state that this one was given, so that it means the same ones."""
        first, pipe, rest = command.partition(" | ")
        word = first.split(" ", 1)[0]
        both = " ".join(first.split()[:2])
        if self.site_file is not None and word not in NO_SITE and both not in NO_SITE:
            first += f" --site {shlex.quote(str(self.site_file))}"
        keeps = (
            (word in KEEPS_STATE and both not in KEEPS_NONE)
            or both in KEEPS_STATE
            or (word == "worksheet" and re.search("--(rest|ticked|changed)", first))
        )
        if self.state_folder is not None and keeps:
            first += f" --state {shlex.quote(str(self.state_folder))}"
        return first + pipe + rest

    def here_whole(self, command: str) -> str:
        """As `here`, of a command with the program's name."""
        return f"hooper {self.here(spelled(command).removeprefix('hooper '))}"

    def detail(self, text: str) -> None:
        """What is being done, for --verbose."""
        if self.verbose:
            sys.stderr.write(folded_lines(shown(self._said(text)), stderr_width()) + "\n")

    def _said(self, text: str) -> str:
        return redact(self._worded(text))

    def worded(self, text: str) -> str:
        """A text as it is shown."""
        return redact(self._worded(text))

    def _worded(self, text: str) -> str:
        """A text as it is shown: with the commands of its deeds, and masked where that is asked for."""
        text = spelled(text)
        return self.mask.text(text) if self.mask else text

    @property
    def site_path(self) -> Path:
        """The site file that --site, HOOPER_SITE or this folder names."""
        return site_path(self.site_file)

    def read_site(self) -> SiteFile:
        """Read the site file; with --mask, set it up for the output. Raises: SiteFileError, SeveralErrors."""
        from hooper.store.sitefile import read_site

        file = read_site(self.site_path)
        self.mask_for(self.site_path)
        self.detail(f"read {self.site_path}: {len(file.site.services)} services on {len(file.site.hosts)} hosts")
        return file

    def do(
        self,
        work: Callable[[Run], tuple[T, list[HooperError]]],
        file: SiteFile,
        *,
        state: bool = False,
        look: bool = False,
    ) -> Done[T]:
        """A use case that asks nobody. state: it uses what is kept; look: it looks at that, where there is any.

        Raises: StateError.
        """
        from hooper.usecases.run import Run, open_state, state_if_there

        run = Run(file, self.at, self.site_path, detail=self.detail)
        kept = open_state(run, self.state_folder) if state else state_if_there(run, self.state_folder) if look else None
        with run.secrets.used(), kept if kept is not None else nullcontext():
            if run.state is not None:  # what is kept has an age, in the time of the world that it is of
                with suppress(LabGone):  # a lab that has ended has no time
                    self.use_lab_time()
                run.at = self.at
            self._tell_twin(run)
            document, trouble = work(run)
        return Done(document, [*run.trouble, *trouble], run)

    def look(self, work: Callable[[Run], Awaitable[tuple[T, list[HooperError]]]], file: SiteFile) -> Done[T]:
        """A use case that looks at the network; the session's time becomes that of the place it looks from."""

        async def opened() -> Done[T]:
            from hooper.usecases.run import open_run

            async with open_run(
                file,
                self.site_path,
                self.detail,
                keeps=self.keeps,
                state=self.state_folder,
                told=self.detail if self.verbose else None,
                progress=self.progress,
            ) as run:
                self.at = run.at
                self._tell_twin(run)
                document, trouble = await work(run)
            return Done(document, [*run.trouble, *trouble], run)

        try:
            return run_async(opened)
        finally:
            self.progress("")

    def _tell_twin(self, run: Run) -> None:
        """Ask about a copy of a site file, once."""
        if run.twin is not None:
            self.note(
                f"! {self.site_path} has the id of {run.twin}, so that both are one site with one state."
                f" If it is another site: hooper {self.here('move --anew')}"
            )

    def use_lab_time(self) -> None:
        """In the lab, `at` is the town's time from here on: for what asks nobody, yet tells ages. Raises: LabGone."""
        if self.world != "lab":
            return
        from hooper.net.lab_door import LabLink, lab_from_environment

        address = lab_from_environment()
        if address is not None:
            self.at = datetime.fromisoformat(run_async(LabLink(address).ask, "hello")["now"])

    def progress(self, text: str) -> None:
        """One line on a terminal, which the next takes the place of: how far it is; empty: it is over."""
        width = stderr_width()
        dumb = os.environ.get("TERM", "dumb") in ("dumb", "unknown") and os.name != "nt"  # it cannot take a line back
        still = self.drawn or self.json or self.quiet or self.verbose
        if width is None or dumb or still or not (text or self._progress):
            return
        self._progress = bool(text)
        sys.stderr.write("\r\x1b[2K" + redact(self._worded(shown(text)))[: width - 1])
        sys.stderr.flush()

    def show(
        self,
        document: T,
        render: Callable[[T, Screen], None],
        *,
        errors: Iterable[HooperError] = (),
        extra: dict[str, Any] | None = None,
    ) -> int:
        """Print the document as JSON, or as text by `render`; returns the exit code of the errors."""
        problems = list(errors)
        if self.json:
            document = each_text(document, self._worded)
            body = {**head(self.command, self.at, self.world), **plain(document), **(extra or {})}
            if problems:
                body["errors"] = report.error_objects(problems)
            sys.stdout.write(in_encoding(dump(body), sys.stdout.encoding))
        else:
            screen = console(stderr=self.out_taken, plain=self.plain)
            said = each_text(document, lambda text: _visible(self._worded(text), text))
            if screen.is_terminal and not (self.no_pager or self.drawn or self.plain):
                from hooper.cli.parts.paging import paged

                paged(screen, lambda: render(said, screen))
            else:
                render(said, screen)
            sys.stdout.flush()
            for problem in problems:
                report.print_errors(problem)
        return worst(problem.exit_code for problem in problems)

    def masked_document(self, document: T) -> T:
        """A document with its texts as they are shown."""
        shown_one: T = each_text(document, self._worded)
        return shown_one

    def failed(self, problems: Iterable[HooperError]) -> int:
        """Tell what went wrong beside what was written; the exit code."""
        found = list(problems)
        for problem in found:
            report.print_errors(problem)
        return worst(problem.exit_code for problem in found)

    def give(self, text: str, out: Path | None, *, force: bool = False) -> None:
        """A whole text file, in UTF-8 whatever the terminal's encoding: to `out`, else to stdout.

        Raises: RefusedForSafety: a file that Hooper did not write is there; MachineError.
        """
        from hooper.files import STDIO, write_output

        write_output(out or STDIO, text.encode("utf-8", "backslashreplace"), keep=(self.site_path,), force=force)
        if out not in (None, STDIO):
            self.note(f"Written to {out}.")

    def mask_for(self, path: Path) -> None:
        """With --mask, set it up for the names of that site file too. Raises: SiteFileError, SeveralErrors."""
        if self.masked:
            from hooper.masking import Mask
            from hooper.site.private import private_words
            from hooper.store.sitefile import read_site

            self._private |= private_words(read_site(path).site)
            self.mask = Mask(self._private)

    def say(self, text: str) -> None:
        """One line for people on stdout, flushed."""
        sys.stdout.write(shown(self._worded(text)) + "\n")
        sys.stdout.flush()

    def line(self, document: Any, at: datetime | None = None) -> None:
        """Print one line of JSON Lines and flush it."""
        text = dump_line({**head(self.command, at or self.at, self.world), **plain(each_text(document, self._worded))})
        sys.stdout.write(in_encoding(text, sys.stdout.encoding))
        sys.stdout.flush()


def _typed(words: Iterable[str]) -> Iterator[str]:
    """The words of a command as a person types them: a deed among them is several."""
    for word in words:
        yield from spelled(word).split() if "⟦" in word else (word,)


def _visible(worded: str, written: str) -> str:
    """A text of a document as a terminal may have it; what we composed ourselves keeps its line ends."""
    return shown_lines(worded) if isinstance(written, Lines) else shown(worded)


def site_path(given: Path | None) -> Path:
    """The site file that --site, HOOPER_SITE, this folder or the person's preferences name. Raises: UsageError."""
    if given == Path("-"):
        raise UsageError("--site -: a site file is edited where it stands", remedy="Name the file.")
    here = Path("site.toml")
    return given or named_site() or (here if here.exists() else preferences().site or here)


def _own_loop(work: Callable[..., Awaitable[T]], *arguments: Any) -> T:
    """Run in an event loop of its own. The start did without garbage collection; from here on it is wanted."""
    import anyio

    from hooper.net.running import interruptible

    gc.enable()
    return anyio.run(interruptible, work, arguments)


OUTSIDE: ContextVar[Callable[[str], None]] = ContextVar("OUTSIDE", default=lambda url: None)  # told of a page there
RUNNER: ContextVar[Callable[..., Any]] = ContextVar("RUNNER", default=_own_loop)  # who runs what is asynchronous


def run_async(work: Callable[..., Awaitable[T]], *arguments: Any) -> T:
    """Run a command's asynchronous part, in the event loop that the caller of the program has handed in."""
    result: T = RUNNER.get()(work, *arguments)
    return result


def console(*, stderr: bool = False, plain: bool = False) -> Screen:
    """What text is drawn on."""
    from hooper.cli.parts.render import Screen

    return Screen(stderr=stderr, plain=plain)


def prompt(question: str, default: str = "") -> str | None:
    """A person's answer to a question on stderr; None: there is none any more."""
    text = question + (f" [{default}]" if default else "") + ":"
    sys.stderr.write(folded_lines(text, stderr_width()) + " ")
    sys.stderr.flush()
    line = sys.stdin.readline()
    return (line.strip() or default) if line else None
