"""hooper updater ..."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.editing import finish
from hooper.cli.parts.entity import add_verbs
from hooper.cli.parts.session import Session, sub_app
from hooper.cli.parts.tables import typed
from hooper.clock import DAY, local
from hooper.errors import UsageError
from hooper.site.updating import FORMS

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.act.updaters import UpdatersDocument

app = sub_app("Who is told of new addresses: providers, name servers, commands.", group=True)
add_verbs(app, "updaters", "show", "change", "rename", "remove")
GUIDE = "  ".join(f"{name}: {form.told}." for name, form in FORMS.items())


@command(app, "updater list", site=True, state=True, mask=True)
def list_all(session: Session) -> int:
    """All updaters of the site file: where they are, what they keep, what came of the last update."""
    from hooper.usecases.act.updaters import list_updaters

    file = session.read_site()
    done = session.do(list_updaters, file, look=True)
    code = session.show(done.document, _render, errors=done.trouble)
    if not done.document.updaters:
        session.next("add-your-provider", "updater add --help")
    return code


@command(app, "updater add", site=True, dry_run=EDIT_DRY_RUN, keys="updaters")
def add(session: Session, keys: dict[str, Any], updater: str, no_token: bool = False) -> int:
    """Add who is told of new addresses. Its secret is asked for, not shown, and put into a private file.

    The forms of http, as providers' guides show them. words: one GET with hostname and myip, a user and a password,
    answered by a word such as good or nochg. token: one GET whose address holds a token. record: a PUT of the record
    as JSON, with the token as a bearer.
    """
    from hooper.planning.edits import add as add_table
    from hooper.secret import SecretRef

    rows, token = typed("updaters", keys), keys.get("token")
    rows.setdefault("kind", "dns-update" if "key" in rows else "command" if "command" in rows else "http")
    if rows["kind"] == "http" and "form" not in rows:
        raise UsageError("--form is missing", remedy=f"Give the one that the provider's guide shows. {GUIDE}")
    if token is not None:
        try:
            SecretRef.parse(token)
        except ValueError as exc:
            raise UsageError(f"--token: {exc}", remedy="Write env:NAME or file:PATH.") from None
    wants = not no_token and (rows["kind"] != "command" or token is not None)
    reference = token or f"file:secrets/{updater}"
    if wants:
        rows["token"] = reference
    file = session.read_site()
    edited = add_table(file, "updaters", updater, rows)  # that is wrong before a secret is asked for
    if wants and token is None and not session.dry_run:
        _check(file, edited.text)
        _keep_secret(session, updater, str(rows["kind"]))
    code = finish(session, file, lambda file: add_table(file, "updaters", updater, rows), ahead=False)
    name = next(iter(file.site.names), "home.example.net")
    session.next("have-it-keep", ("name", "add", name, "--by", updater))
    session.then("see-what-would", ("name", "try", name))
    return code


def _check(file: Any, text: str) -> None:
    """Raises: UsageError: what was given makes no sense."""
    from hooper.cli.parts.editing import of_options
    from hooper.errors import SeveralErrors, SiteFileError
    from hooper.site.load import parse_site

    try:
        parse_site(text.encode(), file.name)
    except (SiteFileError, SeveralErrors) as exc:
        raise of_options(exc) from None


def _keep_secret(session: Session, updater: str, kind: str) -> None:
    """Ask for the secret, without showing it, and put it into a private file beside the site file.

    Raises: UsageError: none was given; MachineError.
    """
    import getpass

    from hooper.errors import RefusedForSafety
    from hooper.files import make_folder, write_atomically

    path = session.site_path.parent / "secrets" / updater
    if path.exists():
        raise RefusedForSafety(
            f"{path} is there already",
            code="not-overwritten",
            remedy=f"Give --token file:secrets/{updater} to use it.",
        )
    what = "The key, in base64" if kind == "dns-update" else "The password or token"
    if sys.stdin.isatty():
        secret = getpass.getpass(f"{what} (it is not shown): ", stream=sys.stderr)
    else:
        secret = sys.stdin.readline().rstrip("\r\n")
    if not secret:
        raise UsageError("no secret was given", remedy="Type it, or give --token env:NAME, or --no-token.")
    make_folder(path.parent, private=True)
    write_atomically(path, secret.encode() + b"\n", private=True)
    session.note(f"The secret stands in {path}, for you alone.")


def _render(document: UpdatersDocument, out: Screen) -> None:
    from hooper.cli.parts.render import indented, table

    drawn = table("updater", "kind", "form", "where", "keeps", prose=("keeps",))
    for row in document.updaters:
        drawn.add_row(row.updater, row.kind, row.form or "-", row.where, ", ".join(row.names) or "nothing")
    out.print(drawn)
    for row in document.updaters:
        if row.last is not None and row.at is not None:
            indented(out, f"{row.updater}: on {local(row.at, DAY)} {row.last}", left=2)
