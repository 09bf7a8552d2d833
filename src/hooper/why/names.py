"""The name of a service's chain: what it leads to, at its own servers and at resolvers. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.check.named import NameSeen, other_family
from hooper.planning.typed import name_for, outside_port, six_for, typed_six
from hooper.sourced import SourcedAddress
from hooper.why.case import THERE, Case, State
from hooper.why.deciding import line_proven, read_wan
from hooper.why.six import six_alone
from hooper.words.catalogue import meaning


def judge_name(case: Case, *, public: bool) -> None:
    """The step of the name, and what is wrong with what it leads to."""
    line = case.facts.line
    if not line.names or not public:
        case.step("name", "skipped", "no name is planned for this line" if public else "not needed")
        return
    states: list[State] = []
    evidence: list[str] = []
    for name, known in line.names.items():
        seen = case.facts.named.get(name)
        own = ", ".join(map(str, seen.own)) or "no address" if seen is not None and seen.own is not None else None
        evidence.append(f"{name}: {known.value or 'no address'} ({known.source})")
        if own is not None and (known.value is None or own != str(known.value)):
            evidence.append(f"{name}: {own} (its own servers)")
        if not six_alone(case):
            states.append(_judge_four(case, name, known, seen))
        if seen is not None and name == name_for(case.topology, case.facts.service):
            states.append(_judge_six(case, seen))
            evidence += [f"{name}: {address} too" for address in seen.six or ()]
    if six_alone(case):
        states += _six_missing(case)
    worst: State = "broken" if "broken" in states else "unknown" if "unknown" in states else "ok"
    case.step("name", worst, *evidence)


def _six_missing(case: Case) -> list[State]:
    """A name that people type for a service over IPv6 alone must have an address there."""
    shown = typed_six(case.topology, case.facts.service)
    seen = case.facts.named.get(shown.name) if shown is not None and shown.name is not None else None
    if seen is None or seen.six is None:
        return ["unknown"] if shown is not None and shown.name is not None else []
    if not seen.six:
        case.cause("name-missing", "certain", f"{seen.name} has no IPv6 address", _publish(case, seen.name))
    return ["ok" if seen.six else "broken"]


def _judge_four(case: Case, name: str, known: SourcedAddress, seen: NameSeen | None) -> State:
    """The IPv4 addresses of a name: its own servers count, and where they say nothing a resolver."""
    public, own = case.facts.line.public, seen.own if seen is not None else None
    by_resolver = () if known.absent else (known.value,) if known.value is not None else None
    has = own if own is not None else by_resolver
    if has == ():
        source = "its own servers say so" if own is not None else known.source
        case.cause("name-missing", "certain", f"{name} has no address: {source}", _publish(case, name))
        return "broken"
    if has is None or public.value is None or public.source == f"the name {name}":
        return "unknown"
    if public.value not in has:
        _stale(case, name, ", ".join(map(str, has)), told_by_itself=own is not None)
        return "broken"
    resolved = seen.resolved if seen is not None and seen.resolved is not None else ()
    if public.value not in (known.value, *resolved):
        _resolver_wrong(case, name, known)
        return "broken"
    return "ok"


def _resolver_wrong(case: Case, name: str, known: SourcedAddress) -> None:
    """The name is right where it is kept, and a resolver says something else."""
    said = f"says {known.value}" if known.value is not None else f"has no answer ({known.source})"
    case.cause(
        "resolver-broken",
        "likely",
        f"{name} is right at its own servers, and the resolver here {said}: it is late, or leads people astray",
        "Ask another resolver, such as the provider's or a public one: enter that in the router or in the machine.",
        "Look again in an hour: if it still says so, it is not late.",
    )


def _stale(case: Case, name: str, has: str, *, told_by_itself: bool) -> None:
    """The name leads somewhere else than to the line: it was not kept up, or another hand writes it too.

    told_by_itself: its own servers say so, and not a resolver alone.
    """
    line, last = case.facts.line, case.facts.published.get(name)
    outside = case.facts.outside
    sure = told_by_itself and (line_proven(case) or (outside is not None and outside.verdict in THERE))
    decide = read_wan(line.chain[0]) if line.chain else None
    if not told_by_itself:
        decide = f"See with `{deeds.NAMES}` what its own servers have, once they answer."
        message = f"{line.names[name].source} leads those astray who ask for {name}; its own servers said nothing"
        case.cause("resolver-broken", "possible", message, meaning("cause", "resolver-broken").do, decide)
    if told_by_itself and last is not None and last.value == str(line.public.value):
        case.cause(
            "name-contested",
            "certain" if sure else "likely",
            f"{name} was published as {last.value} {last.age(line.now)} and shown so; now it leads to {has}:"
            " another updater writes it",
            f"Find who else keeps {name}: the router's own page for dynamic names, a storage box, an old machine, and"
            f" switch that off. Then `{deeds.PUBLISH(name)}`.",
            decide,
        )
        return
    case.cause(
        "name-stale",
        "certain" if sure else "likely",
        f"{name} still leads to {has}; the line has {line.public.value}",
        _publish(case, name),
        decide,
    )


def _judge_six(case: Case, seen: NameSeen) -> State:
    """The IPv6 addresses of a name: they are tried first by whoever has IPv6."""
    topology, service = case.topology, case.facts.service
    own = typed_six(topology, service)
    strange = other_family(seen, six_for(topology, service), outside_port(topology, service), own.port if own else 0)
    if strange is None:
        return "ok"
    kept_by = case.site.names[seen.name].updated_by if seen.name in case.site.names else "its zone"
    case.cause(
        strange[0],
        "certain",
        strange[1],
        f"Take its AAAA records away where it is kept ({kept_by}), or plan {case.facts.service} over IPv6: `address6`"
        " of its device.",
    )
    return "broken"


def _publish(case: Case, name: str) -> str:
    kept_by = case.site.names[name].updated_by
    if kept_by in case.site.updaters:
        return f"`{deeds.PUBLISH(name)}` publishes the right one; if it is back later, another updater writes it too."
    return f"Have it updated where it is kept: by the {kept_by}."
