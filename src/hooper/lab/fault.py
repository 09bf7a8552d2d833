"""What a fault of the town is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from hooper import deeds
from hooper.errors import NeedsAPerson
from hooper.lab.town import Town
from hooper.words.catalogue import faults

Undo = Callable[[], None]


@dataclass(frozen=True, slots=True)
class Fault:
    """apply: breaks the town for one service and gives the way back. touches: what it changes as a whole, so that only
    one of those that change it can be there. needs_six: it is one of IPv6, for a service that has an opening.
    """

    name: str
    apply: Callable[[Town, str], Undo]
    usual: str = "film-page"  # the service it hits where none is named
    look: str = ""  # the command that shows it; else `hooper why`
    touches: str = ""
    needs_six: bool = False

    @property
    def cause(self) -> str:
        """The code that a diagnosis of it must come to."""
        return faults()[self.name].cause


class NothingToBreak(NeedsAPerson):
    """The town has nothing that this fault could break."""

    code = "nothing-to-break"
    remedy = f"Enter the worksheet first: `{deeds.TYPE_SHEETS}`."
