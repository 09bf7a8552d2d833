"""Which door: the lab where HOOPER_LAB names one, else this machine."""

from __future__ import annotations

from hooper.net.lab import LabAddress, LabDoor
from hooper.net.system import SystemDoor
from hooper.net.types import Door


async def open_door(lab: LabAddress | None) -> Door:
    """Raises: LabGone."""
    return SystemDoor() if lab is None else await LabDoor.open(lab)
