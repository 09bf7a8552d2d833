"""From evidence to causes. Pure: it never looks anywhere, and says `certain` only where nothing else would look so."""

from __future__ import annotations

from hooper import deeds
from hooper.addresses import parse_address
from hooper.certs.problems import CODES, NOT_YET, planned_for
from hooper.comparison import Comparison, Side
from hooper.line.judging import compare
from hooper.line.sources import PublicAddress
from hooper.planning.topology import Topology
from hooper.planning.typed import typed
from hooper.planning.values import Plan
from hooper.site.model import Site
from hooper.sourced import age_of
from hooper.why.case import ORDER, THERE, Case, Certainty, State, WhyDocument
from hooper.why.catalogue import CAUSES
from hooper.why.facts import ServiceFacts
from hooper.why.server_keys import other_server, server_keys, tunnel_by
from hooper.why.way import judge_way, line_proven, read_rule, read_wan


def diagnose(topology: Topology, plan: Plan, facts: ServiceFacts) -> WhyDocument:
    """The first broken link of a service's chain, and what may have broken it."""
    site, case = topology.site, Case(topology, plan, facts)
    public = site.services[facts.service].reach == "public"
    _host(case)
    _service(case)
    if public:
        judge_way(case)
    else:
        _not_forwarded(case)
    _name(case, public=public)
    _certificate(case)
    _outside(case)
    _over_six(case)
    order = [
        "host",
        "service",
        *(f"rule:{key}" for key in reversed(case.ruled)),
        "public-address",
        "name",
        "certificate",
        "outside",
    ]
    ok: bool | None
    broken = next((case.steps[name] for name in order if case.steps[name].state == "broken"), None)
    if broken is not None and not case.causes:
        case.cause(
            "unexplained",
            "possible",
            f"{broken.step} is broken: {'; '.join(broken.evidence)}",
            f"Look at each router's list of rules and compare it with `{deeds.SHEET}`.",
            read_rule(case.ruled[0], facts.service) if case.ruled else None,
        )
    if any(step.state == "broken" for step in case.steps.values()) or case.causes:
        ok = False
    else:
        ok = True if case.steps["outside"].state == "ok" else None
    return WhyDocument(
        facts.service,
        ok,
        tuple(case.steps[name] for name in order),
        tuple(sorted(case.causes, key=lambda cause: ORDER[cause.certainty])),
        (*_address_compared(site, facts), *_compared(case, ok=ok)),
        tuple(PublicAddress(facts.line.line, facts.line.public, facts.line.differs).findings()),
    )


def _address_compared(site: Site, facts: ServiceFacts) -> list[Comparison]:
    """The host's address and MAC against what was seen, and its address against the pool."""
    host = site.devices[site.services[facts.service].host]
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


def _host(case: Case) -> None:
    facts, service = case.facts, case.site.services[case.facts.service]
    host = case.site.devices[service.host]
    answers = facts.inside is not None and facts.inside.verdict in THERE  # then it is there, whatever was told once
    moved = facts.host_at is not None and parse_address(facts.host_at.value) != host.address and not answers
    if moved and facts.host_at is not None:
        new = facts.host_at.value
        fresh = facts.host_at.now(facts.line.now)
        case.step("host", "broken", f"{service.host} is told to be at {new}, the plan says {host.address}")
        _moved(case, new, "certain" if fresh else "likely")
    elif facts.elsewhere is not None and not answers:
        case.step("host", "broken", f"its MAC {host.mac} answers at {facts.elsewhere}, not at {host.address}")
        _moved(case, str(facts.elsewhere), "certain")
    elif host.mac is not None and facts.mac_seen not in (None, host.mac) and not answers:
        # Wi-Fi repeaters answer with a MAC of their own, so this alone is not certain
        case.step("host", "unknown", f"at {host.address} answers the MAC {facts.mac_seen}, the plan says {host.mac}")
        _moved(case, None, "likely")
    elif facts.nobody_inside and not answers:
        case.step("host", "broken", f"nobody on this network has the address {host.address}")
        _gone(case, "likely")
    elif facts.inside is None:
        case.step("host", "unknown", "this machine is not on the device's network")
    elif facts.inside.verdict in (*THERE, "mismatched", "refused"):
        known = ", by the MAC in the plan" if host.mac and facts.mac_seen == host.mac else ""
        case.step("host", "ok", f"{host.address} answers{known}")
    elif facts.mac_seen is not None and not facts.doubtful:
        whose = "the MAC in the plan" if facts.mac_seen == host.mac else "a device"
        case.step("host", "ok", f"{whose} is at {host.address}")
        if facts.inside.verdict == "silent":
            _filters_all(case, "likely")
    else:
        case.step("host", "unknown", f"{host.address} does not answer, and nothing shows that it is there now")
        if facts.inside.verdict == "silent":
            _gone(case, "likely")
            _filters_all(case, "possible")
        elif facts.doubtful:  # over UDP silence alone says nothing
            _gone(case, "possible")


