"""What is wrong with the names that people type, by what they have outside and at their own servers. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

from hooper.addresses import IPAddress, classify
from hooper.check.targets import Target

MISSING, STALE, OTHERS, FAMILY = "name-missing", "name-stale", "name-has-others", "name-other-family"
PROBLEMS = (MISSING, STALE, OTHERS, FAMILY)


@dataclass(frozen=True)
class NameSeen:
    """What a name has: by resolvers, and at its zone's own servers; None: nobody said. source: which resolver.

    six: its IPv6 addresses, by its own servers where those answer.
    """

    name: str
    resolved: tuple[IPAddress, ...] | None
    source: str
    own: tuple[IPAddress, ...] | None
    six: tuple[IPAddress, ...] | None = None

    @property
    def addresses(self) -> tuple[IPAddress, ...] | None:
        """Where people get to. A resolver at home may say something of its own about one's own names."""
        if self.resolved is not None and all(classify(address).reachable for address in self.resolved):
            return self.resolved
        return self.own


def by_name(target: Target, seen: Mapping[str, NameSeen], own6: IPAddress | None) -> Iterator[Target]:
    """A target at every address that its name leads to, with what is wrong with that. own6: where the service is to be
    reached over IPv6; None: nowhere.
    """
    name = seen.get(target.server_name or "")
    if target.address is not None and target.address.version == 6:
        yield replace(target, name=name.name) if name is not None and target.address in (name.six or ()) else target
    elif name is None or name.addresses is None:
        yield target
    elif not name.addresses:
        words = f"{name.name} has no address ({name.source}): who types it gets nowhere"
        yield replace(target, name=name.name, wrong=(MISSING, words))
    else:
        for address in name.addresses:
            wrong = _wrong(target.address, address, name)
            wrong = wrong or other_family(name, own6, target.port, target.inner[1])
            yield replace(target, name=name.name, address=address, wrong=wrong)


def other_family(seen: NameSeen, own6: IPAddress | None, port: int, port6: int) -> tuple[str, str] | None:
    """What is wrong with a name's IPv6 addresses: whoever has IPv6 tries them first (RFC 8305, RFC 6724).

    port: as people type it, at the public address; port6: the service's own, which nothing translates over IPv6.
    """
    strange = [address for address in seen.six or () if address != own6]
    if not strange and seen.six and port != port6:
        return FAMILY, f"{seen.name} leads to {own6} too, where it is at port {port6} and not at {port}"
    if not strange:
        return None
    to = f"which is not {own6}, where it is over IPv6" if own6 is not None else "and it is not reached over IPv6"
    return FAMILY, f"{seen.name} leads to {', '.join(map(str, strange))} too, {to}"


def _wrong(right: IPAddress | None, address: IPAddress, seen: NameSeen) -> tuple[str, str] | None:
    """What is wrong with one address of a name. right: the line's; None: not known, so that nothing can be said."""
    if right is None:
        return None
    if address == right:
        if seen.own is not None and right not in seen.own:
            kept = ", ".join(map(str, seen.own)) or "no address"
            return STALE, f"{seen.name} leads here still, but its own servers have {kept}"
        return None
    if seen.addresses is not None and right in seen.addresses:
        return OTHERS, f"{seen.name} leads to {address} too, which is not this line's {right}"
    late = "; its own servers have that, so resolvers follow soon" if seen.own == (right,) else ""
    return STALE, f"{seen.name} leads to {address} ({seen.source}), the line has {right}{late}"
