"""hooper lab roam, browse, load, dump: the town's phone, and the machines of a tunnel."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, run_async
from hooper.errors import EXIT_NEEDS_A_PERSON

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.lab.browser import Browsed
    from hooper.lab.documents import LabDocument

WORDS = {
    "home": "The phone is on the club's Wi-Fi, as a visitor's is who has not switched it off.",
    "away": "The phone has its mobile data alone.",
}


def register_phone(app: typer.Typer, done: Callable[..., Any]) -> None:
    """Add the commands. done: has the lab do something, and gives what it says of it."""

    @command(app, "lab roam")
    def roam(session: Session, where: str) -> None:
        """Be the person who carries the phone home, or away again."""
        session.show(done(session, "roam", where=where), lambda shown, out: out.print(WORDS[shown["where"]]))

    @command(app, "lab browse")
    def open_page(
        session: Session,
        url: str,
        on: str = "phone",
        same: list[str] | None = None,
        other: list[str] | None = None,
        saw: list[str] | None = None,
        code: str = "",
        press: str = "",
    ) -> int:
        """Be the person who opens a page on the phone; its browser tries what the page tries."""
        from hooper.errors import UsageError
        from hooper.files import read_text, write_atomically
        from hooper.net.lab_door import lab_from_environment

        words: dict[str, dict[str, str]] = {}
        for found, keys in (("same", same), ("other", other)):
            for key in keys or ():
                words.setdefault(key, {})["print"] = found
        for text in saw or ():
            key, asked, said = _saw(text)
            words.setdefault(key, {})[asked] = said

        address = lab_from_environment()
        if address is None:
            raise UsageError("there is no lab: HOOPER_LAB is not set", remedy="Start one: `hooper lab run`.")

        jar = address.folder / f"cookie-of-{on}"  # what the phone's browser keeps, from one command to the next
        owner, _, cookie = read_text(jar).partition("\n") if jar.is_file() else ("", "", "")
        cookie = cookie if owner == url else ""

        async def open_there() -> tuple[Browsed, str]:
            from hooper.lab import browser
            from hooper.net.lab_door import LabDoor

            roots = address.folder / "town-ca.pem"
            known = read_text(roots) if roots.is_file() else None
            door = await LabDoor.open(address, on)
            if code or press or cookie:
                return await browser.press(door, url, known, code, press, cookie)
            return await browser.browse(door, url, known, words), ""

        page, kept = run_async(open_there)
        if kept != cookie:
            write_atomically(jar, f"{url}\n{kept}".encode(), mode=0o600)
        session.show(page, _render)
        return 0 if page.status == 200 else EXIT_NEEDS_A_PERSON


def _saw(text: str) -> tuple[str, str, str]:
    """SERVICE:QUESTION=WORD. Raises: UsageError."""
    from hooper.check.browser_visit import SEEN
    from hooper.errors import UsageError

    key, _, answer = text.partition(":")
    asked, _, said = answer.partition("=")
    if said not in SEEN.get(asked, ()):
        every = ", ".join(f"{name}={'|'.join(words)}" for name, words in SEEN.items())
        raise UsageError(f"--saw {text!r} is not understood", remedy=f"Write SERVICE:QUESTION=WORD, of {every}.")
    return key, asked, said


def _render(page: Browsed, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented

    heading(out, f"{page.title} ({page.status})" if page.title else f"A page without a title ({page.status})")
    for line in page.text:
        if line not in page.tried:
            indented(out, line, left=3)
    for service, words in page.tried.items():
        indented(out, words, mark=f"{service:<16}", left=3)


def register(app: typer.Typer, done: Callable[..., Any]) -> None:
    """Add the commands. done: has the lab do something, and gives what it says of it."""

    @command(app, "lab load")
    def load_tunnel(session: Session, file: Path, on: str = "gate", off: bool = False) -> None:
        """Be the person who puts a tunnel's files onto the gate, or a profile onto a phone."""
        from hooper.files import read_text

        rules = file.with_suffix(".key" if file.suffix == ".config" else ".nft")
        text = read_text(rules) if rules.is_file() else ""
        told = {"on": on, "name": file.stem, "conf": read_text(file), "rules": text, "off": off}
        session.show(done(session, "load", **told), _render_loaded)

    @command(app, "lab dump")
    def dump_tunnel(session: Session) -> None:
        """What the gate's software tells of its peers, for `hooper tunnel seen`."""
        document = done(session, "dump")
        if session.json:
            session.show(document, lambda shown, out: None)
        else:  # tabs and all, as the software prints it
            session.give(document["dump"], None)


def _render_loaded(document: LabDocument, out: Screen) -> None:
    from hooper.cli.parts.render import counted

    on, peers = document["on"], document["peers"]
    of = f", {counted(peers, 'peer')}" if on == "gate" else ""
    has = "has" if peers else "does not have"
    out.print(f"{on} {has} the tunnel {document['interface']}{of}{'' if peers else ' any more'}.")
