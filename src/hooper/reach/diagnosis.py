"""From evidence to causes. Pure: it never looks anywhere, and says `certain` only where nothing else would look so."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from hooper.addresses import classify, parse_address
from hooper.planning.model import Forward, Plan, ports_text
from hooper.reach.facts import ServiceFacts, Told
from hooper.reach.line import Comparison, Side, compare, outer_wan, situation
from hooper.site.model import Site

State = Literal["ok", "broken", "unknown", "skipped"]
Certainty = Literal["certain", "likely", "possible"]
_ORDER = {"certain": 0, "likely": 1, "possible": 2}
THERE = ("answered", "connected")


@dataclass(frozen=True, slots=True)
class WhyStep:
    """One link of the chain, with what speaks for its state."""

    step: str
    state: State
    evidence: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Cause:
    """What may be wrong. would_make_certain: the look, number or move that would decide; null: nothing is needed."""

    code: str
    certainty: Certainty
    message: str
    remedy: str
    would_make_certain: str | None


@dataclass(frozen=True, slots=True)
class WhyDocument:
    """`hooper why`. ok: null where nobody looked from outside. causes: the likeliest first."""

    service: str
    ok: bool | None
    steps: tuple[WhyStep, ...]
    causes: tuple[Cause, ...]
    comparisons: tuple[Comparison, ...]


@dataclass
class _Case:
    """One diagnosis in the making."""

    site: Site
    plan: Plan
    facts: ServiceFacts
    steps: dict[str, WhyStep] = field(default_factory=dict)
    causes: list[Cause] = field(default_factory=list)

    def step(self, name: str, state: State, *evidence: str) -> None:
        self.steps[name] = WhyStep(name, state, evidence)

    def cause(self, code: str, certainty: Certainty, message: str, remedy: str, decide: str | None = None) -> None:
        """Add a cause, unless the same is there already with better evidence."""
        if any(known.code == code and _ORDER[known.certainty] <= _ORDER[certainty] for known in self.causes):
            return
        self.causes.append(Cause(code, certainty, message, remedy, None if certainty == "certain" else decide))


def diagnose(site: Site, plan: Plan, facts: ServiceFacts) -> WhyDocument:
    """The first broken link of a service's chain, and what may have broken it."""
    case = _Case(site, plan, facts)
    public = site.services[facts.service].reach == "public"
    _host(case)
    _service(case)
    if public:
        _rules_and_line(case)
    else:
        _not_forwarded(case)
    _name(case, public=public)
    case.step("certificate", "skipped", "certificates are not judged yet")
    _outside(case)
    chain = facts.line.chain
    order = [
        "host",
        "service",
        *(f"rule:{key}" for key in reversed(chain)),
        "public-address",
        "name",
        "certificate",
        "outside",
    ]
    ok: bool | None
    if any(step.state == "broken" for step in case.steps.values()) or case.causes:
        ok = False
    else:
        ok = True if case.steps["outside"].state == "ok" else None
    return WhyDocument(
        facts.service,
        ok,
        tuple(case.steps[name] for name in order),
        tuple(sorted(case.causes, key=lambda cause: _ORDER[cause.certainty])),
        (*_address_compared(site, facts), *compare(site, facts.line)),
    )


def _address_compared(site: Site, facts: ServiceFacts) -> list[Comparison]:
    """The host's address and MAC against what was seen, and its address against the pool."""
    host = site.hosts[site.services[facts.service].host]
    rows: list[Comparison] = []
    if host.mac is not None and facts.mac_seen is not None:
        same = host.mac == facts.mac_seen
        rows.append(
            Comparison(
                Side(f"MAC at {host.address}", facts.mac_seen, "this machine's neighbours"),
                Side("MAC in the plan", host.mac, "site file"),
                same,
                "It is the device that the plan means." if same else "Another device has taken this address.",
            )
        )
    if facts.host_at is not None:
        same = parse_address(facts.host_at.value) == host.address
        rows.append(
            Comparison(
                Side("the device's address", facts.host_at.value, f"told {facts.host_at.age(facts.line.now)}"),
                Side("address in the plan", str(host.address), "site file"),
                same,
                "It has kept its address." if same else "It has taken another address; the rules lead to the old one.",
            )
        )
    return rows


# --- inside


