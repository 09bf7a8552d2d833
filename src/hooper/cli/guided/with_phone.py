"""A guided run whose questions are on a phone's page too: whichever answers first, terminal or phone."""

from __future__ import annotations

import queue
import secrets
import sys
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

from hooper.cli.guided.questioning import at_a_terminal, line_comes
from hooper.cli.parts.session import OUTSIDE, Session, console, prompt
from hooper.cli.parts.spelling import spelled
from hooper.errors import NoNetwork
from hooper.planning.guide_values import SKIP, Asking, read_answer
from hooper.usecases.act.companion import OPEN_S, Companion, PhoneView
from hooper.words.said import say

if TYPE_CHECKING:
    from ipaddress import IPv4Address

    from hooper.net.types import Surroundings
    from hooper.planning.guide_values import Doing

WORDS = ("back", "leave", SKIP)  # that each question takes
EACH_S = 0.1  # seconds from one look at the terminal to the next
SEEN_S = 3.0  # seconds for the page to show how it ended


class Phone:
    """The phone's side of a run. companion: its page. url: where that is."""

    def __init__(self, session: Session, companion: Companion, url: str) -> None:
        self.session, self.companion, self.url = session, companion, url

    def ask(self, question: Asking, sheet: bytes = b"") -> None:
        """Put a question there too. sheet: the page of the sheet that belongs to it."""

        def read(text: str) -> str:
            word = text.strip().lower()
            return word if word in WORDS else read_answer(question, text)

        worded = self.session.worded
        self.companion.show(
            PhoneView(
                "question",
                worded(str(question.text)),
                worded(str(question.why)),
                tuple(worded(str(one)) for one in question.told),
                tuple((choice.word, worded(str(choice.means))) for choice in question.choices),
                question.several,
                question.default,
                sheet=bool(sheet),
            ),
            read,
            sheet,
        )

    def doing(self, deed: Doing) -> None:
        """Show what is done at home now."""
        command = self.session.here(spelled(deed.deed).removeprefix("hooper "))
        title = self.session.worded(str(deed.title))
        self.companion.show(PhoneView("doing", title, command=self.session.worded(f"hooper {command}")))

    def outside(self, url: str) -> None:
        """Send it outside, to a page that is there for its proof."""
        self.companion.show(PhoneView("outside", str(say("phone.outside")), link=url))

    def ended(self, code: int) -> None:
        """Say how it ended, for as long as it takes to be seen."""
        self.companion.show(PhoneView("ended", str(say("phone.left" if code else "phone.done"))))
        until = time.monotonic() + SEEN_S
        while self.companion.joined and not self.companion.seen and time.monotonic() < until:
            time.sleep(EACH_S)

    def live(self, rows: Mapping[str, str]) -> None:
        """How the services come out at a look from outside."""
        self.companion.live = {key: self.session.worded(words) for key, words in rows.items()}

    @property
    def pressed(self) -> bool:
        """Whether it has answered, or has just come."""
        return not self.companion.answers.empty()

    def answered(self, text: str, default: str) -> str | None:
        """The answer of the phone or of the terminal, whose prompt this is; None: there is none any more."""
        if at_a_terminal():
            sys.stderr.write(self.session.worded(text) + (f" [{default}]" if default else "") + " (or on the phone): ")
            sys.stderr.flush()
        while self.companion.there:
            with suppress(queue.Empty):
                said = self.companion.answers.get(timeout=EACH_S)
                self.session.note(f"{said}   (on the phone)")
                return said
            if at_a_terminal() and line_comes():
                line = sys.stdin.readline()
                return (line.strip() or default) if line else None
        self.session.note("\nThe phone's page is closed.")
        return prompt(text, default) if at_a_terminal() else None


@contextmanager
def with_phone(session: Session) -> Iterator[Phone]:
    """While this is open, a page of this computer's is there for one phone. Raises: NoNetwork."""
    from anyio.from_thread import start_blocking_portal

    from hooper.net.lab_door import lab_from_environment
    from hooper.net.opening import open_door
    from hooper.net.serving import serve_http
    from hooper.net.types import Endpoint
    from hooper.report.companion import as_page

    path = f"/{secrets.token_hex(5)}"
    lab = session.world == "lab"
    companion = Companion(
        path,
        f"{secrets.randbelow(10**6):06}",
        time.monotonic,
        lambda nonce: as_page("Hooper's guide", path, nonce, lab=lab),
    )
    with start_blocking_portal("asyncio") as portal:

        async def serve(*, task_status: object) -> None:
            door = await open_door(lab_from_environment())
            listening = await door.listen(Endpoint(_own(await door.surroundings()), 0))
            async with listening as listener:
                task_status.started(f"http://{listening.local}{path}")  # type: ignore[attr-defined]
                await serve_http(listener, companion.answer)

        served, url = portal.start_task(serve)
        phone = Phone(session, companion, str(url))
        token = OUTSIDE.set(phone.outside)
        try:
            _shown(session, phone)
            yield phone
        finally:
            OUTSIDE.reset(token)
            companion.closed = True
            served.cancel()


def _own(around: Surroundings) -> IPv4Address:
    """This computer's address on the network that it goes out by. Raises: NoNetwork."""
    names = [route.interface for route in around.default_routes()]
    interfaces = [one for name in names if (one := around.interface(name)) is not None]
    interfaces += [one for one in around.interfaces if one not in interfaces]
    for one in interfaces:
        if one.up and not one.loopback and not one.tunnel and one.ipv4 is not None:
            return one.ipv4
    raise NoNetwork("this computer is on no network that a phone could be on too")


def _shown(session: Session, phone: Phone) -> None:
    from hooper.cli.parts.codes import draw_code
    from hooper.cli.parts.render import heading

    out = console(plain=session.plain)
    heading(out, "On the phone, on this network's Wi-Fi, open this")
    out.print()
    out.print(f"   {phone.url}")
    out.print()
    draw_code(phone.url, out)
    out.print()
    out.print(f"Its code: {phone.companion.code}")
    session.note(
        f"Each question is asked there too, for {OPEN_S / 60:.0f} minutes, of the first browser that knows the code."
    )
