"""What a file is sealed with: by a reference, else asked for."""

from __future__ import annotations

import getpass
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.errors import RefusedForSafety, UsageError

if TYPE_CHECKING:
    from hooper.cli.parts.session import Session
    from hooper.secret import Secret


def passphrase_of(session: Session, given: str | None, *, twice: bool) -> Secret:
    """given: env:NAME or file:PATH; None: it is asked for, with `twice` two times.

    Raises: UsageError: it is no such reference, or nobody is here; RefusedForSafety: the two differ; MachineError.
    """
    from hooper.secret import Secret, SecretRef, keep_out_of_output

    if given is not None:
        try:
            return SecretRef.parse(given).read(Path())
        except ValueError as exc:
            raise UsageError(f"--passphrase: {exc}", remedy="Write env:NAME or file:PATH.") from None
    if session.json or not sys.stdin.isatty():
        raise UsageError("nobody is here to give a passphrase", remedy="Give --passphrase env:NAME or file:PATH.")
    said = getpass.getpass("Passphrase: ")
    if twice and getpass.getpass("Again: ") != said:
        raise RefusedForSafety("the two are not the same", code="not-agreed", remedy="Try again.")
    keep_out_of_output(said)
    return Secret(said, "--passphrase")
