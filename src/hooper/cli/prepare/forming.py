"""hooper gateway form: what a router's page can do, by questions."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.editing import finish
from hooper.cli.parts.session import Session, prompt
from hooper.errors import UsageError
from hooper.words.data import data

if TYPE_CHECKING:
    import typer

    from hooper.site.edit import Value
    from hooper.site.model import Form

WORDS = {"y": True, "yes": True, "n": False, "no": False}
MOST = 10_000


def add_form(app: typer.Typer) -> None:
    """Puts the command into the group of gateways."""
    command(app, "gateway form", site=True, dry_run=EDIT_DRY_RUN)(_form)


def _form(session: Session, entry: str) -> int:
    """What a router's page can do, by questions: the sheet for it is cut to that.

    Enter leaves an answer as it stands, ? explains the question. By options: `gateway change --form-sources yes`.
    """
    from hooper.planning.edits import change

    file = session.read_site()
    (key,) = chosen([entry], file.site.gateways, "gateway")
    if session.json:
        raise UsageError("--json asks no questions", remedy="Use `hooper gateway change`, whose --form options say it.")
    answers = _asked(session, file.site.gateways[key].form)
    if not answers:
        session.note("Nothing is different: the file stays as it is.")
        return 0
    code = finish(session, file, lambda file: change(file, "gateways", key, answers), ahead=False)
    session.next("see-what-to", f"worksheet {key}")
    return code


def _asked(session: Session, form: Form) -> dict[str, Value]:
    """What differs from the file. Raises: UsageError: nobody answers any more."""
    session.note("Enter leaves it as it stands; ? explains a question.")
    found: dict[str, Value] = {}
    for key, (question, why) in data("form").items():
        known = getattr(form, key)
        answer = _one(session, question, why, known)
        if answer is not None and answer != known:
            found[f"form.{key}"] = answer
    return found


def _one(session: Session, question: str, why: str, known: bool | int | None) -> bool | int | None:
    counts = question.startswith("How many")
    stands = "" if known is None else str(known) if counts else "yes" if known else "no"
    while True:
        said = prompt(question if counts else f"{question}, yes or no", stands)
        if said is None:
            raise UsageError("the questions were not answered to the end; nothing was written",
                             remedy="Answer them, or use `hooper gateway change`.")  # fmt: skip
        if said == "?":
            session.note(f"   {why}")
        elif not said:
            return known
        elif counts and said.isascii() and said.isdigit() and 1 <= int(said) <= MOST:
            return int(said)
        elif not counts and said.lower() in WORDS:
            return WORDS[said.lower()]
        else:
            session.note(f"   {said!r}: a number from 1 to {MOST}" if counts else f"   {said!r}: yes or no")
