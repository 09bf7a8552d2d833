"""The inside of a service's chain: the device, and the service on it. Pure."""

from __future__ import annotations

from hooper.addresses import parse_address
from hooper.certs.problems import CODES
from hooper.sourced import Sourced
from hooper.why.case import THERE, Case, Certainty
from hooper.why.server_keys import other_server, server_keys, tunnel_by
from hooper.why.six import six_alone
from hooper.words.catalogue import codes
from hooper.words.said import NOTHING, Said, general, quoted, say

UNSURE = ("address-taken", "identity-changed")  # a repeater, or a device that was set up anew, looks the same


def judge_host(case: Case) -> None:
    facts, service = case.facts, case.site.services[case.facts.service]
    host = case.site.devices[service.host]
    answers = facts.inside is not None and facts.inside.verdict in THERE  # then it is there, whatever was told once
    if facts.host_at is not None and not answers and _told_elsewhere(case, facts.host_at):
        return
    if facts.elsewhere is None and _kept_apart(case, answers=answers):
        return
    if facts.elsewhere is not None and not answers:
        case.step(
            "host", "broken", say("its-mac-answers-at", mac=host.mac, elsewhere=facts.elsewhere, address=host.address)
        )
        _moved(case, quoted(str(facts.elsewhere)), "certain")
    elif host.mac is not None and facts.mac_seen not in (None, host.mac) and not answers:
        # Wi-Fi repeaters answer with a MAC of their own, so this alone is not certain
        case.step(
            "host", "unknown", say("at-answers-the-mac", address=host.address, mac_seen=facts.mac_seen, mac=host.mac)
        )
        _moved(case, None, "likely")
    elif facts.nobody_inside and not answers:
        case.step("host", "broken", say("nobody-on-this-network", address=host.address))
        _gone(case, "likely")
    elif facts.inside is None:
        case.step("host", "unknown", _unseen(case))
    elif facts.inside.verdict in (*THERE, "mismatched", "refused"):
        known = say("by-the-mac-in") if host.mac and facts.mac_seen == host.mac else NOTHING
        case.step("host", "ok", say("answers", target_address=facts.inside.target_address, known=known))
    elif facts.mac_seen is not None and not facts.doubtful:
        whose = say("the-mac-in-the") if facts.mac_seen == host.mac else say("a-device")
        case.step("host", "ok", say("is-at", whose=whose, address=host.address))
        if facts.inside.verdict == "silent":
            _filters_all(case, "likely")
    else:
        case.step("host", "unknown", say("does-not-answer-and", address=host.address))
        if facts.inside.verdict == "silent":
            _gone(case, "likely")
            _filters_all(case, "possible")
        elif facts.doubtful:  # over UDP silence alone says nothing
            _gone(case, "possible")


def _unseen(case: Case) -> Said:
    return say("this-machine-is-not-there", over=say("over-ipv6") if six_alone(case) else NOTHING)


def _told_elsewhere(case: Case, told: Sourced[str]) -> bool:
    """Whether the device was told to have another address than the plan says: moved, or on another network."""
    key = case.site.services[case.facts.service].host
    host, at = case.site.devices[key], parse_address(told.value)
    if at == host.address:
        return False
    certainty: Certainty = "certain" if told.now(case.facts.line.now) else "likely"
    case.step("host", "broken", say("is-told-to-be", key=key, value=told.value, address=host.address))
    own = case.topology.gateway(key)
    lan = next((gateway for gateway, one in case.site.gateways.items() if at in one.lan.network), None)
    if lan is not None:
        _moved(case, quoted(told.value) if lan == own else say("on-the-lan-of", value=told.value, lan=lan), certainty)
    else:
        _isolated(case, certainty, say("has-which-is-not", key=key, value=told.value))
    return True


def _kept_apart(case: Case, *, answers: bool) -> bool:
    """Whether the device was told just now to be where the plan says, while nobody there answers this machine."""
    told, facts = case.facts.host_at, case.facts
    if told is None or answers or not facts.nobody_inside or not told.now(facts.line.now):
        return False
    key = case.site.services[facts.service].host
    case.step("host", "broken", say("is-told-to-be-at", key=key, value=told.value))
    _isolated(case, "likely", say("or-this-machine-is", key=key))
    return True


def _isolated(case: Case, certainty: Certainty, message: Said) -> None:
    key = case.site.services[case.facts.service].host
    case.cause(
        "host-isolated",
        certainty,
        message,
        say("host-isolated.do", key=key, address=case.site.devices[key].address),
        say("host-isolated.sure", key=key),
    )


def _moved(case: Case, new: Said | None, certainty: Certainty) -> None:
    service = case.site.services[case.facts.service]
    host = case.site.devices[service.host]
    to = say("to", new=new) if new else ""
    case.caused(
        "host-moved",
        certainty,
        do=say("host-moved.moved.do", address=host.address) + (say("for", mac=host.mac) if host.mac else "."),
        host=service.host,
        to=to,
        address=host.address,
    )


def _filters_all(case: Case, certainty: Certainty) -> None:
    """The device is there, and what comes in at the port gets no answer, not even a refusal."""
    inside, host = case.facts.inside, case.site.services[case.facts.service].host
    assert inside is not None
    case.caused(
        "host-filters-all",
        certainty,
        host=host,
        transport=inside.transport,
        port=inside.port,
        service=case.facts.service,
    )


