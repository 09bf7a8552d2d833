"""From evidence to causes. Pure: it never looks anywhere, and says `certain` only where nothing else would look so."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import timedelta

from hooper import deeds
from hooper.addresses import parse_address
from hooper.certs.problems import CODES, EXPIRED, NOT_YET, OTHER_NAME, ROOT_ENDED, TELLS
from hooper.check.results import Result
from hooper.clock import read_moment, shown_duration
from hooper.comparison import Comparison, Side
from hooper.line.judging import compare
from hooper.line.sources import PublicAddress
from hooper.planning.access import reaching
from hooper.planning.findings import finds
from hooper.planning.topology import Topology
from hooper.planning.typed import typed, typed_inside
from hooper.planning.values import Finding, Plan
from hooper.site.model import Site
from hooper.site.references import planned_for
from hooper.sourced import age_of
from hooper.why.case import ASKER, ORDER, THERE, Case, LookSeen, State, WhyDocument
from hooper.why.causes import weighed
from hooper.why.facts import ServiceFacts
from hooper.why.inside import faulty, judge_host, judge_service
from hooper.why.looks import INSIDE, footing, looks, name_look, surely_own
from hooper.why.name_links import judge_name
from hooper.why.questions import answered, questions
from hooper.why.router_rules import read_rule
from hooper.why.six import judge_openings, judge_six, six_alone
from hooper.why.way import judge_way
from hooper.words.said import NOTHING, Said, quoted, say, together

CLOCK_OFF = timedelta(hours=1)  # by less no certificate is judged otherwise


def diagnose(
    topology: Topology, plan: Plan, facts: ServiceFacts, answers: Mapping[str, str] | None = None
) -> WhyDocument:
    """The first broken link of a service's chain, and what may have broken it.

    answers: what somebody on site answered, by question; None: nobody is asked.
    """
    site, case = topology.site, Case(topology, plan, facts)
    public = site.services[facts.service].reach == "public"
    judge_host(case)
    judge_service(case)
    forwarded = public and not six_alone(case)
    if forwarded:
        judged = judge_way(case)
    elif public:
        judge_openings(case)
    else:
        _not_forwarded(case)
    judge_name(case, public=public)
    _certificate(case)
    _outside(case)
    rare = judge_six(case, facts.outside if six_alone(case) else facts.outside6)
    order = [
        "host",
        "service",
        *(f"rule:{key}" for key in reversed(case.ruled)),
        "public-address",
        "name",
        "certificate",
        "outside",
    ]
    if site.services[facts.service].reach == "tunnel":
        _tunnel(case)
        order.append("tunnel")
    seen = (*looks(case, public=forwarded), *name_look(case))
    on = footing(case, public=forwarded and judged)
    said = list(answered(on, questions(topology, plan, facts.service), answers)) if answers is not None else None
    if public and not forwarded and not said:
        said = None  # over IPv6 alone, what is well inside is not asked about
    rare += weighed(case, on, [one for one in seen if on.public or one.look in INSIDE], said)
    broken = _unexplained(case, order)
    ok: bool | None
    if broken or any(cause.code not in ASKER for cause in case.causes):
        ok = False
    else:
        ok = True if case.steps["outside"].state == "ok" and "tunnel" not in case.steps else None
    return WhyDocument(
        facts.service,
        ok,
        tuple(case.steps[name] for name in order),
        tuple(sorted(case.causes, key=lambda cause: ORDER[cause.certainty])),
        (*_address_compared(site, facts), *_compared(case, ok=ok)),
        (*PublicAddress(facts.line.line, facts.line.public, facts.line.differs).findings(), *_hairpin_only(case)),
        seen=tuple(LookSeen(one.look, one.outcome) for one in seen if not one.old) if public else (),
        rare=tuple(code for code in dict.fromkeys(rare) if all(code != cause.code for cause in case.causes)),
    )


def _unexplained(case: Case, order: list[str]) -> bool:
    """Whether a step is broken, and a cause where nothing else explains the first of these."""
    broken = next((case.steps[name] for name in order if case.steps[name].state == "broken"), None)
    if broken is not None and not case.causes:
        sure = read_rule(case.ruled[0], case.by) if case.ruled else None
        case.caused("unexplained", "possible", sure=sure, step=broken.step, evidence=together(broken.evidence))
    return broken is not None


def _address_compared(site: Site, facts: ServiceFacts) -> list[Comparison]:
    """The host's address and MAC against what was seen, and its address against the pool."""
    host = site.devices[site.services[facts.service].host]
    rows: list[Comparison] = []
    if host.mac is not None and facts.mac_seen is not None:
        same = host.mac == facts.mac_seen
        rows.append(
            Comparison(
                Side(say("mac-at", address=host.address), facts.mac_seen, say("this-machines-neighbours")),
                Side(say("mac-in-the-plan"), host.mac, say("site-file")),
                same,
                say("it-is-the-device") if same else say("another-device-has-taken"),
            )
        )
    if facts.host_at is not None:
        same = parse_address(facts.host_at.value) == host.address
        rows.append(
            Comparison(
                Side(
                    say("the-devices-address"), facts.host_at.value, say("told", age=facts.host_at.age(facts.line.now))
                ),
                Side(say("address-in-the-plan"), str(host.address), say("site-file")),
                same,
                say("it-has-kept-its") if same else say("it-has-taken-another"),
            )
        )
    return rows


