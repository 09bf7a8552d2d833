"""The public address as a machine inside reaches it, where its router leads that back: it proves nothing about outside,
and the rules on the way.
"""

from __future__ import annotations

from collections.abc import Mapping

from hooper.addresses import IPAddress
from hooper.check.comparing import inside_of, same_device
from hooper.check.probes import probe
from hooper.check.results import Hairpin, InsideSeen
from hooper.check.targets import outer_targets
from hooper.check.wish import Wish
from hooper.net.types import Door


async def by_hairpin(
    here: Door,
    wish: Wish,
    service: str,
    public: IPAddress,
    inside: Mapping[tuple[str, str, int], InsideSeen],
    deadline: float,
) -> Hairpin | None:
    """Look from inside at a service's public address. None: it is not planned to be there, or no probe could tell.

    deadline: seconds for it.
    """
    line = wish.topology.lines[service]
    targets, _ = outer_targets(wish.topology, [service], {line: public}, None)
    told = [one for one in targets if one.address == public and one.expected == "reachable" and one.transport == "tcp"]
    if not told:
        return None
    target = wish.keyed(told[0])
    seen = await probe(here, target, deadline)
    known = inside_of(target, inside, None)
    same = same_device(target, seen, known) if known is not None else None
    return Hairpin("mismatched" if same is False else seen.verdict, same)
