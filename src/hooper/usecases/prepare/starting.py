"""The start of a site file, from what is found here."""

from __future__ import annotations

from hooper.errors import NoNetwork
from hooper.line.first_look import found_here, seen_here
from hooper.net.lab_door import lab_from_environment
from hooper.net.opening import open_door
from hooper.planning.starting import Start, StartBox, site_text
from hooper.site.load import SiteFile, parse_site


async def look_around(title: str, deadline: float) -> Start:
    """What can be told from here of a new site. deadline: seconds. Raises: NoNetwork, LabGone, MachineError."""
    return await found_here(await open_door(lab_from_environment()), title, deadline)


async def look_at_settings() -> StartBox | None:
    """The router next to this computer, as its own settings show it: nobody is asked. Raises: LabGone."""
    try:
        return await seen_here(await open_door(lab_from_environment()))
    except NoNetwork:
        return None


async def site_found_here(deadline: float) -> SiteFile:
    """A site as it can be seen from here, for a look without a site file. Raises: as `look_around`."""
    start = await look_around("", deadline)
    return parse_site(site_text(start).encode(), "site.toml")