def _host(case: _Case) -> None:
    facts, service = case.facts, case.site.services[case.facts.service]
    host = case.site.hosts[service.host]
    answers = facts.inside is not None and facts.inside.verdict in THERE  # then it is there, whatever was told once
    moved = facts.host_at is not None and parse_address(facts.host_at.value) != host.address and not answers
    if moved and facts.host_at is not None:
        new = facts.host_at.value
        fresh = facts.host_at.fresh(facts.line.now)
        case.step("host", "broken", f"{service.host} is told to be at {new}, the plan says {host.address}")
        _moved(case, new, "certain" if fresh else "likely")
    elif facts.elsewhere is not None and not answers:
        case.step("host", "broken", f"its MAC {host.mac} answers at {facts.elsewhere}, not at {host.address}")
        _moved(case, str(facts.elsewhere), "certain")
    elif host.mac is not None and facts.mac_seen not in (None, host.mac) and not answers:
        # Wi-Fi repeaters answer with a MAC of their own, so this alone is not certain
        case.step("host", "unknown", f"at {host.address} answers the MAC {facts.mac_seen}, the plan says {host.mac}")
        _moved(case, None, "likely")
    elif facts.nobody_inside:
        case.step("host", "broken", f"nobody on this network has the address {host.address}")
        _gone(case)
    elif facts.inside is None:
        case.step("host", "unknown", "this machine is not on the site's network")
    elif facts.inside.verdict in (*THERE, "mismatched", "refused"):
        known = ", by the MAC in the plan" if host.mac and facts.mac_seen == host.mac else ""
        case.step("host", "ok", f"{host.address} answers{known}")
    elif host.mac is not None and facts.mac_seen == host.mac:
        case.step("host", "ok", f"the MAC in the plan is at {host.address}")
    else:
        case.step("host", "unknown", f"{host.address} does not answer at port {facts.inside.port}")
        if facts.inside.verdict == "silent":
            _gone(case)


def _moved(case: _Case, new: str | None, certainty: Certainty) -> None:
    service = case.site.services[case.facts.service]
    host = case.site.hosts[service.host]
    to = f" to {new}" if new else ""
    case.cause(
        "host-moved",
        certainty,
        f"{service.host} has moved{to}; the rules lead to {host.address}",
        f"Give it {host.address} again: set it on the device, or reserve it on its router"
        + (f" for {host.mac}." if host.mac else "."),
        "Look once more at its address, on the device or in the router's list: give it with --at ADDRESS.",
    )


def _gone(case: _Case) -> None:
    name = case.site.services[case.facts.service].host
    decide = (
        f"Look for {name} in its router's list of devices, or on its own screen: give the address with --at ADDRESS."
    )
    case.cause(
        "host-moved",
        "likely",
        f"{name} has taken another address",
        f"Find it in its router's list of devices and give it {case.site.hosts[name].address} again.",
        decide,
    )
    case.cause("host-off", "possible", f"{name} is switched off or unplugged", "Look whether it runs.", decide)


def _service(case: _Case) -> None:
    facts, name = case.facts, case.facts.service
    service = case.site.services[name]
    host = case.site.hosts[service.host]
    inside = facts.inside
    if case.steps["host"].state == "broken":
        case.step("service", "unknown", "the device was not found")
    elif inside is None:
        case.step("service", "unknown", "this machine is not on the site's network")
    elif inside.verdict in THERE:
        case.step("service", "ok" if not inside.problems else "broken", f"inside: {inside.verdict}, {inside.detail}")
        if inside.problems:
            case.cause(
                "service-faulty",
                "certain",
                f"{name} answers with a fault: {inside.detail}",
                "Set it right on the device.",
            )
    elif inside.verdict == "refused":
        case.step("service", "broken", f"inside: {host.address} refuses port {inside.port}")
        same = host.mac is not None and facts.mac_seen == host.mac
        told = facts.host_at is not None and facts.host_at.fresh(facts.line.now)
        case.cause(
            "service-stopped",
            "certain" if same or told else "likely",
            f"{service.host} answers, but nothing listens at port {inside.port}: {name} does not run",
            f"Start it on {service.host}, or correct its port.",
            f"Make sure that {host.address} is {service.host}: give the address it shows with --at ADDRESS.",
        )
        if not (same or told):
            case.cause(
                "host-moved",
                "possible",
                f"another device has the address {host.address}",
                f"Look which device has it, and give it to {service.host} again.",
                f"Look at {service.host} itself and give its address with --at ADDRESS.",
            )
    elif inside.verdict == "mismatched":
        case.step("service", "broken", f"inside: {inside.detail}")
        case.cause(
            "service-other",
            "likely",
            f"at {host.address}, port {inside.port}, is something else than {service.speaks}",
            "Correct `speaks` or `port` in the site file, or the address of the device.",
            f"Look at {service.host} itself and give its address with --at ADDRESS.",
        )
    else:
        case.step("service", "unknown", f"inside: {inside.verdict}, {inside.detail}")


