"""The verbs that each table of the site file has: list, show, add, change, rename, remove."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

from hooper import deeds
from hooper.chosen import chosen
from hooper.cli.parts.command import EDIT_DRY_RUN, Body, command
from hooper.cli.parts.editing import finish
from hooper.cli.parts.session import Session, sub_app
from hooper.cli.parts.tables import typed
from hooper.errors import UsageError
from hooper.site.mistakes import singular

if TYPE_CHECKING:
    import typer

    from hooper.cli.parts.render import Screen
    from hooper.usecases.prepare.written import EntriesDocument

OPTIONS = {
    "names": "name",
    "accounts": "account",
    "meetings": "meeting",
}  # tables whose options are written down, not read off the schema
ALL = ("list", "show", "add", "change", "rename", "remove")


def group_of(table: str, text: str) -> typer.Typer:
    """A group with all verbs for one table. text: its help."""
    app = sub_app(text, group=True)
    add_verbs(app, table, *ALL)
    return app


def group_of_one(table: str, text: str) -> typer.Typer:
    """A group for a table that has no entries, but keys alone. text: its help."""
    app = sub_app(text, group=True)

    def show(session: Session) -> int:
        from hooper.usecases.prepare.written import entries_of

        done = session.do(lambda run: entries_of(run, table), session.read_site())
        return session.show(done.document, partial(_render, one=True))

    def change(session: Session, keys: dict[str, Any], clear: list[str] | None = None) -> int:
        from hooper.planning.edits import change as change_keys

        if not keys and not clear:
            raise UsageError("nothing to change was given", remedy=f"See the command's {deeds.SEE_HELP}.")
        rows = typed(table, keys)
        return finish(session, session.read_site(), lambda file: change_keys(file, table, None, rows, clear or ()))

    show.__doc__ = f"What the site file says in [{table}]."
    change.__doc__ = f"Change [{table}] in the site file."
    command(app, f"{table} show", site=True, mask=True)(show)
    command(app, f"{table} change", site=True, dry_run=EDIT_DRY_RUN, keys=table)(change)
    return app


def add_verbs(app: typer.Typer, table: str, *verbs: str) -> None:
    """Verbs for the entries of one table of the site file, whose singular is the name of the group."""
    group = singular(table)

    list_all, show = _looks(table)

    def add(session: Session, keys: dict[str, Any], entry: str) -> int:
        from hooper.planning.edits import add as add_entry

        return finish(session, session.read_site(), lambda file: add_entry(file, table, entry, typed(table, keys)))

    def change(session: Session, keys: dict[str, Any], entry: str, clear: list[str] | None = None) -> int:
        from hooper.planning.edits import change as change_entry

        file = session.read_site()
        (key,) = chosen([entry], getattr(file.site, table), group)
        if not keys and not clear:
            raise UsageError("nothing to change was given", remedy=f"See the command's {deeds.SEE_HELP}.")
        return finish(session, file, lambda file: change_entry(file, table, key, typed(table, keys), clear or ()))

    def rename(session: Session, entry: str, new: str) -> int:
        from hooper.planning.edits import rename as rename_entry

        file = session.read_site()
        (key,) = chosen([entry], getattr(file.site, table), group)
        return finish(session, file, lambda file: rename_entry(file, table, key, new), state=True)

    def remove(session: Session, entry: str) -> int:
        from hooper.planning.edits import remove as remove_entry

        file = session.read_site()
        (key,) = chosen([entry], getattr(file.site, table), group)
        return finish(session, file, lambda file: remove_entry(file, table, key))

    one = f"{'an' if group[0] in 'aeiou' else 'a'} {group}"
    helps: dict[str, tuple[Body, str]] = {
        "list": (list_all, f"All {table} of the site file: what is written of each, and what names it."),
        "show": (show, f"What the site file says of {one}, and what names it there."),
        "add": (add, f"Add {one} to the site file."),
        "change": (change, f"Change {one} in the site file."),
        "rename": (rename, f"Give {one} another name, wherever it stands in the file; what is kept of it follows."),
        "remove": (remove, f"Remove {one} that nothing else names. Its comments in the file stay."),
    }
    for verb in verbs:
        body, text = helps[verb]
        body.__doc__ = text
        edits, keys = verb not in ("list", "show"), OPTIONS.get(table, table)
        command(
            app, f"{group} {verb}", site=True, state=verb == "rename", mask=not edits,
            dry_run=EDIT_DRY_RUN if edits else None, keys=keys if verb in ("add", "change") else None,
        )(body)  # fmt: skip


def _looks(table: str) -> tuple[Body, Body]:
    """What shows all entries of a table, and what shows one."""

    def list_all(session: Session) -> int:
        from hooper.usecases.prepare.written import entries_of

        done = session.do(lambda run: entries_of(run, table), session.read_site())
        return session.show(done.document, partial(_render, one=False))

    def show(session: Session, entry: str) -> int:
        from hooper.usecases.prepare.written import entries_of

        file = session.read_site()
        (key,) = chosen([entry], getattr(file.site, table), singular(table))
        done = session.do(lambda run: entries_of(run, table, key), file)
        return session.show(done.document, partial(_render, one=True))

    return list_all, show


def _render(document: EntriesDocument, out: Screen, *, one: bool) -> None:
    from hooper.cli.parts.render import heading, indented, table

    if not document.entries:
        out.print(f"There is no {singular(document.table)} in the site file.")
    if one or out.plain:
        for entry in document.entries:
            if not out.plain:
                heading(out, ".".join(dict.fromkeys((document.table, entry.name))))
            for row in entry.keys:
                out.print(f"{entry.name}: {row.key}: {row.value}" if out.plain else f"   {row.key} = {row.value}")
            if entry.named_by:
                users = ", ".join(entry.named_by)
                indented(out, f"{entry.name}: named by: {users}" if out.plain else f"Named by {users}.", left=0)
        return
    drawn = table(singular(document.table), "what is written", "named by", prose=("what is written", "named by"))
    for entry in document.entries:
        written = "\n".join(f"{row.key} = {row.value}" for row in entry.keys)
        drawn.add_row(entry.name, written, "\n".join(entry.named_by))
    if document.entries:
        out.print(drawn)
