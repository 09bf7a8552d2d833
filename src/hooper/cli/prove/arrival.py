"""hooper arrival"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import command, within
from hooper.cli.parts.from_where import parse_origin, parse_public
from hooper.cli.parts.session import OUTSIDE, Session, console, sub_app
from hooper.clock import shown_duration
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.usecases.prove.arrival import TURN_S, ArrivalLine, ArrivalRequest, arrival, came_words

if TYPE_CHECKING:
    from collections.abc import Iterable

    from hooper.cli.parts.render import Screen
    from hooper.places import Place
    from hooper.usecases.act.temporary import LetIn

app = sub_app("A page for a phone, which tells whether it comes in from outside.")

HOW = {
    "standing": "by the plan's own rule",
    "entered": "entered for this test, and taken back at its end",
    "by-hand": "enter it by hand now, and take it off afterwards",
}
TURNED = {
    "given-back": "The port leads to {service} now: the phone opens it.",
    "borrowed-again": "The port leads here, to hear what was seen.",
}


@command(app, "arrival", site=True, state=True, mask=True, deadline=5.0)
def wait(
    session: Session,
    service: str | None = None,
    public: list[str] | None = None,
    hold: float = 600,
    take_over: bool = False,
    compare: bool = False,
    turn: float = TURN_S,
    origin: str | None = None,
) -> int:
    """A page for a phone, which tells whether it comes in from outside.

    The phone's Wi-Fi is off: it opens the page over mobile data. What its browser reaches is proven for TCP. Of a
    service that is named, the port goes back to it by turns, so that the phone can open it and say what it saw.

    With --from, the page is opened from there in the place of a phone, such as from a witness.
    """
    turn = within("--turn", turn, 3, 600)
    hold = within("--for", hold, 1, 86_400)
    file = session.read_site()
    (key,) = chosen([service] if service else [], file.site.services, "service") or (None,)
    reached = parse_public(public or [], file.site)
    screen = console(plain=session.plain)

    def heard(line: ArrivalLine) -> None:
        if session.json:
            session.line(line)
            return
        if line.event == "ready":
            OUTSIDE.get()(line.address)
            _ready(session, session.masked_document(line), screen, hold, place)
            if compare:
                session.note("The page shows how each certificate begins and ends: compare, and press what is so.")
            sys.stdout.flush()
        elif line.event in TURNED:
            session.say(TURNED[line.event].format(service=line.service))
        elif line.visit is not None:
            one = line.visit
            session.say(f"{one.address}: {came_words(one.came)}. {one.meaning}")
            if one.traffic:
                session.say(f"   {one.traffic}")
        elif line.result is not None:
            session.say(f"   {line.result.service}: {line.result.verdict}: {line.result.detail}")

    title = file.site.site.title or file.name
    lab = session.world == "lab"
    place = _outside(origin) if origin is not None else None
    request = ArrivalRequest(key, reached, hold, session.deadline, title, lab, take_over, compare, turn, place, heard)
    done = session.look(lambda run: arrival(run, request), file)
    code = session.failed(done.trouble)
    for words in done.document.proves:
        session.note(f"Proven: {words}")
    for words in done.document.proves_not:
        session.note(f"Not proven: {words}")
    if not done.document.arrived and not done.trouble:
        session.note(f"Nobody has come from outside within {shown_duration(hold)}.")
    session.ahead()
    return code if done.document.arrived else worst([code, EXIT_NEEDS_A_PERSON])


def _outside(origin: str) -> Place:
    """The place that opens the page."""
    place = parse_origin(origin, None)
    if place.kind == "here":
        remedy = "Name a place outside: witness, interface, or a proxy; or open the page on a phone."
        raise UsageError("from this network itself nothing is proven about outside", remedy=remedy)
    return place


def _ready(session: Session, line: ArrivalLine, out: Screen, hold: float, place: Place | None) -> None:
    from hooper.cli.parts.codes import draw_code
    from hooper.cli.parts.render import heading, indented

    heading(out, f"{place} opens this" if place is not None else "On the phone, with its Wi-Fi off, open this")
    out.print()
    out.print(f"   {line.address}")
    out.print()
    if place is None:
        draw_code(line.address, out)
    show_rules(line.rules, out)
    out.print()
    heading(out, "If the page does not load")
    hand = ", ".join(dict.fromkeys(rule.gateway for rule in line.rules if rule.how == "by-hand"))
    if hand:
        indented(out, f"The rule on {hand} is not entered yet, or leads elsewhere.", mark="- ", left=3)
    indented(out, "The provider drops this port, or the line has no public address of its own.", mark="- ", left=3)
    indented(out, "This computer's own firewall does not let it in.", mark="- ", left=3)
    out.print()
    session.note(f"Waiting for up to {shown_duration(hold)}; Ctrl-C ends it, and takes back what was entered.")


def show_rules(rules: Iterable[LetIn], out: Screen) -> None:
    """The rules by which a port comes in here."""
    from hooper.cli.parts.render import heading, table

    heading(out, "The port comes in here by")
    drawn = table("", "on", "port outside", "leads to", "", prose=("",))
    for rule in rules:
        port = f"{rule.transport.upper()} {rule.outside_port}"
        drawn.add_row("  ", rule.gateway, port, f"{rule.target_address}:{rule.target_port}", HOW[rule.how])
    out.print(drawn)
