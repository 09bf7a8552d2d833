"""hooper visit pack, run, take, tell"""

from __future__ import annotations

import shlex
import sys
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import command, duration, within
from hooper.cli.parts.outcome import stderr_width
from hooper.cli.parts.session import Session, prompt, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, RefusedForSafety, UsageError, worst
from hooper.files import STDIO, write_output
from hooper.visible import shown

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.prove.visit import Asks, PackedDocument


app = sub_app("Look from another computer elsewhere, with one file.", group=True)


@command(app, "visit pack", site=True, state=True, deadline=5.0)
def pack(
    session: Session, service: list[str] | None = None, *, out: Path, until: str = "7d", force: bool = False
) -> int:
    """Write the file by which another computer looks from outside."""
    from dataclasses import replace

    from hooper.usecases.prove.visit import make_pack

    lasts = _lasting(session, until)
    file = session.read_site()
    asked = chosen(service or (), file.site.services, "service") or tuple(file.site.services)
    done = session.look(lambda run: make_pack(run, asked, lasts, session.deadline), file)
    document, data = done.document
    write_output(out, data, keep=(session.site_path,), force=force, private=True)
    code = session.show(replace(document, file=str(out)), _render, errors=done.trouble)
    session.next("elsewhere-on-any", ("visit", "run", "visit.json" if out == STDIO else out.name))
    return code


def _lasting(session: Session, until: str) -> timedelta:
    """--until: a day, to its end, or a time from now. Raises: UsageError."""
    try:
        end = datetime.combine(date.fromisoformat(until), time.max).astimezone()
        seconds = (end - session.at).total_seconds()
    except ValueError:
        seconds = duration("--until")(until)
    return timedelta(seconds=within("--until", seconds, 60, 31_536_000))


def _render(document: PackedDocument, out: Screen) -> None:
    from hooper.cli.parts.render import counted, indented

    looks = counted(len(document.services), "service")
    out.print(f"{document.file} looks at {looks}, and can be used until {document.expires}.")
    held = ", ".join(document.secrets) or "no key to anything"
    indented(out, f"It holds {held}, and no password; it does tell how the site is laid out.", left=0)
    for remark in document.remarks:
        indented(out, remark, mark="- ", left=0)


@command(app, "visit run", mask=True, deadline=5.0)
def run(
    session: Session, file: Path, place: str = "", out: Path | None = None, force: bool = False, yes: bool = False
) -> int:
    """Look from here, elsewhere, by such a file; no site file is needed."""
    from hooper.check.results import passes
    from hooper.cli.prove.results import render
    from hooper.usecases.prove.visit import asks_of, packed_site, read_pack
    from hooper.usecases.prove.visit import visit as look

    packed = read_pack(file)
    site = packed_site(packed, str(file))
    _agreed(session, asks_of(packed, site), agreed=yes)
    done = session.look(lambda run: look(run, packed, place, session.deadline), site)
    document, data = done.document
    target = out or (Path("visit-result.json") if file == STDIO else file.with_name(f"{file.stem}-result.json"))
    write_output(target, data, keep=(file,), force=force)
    code = session.show(document, lambda drawn, screen: render(drawn, screen, verbose=session.verbose),
                        errors=done.trouble)  # fmt: skip
    name = "visit-result.json" if target == STDIO else target.name
    session.note(f"\nBring {name} home. There: {shlex.join(('hooper', 'visit', 'take', name))}")
    return worst([code, 0 if passes(document.results) else EXIT_NEEDS_A_PERSON])


def _agreed(session: Session, asks: Asks, *, agreed: bool) -> None:
    """Show whom the file has this computer ask, and go on only where a person agrees. Raises: RefusedForSafety."""
    session.note("This file has this computer ask:")
    for line in asks.words():
        session.note(f"   {shown(line)}")
    if agreed:
        return
    on_terminal = sys.stdin.isatty() and stderr_width() is not None and not session.json
    if not on_terminal or (prompt("Go on? yes or no", "no") or "").lower() not in ("y", "yes"):
        raise RefusedForSafety(
            f"nothing was asked, since nobody agreed to ask {'; '.join(asks.words())}",
            code="not-agreed",
            remedy="If all of that is right, give --yes.",
        )


@command(app, "visit take", site=True, state=True, mask=True, deadline=5.0)
def take(session: Session, file: Path) -> int:
    """Keep what a visit has seen, back at home."""
    from hooper.check.results import passes
    from hooper.cli.prove.results import render
    from hooper.usecases.prove.brought import take_in

    site = session.read_site()
    done = session.look(lambda run: take_in(run, file), site)
    code = session.show(done.document, lambda drawn, screen: render(drawn, screen, verbose=session.verbose),
                        errors=done.trouble)  # fmt: skip
    for remark in done.document.remarks:
        session.note(str(remark))
    session.note("Kept, with its place and time.")
    return worst([code, 0 if passes(done.document.results) else EXIT_NEEDS_A_PERSON])


@command(app, "visit tell", site=True, state=True)
def tell(session: Session, service: str, *, how: str) -> int:
    """Keep what a person saw of a service; it proves nothing."""
    from hooper.usecases.prove.brought import keep_reported

    if not how.strip():
        raise UsageError("--how says nothing", remedy="Give it in the person's own words.")
    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    done = session.do(lambda run: keep_reported(run, key, " ".join(how.split())[:500]), file, state=True)
    code = session.show(done.document, lambda kept, out: out.print(f"Kept for {kept.service}: {kept.how}"))
    session.note("It is what somebody saw, and no proof: `hooper why` shows it beside what was looked at.")
    session.ahead("proof")
    return worst([code, *(problem.exit_code for problem in done.trouble)])
