"""The program: commands loaded when they are called, and the one place where errors become text, JSON and exit code."""

from __future__ import annotations

import contextlib
import errno
import gc
import os
import signal
import sys
from collections.abc import Sequence
from functools import cache
from importlib import import_module
from types import ModuleType
from typing import Any

if os.path.basename(sys.argv[0]) in ("hooper", "__main__.py"):  # not where somebody else's program imports this

    def _left(number: int, frame: Any) -> None:
        os.write(2, b"interrupted\n")
        os._exit(130)

    for _name in ("SIGINT", "SIGTERM", "SIGHUP"):  # until there is anything to tidy up
        with contextlib.suppress(ValueError, AttributeError):
            if signal.getsignal(getattr(signal, _name)) is not signal.SIG_IGN:
                signal.signal(getattr(signal, _name), _left)

import typer

from hooper import __version__, errors, interrupts, signs
from hooper.cli.parts.helping import GuessingGroup

LONGEST_WORD = 8192  # characters of one argument; the longest path of a file system is half of that
WORK: dict[str, dict[str, tuple[str, str]]] = {  # in its order; of each command the module, or module:app, and help
    "Begin": {
        "guide": ("hooper.cli.guided.guide", "The whole job in one run, by questions."),
        "demo": ("hooper.cli.town.demo", "The whole job on a simulated town, from nothing to proven."),
        "lab": ("hooper.cli.town.lab", "The simulated town by itself: run it, break it, mend it."),
        "new": ("hooper.cli.prepare.new", "Start a site file, by questions or from what is found here."),
        "survey": ("hooper.cli.prepare.survey", "What this line is, and whether forwarding can work at all."),
    },
    "Write down what there is": {
        "line": ("hooper.cli.prepare.entities:line", "The lines to the internet."),
        "gateway": ("hooper.cli.prepare.entities:gateway", "The routers, as the site file has them."),
        "measure": ("hooper.cli.prepare.entities:measure", "Whom to ask outside: STUN servers, echoes, resolvers."),
        "host": ("hooper.cli.prepare.host", "The devices; also found, ticked off, and free addresses."),
        "service": ("hooper.cli.prepare.service", "What the devices offer."),
        "edit": ("hooper.cli.prepare.in_editor", "The site file in your editor, checked when you leave it."),
        "undo": ("hooper.cli.prepare.undo", "Take back the last edit of the site file."),
        "move": ("hooper.cli.move", "Take a site, its state and its keys to another place."),
        "schema": ("hooper.cli.schema", "The keys of the site file, as a JSON schema."),
    },
    "Plan it, and let it in": {
        "plan": ("hooper.cli.prepare.plan", "The rule that every router needs, and what is wrong or risky."),
        "audit": ("hooper.cli.prepare.audit", "What is exposed and should not be."),
        "risk": ("hooper.cli.prepare.risk", "The risks that are taken knowingly."),
        "worksheet": ("hooper.cli.prepare.worksheet", "What to enter by hand: routers, devices, provider's letter."),
        "router": ("hooper.cli.act.router", "The routers' own tables: look, enter the plan, take it back."),
    },
    "Give it a name and a certificate": {
        "name": ("hooper.cli.act.name", "Dynamic names: do they lead here, and making them."),
        "updater": ("hooper.cli.act.updater", "Who is told of new addresses."),
        "certificate": ("hooper.cli.prepare.entities:certificate", "The certificates that are planned."),
        "authority": ("hooper.cli.prepare.authority", "Who issues certificates."),
        "cert": ("hooper.cli.act.cert", "Certificates: which there are, getting them, looking at any."),
    },
    "Let people in privately": {
        "tunnel": ("hooper.cli.private.tunnel", "Private access: both sides of a tunnel, what its server saw."),
        "peer": ("hooper.cli.private.peer", "The devices that use a tunnel: add, hand over, renew, revoke."),
        "meeting": ("hooper.cli.private.meeting", "Two ends without addresses that find the direct way."),
        "account": ("hooper.cli.prepare.entities:account", "Who has which login on which device. No password is kept."),
        "login": ("hooper.cli.private.login", "Second factors and passwords, made and tried."),
        "profile": ("hooper.cli.prepare.profile", "A profile that a device exported: what is wrong, mended."),
    },
    "Prove it, and keep it so": {
        "check": ("hooper.cli.prove.check", "Does it answer, and is it really that service?"),
        "arrival": ("hooper.cli.prove.arrival", "A page for a phone, which tells whether it comes in from outside."),
        "visit": ("hooper.cli.prove.visit", "Look from another computer elsewhere, with one file."),
        "stand-in": ("hooper.cli.prove.stand_in", "Listen in place of a service, to prove the way in without it."),
        "card": ("hooper.cli.prove.card", "What to type away from home, with a QR code."),
        "drill": ("hooper.cli.prove.drill", "Before a journey: is all proven, and does it last until the return?"),
        "why": ("hooper.cli.prove.why", "The first broken link of a service, with evidence and remedy."),
        "explain": ("hooper.cli.explain", "What a finding, a cause or a problem means, by its code."),
        "keep": ("hooper.cli.watch.keep", "Keep it all so from now on: names, rules, certificates, proofs."),
        "witness": (
            "hooper.cli.watch.witness",
            "Eyes outside: a helper that looks back, and tells of silence.",
        ),
        "notice": ("hooper.cli.prepare.entities:notice", "Whom a keeper tells, and of what."),
        "next": ("hooper.cli.watch.next_step", "What comes next, of the whole job, and the command that does it."),
        "status": ("hooper.cli.watch.status", "The one screen: how everything stands, and what needs a person."),
        "history": ("hooper.cli.watch.history", "What happened: changes, outages and their causes, figures."),
        "self": ("hooper.cli.installation", "This installation: what it can do, and what is missing."),
        "report": ("hooper.cli.watch.reporting", "One page: what is exposed, since when, how well."),
    },
}
COMMANDS = {name: row for group in WORK.values() for name, row in group.items()}


