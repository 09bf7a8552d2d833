"""The one error tree: every failure that Hooper reports on purpose.

The message says what went wrong and where, the remedy what to do next. `code` is stable and goes into the JSON.
Anything else that escapes is a fault of ours and ends with exit code 70.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Self

from hooper import deeds
from hooper.words.said import Said, say

EXIT_OK = 0
EXIT_NEEDS_A_PERSON = 1
EXIT_USAGE = 2
EXIT_SITE_FILE = 3
EXIT_COUNTERPART = 4
EXIT_REFUSED_FOR_SAFETY = 5
EXIT_THIS_MACHINE = 6
EXIT_OUR_FAULT = 70
EXIT_INTERRUPTED = 130

# Where several apply, the first of these is the one a caller must hear about.
_PRECEDENCE = (
    EXIT_INTERRUPTED,
    EXIT_OUR_FAULT,
    EXIT_THIS_MACHINE,
    EXIT_USAGE,
    EXIT_SITE_FILE,
    EXIT_REFUSED_FOR_SAFETY,
    EXIT_COUNTERPART,
    EXIT_NEEDS_A_PERSON,
)


def worst(codes: Iterable[int]) -> int:
    """The exit code to end with when several apply; 0 when none does."""
    given = set(codes)
    return next((code for code in _PRECEDENCE if code in given), EXIT_OK)


@dataclass(frozen=True)
class Where:
    """A place in the site file.

    file: its path, as it was given. line: counted from 1; null: it is about the whole file. column: in characters,
    counted from 1. path: the key in the file, such as services.desk.port.
    """

    file: str
    line: int | None = None
    column: int | None = None
    path: str | None = None

    def __str__(self) -> str:
        parts = [self.file, *(str(n) for n in (self.line, self.column) if n is not None)]
        return ":".join(parts)


class HooperError(Exception):
    """Base of every error that Hooper raises on purpose."""

    code = "fault"
    remedy = "This is a fault of Hooper. Please report it with the message above."
    exit_code = EXIT_OUR_FAULT

    def __init__(
        self, message: str, *, remedy: str | None = None, code: str | None = None, where: Where | None = None
    ) -> None:
        super().__init__(message)
        self.message = message
        self.where = where
        if remedy is not None:
            self.remedy = remedy
        if code is not None:
            self.code = code

    def about(self, *names: str, remedy: str | None = None) -> Self:
        """The same trouble, told of what it hit. remedy: another one; None: the same."""
        other = type(self).__new__(type(self), *self.args)  # not by its own making, which may ask for more
        other.__dict__.update(self.__dict__)
        other.message = f"{', '.join(names)}: {self.message}" if names else self.message
        if remedy is not None:
            other.remedy = remedy
        return other

    @property
    def told(self) -> Said:
        """As a value: its words as they were raised."""
        return say("failed", words=self.message)


class NeedsAPerson(HooperError):
    """It ran, and what it found is for a person to decide."""

    code, exit_code = "needs-a-person", EXIT_NEEDS_A_PERSON
    remedy = "Read what it says and decide."


class UsageError(HooperError):
    """The command was called with words that do not fit together."""

    code, exit_code = "usage", EXIT_USAGE
    remedy = f"See the command's {deeds.SEE_HELP}."


class SiteFileError(HooperError):
    """One mistake in the site file. bare: what is wrong, without the path of the file that it is about. place: that
    path; empty: it is of the whole file. missing: a key that must be there is not.
    """

    code, exit_code = "site-file", EXIT_SITE_FILE
    remedy = "Correct the site file and run the command again."

    def __init__(
        self, bare: str, *, about: str = "", remedy: str | None = None, where: Where | None = None,
        code: str | None = None, place: tuple[str | int, ...] = (), missing: bool = False,
    ) -> None:  # fmt: skip
        super().__init__(f"{about}: {bare}" if about else bare, remedy=remedy, where=where, code=code)
        self.bare, self.place, self.missing = bare, place, missing


class CounterpartError(HooperError):
    """A router, server, proxy or the lab failed or could not be reached."""

    code, exit_code = "counterpart", EXIT_COUNTERPART
    remedy = "Check that it is switched on and reachable, then try again."


class NoAnswer(CounterpartError):
    """Nothing came back before the deadline."""

    code = "no-answer"
    remedy = f"Check the address, wait longer with {deeds.WAIT_LONGER}, or ask another server."


class NoNetwork(CounterpartError):
    """This computer has no network at all."""

    code = "no-network"
    remedy = "Plug in a cable or join a Wi-Fi network, then try again."


class LabGone(CounterpartError):
    """The lab that HOOPER_LAB names is not running any more."""

    code = "lab-gone"
    remedy = f"Start it again with `{deeds.RUN_LAB}`, or unset HOOPER_LAB to work on the real network."


class RefusedForSafety(HooperError):
    """Hooper could do it but will not, because it would be dangerous or destroy something."""

    code, exit_code = "refused-for-safety", EXIT_REFUSED_FOR_SAFETY
    remedy = "Read the reason; change what makes it unsafe."


class MachineError(HooperError):
    """Trouble on this computer: a full disk, a locked or newer state, a file that cannot be read or written."""

    code, exit_code = "this-machine", EXIT_THIS_MACHINE
    remedy = "Free what is in the way on this computer, then try again."


class StateError(MachineError):
    """The state store cannot be used."""

    code = "state"
    remedy = f"Choose another folder with {deeds.STATE_FOLDER}, or make room and permissions right."


class SeveralErrors(HooperError):
    """Several errors at once, such as all mistakes of a site file."""

    def __init__(self, errors: Sequence[HooperError]) -> None:
        super().__init__(f"{len(errors)} errors")
        self.errors = tuple(errors)
        self.exit_code = worst(error.exit_code for error in errors)


class WireError(CounterpartError):
    """Bytes from the network that are not what the protocol allows.

    Tests and renderers use `field` and `offset` (in bytes), never the text.
    """

    code = "bad-wire"
    remedy = "Check that this address and port speak the protocol."

    def __init__(self, field: str, offset: int, problem: str) -> None:
        super().__init__(f"bad {field} at byte {offset}: {problem}")
        self.field, self.offset, self.problem = field, offset, problem


def flatten(error: HooperError) -> tuple[HooperError, ...]:
    """The single errors inside `error`, in their order."""
    return error.errors if isinstance(error, SeveralErrors) else (error,)
