"""hooper witness ..."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.session import Session, run_async, sub_app
from hooper.errors import EXIT_COUNTERPART, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.keep.witnessing import InvitedDocument, ServedDocument
    from hooper.usecases.watch.witnesses import WitnessesDocument

app = sub_app("Eyes outside: a helper of yours that looks back at the site, and tells when it is silent.", group=True)
PORT, UNITS = 7443, ("systemd", "launchd", "windows")


def _folder(session: Session, folder: Path | None) -> Path:
    from hooper.store.place import state_folder

    return folder or state_folder(session.state_folder) / "witness"


@command(app, "witness serve")
def serve(session: Session, folder: Path | None = None, port: int = PORT) -> int:
    """Be a witness, on a computer outside, until Ctrl-C: for sites that were invited, and for nobody else.

    It connects to the address that a site comes from, and to no other, whatever it is asked. It needs no rights, and
    its port let in. What it tells people is a line here too. In the lab it is the rented machine, 198.51.100.7.
    """
    from hooper.keep.witnessing import serve as work

    if not 1 <= port <= 65535:
        raise UsageError(f"--port {port}: from 1 to 65535")
    run_async(work, _folder(session, folder), port, session.say)
    return 0


@command(app, "witness invite")
def invite(
    session: Session, at: str, folder: Path | None = None, tell: str | None = None, quiet_hours: str | None = None
) -> int:
    """On the witness: a code by which one site joins it, once, within an hour.

    With --tell, the people of that site are told when its keeper is silent for longer than agreed, and what is seen of
    it meanwhile.
    """
    from hooper.clock import SystemClock
    from hooper.keep.witnessing import invite as make

    made = make(_folder(session, folder), at, tell or "", quiet_hours or "", SystemClock().now())
    code = session.show(made, _render_invited)
    session.next("join-at-home", f"witness join {made.code}")
    return code


def _render_invited(document: InvitedDocument, out: Screen) -> None:
    out.print(document.code)
    out.print(f"Good once, until {document.until}. Who has it can join this witness: hand it on as a password.")


@command(app, "witness join", site=True, state=True, dry_run=EDIT_DRY_RUN)
def join(session: Session, code: str, witness: str | None = None) -> int:
    """At home: join a witness by the code that it made, and write it down."""
    from hooper.cli.parts.editing import render
    from hooper.usecases.watch.witnesses import join as work

    file = session.read_site()
    key = witness or next(name for name in ("witness", *(f"witness-{n}" for n in range(2, 99)))
                          if name not in file.site.witnesses)  # fmt: skip
    done = session.look(lambda run: work(run, code, key, dry_run=session.dry_run), file)
    status = session.show(done.document, render, errors=done.trouble)
    session.next("look-from-witness", f"check --from witness:{key}")
    session.then("keep-so", "keep")
    return status


@command(app, "witness list", site=True, state=True)
def list_all(session: Session, served: bool = False, folder: Path | None = None) -> int:
    """The witnesses of this site; with --served the sites that the witness of this computer knows."""
    if served or folder is not None:
        from hooper.keep.witnessing import served as read

        return session.show(read(_folder(session, folder)), _render_served)
    return _show(session, (), ask=False)


@command(app, "witness show", site=True, state=True)
def show(session: Session, witness: str | None = None) -> int:
    """Ask a witness whether it is there, which address it sees, what its clock says, and what it has told."""
    return _show(session, (witness,) if witness is not None else (), ask=True)


def _show(session: Session, keys: tuple[str, ...], *, ask: bool) -> int:
    from hooper.usecases.watch.witnesses import list_witnesses

    file = session.read_site()
    wanted = chosen(keys, file.site.witnesses, "witness") or tuple(file.site.witnesses)
    done = session.look(lambda run: list_witnesses(run, wanted, ask=ask), file)
    code = session.show(done.document, _render, errors=done.trouble)
    silent = any(row.answers is False for row in done.document.witnesses)
    if not done.document.witnesses:
        session.next("invite-there", "witness invite HOST:7443")
    return worst([code, EXIT_COUNTERPART]) if silent else code


@command(app, "witness forget", site=True, state=True, dry_run=EDIT_DRY_RUN)
def forget(session: Session, witness: str, served: bool = False, folder: Path | None = None) -> int:
    """Leave a witness, and take it out of the site file; with --served, let a site go at the witness itself."""
    if served or folder is not None:
        from hooper.keep.witnessing import forget_served

        if session.dry_run:
            raise UsageError("--dry-run does not go with --served", remedy="See `hooper witness list --served`.")
        title = forget_served(_folder(session, folder), witness)
        session.say(f"{title} is not known here any more.")
        return 0
    from hooper.cli.parts.editing import render
    from hooper.usecases.watch.witnesses import leave

    file = session.read_site()
    (key,) = chosen((witness,), file.site.witnesses, "witness")
    done = session.look(lambda run: leave(run, key, dry_run=session.dry_run), file)
    return session.show(done.document, render, errors=done.trouble)


@command(app, "witness unit")
def unit(
    session: Session,
    system: str,
    folder: Path | None = None,
    port: int = PORT,
    user: str | None = None,
    out: Path | None = None,
    force: bool = False,
) -> None:
    """What your system needs to run a witness by itself, without any rights, as text that you install."""
    from hooper.report.units import unit as make
    from hooper.usecases.watch.noticing import UnitDocument, witness_unit_asked

    (kind,) = chosen([system], UNITS, "system")
    at = _folder(session, folder).absolute()
    words = ("witness", "serve", "--folder", str(at), "--port", str(port))
    text, steps = make(kind, witness_unit_asked(words, at, user))  # type: ignore[arg-type]
    if session.json:
        session.show(UnitDocument(kind, text, steps), lambda shown, screen: None)
        return
    session.give(text, out, force=force)
    session.note()
    for step in steps:
        session.note(f"  {step}")


def _render(document: WitnessesDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table
    from hooper.clock import shown_duration

    if not document.witnesses:
        out.print("This site has no witness yet.")
        return
    drawn = table(
        "", "witness", "found at", "sees this site at", "tells after", "what it says", prose=("what it says",)
    )
    for row in document.witnesses:
        mark = "?" if row.answers is None else "✓" if row.answers else "✗"
        says = row.detail or "not asked"
        if row.behind_s is not None and abs(row.behind_s) > 5:
            says += f"; this computer's clock is {shown_duration(abs(round(row.behind_s)))}"
            says += " behind" if row.behind_s > 0 else " ahead"
        drawn.add_row(mark, row.witness, row.at, row.you or "-", shown_duration(row.silence_s), says)
    out.print(drawn)


def _render_served(document: ServedDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table

    out.print(f"This witness's key: {document.pin}")
    if not document.sites:
        out.print("It knows no site yet.")
        return
    drawn = table("site", "title", "last there", "from", "tells", "told")
    for row in document.sites:
        drawn.add_row(row.site, row.title, row.seen or "never", row.address or "-", "yes" if row.tells else "nobody",
                      row.told or "-")  # fmt: skip
    out.print(drawn)
