"""What to type away from home."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from hooper.addresses import IPAddress
from hooper.errors import HooperError, NeedsAPerson, UsageError
from hooper.planning.card import CardDocument, make_card
from hooper.usecases.run import Run
from hooper.usecases.typing_now import typed_now


@dataclass(frozen=True)
class CardRequest:
    """public: addresses by line that were given."""

    service: str
    public: Mapping[str, IPAddress] = field(default_factory=dict)


async def card(run: Run, request: CardRequest) -> tuple[CardDocument, list[HooperError]]:
    """The card of a public service. Asks for the public address only where there is no name to type.

    Raises: NeedsAPerson: it is not public; UsageError: nothing tells what to type.
    """
    service, entry = request.service, run.site.services[request.service]
    if entry.reach != "public":
        how = "through the tunnel" if entry.reach == "tunnel" else "at home"
        raise NeedsAPerson(
            f"{service} is not public: it is reached {how} only", code="not-public", remedy="Choose a public service."
        )
    now = await typed_now(run, service, request.public)
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
    return make_card(run.topology, service, now.what, fingerprint, now.source), list(now.trouble)
