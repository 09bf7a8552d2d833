"""The inside of a service's chain: the device, and the service on it. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.addresses import parse_address
from hooper.certs.problems import CODES
from hooper.sourced import Sourced
from hooper.why.case import THERE, Case, Certainty
from hooper.why.server_keys import other_server, server_keys, tunnel_by
from hooper.why.six import six_alone
from hooper.words.catalogue import codes, meaning


def judge_host(case: Case) -> None:
    facts, service = case.facts, case.site.services[case.facts.service]
    host = case.site.devices[service.host]
    answers = facts.inside is not None and facts.inside.verdict in THERE  # then it is there, whatever was told once
    if facts.host_at is not None and not answers and _told_elsewhere(case, facts.host_at):
        return
    if facts.elsewhere is None and _kept_apart(case, answers=answers):
        return
    if facts.elsewhere is not None and not answers:
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
        case.step("host", "unknown", _unseen(case))
    elif facts.inside.verdict in (*THERE, "mismatched", "refused"):
        known = ", by the MAC in the plan" if host.mac and facts.mac_seen == host.mac else ""
        case.step("host", "ok", f"{facts.inside.target_address} answers{known}")
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


def _unseen(case: Case) -> str:
    return f"this machine is not on the device's network{' over IPv6' if six_alone(case) else ''}"


def _told_elsewhere(case: Case, told: Sourced[str]) -> bool:
    """Whether the device was told to have another address than the plan says: moved, or on another network."""
    key = case.site.services[case.facts.service].host
    host, at = case.site.devices[key], parse_address(told.value)
    if at == host.address:
        return False
    certainty: Certainty = "certain" if told.now(case.facts.line.now) else "likely"
    case.step("host", "broken", f"{key} is told to be at {told.value}, the plan says {host.address}")
    own = case.topology.gateway(key)
    lan = next((gateway for gateway, one in case.site.gateways.items() if at in one.lan.network), None)
    if lan is not None:
        _moved(case, told.value if lan == own else f"{told.value}, on the LAN of {lan}", certainty)
    else:
        _isolated(case, certainty, f"{key} has {told.value}, which is not of its router's network: a guest Wi-Fi's")
    return True


def _kept_apart(case: Case, *, answers: bool) -> bool:
    """Whether the device was told just now to be where the plan says, while nobody there answers this machine."""
    told, facts = case.facts.host_at, case.facts
    if told is None or answers or not facts.nobody_inside or not told.now(facts.line.now):
        return False
    key = case.site.services[facts.service].host
    case.step("host", "broken", f"{key} is told to be at {told.value}, and does not answer this machine there")
    _isolated(case, "likely", f"{key} or this machine is kept apart from the others, as a guest Wi-Fi does it")
    return True


def _isolated(case: Case, certainty: Certainty, message: str) -> None:
    key = case.site.services[case.facts.service].host
    case.cause(
        "host-isolated",
        certainty,
        message,
        f"Bring {key} into the main network (its cable, or the main Wi-Fi), and give it"
        f" {case.site.devices[key].address} again.",
        f"Look to which Wi-Fi {key} is joined, and which address it shows: give that with {deeds.HOST_ADDRESS}.",
    )


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
    _isolated(case, "possible", f"{name} is on another network of the house, such as the guest Wi-Fi")


def judge_service(case: Case) -> None:
    facts, name = case.facts, case.facts.service
    service = case.site.services[name]
    host = case.site.devices[service.host]
    inside = facts.inside
    if case.steps["host"].state == "broken":
        case.step("service", "unknown", "the device was not found")
    elif inside is None:
        case.step("service", "unknown", _unseen(case))
    elif inside.verdict in THERE:
        faults = [problem for problem in inside.problems if problem not in CODES]
        case.step("service", "broken" if faults else "ok", f"inside: {inside.verdict}, {inside.detail}")
        for fault in faults:
            faulty(case, fault, inside.detail)
    elif inside.verdict == "refused" and facts.answers_by:
        _one_transport(case)
    elif inside.verdict == "refused":
        case.step("service", "broken", f"inside: {host.address} refuses port {inside.port}")
        same = host.mac is not None and facts.mac_seen == host.mac
        told = facts.host_at is not None and facts.host_at.now(facts.line.now)
        sure = same or told or facts.at_loopback is not None
        _stopped(case, sure=sure)
        if not sure:
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
            faulty(case, fault, inside.detail)
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


def _stopped(case: Case, *, sure: bool) -> None:
    """The device refuses: no program is there for others. sure: it is the device that the plan means."""
    inside, name = case.facts.inside, case.facts.service
    assert inside is not None
    host = case.site.services[name].host
    itself = case.facts.at_loopback
    if itself in THERE:
        _loopback_only(case, "certain")
        return
    look = f"Look on {host} itself whether {name} answers there, at localhost port {inside.port}"
    if not sure:
        look += f", and that it has {case.site.devices[host].address}: give the address with {deeds.HOST_ADDRESS}"
    case.cause(
        "service-stopped",
        "certain" if itself is not None else "likely",
        f"{host} refuses port {inside.port}: {name} does not run there, or its firewall refuses it",
        f"Start it on {host}, or correct its port; else let it in in the firewall of {host}.",
        f"{look}.",
    )
    if itself is None:
        _loopback_only(case, "possible", f"{look}.")


def _loopback_only(case: Case, certainty: Certainty, look: str | None = None) -> None:
    name = case.facts.service
    host = case.site.services[name].host
    case.cause(
        "service-loopback",
        certainty,
        f"{name} listens on {host} for {host} itself alone (localhost), and not for the network",
        f"Let it listen at {case.site.devices[host].address}, or at all addresses (0.0.0.0), in its settings.",
        look,
    )


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


def faulty(case: Case, fault: str, detail: str) -> None:
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
    if fault in codes("cause"):
        known = meaning("cause", fault)
        usual = (fault, f"{name}: {known.what}", known.do)
    code, message, remedy = remedies.get(fault, usual)
    case.cause(code, "certain", message, remedy)
