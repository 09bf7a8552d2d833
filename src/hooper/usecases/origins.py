"""Where something is looked at from: an interface, a proxy, a witness of the site."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper import deeds
from hooper.check.origin import open_origin
from hooper.chosen import chosen
from hooper.errors import UsageError

if TYPE_CHECKING:
    from pathlib import Path

    from hooper.net.types import Door
    from hooper.places import Place
    from hooper.usecases.run import Run
    from hooper.witness.client import WitnessFound
    from hooper.witness.pinned_keys import OwnKey

ASK_S = 8.0  # seconds for one question to a witness


def site_key(run: Run) -> OwnKey:
    """By which this site's witnesses know it; made where there is none. Raises: StateError, MachineError."""
    from hooper.witness.pinned_keys import own_key

    return own_key(key_path(run))


def key_path(run: Run) -> Path:
    """The file of that key. Raises: StateError."""
    return run.kept.tunnels.parent / "witnesses" / "key.pem"


def found(run: Run, key: str) -> WitnessFound:
    """Where a witness of the site file is found."""
    from hooper.witness.client import WitnessFound

    return WitnessFound.of(key, run.site.witnesses[key])


async def open_place(run: Run, place: Place, deadline: float) -> Door:
    """The door of a place. Raises: UsageError, MachineError, ProxyFailed; WitnessFailed, WitnessRefuses."""
    if place.kind != "witness":
        return await open_origin(run.here, place, run.site, run.base, deadline)
    from hooper.addresses import parse_address
    from hooper.witness.client import WitnessDoor, asked_once

    known = run.site.witnesses
    if not known:
        raise UsageError(
            "this site has no witness", remedy=f"Have one make an invitation, then `{deeds.JOIN_WITNESS}`."
        )
    key = place.name or next(iter(known))
    chosen((key,), known, "witness")
    to, mine = found(run, key), site_key(run)
    said = await asked_once(run.here, to, mine, {"do": "who"}, max(deadline, ASK_S))
    try:
        at = parse_address(to.host)
    except ValueError:
        at = None
    return WitnessDoor(run.here, to, mine, parse_address(str(said.get("you"))), at)
