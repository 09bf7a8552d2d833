"""What people type for a service; where no name is known, the address is asked for: one answer for all who tell it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.line.public import public_addresses
from hooper.line.sources import WRITTEN
from hooper.planning.typed import Typed, own_address, typed
from hooper.usecases.run import Run
from hooper.words.said import NOTHING, Said, say

PATIENCE = 2.0  # seconds, for an address where there is no name


class TypedNow(NamedTuple):
    """what: None: nothing tells it. public: the addresses it was made with. source: of the address, where there is no
    name.
    """

    what: Typed | None
    public: Mapping[str, IPAddress]
    source: Said
    trouble: tuple[HooperError, ...] = ()


async def typed_now(run: Run, service: str, given: Mapping[str, IPAddress]) -> TypedNow:
    """What is typed for a public service. given: addresses by line that were given."""
    what, source, public = typed(run.topology, service, given), NOTHING, dict(given)
    trouble: list[HooperError] = []
    if what is not None and what.name is None and run.site.services[service].family == "ipv6":
        return TypedNow(what, public, say("address6-of", host=run.site.services[service].host))
    line = run.topology.lines[service]
    if (what is None or what.name is None) and line not in given and not own_address(run.topology, service):
        try:
            found = (await public_addresses(run.here, run.site, (line,), run.given(), PATIENCE))[line].address
            if found.value is not None:
                public[line] = found.value
                what, source = typed(run.topology, service, public), found.words(run.at)
        except HooperError as exc:
            trouble.append(exc)
    if what is not None and what.name is None and not source:
        source = say("given") if line in given else WRITTEN
    return TypedNow(what, public, source, tuple(trouble))