def _compared(case: Case, *, ok: bool | None) -> list[Comparison]:
    """The numbers side by side; where all is well, nobody has to read one that is not known."""
    rows = compare(case.site, case.facts.line)
    return [row for row in rows if row.equal is not None] if ok else rows


def _certificate(case: Case) -> None:
    """What the service shows, from outside if that was seen, else from inside."""
    facts, name = case.facts, case.facts.service
    planned = planned_for(case.site, name)
    newest = (facts.outside, facts.inside) if facts.stored_at is None else (facts.inside, facts.outside)
    looks = [look for look in newest if look is not None and look.verdict == "answered"]
    look = next((tried for tried in looks if tried.fingerprint is not None), None)
    problems = [problem for problem in look.problems if problem in CODES] if look is not None else []
    if look is None or (planned is None and not problems):
        known = say("is-planned", planned=planned) if planned is not None else say("none-is-planned-for")
        case.step("certificate", "unknown" if planned is not None else "skipped", known)
        return
    if not problems:
        shown = look.evidence.certificate
        until = say("until", not_after=shown.not_after[:10]) if shown is not None else NOTHING
        case.step("certificate", "ok", say("it-shows", planned=planned, until=until))
        return
    words = together(part for part in look.detail.parts if part.code in TELLS) or look.detail
    case.step("certificate", "broken", words)
    clock = _clock(case, look) if NOT_YET in problems else NOTHING
    for problem in problems:
        timely, own = problem in (EXPIRED, NOT_YET) and not _same_clock(case, look), surely_own(case, look, problem)
        case.unsure |= set() if own else {problem}
        at_home = say("see-at-home", why=deeds.WHY(name), host=case.site.services[name].host)
        case.cause(
            problem,
            "certain" if own and not timely else "likely",
            say("of-a-service", name=name, what=words + clock),
            _renewal(case, planned, problem, clock),
            say("compare-clocks", moment=case.facts.line.now) if timely else at_home,
        )
        if timely:
            _own_clock(case, look)
    if facts.put_back is not None:  # so it goes on with what is wrong
        back = facts.put_back
        case.caused("certificate-put-back", "certain", service=name, why=back.value, age=back.age(facts.line.now),
                    give=deeds.GIVE_CERTIFICATE(planned or name))  # fmt: skip


def _same_clock(case: Case, look: Result) -> bool:
    """Whether another clock than this computer's says what time it is: else its own may be what is wrong."""
    if case.facts.clock is not None:
        return abs(case.facts.clock.behind_s) < CLOCK_OFF.total_seconds()
    told = look.evidence.page.date if look.evidence.page is not None else None
    return told is not None and abs(read_moment(told) - case.facts.line.now) < CLOCK_OFF


def _own_clock(case: Case, look: Result) -> None:
    """This computer's clock is a suspect like every other link: by it alone the certificate is not valid."""
    clock = case.facts.clock
    if clock is not None:
        off = shown_duration(round(abs(clock.behind_s)))
        word = "behind" if clock.behind_s > 0 else "ahead"
        case.caused("own-clock.told", "certain", word=word, off=off, server=clock.server)
        return
    page, shown = look.evidence.page, look.evidence.certificate
    valid = False  # by the clock of the device
    if page is not None and page.date is not None and shown is not None:
        valid = read_moment(shown.not_before) <= read_moment(page.date) <= read_moment(shown.not_after)
    case.caused("own-clock", "likely" if valid else "possible", moment=case.facts.line.now)


def _clock(case: Case, look: Result) -> Said:
    """What a device's own clock says, where it tells that and is not right; empty: nothing."""
    told = look.evidence.page.date if look.evidence.page is not None else None
    if told is None or abs(read_moment(told) - case.facts.line.now) < CLOCK_OFF:
        return NOTHING
    return say("by-the-devices-own", moment=read_moment(told))