def _moved(case: Case, new: str | None, certainty: Certainty) -> None:
    service = case.site.services[case.facts.service]
    host = case.site.devices[service.host]
    to = f" to {new}" if new else ""
    case.cause(
        "host-moved",
        certainty,
        f"{service.host} has moved{to}; the rules lead to {host.address}",
        f"Give it {host.address} again: set it on the device, or reserve it on its router"
        + (f" for {host.mac}." if host.mac else "."),
        f"Look once more at its address, on the device or in the router's list: give it with {deeds.HOST_ADDRESS}.",
    )


def _compared(case: Case, *, ok: bool | None) -> list[Comparison]:
    """The numbers side by side; where all is well, nobody has to read one that is not known."""
    rows = compare(case.site, case.facts.line)
    return [row for row in rows if row.equal is not None] if ok else rows


def _filters_all(case: Case, certainty: Certainty) -> None:
    """The device is there, and what comes in at the port gets no answer, not even a refusal."""
    inside, host = case.facts.inside, case.site.services[case.facts.service].host
    assert inside is not None
    case.cause(
        "host-filters-all",
        certainty,
        f"{host} drops what comes in at {inside.transport} {inside.port}: its own firewall, or a program that hangs",
        f"Let {case.facts.service} in in the firewall of {host}, and start it anew.",
        f"Look on {host} itself whether {case.facts.service} answers there, and what its firewall lets in.",
    )


def _gone(case: Case, certainty: Certainty) -> None:
    name = case.site.services[case.facts.service].host
    place = "in its router's list of devices, or on its own screen"
    decide = f"Look for {name} {place}: give the address with {deeds.HOST_ADDRESS}."
    case.cause(
        "host-moved",
        certainty,
        f"{name} has taken another address",
        f"Find it in its router's list of devices and give it {case.site.devices[name].address} again.",
        decide,
    )
    case.cause("host-off", certainty, f"{name} is switched off or unplugged", "Look whether it runs.", decide)


def _service(case: Case) -> None:
    facts, name = case.facts, case.facts.service
    service = case.site.services[name]
    host = case.site.devices[service.host]
    inside = facts.inside
    if case.steps["host"].state == "broken":
        case.step("service", "unknown", "the device was not found")
    elif inside is None:
        case.step("service", "unknown", "this machine is not on the device's network")
    elif inside.verdict in THERE:
        faults = [problem for problem in inside.problems if problem not in CODES]
        case.step("service", "broken" if faults else "ok", f"inside: {inside.verdict}, {inside.detail}")
        for fault in faults:
            _faulty(case, fault, inside.detail)
    elif inside.verdict == "refused" and facts.answers_by:
        _one_transport(case)
    elif inside.verdict == "refused":
        case.step("service", "broken", f"inside: {host.address} refuses port {inside.port}")
        same = host.mac is not None and facts.mac_seen == host.mac
        told = facts.host_at is not None and facts.host_at.now(facts.line.now)
        case.cause(
            "service-stopped",
            "certain" if same or told else "likely",
            f"{service.host} refuses port {inside.port}: {name} does not run there, or its firewall refuses it",
            f"Start it on {service.host}, or correct its port; else let it in in the firewall of {service.host}.",
            f"Make sure that {host.address} is {service.host}: give the address it shows with {deeds.HOST_ADDRESS}.",
        )
        if not (same or told):
            case.cause(
                "host-moved",
                "possible",
                f"another device has the address {host.address}",
                f"Look which device has it, and give it to {service.host} again.",
                f"Look at {service.host} itself and give its address with {deeds.HOST_ADDRESS}.",
            )
    elif inside.verdict in ("silent", "mismatched") and facts.tunnel is not None:
        case.step("service", "broken", f"inside: {inside.verdict}, {inside.detail}")
        server_keys(case, "likely")
    elif inside.verdict == "mismatched" and (key := tunnel_by(case.site, facts.service)) is not None:
        case.step("service", "broken", f"inside: {inside.detail}")
        other_server(case, key, inside.detail)
    elif inside.verdict == "mismatched" and inside.problems:
        case.step("service", "broken", f"inside: {inside.detail}")
        for fault in inside.problems:
            _faulty(case, fault, inside.detail)
    elif inside.verdict == "mismatched":
        case.step("service", "broken", f"inside: {inside.detail}")
        case.cause(
            "service-other",
            "likely",
            f"at {host.address}, port {inside.port}, is something else than {service.speaks}",
            "Correct `speaks` or `port` in the site file, or the address of the device.",
            f"Look at {service.host} itself and give its address with {deeds.HOST_ADDRESS}.",
        )
    else:
        case.step("service", "unknown", f"inside: {inside.verdict}, {inside.detail}")


