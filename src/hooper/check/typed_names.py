"""What is wrong with the names that people type, by what they have outside and at their own servers. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from hooper.addresses import IPAddress, classify
from hooper.check.targets import Target
from hooper.words.said import NOTHING, Said, say

MISSING, STALE, OTHERS, FAMILY = "name-missing", "name-stale", "name-has-others", "name-other-family"
PRIVATE = "name-private"
PROBLEMS = (MISSING, STALE, OTHERS, FAMILY, PRIVATE)


@dataclass(frozen=True)
class NameSeen:
    """What a name has: by resolvers, and at its zone's own servers; None: nobody said. source: which resolver.

    six: its IPv6 addresses, by its own servers where those answer. as_outside: a resolver was asked as people outside
    ask, so that it is none at home, which may say something of its own about one's own names.
    """

    name: str
    resolved: tuple[IPAddress, ...] | None
    source: Said
    own: tuple[IPAddress, ...] | None
    six: tuple[IPAddress, ...] | None = None
    as_outside: bool = False

    @property
    def addresses(self) -> tuple[IPAddress, ...] | None:
        """Where people get to."""
        if self.resolved is not None and (self.as_outside or not private_among(self.resolved)):
            return self.resolved
        return self.own


def private_among(addresses: Iterable[IPAddress]) -> list[IPAddress]:
    """Those that nobody reaches from elsewhere."""
    return [address for address in addresses if not classify(address).reachable]


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
        words = say("name-without-address", name=name.name, source=name.source)
        yield replace(target, name=name.name, wrong=(MISSING, words))
    else:
        for address in name.addresses:
            wrong = _wrong(target.address, address, name)
            wrong = wrong or other_family(name, own6, target.port, target.inner[1])
            yield replace(target, name=name.name, address=address, wrong=wrong)


def other_family(seen: NameSeen, own6: IPAddress | None, port: int, port6: int) -> tuple[str, Said] | None:
    """What is wrong with a name's IPv6 addresses: whoever has IPv6 tries them first (RFC 8305, RFC 6724).

    port: as people type it, at the public address; port6: the service's own, which nothing translates over IPv6.
    """
    strange = [address for address in seen.six or () if address != own6]
    if not strange and seen.six and port != port6:
        return FAMILY, say("name-six-port", name=seen.name, own6=own6, port6=port6, port=port)
    if not strange:
        return None
    to = say("not-six-address", own6=own6) if own6 is not None else say("not-over-six")
    return FAMILY, say("name-six-elsewhere", name=seen.name, strange=strange, to=to)


def _wrong(right: IPAddress | None, address: IPAddress, seen: NameSeen) -> tuple[str, Said] | None:
    """What is wrong with one address of a name. right: the line's; None: not known, so that nothing can be said."""
    if private_among((address,)) and address != right:
        source = say("its-own-servers-themselves") if seen.own and address in seen.own else seen.source
        return PRIVATE, say("name-leads-home", name=seen.name, address=address, source=source)
    if right is None:
        return None
    if address == right:
        if seen.own is not None and right not in seen.own:
            return STALE, say("name-servers-differ", name=seen.name, kept=seen.own)
        return None
    if seen.addresses is not None and right in seen.addresses:
        return OTHERS, say("name-has-more", name=seen.name, address=address, right=right)
    late = say("resolvers-follow") if seen.own == (right,) else NOTHING
    return STALE, say(
        "name-leads-elsewhere", name=seen.name, address=address, source=seen.source, right=right, late=late
    )
