"""hooper lab load, hooper lab dump: the machines of a tunnel in the town."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from hooper.cli.command import command
from hooper.cli.common import Session

if TYPE_CHECKING:
    from hooper.cli.screen import Screen
    from hooper.lab.answers import LabDocument


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
    from hooper.cli.render import counted

    on, peers = document["on"], document["peers"]
    of = f", {counted(peers, 'peer')}" if on == "gate" else ""
    has = "has" if peers else "does not have"
    out.print(f"{on} {has} the tunnel {document['interface']}{of}{'' if peers else ' any more'}.")
