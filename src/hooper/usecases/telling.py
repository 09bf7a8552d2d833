"""What people tell of what they have read: remembered with its date, taken back, or refused where it cannot be so."""

from __future__ import annotations

from collections.abc import Mapping

from hooper.addresses import parse_address
from hooper.errors import UsageError
from hooper.evidence.observations import split_key
from hooper.sourced import Sourced, as_told
from hooper.usecases.run import Run

TAKEN_BACK = ""  # as a value: what was told before is to be forgotten


def remember(run: Run, told: Mapping[str, str]) -> dict[str, Sourced[str]]:
    """Keep what is told now; returns all that is told. Raises: UsageError: it cannot be so; StateError."""
    for key, value in told.items():
        subject, aspect = split_key(key)
        if aspect == "wan" and value != TAKEN_BACK:
            _refuse(run, subject.partition(".")[2], value)
    known: dict[str, Sourced[str]] = run.told()
    with run.keeping() as state:
        if state is not None:
            state.ledger.forget([key for key, value in told.items() if value == TAKEN_BACK])
            given = {key: value for key, value in told.items() if value != TAKEN_BACK}
            state.ledger.tell(run.at, given, basis=run.basis)
    known.update({key: as_told(value, run.at) for key, value in told.items()})
    return {key: value for key, value in known.items() if value.value != TAKEN_BACK}


def _refuse(run: Run, gateway: str, value: str) -> None:
    """Raises: UsageError: a router does not have such an address on its outer side."""
    site, address = run.site, parse_address(value)
    entry = site.gateways[gateway]
    where = f"Read it once more on the status page of {gateway}: it may be called WAN, internet or external address."
    if address in entry.lan.network:
        raise UsageError(f"{value} is on {gateway}'s own LAN, so it is not its WAN address", remedy=where)
    outer = [site.gateways[key].lan.network for key in entry.behind]
    if outer and not entry.line and not any(address in network for network in outer):
        behind = ", ".join(f"{key} ({site.gateways[key].lan.network})" for key in entry.behind)
        raise UsageError(
            f"{value} is not of the network of {behind}, behind which {gateway} stands",
            remedy=f"{where} If it is right, {gateway} is not behind {behind}: correct `behind`.",
        )
