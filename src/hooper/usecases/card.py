"""What to type away from home."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from hooper.addresses import IPAddress
from hooper.errors import HooperError, NeedsAPerson, UsageError
from hooper.line.public import public_addresses
from hooper.planning.card import CardDocument, make_card
from hooper.planning.typed import own_address, typed
from hooper.usecases.run import Run

PATIENCE = 2.0  # seconds, for an address where there is no name


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
    what, source = typed(run.topology, service, request.public), ""
    trouble: list[HooperError] = []
    line = run.topology.lines[service]
    if (what is None or what.name is None) and line not in request.public and not own_address(run.topology, service):
        try:
            found = (await public_addresses(run.here, run.site, (line,), run.given(), PATIENCE))[line].address
            if found.value is not None:
                what, source = typed(run.topology, service, {line: found.value}), found.words(run.at)
        except HooperError as exc:
            trouble.append(exc)
    if what is None:
        raise UsageError(
            f"no name is known for the line {line}, and nothing tells its address",
            remedy="Add a name ([names.*]), or give the address.",
        )
    if what.name is None and not source:
        source = "given" if line in request.public else "site file"
    fingerprint = None
    with run.keeping() as state:
        if state is not None:
            inside = state.checks.inside(service, "tcp", entry.used_ports.first) if entry.has_ports else None
            fingerprint = inside.fingerprint if inside is not None else None
    return make_card(run.topology, service, what, fingerprint, source), trouble