# --- rules and line


def _told_rule(case: _Case, gateway: str) -> tuple[str | None, Told | None]:
    """What was told of a gateway's rule for this service: there, missing, wrong; None: nothing."""
    told = case.facts.rules.get(gateway)
    if told is None:
        return ("ticked", case.facts.ticked[gateway]) if gateway in case.facts.ticked else (None, None)
    if told.value in ("there", "missing"):
        return told.value, told
    wanted = {rule.target_address for rule in _rules(case, gateway)}
    address, _, port = told.value.partition(":")
    ports = {ports_text(rule.target_ports) for rule in _rules(case, gateway)}
    right = address in wanted and (not port or port in ports)
    return ("there" if right else "wrong"), told


def _rules(case: _Case, gateway: str) -> list[Forward]:
    return [rule for rule in case.plan.forwards if rule.service == case.facts.service and rule.gateway == gateway]


def _rules_and_line(case: _Case) -> None:
    facts = case.facts
    outside, inside_good = facts.outside, case.steps["service"].state == "ok"
    verdict = outside.verdict if outside is not None else None
    arrived = verdict in THERE
    kind, _ = situation(facts.line)
    _public_address(case, arrived=arrived)
    for gateway in facts.line.chain:
        _rule_step(case, gateway, arrived=arrived)
    reached = arrived or facts.others  # what was told of the line is outdated where something answers
    if kind in ("carrier-nat", "shared-ports", "no-ipv4") and not reached:
        _carrier(case)
        return
    if arrived or outside is None:
        return
    if verdict == "mismatched":
        _wrong_host(case, "likely")
    elif not inside_good and case.causes:
        return  # the first broken link is inside: what lies further out cannot be told yet
    elif verdict == "refused" or (verdict == "silent" and outside.evidence.icmp is not None):
        _wrong_host(case, "likely")
        if verdict == "refused":
            _missing(case, "possible")
    elif verdict == "silent":
        _silent(case)


def _public_address(case: _Case, *, arrived: bool) -> None:
    line = case.facts.line
    _, can_forward = situation(line)
    told, public = outer_wan(line), line.public
    shown = f"public address {public.address} ({public.source})" if public.address else f"not known: {public.source}"
    if arrived:
        case.step("public-address", "ok", shown, "it answered from outside")
    elif can_forward is False and not case.facts.others:
        case.step("public-address", "broken", shown, f"{line.chain[0]}'s WAN address is {told.value if told else '?'}")
    elif can_forward:
        case.step("public-address", "ok", shown, f"{line.chain[0]} has it itself" if told else "site file")
    elif case.facts.others:
        case.step("public-address", "ok", shown, "other services of this line answered there from outside")
    else:
        missing = f"{line.chain[0]}'s WAN address was not told" if told is None else f"told WAN address {told.value}"
        case.step("public-address", "unknown", shown, missing)


def _line_proven(case: _Case) -> bool:
    """Whether packets to the public address surely reach the outermost gateway."""
    told = outer_wan(case.facts.line)
    fresh = told is not None and told.fresh(case.facts.line.now)
    return bool(case.facts.others) or (situation(case.facts.line)[1] is True and fresh)


def _rule_step(case: _Case, gateway: str, *, arrived: bool) -> None:
    name = f"rule:{gateway}"
    rules = _rules(case, gateway)
    planned = "; ".join(
        f"{r.transport} {ports_text(r.outside_ports)} to {r.target_address}:{ports_text(r.target_ports)}" for r in rules
    )
    state, told = _told_rule(case, gateway)
    age = told.age(case.facts.line.now) if told is not None else ""
    if arrived:
        case.step(name, "ok", f"planned: {planned}", "it answered from outside")
    elif state == "missing":
        case.step(name, "broken", f"planned: {planned}", f"told to be missing, {age}")
    elif state == "wrong" and told is not None:
        case.step(name, "broken", f"planned: {planned}", f"told to lead to {told.value}, {age}")
    elif state == "there":
        case.step(name, "ok", f"planned: {planned}", f"told to be there, {age}")
    elif state == "ticked":
        case.step(name, "unknown", f"planned: {planned}", f"its sheet was ticked off {age}")
    else:
        case.step(name, "unknown", f"planned: {planned}")


