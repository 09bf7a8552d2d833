"""Which door: the lab where HOOPER_LAB names one, else this computer."""

from __future__ import annotations

from collections.abc import Callable

from hooper.net.lab_door import LabAddress, LabDoor
from hooper.net.system import SystemDoor
from hooper.net.types import Door
from hooper.net.verbose import TellingDoor


async def open_door(lab: LabAddress | None, tell: Callable[[str], None] | None = None) -> Door:
    """tell: is told what is asked and answered. Raises: LabGone."""
    door: Door = SystemDoor() if lab is None else await LabDoor.open(lab)
    return door if tell is None else TellingDoor(door, tell, door.clock.monotonic())