def _one_transport(case: Case) -> None:
    """A service for both transports that answers by one of them, and refuses the other."""
    inside, name = case.facts.inside, case.facts.service
    assert inside is not None
    used = " and ".join(case.facts.answers_by)
    case.step("service", "ok", f"inside: it answers by {used}, and refuses {inside.transport} {inside.port}")
    case.cause(
        "transport-unused",
        "likely",
        f"{name} answers by {used} and not by {inside.transport}, though both were planned",
        f'Write `transport = "{case.facts.answers_by[0]}"` for it, or switch {inside.transport} on in the device.',
        f"Look in the settings of {case.site.services[name].host} whether {name} uses {inside.transport}.",
    )


def _faulty(case: Case, fault: str, detail: str) -> None:
    """The service runs, and something about what it says is wrong."""
    name = case.facts.service
    speaks = case.site.services[name].speaks
    remedies = {
        "clear-text": (
            "https-needed",
            f"{name} speaks without encryption where {speaks} was planned",
            "Switch HTTPS or TLS on in the device's settings, or give the port at which it speaks it.",
        ),
        "https-needed": (
            "https-needed",
            f"{name} wants https at its port, and http was planned",
            'Write `speaks = "https"` in the site file; in the URL, too, it is https://.',
        ),
        "port-lost": (
            "port-lost",
            f"{name} sends people on to an address without its outside port: {detail}",
            f"Set the device's own address, base URL or external port to the URL that `{deeds.CARD}` shows.",
        ),
        "inner-address": (
            "inner-address",
            f"{name} sends people on to an address of the LAN: {detail}",
            f"Set the device's own address or base URL to the URL that `{deeds.CARD}` shows.",
        ),
        "https-lost": (
            "https-needed",
            f"{name} sends people on to a page without encryption: {detail}",
            f"Set the device's base URL to the one that `{deeds.CARD}` shows, with https.",
        ),
    }
    usual = ("service-faulty", f"{name} answers with a fault: {detail}", "Set it right on the device.")
    if fault in CAUSES:
        usual = (fault, f"{name}: {CAUSES[fault].what}", CAUSES[fault].do)
    code, message, remedy = remedies.get(fault, usual)
    case.cause(code, "certain", message, remedy)


def _certificate(case: Case) -> None:
    """What the service shows, from outside if that was seen, else from inside."""
    facts, name = case.facts, case.facts.service
    planned = planned_for(case.site, name)
    newest = (facts.outside, facts.inside) if facts.stored_at is None else (facts.inside, facts.outside)
    looks = [look for look in newest if look is not None and look.verdict == "answered"]
    look = next((tried for tried in looks if tried.fingerprint is not None), None)
    problems = [problem for problem in look.problems if problem in CODES] if look is not None else []
    if look is None or (planned is None and not problems):
        known = f"{planned} is planned" if planned is not None else "none is planned for it"
        case.step("certificate", "unknown" if planned is not None else "skipped", known)
        return
    if not problems:
        shown = look.evidence.certificate
        until = f", until {shown.not_after[:10]}" if shown is not None else ""
        case.step("certificate", "ok", f"it shows {planned}{until}")
        return
    words = look.detail.partition("; ")[2] or look.detail  # without what else the service said
    case.step("certificate", "broken", words)
    for problem in problems:
        case.cause(problem, "certain", f"{name}: {words}", _renewal(case, planned, problem))


def _renewal(case: Case, planned: str | None, problem: str) -> str:
    """What to do about a certificate."""
    host = case.site.services[case.facts.service].host
    if planned is None:
        return f"Have {host} make or get a new one, on its page for certificates."
    if case.site.certificates[planned].authority == "device":
        return f"Have {host} get it anew, on its page for certificates."
    if problem == NOT_YET:
        return f"Set the clocks of this machine and of {host} right."
    return f"`{deeds.ORDER(planned)}` gets it, if it is not kept already; then give {host} its two files."


# --- name, outside


def _not_forwarded(case: Case) -> None:
    reach = case.site.services[case.facts.service].reach
    for gateway in case.ruled:
        case.step(f"rule:{gateway}", "skipped", f'its reach is "{reach}": no rule is planned')
    public = case.facts.line.public
    case.step("public-address", "skipped", f"public address {public.value}" if public.value else "not needed")
    outside = case.facts.outside
    if outside is not None and outside.verdict in (*THERE, "mismatched"):
        case.cause(
            "open-unplanned",
            "certain",
            f"{case.facts.service} is not to be reachable from outside, but something answers at port {outside.port}",
            "Look for a rule with that outside port on each router and remove it.",
        )