def _carrier(case: _Case) -> None:
    line = case.facts.line
    told = outer_wan(line)
    fresh = told is not None and told.fresh(line.now)
    kind = situation(line)[0]
    code = {"carrier-nat": "carrier-nat", "shared-ports": "shared-ports"}.get(kind, "line-down")
    value = told.value if told is not None else str(line.public.address)
    case.cause(
        code,
        "certain" if fresh or told is None else "likely",
        f"{line.chain[0]} has the address {value}, which is {classify(parse_address(value)).meaning}:"
        " nothing from outside reaches it",
        "Ask the provider for a public IPv4 address; else use IPv6, or a tunnel out to a machine you rent.",
        _read_wan(line.chain[0]),
    )


def _read_wan(gateway: str) -> str:
    return f"Read the WAN address on {gateway}'s status page and give it with --wan {gateway}=ADDRESS."


def _read_rule(gateway: str, service: str) -> str:
    return (
        f"Look for {service} in {gateway}'s list of rules and give what stands there:"
        f" --rule {gateway}=there, {gateway}=missing, or {gateway}=ADDRESS where it leads to."
    )


def _undecided(case: _Case) -> list[str]:
    """The gateways whose rule nobody has looked at lately, outermost first."""
    out = []
    for gateway in case.facts.line.chain:
        state, told = _told_rule(case, gateway)
        if state in (None, "ticked") or told is None or not told.fresh(case.facts.line.now):
            out.append(gateway)
    return out


def _position(case: _Case, gateway: str) -> str:
    return "outer" if gateway == case.facts.line.chain[0] else "inner"


def _enter(case: _Case, gateway: str) -> str:
    return f"Enter it as `hooper worksheet {gateway}` says, and look that it is switched on."


def _told_wrong(case: _Case) -> bool:
    """Causes for what was told of the rules; whether there are any."""
    found = False
    for gateway in case.facts.line.chain:
        state, told = _told_rule(case, gateway)
        if told is None or state not in ("missing", "wrong"):
            continue
        found = True
        certainty: Certainty = "certain" if told.fresh(case.facts.line.now) else "likely"
        name = case.facts.service
        if state == "missing":
            code, message = f"rule-missing-{_position(case, gateway)}", f"{gateway} has no rule for {name}"
        else:
            wanted = _rules(case, gateway)[0]
            target = f"{wanted.target_address}:{ports_text(wanted.target_ports)}"
            code, message = "rule-wrong-host", f"{gateway}'s rule for {name} leads to {told.value}, not to {target}"
        case.cause(code, certainty, message, _enter(case, gateway), _read_rule(gateway, name))
    return found


def _wrong_host(case: _Case, certainty: Certainty) -> None:
    """Something else answered, or a router says that nobody is where the rule leads."""
    facts = case.facts
    if _told_wrong(case):
        return
    if facts.twin is not None:
        twin_host = case.site.services[facts.twin].host
        case.cause(
            "rule-wrong-host",
            "certain",
            f"a rule for {facts.service} leads to {twin_host}: what answers has the certificate of {facts.twin}",
            f"Compare the inside address of {facts.service} on each router with `hooper worksheet`.",
        )
        return
    open_ones = _undecided(case)
    inner = facts.line.chain[-1]
    look = inner if inner in open_ones or not open_ones else open_ones[0]
    case.cause(
        "rule-wrong-host",
        certainty,
        f"a rule for {facts.service} leads to another device, or to none",
        f"Compare the inside address of {facts.service} on each router with `hooper worksheet`.",
        _read_rule(look, facts.service),
    )
    if not _line_proven(case):
        case.cause(
            "public-address-wrong",
            "possible",
            "the address that was probed is not this line's",
            "Give the right one with --public.",
            _read_wan(facts.line.chain[0]),
        )


def _missing(case: _Case, certainty: Certainty) -> None:
    for gateway in case.facts.line.chain:
        if gateway in _undecided(case):
            place = _position(case, gateway)
            ticked = gateway in case.facts.ticked
            case.cause(
                f"rule-missing-{place}",
                "possible" if ticked else certainty,
                f"{gateway} has no rule for {case.facts.service}, or it is switched off",
                _enter(case, gateway),
                _read_rule(gateway, case.facts.service),
            )