def _renewal(case: Case, planned: str | None, problem: str, clock: Said) -> Said:
    """What to do about a certificate. clock: what is wrong with the device's; empty: nothing is known to be."""
    entry = case.site.services[case.facts.service]
    host = entry.host
    if problem == OTHER_NAME and entry.hands_to is not None:
        return say("handed.certificate-other-name", host=host, secure=deeds.SECURE(case.facts.service))
    if problem == ROOT_ENDED and planned is not None:
        by = case.site.certificates[planned].authority
        return say("have-a-new-root", make=deeds.MAKE_AUTHORITY(by), trust=deeds.TRUST(by))
    if problem == NOT_YET and clock:
        return say("set-the-clock-of", host=host)
    if problem == NOT_YET:
        return say("look-at-the-clock", host=host)
    if planned is None:
        return say("have-make-or-get", host=host)
    if case.site.certificates[planned].authority == "device":
        return say("have-get-it-anew", host=host)
    return say("gets-it-if-it", order=deeds.ORDER(planned), host=host)


def _not_forwarded(case: Case) -> None:
    reach = case.site.services[case.facts.service].reach
    for gateway in case.ruled:
        case.step(f"rule:{gateway}", "skipped", say("its-reach-is-no", reach=reach))
    public = case.facts.line.public
    case.step(
        "public-address", "skipped", say("public-address", value=public.value) if public.value else say("not-needed")
    )
    outside = case.facts.outside
    if outside is not None and outside.verdict in (*THERE, "mismatched"):
        case.caused("open-unplanned", "certain", service=case.facts.service, port=outside.port)


def _tunnel(case: Case) -> None:
    """A service for a tunnel is judged by that, and this look went another way."""
    peers = reaching(case.site, case.facts.service)
    none = say("tunnel-reaches-nobody") if case.site.tunnels else say("no-tunnel-yet", add=deeds.ADD_TUNNEL)
    case.step("tunnel", "unknown", say("tunnel-not-looked", peers=peers) if peers else none)


def _hairpin_only(case: Case) -> Iterator[Finding]:
    """What hairpin says of people at home: whoever looks from there sees that, and not what is outside."""
    facts, outside = case.facts, case.facts.outside
    hairpin, shown = facts.hairpin, typed(case.topology, facts.service)
    if hairpin is None or shown is None or outside is None or outside.verdict not in THERE or hairpin.same is True:
        return
    if hairpin.verdict in ("silent", "refused", "mismatched"):
        yield finds(
            "no-hairpin",
            f"services.{facts.service}",
            severity="note",
            do=say("no-hairpin.do", text=typed_inside(case.topology, facts.service).text),
            text=shown.text,
            service=facts.service,
            verdict=hairpin.verdict,
        )


def _outside(case: Case) -> None:
    outside = case.facts.outside
    weak = _weak_evidence(case)
    if outside is None:
        case.step("outside", "unknown", say("nobody-looked-from-outside"), *weak)
        return
    stored = case.facts.stored_at
    when = say("seen", age_of=age_of(stored, case.facts.line.now)) if stored is not None else NOTHING
    state: State = "ok" if outside.ok else "unknown" if outside.verdict == "unproven" else "broken"
    planned_open = case.site.services[case.facts.service].reach == "public"
    if planned_open and outside.expected == "unreachable" and outside.ok:
        state, when = "unknown", say("this-place-is-not", when=when)
    inside = case.facts.inside
    if stored is not None and state == "broken" and outside.problems and inside is not None and inside.ok:
        state, when = "unknown", say("inside-that-is-mended", when=when)
    where = say("the-public-address")
    if outside.target_address is not None:
        shown = f"[{outside.target_address}]" if outside.family == "ipv6" else outside.target_address
        where = quoted(f"{shown}:{outside.port}")
    more = _typed(case) if state == "ok" and planned_open else []
    case.step(
        "outside",
        state,
        say("seen-outside", where=where, verdict=outside.verdict, detail=outside.detail, when=when),
        *more,
        *weak,
    )
    if outside.verdict in THERE:
        for fault in outside.problems:
            if fault not in CODES:
                faulty(case, fault, outside.detail, sure=surely_own(case, outside, fault))


def _weak_evidence(case: Case) -> list[Said]:
    """What people saw, how a stand-in was reached, the other family: none is the look at the service itself."""
    facts, now = case.facts, case.facts.line.now
    out = [say("a-person-reported", age=facts.saw.age(now), value=facts.saw.value)] if facts.saw is not None else []
    six = facts.outside6
    if six is not None:
        out.append(
            say(
                "over-ipv6-port",
                target_address=six.target_address,
                port=six.port,
                verdict=six.verdict,
                detail=six.detail,
            )
        )
    for transport, said in facts.ways.items():
        reached = "reached" if said.value == "answered" else say("not-reached", value=said.value)
        out.append(say("a-stand-in-for", reached=reached, upper=transport.upper(), age=said.age(now)))
    return out


def _typed(case: Case) -> list[Said]:
    """What people type, where a port that is left out leads elsewhere."""
    name = case.facts.service
    shown = typed(case.topology, name)
    if shown is None or not shown.port_needed:
        return []
    return [say("people-must-type-the", text=shown.text)]
