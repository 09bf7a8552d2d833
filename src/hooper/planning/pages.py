"""What a router's saved page says, held against the site file. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.planning.saved_page import PageRead
from hooper.planning.values import PageUnderstood

if TYPE_CHECKING:
    from hooper.site.model import Site


def understood(site: Site, gateway: str | None, name: str, page: PageRead) -> PageUnderstood:
    """What it was understood to say. gateway: whose it is; None: that was not said. name: of the file."""
    return PageUnderstood(
        gateway=gateway,
        file=name,
        rules=len(page.rules),
        guessed=page.guessed,
        wan_address=page.wan,
        pool=page.pool,
        reservations=tuple((one.mac, one.address) for one in page.reservations),
        not_understood=page.not_understood,
        differs=tuple(_differs(site, gateway, page)) if gateway is not None else (),
    )


def _differs(site: Site, gateway: str, page: PageRead) -> Iterator[str]:
    entry = site.gateways[gateway]
    planned = [str(address) for address in entry.wan]
    if page.wan is not None and planned and page.wan not in planned:
        yield f"the page shows the WAN address {page.wan}, the site file {', '.join(planned)}"
    if page.pool is not None and entry.pool is not None:
        first, last = str(entry.pool.first), str(entry.pool.last)
        if page.pool != (first, last):
            yield f"the page hands out {page.pool[0]} to {page.pool[1]}, the site file has {first} to {last}"
    known = {host.mac: (key, str(host.address)) for key, host in site.hosts.items() if host.mac is not None}
    for one in page.reservations:
        key, address = known.get(one.mac, ("", ""))
        if key and address != one.address:
            yield f"the page reserves {one.address} for {key} ({one.mac}), the site file has {address}"