def _silent(case: _Case) -> None:
    """Nothing came back from outside although the service answers inside: with mute boxes many causes look so."""
    facts = case.facts
    line, proven = facts.line, _line_proven(case)
    if _told_wrong(case):
        return
    undecided = _undecided(case)
    lone = facts.others is False  # nothing of this line answers from outside
    if not proven and lone and outer_wan(line) is None:
        _carrier_suspected(case, "likely")
    _missing(case, "likely")
    if not proven and not lone and outer_wan(line) is None:
        _carrier_suspected(case, "possible")
    if not proven and outer_wan(line) is not None:
        case.cause(
            "carrier-nat",
            "likely" if situation(line)[1] is None else "possible",
            f"{line.chain[0]}'s WAN address and the public address do not fit together, or were read long ago",
            "Read the WAN address again; if it is not the public one, ask the provider for a public address.",
            _read_wan(line.chain[0]),
        )
    _blocked(case, certain=proven and not undecided)


def _carrier_suspected(case: _Case, certainty: Certainty) -> None:
    line = case.facts.line
    case.cause(
        "carrier-nat",
        certainty,
        f"the provider may keep the public address for itself, before {line.chain[0]} (carrier NAT)",
        "If so, ask the provider for a public IPv4 address; else use IPv6 or a tunnel out to a machine you rent.",
        _read_wan(line.chain[0]),
    )


def _blocked(case: _Case, *, certain: bool) -> None:
    facts = case.facts
    assert facts.outside is not None
    port, transport = facts.outside.port, facts.outside.transport
    listed = any(
        blocked.transport in (transport, "both") and blocked.ports.first <= port <= blocked.ports.last
        for blocked in case.site.lines[facts.line.line].blocked
    )
    if certain or listed:
        message = f"nothing that comes in at {transport} {port} gets as far as the rules: the provider drops it"
        certainty: Certainty = "certain"
    else:
        message = f"the provider drops what comes in at {transport} {port}"
        certainty = "possible"
    undecided = _undecided(case)
    decide = _read_rule(undecided[0], facts.service) if undecided else _read_wan(facts.line.chain[0])
    remedy = f"Ask the provider, or choose another outside port: `outside_port` in [services.{facts.service}]."
    case.cause("port-blocked", certainty, message, remedy, decide)


# --- name, outside


def _not_forwarded(case: _Case) -> None:
    reach = case.site.services[case.facts.service].reach
    for gateway in case.facts.line.chain:
        case.step(f"rule:{gateway}", "skipped", f'its reach is "{reach}": no rule is planned')
    public = case.facts.line.public
    case.step("public-address", "skipped", f"public address {public.address}" if public.address else "not needed")
    outside = case.facts.outside
    if outside is not None and outside.verdict in (*THERE, "mismatched"):
        case.cause(
            "open-unplanned",
            "certain",
            f"{case.facts.service} is not to be reachable from outside, but something answers at port {outside.port}",
            "Look for a rule with that outside port on each router and remove it.",
        )


def _name(case: _Case, *, public: bool) -> None:
    line = case.facts.line
    if not line.names or not public:
        case.step("name", "skipped", "no name is planned for this line" if public else "not needed")
        return
    states: list[State] = []
    evidence: list[str] = []
    for name, known in line.names.items():
        evidence.append(f"{name}: {known.address or 'no address'} ({known.source})")
        if known.address is None or line.public.address is None or line.public.source == f"the name {name}":
            states.append("unknown")
        elif known.address == line.public.address:
            states.append("ok")
        else:
            states.append("broken")
            outside = case.facts.outside
            sure = _line_proven(case) or (outside is not None and outside.verdict in THERE)
            case.cause(
                "name-stale",
                "certain" if sure else "likely",
                f"{name} still leads to {known.address}; the line has {line.public.address}",
                "Have the name updated where it is kept: on the router, the device, or at the name provider.",
                _read_wan(line.chain[0]) if line.chain else None,
            )
    worst: State = "broken" if "broken" in states else "unknown" if "unknown" in states else "ok"
    case.step("name", worst, *evidence)


def _outside(case: _Case) -> None:
    outside = case.facts.outside
    if outside is None:
        case.step("outside", "unknown", "nobody looked from outside; give --from interface:NAME")
        return
    stored = case.facts.stored_at
    when = f", seen {Told('', stored).age(case.facts.line.now)}" if stored is not None else ""
    state: State = "ok" if outside.ok else "unknown" if outside.verdict == "unproven" else "broken"
    where = f"{outside.target_address}:{outside.port}" if outside.target_address else "the public address"
    case.step("outside", state, f"{where}: {outside.verdict}, {outside.detail}{when}")
    if state == "broken" and not case.causes:
        case.cause(
            "unexplained",
            "possible",
            f"from outside {where} is {outside.verdict}: {outside.detail}",
            "Look at each router's list of rules and compare it with `hooper worksheet`.",
            _read_rule(case.facts.line.chain[0], case.facts.service) if case.facts.line.chain else None,
        )
