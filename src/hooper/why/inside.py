"""The inside of a service's chain: the device, and the service on it, as steps. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.addresses import parse_address
from hooper.certs.problems import CODES
from hooper.evidence.identity import IDENTITY
from hooper.why.case import THERE, Case
from hooper.why.looks import surely_own
from hooper.why.server_keys import other_server, tunnel_by
from hooper.why.six import six_alone
from hooper.words.catalogue import codes
from hooper.words.said import NOTHING, Said, general, say

HANDED = ("behind-unheard", "behind-cut-off", "behind-down", "handed-to-other", "name-refused")  # a web server's
UNSURE = ("address-taken", "identity-changed")  # a repeater, or a device that was set up anew, looks the same


def judge_host(case: Case) -> None:
    """The step of the device."""
    facts, key = case.facts, case.site.services[case.facts.service].host
    host, inside = case.site.devices[key], facts.inside
    told, apart = facts.host_at, facts.nobody_inside and facts.elsewhere is None
    if inside is not None and inside.verdict in (*THERE, "mismatched", "refused") and _not_taken(case, inside.verdict):
        known = say("by-the-mac-in") if host.mac and facts.mac_seen == host.mac else NOTHING
        case.step("host", "ok", say("answers", target_address=inside.target_address, known=known))
    elif told is not None and parse_address(told.value) != host.address:
        case.step("host", "broken", say("is-told-to-be", key=key, value=told.value, address=host.address))
    elif told is not None and apart and told.now(facts.line.now):
        case.step("host", "broken", say("is-told-to-be-at", key=key, value=told.value))
    elif facts.elsewhere is not None:
        case.step(
            "host", "broken", say("its-mac-answers-at", mac=host.mac, elsewhere=facts.elsewhere, address=host.address)
        )
    elif host.mac is not None and facts.mac_seen not in (None, host.mac):
        case.step(
            "host", "unknown", say("at-answers-the-mac", address=host.address, mac_seen=facts.mac_seen, mac=host.mac)
        )
    elif facts.nobody_inside:
        case.step("host", "broken", say("nobody-on-this-network", address=host.address))
    elif inside is None:
        case.step("host", "unknown", _unseen(case))
    elif facts.mac_seen is not None and not facts.doubtful:
        whose = say("the-mac-in-the") if facts.mac_seen == host.mac else say("a-device")
        case.step("host", "ok", say("is-at", whose=whose, address=host.address))
    else:
        case.step("host", "unknown", say("does-not-answer-and", address=host.address))


def _not_taken(case: Case, verdict: str) -> bool:
    """Whether nothing that was seen says that another device answers there."""
    facts, host = case.facts, case.site.devices[case.site.services[case.facts.service].host]
    told = facts.host_at is not None and parse_address(facts.host_at.value) != host.address
    other = host.mac is not None and facts.mac_seen not in (None, host.mac)
    return verdict in THERE or not (told or other or facts.elsewhere is not None)


def _unseen(case: Case) -> Said:
    return say("this-machine-is-not-there", over=say("over-ipv6") if six_alone(case) else NOTHING)


def judge_service(case: Case) -> None:
    """The step of the service, and what it says itself is wrong with it."""
    facts, name = case.facts, case.facts.service
    address, inside = case.site.devices[case.site.services[name].host].address, facts.inside
    if case.steps["host"].state == "broken":
        case.step("service", "unknown", say("the-device-was-not"))
    elif inside is None:
        case.step("service", "unknown", _unseen(case))
    elif inside.verdict in THERE:
        faults = [problem for problem in inside.problems if problem not in CODES]
        if inside.verdict == "connected" and not inside.ok and not faults:  # it takes connections, and says nothing
            faults = ["service-faulty"]
        case.step("service", "broken" if faults else "ok", say("inside", verdict=inside.verdict, detail=inside.detail))
        for fault in faults:
            faulty(case, fault, inside.detail, sure=surely_own(case, inside, fault))
    elif inside.verdict == "refused" and facts.answers_by:
        words = say("inside-it-answers-by", used=facts.answers_by, transport=inside.transport, port=inside.port)
        case.step("service", "ok", words)
    elif inside.verdict == "refused":
        case.step("service", "broken", say("inside-refuses-port", address=address, port=inside.port))
    elif inside.verdict in ("silent", "mismatched") and facts.tunnel is not None:
        case.step("service", "broken", say("inside", verdict=inside.verdict, detail=inside.detail))
    elif inside.verdict == "mismatched":
        case.step("service", "broken", say("inside-says", detail=inside.detail))
        if (key := tunnel_by(case.site, name)) is not None:
            other_server(case, key, inside.detail)
        strangers = [fault for fault in inside.problems if fault in IDENTITY]  # whose other faults are its own
        for fault in strangers or inside.problems:
            faulty(case, fault, inside.detail)
    else:
        case.step("service", "unknown", say("inside", verdict=inside.verdict, detail=inside.detail))


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
    if fault in HANDED:
        behind = case.site.services[name].hands_to or name
        do = say(f"handed.{fault}", why=deeds.WHY(behind), secure=deeds.SECURE(name))
        usual = (fault, say("of-a-service", name=name, what=detail), do)
    code, message, remedy = remedies.get(fault, usual)
    case.unsure |= set() if sure else {code}
    decide = None if sure else say("see-at-home", why=deeds.WHY(name), host=case.site.services[name].host)
    case.cause(code, "certain" if sure and code not in UNSURE else "likely", message, remedy, decide)