@cache
def _command(name: str) -> Any:
    module, _, app = COMMANDS[name][0].partition(":")
    command = typer.main.get_command(getattr(import_module(module), app or "app"))
    command.name = name
    return command


class LazyGroup(GuessingGroup):
    """Commands whose modules are imported when they are called; the overview needs none of them."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        if not ctx.resilient_parsing and any(argument in COMMANDS for argument in args):
            _without_plugins()
        return super().parse_args(ctx, args)

    def list_commands(self, ctx: Any) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        if cmd_name not in COMMANDS:
            return None
        return _command(cmd_name)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        width = max(map(len, COMMANDS))
        for title, group in WORK.items():
            with formatter.section(title):
                formatter.write_dl([(f"{name:{width}}", text) for name, (_, text) in group.items()])
        with formatter.section("Examples"):
            for example in ("demo", "new --found", "check film-page --from interface"):
                formatter.write(f"{' ' * formatter.current_indent}hooper {example}\n")


def _without_plugins() -> None:
    """Import pydantic without its search for plugins, which `run` has switched off: before it finds that out, it
    has imported what reads installed packages, a twelfth of a start.
    """
    if "importlib.metadata" in sys.modules or os.environ.get("PYDANTIC_DISABLE_PLUGINS") != "__all__":
        return
    empty = ModuleType("importlib.metadata")
    empty.entry_points = lambda **_: ()  # type: ignore[attr-defined]
    sys.modules["importlib.metadata"] = empty
    try:
        import_module("pydantic.plugin._loader")
    except ImportError:
        pass  # another pydantic, which does it in another way
    finally:
        del sys.modules["importlib.metadata"]


app = typer.Typer(
    cls=LazyGroup,
    name="hooper",
    help="From a box on your shelf to a service that answers, safely and under a name, from anywhere.",
    epilog="New here? `hooper demo` shows the whole job in a few seconds and touches no network.",
    rich_markup_mode=None,
    no_args_is_help=True,
    context_settings={"help_option_names": ["-h", "--help"]},
)


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"hooper {__version__}")
        raise typer.Exit


@app.callback()
def root(
    version: bool = typer.Option(False, "--version", "-V", callback=_version, is_eager=True, help="Print the version."),
) -> None:
    pass


def run(arguments: Sequence[str] | None = None) -> None:
    """Run the program and leave with its exit code."""
    gc.disable()  # what is imported stays; run_async switches it on again
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # nobody's plugin changes how a site file is read
    closed = sys.stdout is None  # as by `>&-`
    _open_what_is_closed()
    given = list(sys.argv[1:] if arguments is None else arguments)
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(AttributeError, ValueError):
            stream.reconfigure(errors=signs.HANDLER)  # type: ignore[union-attr]
    try:
        import_module("hooper.cli.parts.outcome")  # which every end needs
        sys.unraisablehook = _not_lost
        _end_on(interrupts.interrupt)  # tidying up
        code = outcome(given)
    except KeyboardInterrupt:  # between the command and its end
        code = errors.EXIT_INTERRUPTED
    except OSError as exc:  # not even the error can be printed
        code = _stdout_failed(exc, errors.EXIT_OK)
    if closed:
        code = _stdout_failed(OSError(errno.EBADF, os.strerror(errno.EBADF)), code)
    if hasattr(signal, "setitimer"):
        signal.setitimer(signal.ITIMER_REAL, 0)
    _end_on(signal.SIG_IGN)  # it has ended: what came of it is what is told
    with contextlib.suppress(OSError, ValueError):
        sys.stderr.flush()
    try:
        sys.stdout.flush()
    except OSError as exc:
        code = _stdout_failed(exc, code)
    # All is closed and written: taking the interpreter apart would cost a sixth of most commands. And Python would end
    # by SIGINT where an interrupt hit an `exec`, as of dataclasses.
    if arguments is None or code == errors.EXIT_INTERRUPTED:
        os._exit(code)
    sys.exit(code)


def _not_lost(unraisable: Any) -> None:
    """An interrupt that fell into a destructor or a callback, where nothing can be raised, comes again soon."""
    if not issubclass(unraisable.exc_type, KeyboardInterrupt):
        sys.__unraisablehook__(unraisable)
    elif hasattr(signal, "setitimer"):
        signal.signal(signal.SIGALRM, interrupts.interrupt)
        signal.setitimer(signal.ITIMER_REAL, 0.005)


def _end_on(handler: Any) -> None:
    """What SIGINT, SIGTERM and SIGHUP do, all the same: the command ends with 130."""
    for number in ("SIGINT", "SIGTERM", "SIGHUP"):
        with contextlib.suppress(ValueError, AttributeError):  # not in the main thread; Windows
            if signal.getsignal(getattr(signal, number)) is not signal.SIG_IGN:  # as by nohup
                signal.signal(getattr(signal, number), handler)


def _open_what_is_closed() -> None:
    """Standard streams that the caller has closed lead nowhere, instead of being None."""
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, mode, encoding="utf-8"))  # noqa: SIM115 - open until the end


ALONE, WITH_A_VALUE = ("--json", "--plain", "--quiet", "-q", "--verbose", "-v", "--mask"), ("--site", "--state")


def _as_usual(arguments: list[str]) -> list[str]:
    """The options of all commands behind the command, where they may be typed before it; `help` and `version` as the
    options that they are.
    """
    at = 0
    while at < len(arguments) and (arguments[at].partition("=")[0] in WITH_A_VALUE or arguments[at] in ALONE):
        at += 2 if arguments[at] in WITH_A_VALUE else 1
    before, rest = arguments[:at], arguments[at:]
    if rest[:1] == ["help"]:
        return [*rest[1:], "--help"]
    return [*(["--version"] if rest[:1] == ["version"] else rest), *before] if rest else arguments


def outcome(arguments: list[str]) -> int:
    """Run one command in this process; returns its exit code. What it prints goes to sys.stdout and sys.stderr."""
    from hooper.cli.parts import outcome as report

    arguments = _as_usual(arguments)
    try:
        for word in arguments:
            _readable(word)
        result = app(args=arguments, prog_name="hooper", standalone_mode=False)
        if result == errors.EXIT_INTERRUPTED:  # what the parser makes of Ctrl-C
            return report.interrupted()
        return result if isinstance(result, int) else errors.EXIT_OK
    except errors.HooperError as exc:
        return report.failure(arguments, exc)
    except (KeyboardInterrupt, typer.Abort):
        return report.interrupted()
    except typer.TyperException as exc:
        return report.wrong_usage(arguments, exc)
    except SystemExit as exc:  # how the parser leaves when the reader of our output is gone, or a shell was answered
        answered = "_HOOPER_COMPLETE" in os.environ or exc.code in (0, None)
        return int(exc.code or 0) if answered else errors.EXIT_INTERRUPTED
    except OSError as exc:
        if exc.filename is None and exc.errno in report.STDOUT_ERRORS:
            return _stdout_failed(exc, errors.EXIT_OK)
        return report.fault(arguments, exc)
    except BaseExceptionGroup as group:
        return report.group(arguments, group)
    except Exception as exc:
        return report.fault(arguments, exc)


def _readable(word: str) -> None:
    """The gate for all that is typed. Raises: UsageError: it is no text, or longer than anything here is."""
    if len(word) > LONGEST_WORD:
        message = f"{word[:40]!r} and so on: {len(word)} characters are more than anything here has"
        raise errors.UsageError(message, remedy=f"Give at most {LONGEST_WORD}.")
    if any("\ud800" <= sign <= "\udfff" or sign == "\0" for sign in word):
        raise errors.UsageError(f"{word[:40]!r} is no text in UTF-8", remedy="Give it as UTF-8; rename such a file.")


def _stdout_failed(exc: OSError, code: int) -> int:
    """The reader of our output is gone, or the disk it goes to is full."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)  # so that the interpreter's own last flush has somewhere to go
    if isinstance(exc, BrokenPipeError):
        return errors.worst([code, errors.EXIT_INTERRUPTED])
    with contextlib.suppress(OSError, ValueError):
        sys.stderr.write(f"error: the output cannot be written: {exc.strerror}\n")
    return errors.worst([code, errors.EXIT_THIS_MACHINE])
