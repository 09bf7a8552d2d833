"""hooper stand-in"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import command, within
from hooper.cli.parts.from_where import parse_origin, parse_public
from hooper.cli.parts.session import Session, console, sub_app
from hooper.cli.prove.arrival import show_rules
from hooper.clock import shown_duration
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.places import Place
    from hooper.usecases.prove.stand_in import StandInLine

app = sub_app("Listen in place of a service, to prove the way in apart from the device.")
CAME = {"outside": "from outside", "home": "from home", "tunnel": "by the tunnel", "unclear": "from where, is unclear"}


@command(app, "stand-in", site=True, state=True, mask=True, deadline=5.0, deadline_help="For the look from outside.")
def stand_in(
    session: Session,
    service: str,
    origin: str | None = None,
    proxy_password: str | None = None,
    public: list[str] | None = None,
    hold: float | None = None,
    take_over: bool = False,
) -> int:
    """Listen in place of a service that is stopped or not there yet, over TCP and UDP, and prove the way in to it.

    On the service's own host Hooper listens at its port; elsewhere a rule for the time of the test leads the outside
    port to this computer. With --from it is asked from there, by a question whose answer only this test knows.
    """
    from hooper.usecases.prove.stand_in import StandInRequest
    from hooper.usecases.prove.stand_in import stand_in as stand

    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    place = parse_origin(origin, proxy_password) if origin is not None else None
    if place is not None and place.kind == "here":
        raise UsageError(
            "from here nothing is proven about the way in", remedy="Look --from interface, or leave it out."
        )
    if hold and place is not None:
        raise UsageError("--for is for waiting, and --from asks at once", remedy="Give one of them.")
    hold = within("--for", hold or 600, 1, 86_400)
    screen = console(plain=session.plain)

    def heard(line: StandInLine) -> None:
        if session.json:
            session.line(line)
        elif line.event == "ready":
            _ready(session.masked_document(line), screen)
            sys.stdout.flush()
            if place is None:
                session.note(
                    f"Waiting for up to {shown_duration(hold)}; Ctrl-C ends it, and takes back what was entered."
                )
        elif line.caller is not None and place is None:
            one = line.caller
            session.say(f"{one.address}: {one.transport}, {CAME[one.came]}: {one.said}")
        elif line.result is not None:
            result = line.result
            session.say(f"{result.transport} {result.port}: {result.verdict}: {result.detail}")

    given = parse_public(public or [], file.site)
    done = session.look(
        lambda run: stand(run, StandInRequest(key, place, given, hold, session.deadline, take_over, heard)), file
    )
    code = session.failed(done.trouble)
    return worst([code, _next(session, key, place, proven=done.document.proven)])


def _next(session: Session, key: str, place: Place | None, *, proven: bool) -> int:
    """What it means, and what is next; the exit code."""
    if proven:
        session.note(
            f"Proven: the line, the routers and the port lead in for {key}. What is left is the device itself."
        )
        session.next("see-what-the-device", f"check {key} --from here")
        return 0
    session.note("The way in is not proven.")
    where = ("--from", str(place)) if place is not None else ()
    session.next("find-the-first", ("why", key, *where))
    return EXIT_NEEDS_A_PERSON


def _ready(line: StandInLine, out: Screen) -> None:
    from hooper.cli.parts.render import heading

    heading(out, f"Standing in for {line.service}: {line.address}, {', '.join(line.ports)}")
    show_rules(line.rules, out)
    out.print()
