"""What a fault of the town is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from hooper import deeds
from hooper.errors import NeedsAPerson
from hooper.lab.town import Town
from hooper.words.catalogue import faults

Undo = Callable[[], object]
Apply = Callable[[Town, str], Undo]


@dataclass(frozen=True, slots=True)
class Fault:
    """apply: breaks the town for one service and gives the way back. touches: what it changes as a whole, so that only
    one of those that change it can be there. needs_six: it is one of IPv6, for a service that has an opening.
    """

    name: str
    apply: Apply
    usual: str = "film-page"  # the service it hits where none is named
    look: str = ""  # the command that shows it; else `hooper why`
    touches: str = ""
    needs_six: bool = False

    @property
    def cause(self) -> str:
        """The code that a diagnosis of it must come to."""
        return faults()[self.name].cause


def both(*ways: Undo) -> Undo:
    """One way back from several, the last first."""

    def undo() -> None:
        for way in reversed(ways):
            way()

    return undo


def changed(thing: object, **values: Any) -> Undo:
    """Gives a thing other attributes; the way back leaves alone what is not any more as it was made here."""
    before = {name: getattr(thing, name) for name in values}
    for name, value in values.items():
        setattr(thing, name, value)

    def undo() -> None:
        for name, value in values.items():
            if getattr(thing, name) == value:
                setattr(thing, name, before[name])

    return undo


def placed(table: dict[Any, Any], key: Any, value: Any) -> Undo:
    """Puts something into a table; the way back leaves alone what another has put there meanwhile."""
    before = table.get(key)
    table[key] = value

    def undo() -> None:
        if table.get(key) is value:
            del table[key]
            if before is not None:
                table[key] = before

    return undo


def setting(what: Callable[[Town, str], object], **values: Any) -> Apply:
    """A fault that is another setting of a thing of the town. what: finds it, by the service that is hit."""
    return lambda town, service: changed(what(town, service), **values)


class NothingToBreak(NeedsAPerson):
    """The town has nothing that this fault could break."""

    code = "nothing-to-break"
    remedy = f"Enter the worksheet first: `{deeds.TYPE_SHEETS}`."