def _gone(case: Case, certainty: Certainty) -> None:
    name = case.site.services[case.facts.service].host
    place = say("in-its-routers-list")
    decide = say("look-for-give-the", name=name, place=place)
    case.caused("host-moved.gone", certainty, sure=decide, name=name, address=case.site.devices[name].address)
    case.cause("host-off", certainty, say("host-off.says", name=name), say("host-off.do"), decide)
    _isolated(case, "possible", say("is-on-another-network", name=name))


def judge_service(case: Case) -> None:
    facts, name = case.facts, case.facts.service
    service = case.site.services[name]
    host = case.site.devices[service.host]
    inside = facts.inside
    if case.steps["host"].state == "broken":
        case.step("service", "unknown", say("the-device-was-not"))
    elif inside is None:
        case.step("service", "unknown", _unseen(case))
    elif inside.verdict in THERE:
        faults = [problem for problem in inside.problems if problem not in CODES]
        case.step("service", "broken" if faults else "ok", say("inside", verdict=inside.verdict, detail=inside.detail))
        for fault in faults:
            faulty(case, fault, inside.detail)
    elif inside.verdict == "refused" and facts.answers_by:
        _one_transport(case)
    elif inside.verdict == "refused":
        case.step("service", "broken", say("inside-refuses-port", address=host.address, port=inside.port))
        same = host.mac is not None and facts.mac_seen == host.mac
        told = facts.host_at is not None and facts.host_at.now(facts.line.now)
        sure = same or told or facts.at_loopback is not None
        _stopped(case, sure=sure)
        if not sure:
            case.caused("host-moved.judge-service", "possible", address=host.address, host=service.host)
    elif inside.verdict in ("silent", "mismatched") and facts.tunnel is not None:
        case.step("service", "broken", say("inside", verdict=inside.verdict, detail=inside.detail))
        server_keys(case, "likely")
    elif inside.verdict == "mismatched" and (key := tunnel_by(case.site, facts.service)) is not None:
        case.step("service", "broken", say("inside-says", detail=inside.detail))
        other_server(case, key, inside.detail)
    elif inside.verdict == "mismatched" and inside.problems:
        case.step("service", "broken", say("inside-says", detail=inside.detail))
        for fault in inside.problems:
            faulty(case, fault, inside.detail)
    elif inside.verdict == "mismatched":
        case.step("service", "broken", say("inside-says", detail=inside.detail))
        case.caused(
            "service-other", "likely", address=host.address, port=inside.port, speaks=service.speaks, host=service.host
        )
    else:
        case.step("service", "unknown", say("inside", verdict=inside.verdict, detail=inside.detail))


def _stopped(case: Case, *, sure: bool) -> None:
    """The device refuses: no program is there for others. sure: it is the device that the plan means."""
    inside, name = case.facts.inside, case.facts.service
    assert inside is not None
    host = case.site.services[name].host
    itself = case.facts.at_loopback
    if itself in THERE:
        _loopback_only(case, "certain")
        return
    look = say("look-on-itself-whether", host=host, name=name, port=inside.port)
    if not sure:
        look += say("and-that-it-has", address=case.site.devices[host].address)
    case.caused(
        "service-stopped",
        "certain" if itself is not None else "likely",
        sure=look + ".",
        host=host,
        port=inside.port,
        name=name,
    )
    if itself is None:
        _loopback_only(case, "possible", look + ".")


def _loopback_only(case: Case, certainty: Certainty, look: Said | None = None) -> None:
    name = case.facts.service
    host = case.site.services[name].host
    case.caused("service-loopback", certainty, sure=look, name=name, host=host, address=case.site.devices[host].address)


def _one_transport(case: Case) -> None:
    """A service for both transports that answers by one of them, and refuses the other."""
    inside, name = case.facts.inside, case.facts.service
    assert inside is not None
    used = case.facts.answers_by
    case.step("service", "ok", say("inside-it-answers-by", used=used, transport=inside.transport, port=inside.port))
    case.caused(
        "transport-unused",
        "likely",
        name=name,
        used=used,
        transport=inside.transport,
        answers_by=case.facts.answers_by[0],
        host=case.site.services[name].host,
    )


def faulty(case: Case, fault: str, detail: Said, *, sure: bool = True) -> None:
    """The service runs, and something about what it says is wrong. sure: it is the service itself that says so."""
    name = case.facts.service
    speaks = case.site.services[name].speaks
    remedies = {
        "clear-text": (
            "https-needed",
            say("speaks-without-encryption-where", name=name, speaks=speaks),
            say("switch-https-or-tls"),
        ),
        "https-needed": ("https-needed", say("wants-https-at-its", name=name), say("write-speaks-https-in")),
        "port-lost": ("port-lost", say("sends-people-on-to", name=name, detail=detail), say("set-the-devices-own")),
        "inner-address": (
            "inner-address",
            say("sends-people-on-to-an", name=name, detail=detail),
            say("set-the-devices-own-address"),
        ),
        "https-lost": (
            "https-needed",
            say("sends-people-on-to-a", name=name, detail=detail),
            say("set-the-devices-base"),
        ),
    }
    usual = ("service-faulty", say("answers-with-a-fault", name=name, detail=detail), say("set-it-right-on"))
    if fault in codes("cause"):
        usual = (
            fault,
            say("of-a-service", name=name, what=general("cause", fault, "what")),
            general("cause", fault, "do"),
        )
    code, message, remedy = remedies.get(fault, usual)
    case.cause(code, "certain" if sure and code not in UNSURE else "likely", message, remedy)
