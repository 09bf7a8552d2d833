"""hooper login ..."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.private.logins import LoginCodeDocument, LoginTriedDocument, PasswordDocument

app = sub_app("Logins: second factors and passwords. No password is kept.", group=True)
DEEDS = ("make", "try")
LEAST, MOST = 12, 128  # letters of a password


@command(app, "login code", site=True, mask=True, deadline=3.0)
def code(
    session: Session,
    deed: str | None = None,
    what: str | None = None,
    user: str = "admin",
    out: Path | None = None,
    keep_in: Path | None = None,
    secret: str | None = None,
    force: bool = False,
) -> int:
    """A second factor: make its secret for a device, with the QR code for an app; or try a code that the app shows.

    Where a code is wrong, it is said which clock is off by how much.
    """
    if deed is None:
        raise UsageError("make or try is missing", remedy="Write `login code make HOST` or `login code try CODE`.")
    (which,) = chosen((deed,), DEEDS, "deed")
    return _make(session, what, user, out, keep_in, force=force) if which == "make" else _try(session, what, secret)


def _make(session: Session, host: str | None, user: str, out: Path | None, keep: Path | None, *, force: bool) -> int:
    from hooper.usecases.private.logins import CodeRequest, make_code

    file = session.read_site()
    if host is None:
        raise UsageError("HOST is missing", remedy="Name the device whose login gets the second factor.")
    (key,) = chosen((host,), file.site.devices, "host")
    request = CodeRequest(key, user, out, keep, force)
    done = session.do(lambda run: make_code(run, request), file)
    status = session.show(done.document, _render_made, errors=done.trouble)
    where = f"file:{keep}" if keep is not None else "file:SECRET"
    session.next("try-a-code", f"login code try CODE --secret {where}")
    session.then("tick-second-factor", f"host tick {key} second_factor")
    return status


def _try(session: Session, typed: str | None, secret: str | None) -> int:
    from hooper.secret import SecretRef
    from hooper.usecases.private.logins import try_code

    file = session.read_site()
    if secret is None:
        raise UsageError("--secret is missing", remedy="Give env:NAME or file:PATH of what `login code make` showed.")
    try:
        known = SecretRef.parse(secret).read(Path())
    except ValueError as exc:
        raise UsageError(f"--secret: {exc}", remedy="Write env:NAME or file:PATH.") from None
    if typed is None:
        if session.json or not sys.stdin.isatty():
            raise UsageError("CODE is missing", remedy="Type the six digits that the app shows now.")
        typed = input("The code that the app shows now: ")
    given = typed
    done = session.look(lambda run: try_code(run, given, known, session.deadline), file)
    status = session.show(done.document, _render_tried, errors=done.trouble)
    return worst([status, 0 if done.document.right else EXIT_NEEDS_A_PERSON])


@command(app, "login password")
def password(session: Session, length: int = 20, without_signs: bool = False) -> int:
    """A password by the system's randomness, shown once and kept nowhere: put it into your password manager at once."""
    from hooper.usecases.private.logins import make_password

    if not LEAST <= length <= MOST:
        raise UsageError(f"--length {length}: from {LEAST} to {MOST}")
    return session.show(make_password(length, signs=not without_signs), _render_password)


def _render_made(document: LoginCodeDocument, out: Screen) -> None:
    from hooper.cli.parts.codes import draw_code
    from hooper.cli.parts.render import heading

    heading(out, f"{document.host}, login of {document.user}")
    out.print()
    draw_code(document.uri, out)
    out.print(f"Without a camera, type this into the app: {' '.join(_fours(document.secret))}")
    for path in document.files:
        out.print(f"Written to {path}, for you alone")
    if not document.files:
        out.print("It is kept nowhere: give it to the device and to the app now.")


def _fours(text: str) -> list[str]:
    return [text[at : at + 4] for at in range(0, len(text), 4)]


def _render_tried(document: LoginTriedDocument, out: Screen) -> None:
    from hooper.cli.parts.render import line

    style = "well" if document.right else "wrong"
    line(out, ("✓ " if document.right else "✗ ", style), f"{document.says}.")


def _render_password(document: PasswordDocument, out: Screen) -> None:
    out.print(document.password)
