"""The start of a site file, from what is found here."""

from __future__ import annotations

from hooper.line.starting import found_here
from hooper.net.lab import lab_from_environment
from hooper.net.opening import open_door
from hooper.planning.starting import Start


async def look_around(title: str, deadline: float) -> Start:
    """What can be told from here of a new site. deadline: seconds. Raises: NoNetwork, LabGone, MachineError."""
    return await found_here(await open_door(lab_from_environment()), title, deadline)