def _name(case: Case, *, public: bool) -> None:
    line = case.facts.line
    if not line.names or not public:
        case.step("name", "skipped", "no name is planned for this line" if public else "not needed")
        return
    states: list[State] = []
    evidence: list[str] = []
    for name, known in line.names.items():
        evidence.append(f"{name}: {known.value or 'no address'} ({known.source})")
        if known.absent:
            states.append("broken")
            case.cause("name-missing", "certain", f"{name} has no address: {known.source}", _publish(case, name))
        elif known.value is None or line.public.value is None or line.public.source == f"the name {name}":
            states.append("unknown")
        elif known.value == line.public.value:
            states.append("ok")
        else:
            states.append("broken")
            outside = case.facts.outside
            sure = line_proven(case) or (outside is not None and outside.verdict in THERE)
            case.cause(
                "name-stale",
                "certain" if sure else "likely",
                f"{name} still leads to {known.value}; the line has {line.public.value}",
                _publish(case, name),
                read_wan(line.chain[0]) if line.chain else None,
            )
    worst: State = "broken" if "broken" in states else "unknown" if "unknown" in states else "ok"
    case.step("name", worst, *evidence)


def _publish(case: Case, name: str) -> str:
    kept_by = case.site.names[name].updated_by
    if kept_by in case.site.updaters:
        return f"`{deeds.PUBLISH(name)}` publishes the right one."
    return f"Have it updated where it is kept: by the {kept_by}."


def _outside(case: Case) -> None:
    outside = case.facts.outside
    weak = _weak_evidence(case)
    if outside is None:
        case.step("outside", "unknown", f"nobody looked from outside; give {deeds.FROM_PHONE}", *weak)
        return
    stored = case.facts.stored_at
    when = f", seen {age_of(stored, case.facts.line.now)}" if stored is not None else ""
    state: State = "ok" if outside.ok else "unknown" if outside.verdict == "unproven" else "broken"
    planned_open = case.site.services[case.facts.service].reach == "public"
    if planned_open and outside.expected == "unreachable" and outside.ok:
        state, when = "unknown", f"; this place is not among its allowed sources{when}"
    inside = case.facts.inside
    if stored is not None and state == "broken" and outside.problems and inside is not None and inside.ok:
        state, when = "unknown", f"{when}; inside that is mended, so look from outside again"
    where = f"{outside.target_address}:{outside.port}" if outside.target_address else "the public address"
    more = _typed(case) if state == "ok" and planned_open else []
    case.step("outside", state, f"{where}: {outside.verdict}, {outside.detail}{when}", *more, *weak)
    if outside.verdict in THERE:
        for fault in outside.problems:
            if fault not in CODES:
                _faulty(case, fault, outside.detail)


def _over_six(case: Case) -> None:
    """The other family is judged by itself: nothing is translated there, so only openings and the device count."""
    six, name = case.facts.outside6, case.facts.service
    if six is None or six.ok or six.untold:
        return
    router = case.facts.line.chain[-1] if case.facts.line.chain else "its router"
    if six.expected == "unreachable":
        case.cause(
            "open-unplanned",
            "certain",
            f"{name} answers strangers over IPv6, at {six.target_address} port {six.port}, and is not to",
            f"Look for an opening to {six.target_address} in the IPv6 firewall of {router}, and remove it.",
        )
    elif six.verdict in ("silent", "refused"):
        case.cause(
            "opening-missing",
            "likely",
            f"over IPv6 nothing reaches {name} at {six.target_address} port {six.port}",
            f"Enter the opening as `{deeds.SHEET(router)}` says, and let {name} in in the device's own firewall.",
            f"Look in the IPv6 firewall of {router} whether the opening is there, and whether the device still has"
            f" {six.target_address}.",
        )
    else:
        case.cause("service-other", "likely", f"over IPv6: {six.detail}", f"Look who has {six.target_address} now.")


def _weak_evidence(case: Case) -> list[str]:
    """What people saw, how a stand-in was reached, the other family: none is the look at the service itself."""
    facts, now = case.facts, case.facts.line.now
    out = [f"a person reported {facts.saw.age(now)}: {facts.saw.value}"] if facts.saw is not None else []
    six = facts.outside6
    if six is not None:
        out.append(f"over IPv6, {six.target_address} port {six.port}: {six.verdict}, {six.detail}")
    for transport, said in facts.ways.items():
        reached = "reached" if said.value == "answered" else f"not reached ({said.value})"
        out.append(f"a stand-in for it was {reached} over {transport.upper()}, {said.age(now)}")
    return out


def _typed(case: Case) -> list[str]:
    """What people type, where a port that is left out leads elsewhere."""
    name = case.facts.service
    shown = typed(case.topology, name)
    if shown is None or not shown.port_needed:
        return []
    return [f"people must type the port: {shown.text}"]
