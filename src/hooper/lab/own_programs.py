"""What programs print that are the own ones of the town's machines."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from hooper.lab.gate import OWN_DUMP

if TYPE_CHECKING:
    from hooper.lab.things import Machine
    from hooper.lab.town import Town


def own_program(town: Town, node: Machine, words: Sequence[str]) -> str | None:
    """What WireGuard's own program prints on a machine of the town, wg(8): its list, and where it sets a peer. None: it
    fails, or there is none.
    """
    gate = town.gate if town.gate is not None and town.gate.node is node else None
    clients = [one for one in town.clients.values() if one.node is node]
    if list(words) == [*OWN_DUMP]:
        for client in town.clients.values():
            client.keep_alive()
        told = [*([gate.dump(keys=True)] if gate is not None else ()), *(one.dump() for one in clients)]
        return "".join(told) if told else None
    if list(words[:2]) != ["wg", "set"] or len(words) < 3:
        return None
    if gate is not None and words[2] == gate.name:
        return "" if gate.set(words[3:]) else None
    return next(("" for one in clients if one.name == words[2] and one.set(words[3:])), None)
