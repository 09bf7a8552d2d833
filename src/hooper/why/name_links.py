"""The name of a service's chain: what it leads to, at its own servers and at resolvers. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.check.typed_names import NameSeen, other_family, private_among
from hooper.planning.typed import name_for, outside_port, six_for, typed_six
from hooper.sourced import SourcedAddress
from hooper.why.case import THERE, Case, State
from hooper.why.looks import line_proven
from hooper.why.router_rules import read_wan
from hooper.why.six import six_alone
from hooper.words.said import Said, general, say


def judge_name(case: Case, *, public: bool) -> None:
    """The step of the name, and what is wrong with what it leads to."""
    line = case.facts.line
    if not line.names or not public:
        case.step("name", "skipped", say("no-name-is-planned") if public else say("not-needed"))
        return
    states: list[State] = []
    evidence: list[Said] = []
    for name, known in line.names.items():
        seen = case.facts.named.get(name)
        own = seen.own if seen is not None else None
        evidence.append(say("name-leads", name=name, value=known.value or say("no-address"), source=known.source))
        if own is not None and (known.value is None or own != (known.value,)):
            evidence.append(say("its-own-servers", name=name, own=own))
        if not six_alone(case):
            states.append(_judge_four(case, name, known, seen))
        if seen is not None and name == name_for(case.topology, case.facts.service):
            states.append(_judge_six(case, seen))
            evidence += [say("too", name=name, address=address) for address in seen.six or ()]
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
        case.cause("name-missing", "certain", say("name-missing.says", name=seen.name), _publish(case, seen.name))
    return ["ok" if seen.six else "broken"]


def _judge_four(case: Case, name: str, known: SourcedAddress, seen: NameSeen | None) -> State:
    """The IPv4 addresses of a name: its own servers count, and where they say nothing a resolver."""
    public, own = case.facts.line.public, seen.own if seen is not None else None
    by_resolver = () if known.absent else (known.value,) if known.value is not None else None
    has = own if own is not None else by_resolver
    if has == ():
        source = say("its-own-servers-say") if own is not None else known.source
        case.caused("name-missing.judge-four", "certain", do=_publish(case, name), name=name, source=source)
        return "broken"
    if has and (private := private_among(has)) and public.value not in has:
        source = say("its-own-servers-themselves") if own is not None else known.source
        told = own is not None or (seen is not None and seen.as_outside)  # else a resolver at home may say so alone
        case.caused("name-private", "certain" if told else "possible", do=_publish(case, name), name=name,
                    address=private[0], source=source)  # fmt: skip
        return "broken" if told else "unknown"
    if has is None or public.value is None or public.how == "named":
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
    said = say("says", value=known.value) if known.value is not None else say("has-no-answer", source=known.source)
    case.caused("resolver-broken", "likely", name=name, said=said)


def _stale(case: Case, name: str, has: str, *, told_by_itself: bool) -> None:
    """The name leads somewhere else than to the line: it was not kept up, or somebody else writes it too.

    told_by_itself: its own servers say so, and not a resolver alone.
    """
    line, last = case.facts.line, case.facts.published.get(name)
    outside = case.facts.outside
    sure = told_by_itself and (line_proven(case) or (outside is not None and outside.verdict in THERE))
    decide = read_wan(line.chain[0]) if line.chain else None
    if not told_by_itself:
        decide = say("see-with-what-its")
        message = say("leads-those-astray-who", source=line.names[name].source, name=name)
        case.cause("resolver-broken", "possible", message, general("cause", "resolver-broken", "do"), decide)
    if told_by_itself and last is not None and last.value == str(line.public.value):
        case.caused(
            "name-contested",
            "certain" if sure else "likely",
            sure=decide,
            name=name,
            value=last.value,
            age=last.age(line.now),
            has=has,
            publish=deeds.PUBLISH(name),
        )
        return
    case.caused(
        "name-stale",
        "certain" if sure else "likely",
        do=_publish(case, name),
        sure=decide,
        name=name,
        has=has,
        value=line.public.value,
    )


def _judge_six(case: Case, seen: NameSeen) -> State:
    """The IPv6 addresses of a name: they are tried first by whoever has IPv6."""
    topology, service = case.topology, case.facts.service
    own = typed_six(topology, service)
    strange = other_family(seen, six_for(topology, service), outside_port(topology, service), own.port if own else 0)
    if strange is None:
        return "ok"
    kept_by = case.site.names[seen.name].updated_by if seen.name in case.site.names else say("its-zone")
    case.cause(
        strange[0], "certain", strange[1], say("take-its-aaaa-records", kept_by=kept_by, service=case.facts.service)
    )
    return "broken"


def _publish(case: Case, name: str) -> Said:
    kept_by = case.site.names[name].updated_by
    if kept_by in case.site.updaters:
        return say("publishes-the-right-one", publish=deeds.PUBLISH(name))
    return say("have-it-updated-where", kept_by=kept_by)
