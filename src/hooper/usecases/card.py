"""What to type away from home."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from hooper.addresses import IPAddress
from hooper.errors import HooperError, NeedsAPerson, UsageError
from hooper.planning.access import reaching
from hooper.planning.card import CardDocument, make_card
from hooper.planning.typed import typed_inside
from hooper.usecases.run import Run
from hooper.usecases.typing_now import TypedNow, typed_now


@dataclass(frozen=True)
class CardRequest:
    """public: addresses by line that were given."""

    service: str
    public: Mapping[str, IPAddress] = field(default_factory=dict)


async def card(run: Run, request: CardRequest) -> tuple[CardDocument, list[HooperError]]:
    """The card of a public service, or of one that peers reach through a tunnel.

    Asks for the public address only where there is no name to type. Raises: NeedsAPerson: it is reached at home only;
    UsageError: nothing tells what to type.
    """
    service, entry = request.service, run.site.services[request.service]
    peers = reaching(run.site, service) if entry.reach == "tunnel" else ()
    if peers:
        now = TypedNow(typed_inside(run.topology, service), {}, "")
    elif entry.reach == "public":
        now = await typed_now(run, service, request.public)
    else:
        how = "through a tunnel" if entry.reach == "tunnel" else "at home"
        raise NeedsAPerson(
            f"{service} is not public: it is reached {how} only", code="not-public", remedy="Choose a public service."
        )
    if now.what is None:
        raise UsageError(
            f"no name is known for the line {run.topology.lines[service]}, and nothing tells its address",
            remedy="Add a name ([names.*]), or give the address.",
        )
    fingerprint = None
    with run.keeping() as state:
        if state is not None:
            inside = state.checks.inside(service, "tcp", entry.used_ports.first) if entry.has_ports else None
            fingerprint = inside.fingerprint if inside is not None else None
    made = make_card(run.topology, service, now.what, fingerprint, now.source)
    if peers:
        first = f"Switch the tunnel on first: {', '.join(peers)} may reach it."
        made = replace(made, expect=(first, *made.expect))
    return made, list(now.trouble)
