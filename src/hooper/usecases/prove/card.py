"""What to type away from home."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, NamedTuple

from hooper.addresses import IPAddress
from hooper.clock import rfc3339
from hooper.errors import HooperError, NeedsAPerson, UsageError
from hooper.line.public import public_addresses
from hooper.line.sources import WRITTEN
from hooper.planning.access import interface_name, reaching
from hooper.planning.card import make_card
from hooper.planning.local_ports import by_ssh, local_port
from hooper.planning.typed import Typed, own_address, typed, typed_inside, typed_locally
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import of_services
from hooper.usecases.watch.conditions import how_all_stands
from hooper.words.said import NOTHING, Said, say

if TYPE_CHECKING:
    from hooper.planning.card import CardDocument
    from hooper.store.kept import Stood


async def card(run: Run, service: str, public: Mapping[str, IPAddress] = {}) -> tuple[CardDocument, list[HooperError]]:
    """The card of a public service, or of one that peers reach through a tunnel.

    Asks for the public address only where there is no name to type.

    public: addresses by line that were given. Raises: NeedsAPerson: it is reached at home only; UsageError: nothing
    tells what to type.
    """
    entry = run.site.services[service]
    peers = reaching(run.site, service) if entry.reach == "tunnel" else ()
    through = [key for key in peers if by_ssh(run.site, key)]
    if peers and len(through) == len(peers):
        now = TypedNow(typed_locally(run.topology, service, local_port(run.site, service)), {}, NOTHING)
    elif peers:
        now = TypedNow(typed_inside(run.topology, service), {}, NOTHING)
    elif entry.reach == "public":
        _refuse_without_rule(run, service)
        now = await typed_now(run, service, public)
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
    stood: list[Stood] = []
    with run.keeping() as state:
        if state is not None:
            stood = how_all_stands(run)
            inside = state.ledger.inside(service, "tcp", entry.used_ports.first) if entry.has_ports else None
            fingerprint = inside.fingerprint if inside is not None else None
    made = make_card(run.topology, service, now.what, fingerprint, now.source)
    judged = of_services(run.site, stood, run.at)[service]
    seen = rfc3339(judged.because.at) if judged.because is not None else None
    made = replace(made, state=judged.state, level=judged.level, seen=seen, would_decide=judged.would_decide)
    if peers:
        first = f"Switch the tunnel on first: {', '.join(peers)} may reach it."
        if through:
            first = _by_ssh(run, service, through, others=[key for key in peers if key not in through])
        made = replace(made, expect=(first, *made.expect))
    return made, list(now.trouble)


def _refuse_without_rule(run: Run, service: str) -> None:
    """Raises: NeedsAPerson: something keeps the plan from leading to it, so that no port is its own yet."""
    by = run.topology.bearer(service)
    wrong = (one for one in run.plan.findings if one.severity == "error" and one.subject == f"services.{by}")
    if (first := next(wrong, None)) is not None and all(rule.service != by for rule in run.plan.forwards):
        raise NeedsAPerson(
            f"the plan has no rule for {service}: {first.message}", code=first.code, remedy=str(first.remedy)
        )


def _by_ssh(run: Run, service: str, through: list[str], others: list[str]) -> str:
    """The order in which it is started where SSH leads to it: first that, then a port of the own device."""
    names = dict.fromkeys(interface_name(run.site.peers[key].tunnel) for key in through)
    starts = " or ".join(f"ssh -N -F ~/.ssh/{name}.config {name}" for name in names)
    if not others:
        return f"Start the tunnel first, and leave its window open: {starts} ({', '.join(through)} may)."
    local = typed_locally(run.topology, service, local_port(run.site, service)).text
    return (
        f"Switch the tunnel on first: {', '.join(others)} may reach it. By SSH ({', '.join(through)}) start {starts},"
        f" then type {local}."
    )


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
