"""How a failed command ends: a sentence or a JSON document, and the exit code. Never a traceback."""

from __future__ import annotations

import errno
import os
import sys
from collections.abc import Iterable
from typing import Any

import typer

from hooper import interrupts, jsonform
from hooper.chosen import nearest
from hooper.cli.parts.spelling import spelled
from hooper.clock import SystemClock
from hooper.environment import named_lab
from hooper.errors import EXIT_INTERRUPTED, EXIT_OK, EXIT_OUR_FAULT, HooperError, SeveralErrors, UsageError, flatten
from hooper.folding import folded
from hooper.jsonform import dump, each_text, head, in_encoding
from hooper.secret import redact
from hooper.signs import worded
from hooper.visible import shown, shown_lines
from hooper.words.data import data

GROUPS = (  # commands that have commands of their own
    "lab", "line", "measure", "gateway", "host", "service", "router", "name", "updater", "tunnel", "peer", "profile",
    "account", "login", "authority", "certificate", "cert", "notice", "risk", "visit", "self", "witness",
    "meeting",
)  # fmt: skip
KEEP = ("unit", "notice")  # beside running
STDOUT_ERRORS = (errno.EPIPE, errno.ENOSPC, errno.EIO, errno.EBADF)


def world() -> str:
    """lab where HOOPER_LAB is set, else real."""
    return "lab" if named_lab() is not None else "real"


def command_of(arguments: list[str]) -> str:
    """The command's words in `arguments`, such as "lab run"."""
    words = [word for word in arguments if not word.startswith("-")]
    if words[:1] == ["keep"]:
        return f"keep {words[1] if words[1:2] and words[1] in KEEP else 'run'}"
    count = 2 if words[:1] and words[0] in GROUPS else 1
    return " ".join(words[:count]) or "hooper"


def print_errors(error: HooperError) -> None:
    """Each error and its remedy on stderr."""
    for single in flatten(error):
        place = f"{single.where}: " if single.where else ""
        for start, text in (("error: ", f"{place}{single.message}"), ("  → ", single.remedy)):
            _say(start, shown(redact(spelled(text))))


def _say(start: str, text: str) -> None:
    """One paragraph on stderr, its further lines below the first."""
    start, text = (worded(part, sys.stderr.encoding) for part in (start, text))
    width = stderr_width()
    lines = [start + text] if width is None else folded(text, width, start=start, hang=len(start) if width > 50 else 4)
    sys.stderr.write("\n".join(lines) + "\n")


def stderr_width() -> int | None:
    """The columns of stderr's terminal; None: it is none."""
    if not sys.stderr.isatty():
        return None
    columns = os.environ.get("COLUMNS", "")
    if columns.isascii() and columns.isdigit() and int(columns):
        return int(columns)
    try:
        return os.get_terminal_size(sys.stderr.fileno()).columns or 80
    except (OSError, ValueError):
        return 80


def error_objects(errors: Iterable[HooperError]) -> list[dict[str, Any]]:
    """The `errors` of a document."""
    return each_text(jsonform.error_objects(errors), spelled)


def failure(arguments: list[str], error: HooperError) -> int:
    """Report `error` in the form that was asked for; returns the exit code."""
    if "--json" in arguments:
        document = head(command_of(arguments), SystemClock().now(), world())
        sys.stdout.write(in_encoding(dump({**document, "errors": error_objects([error])}), sys.stdout.encoding))
    else:
        print_errors(error)
    return error.exit_code


def wrong_usage(arguments: list[str], exc: typer.TyperException) -> int:
    """Report what the parser says; an empty command line shows the help instead."""
    context: Any = getattr(exc, "ctx", None)
    if context is not None:
        path = context.command_path
    else:  # the parser does not say whose option lacks its value
        command = command_of(arguments)
        path = {"hooper": "hooper", "keep run": "hooper keep"}.get(command, f"hooper {command}")
    if type(exc).__name__ == "NoArgsIsHelpError":
        sys.stdout.write(shown_lines(exc.format_message()) + "\n")
        return EXIT_OK
    message, hint = " ".join(exc.format_message().split()), ""
    wrong = getattr(exc, "option_name", None)
    if wrong is not None and context is not None:
        known = [word for parameter in context.command.params for word in parameter.opts if word.startswith("--")]
        near = nearest(wrong, known)
        message, hint = f"`{path}` has no option {wrong}", f"Did you mean {near[0]}? " if near else ""
        if own := data("options")["elsewhere"].get(command_of(arguments), {}).get(wrong):
            hint = f"Did you mean `{own}`? "
    return failure(arguments, UsageError(message.rstrip("."), remedy=f"{hint}See `{path} --help`."))


def interrupted() -> int:
    """Ctrl-C."""
    sys.stderr.write("interrupted\n")
    return EXIT_INTERRUPTED


def fault(arguments: list[str], exc: BaseException) -> int:
    """A fault of ours: where it happened, for a report, without a traceback; or an interrupt that Python wrapped up."""
    if interrupts.came():
        return interrupted()
    cause: BaseException | None = exc
    while cause is not None:  # one that fell into the making of a class comes out as its RuntimeError
        if isinstance(cause, KeyboardInterrupt):
            return interrupted()
        cause = cause.__cause__ or cause.__context__
    place, step = "", exc.__traceback__
    while step is not None:
        module = step.tb_frame.f_globals.get("__name__", "")
        if module.startswith("hooper."):
            place = f" in {module}, line {step.tb_lineno}"
        step = step.tb_next
    error = HooperError(f"{type(exc).__name__}: {exc}{place}")
    assert error.exit_code == EXIT_OUR_FAULT
    return failure(arguments, error)


def group(arguments: list[str], group: BaseExceptionGroup[BaseException]) -> int:
    """Several things failed side by side: our own errors are told all, anything else is a fault."""
    found: list[HooperError] = []
    stack: list[BaseException] = [group]
    while stack:
        one = stack.pop()
        if isinstance(one, BaseExceptionGroup):
            stack.extend(reversed(one.exceptions))
        elif isinstance(one, KeyboardInterrupt):
            return interrupted()
        elif isinstance(one, HooperError):
            found.append(one)
        elif isinstance(one, OSError) and one.filename is None and one.errno in STDOUT_ERRORS:
            raise one
        else:
            return fault(arguments, one)
    return failure(arguments, found[0] if len(found) == 1 else SeveralErrors(found))
