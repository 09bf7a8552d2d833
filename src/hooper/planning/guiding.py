"""The whole order of the work as a conversation: from what is known to the one question or deed that comes next. Pure.

It goes by what is known, the site file and how everything stands, not by a remembered page: whoever leaves and comes
back is asked nothing that is known meanwhile. Of this run alone are the answers that stand in no file, and what was
done.
"""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address, ip_network
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import handing
from hooper.planning.guide_values import SKIP, Asking, Choice, Doing, Move, SoFar, given_as, listed, yes_or_no
from hooper.planning.guide_wishes import wishes
from hooper.planning.kept_back import kept_back
from hooper.planning.openers import not_driven
from hooper.planning.paths import gateway_of
from hooper.planning.server_lists import brought
from hooper.site.protocols import SPEECHES, TUNNELS
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from hooper.planning.steps_ahead import AheadStep
    from hooper.planning.values import Plan
    from hooper.site.model import Site

OPENED = 3  # times that the rules of one router are entered again in one run
LEASE = "2h"  # of a rule that is for a while


def comes_next(known: SoFar) -> Move | None:
    """The next question or deed; None: nothing is left that this run could do."""
    if known.site is None or known.plan is None:
        return next(_start(known), None)
    return next(_moves(known, known.site, known.plan), None)


def _start(known: SoFar) -> Iterator[Move]:
    yield from known.ask(Asking("title", say("guide.title"), say("guide.title.why"), "Home"))
    title = known.said("title")
    yield from known.once(Doing("new", deeds.START_FOUND + given_as(title=title), "act", say("guide.do.new")))


def _moves(known: SoFar, site: Site, plan: Plan) -> Iterator[Move]:
    """What each open step gives to ask or to do, in the order of the work."""
    for step in known.steps:
        if step.state != "open":
            continue
        if step.step in ("rule", "sheet"):
            yield from known.once(Doing("plan", deeds.PLAN, "look", say("guide.do.plan")))
        yield from _of_step(known, site, plan, step)
    yield from wishes(known, site)


def _of_step(known: SoFar, site: Site, plan: Plan, step: AheadStep) -> Iterator[Move]:
    match step.step:
        case "line":
            yield from _line(known, site, step)
        case "device":
            yield from _device(known)
        case "service":
            yield from _service(known, site)
        case "mistake":
            yield from _mistake(known, step)
        case "ready":
            yield from _ready(known, site, plan, step.subject)
        case "tunnel":
            yield from _tunnel(known, site, step.subject)
        case "peer":
            yield from _peer(known, site, step.subject)
        case "rule":
            yield from _rule(known, step)
        case "sheet":
            yield from _sheet(known, site, step.subject)
        case "entry":
            yield from _entry(known, site, step.subject)
        case "proof":
            yield from _proof(known, site, step.subject)
        case "name":
            yield from _name(known, site, step.subject.partition(" ")[0])
        case "certificate":
            yield from _certificate(known, step.subject)
        case "keeper":
            pass  # it is among the wishes in the end


# --- the line


def _line(known: SoFar, site: Site, step: AheadStep) -> Iterator[Move]:
    given = [(one.gateway, known.said(f"wan {one.gateway}")) for one in known.missing]
    told = [deeds.TOLD_WAN(gateway, value) for gateway, value in given if value is not None]
    survey = " ".join([deeds.SURVEY, *told])
    for gateway, address in known.before:
        if gateway in site.gateways and not site.gateways[gateway].behind:
            yield from _before(known, site, gateway, address)
    looked = f"{survey} of {', '.join(site.gateways)}"
    yield from known.once(Doing(looked, survey, "look", say("guide.do.survey")))
    for one in known.missing:
        text, where = say("guide.wan", gateway=one.gateway), say("guide.wan.where", where=one.where)
        why = say("guide.wan.why")
        yield from known.ask(Asking(f"wan {one.gateway}", text, why, told=(where,), reads="wan"))
    if step.command == deeds.LETTER:  # no rule of one's own can help on this line
        six = ("ipv6",) if any(gateway.prefix6 for gateway in site.gateways.values()) else ()
        choices = tuple(Choice(word, say(f"guide.way.{word}")) for word in ("letter", *six, "rented", "neither"))
        yield from known.ask(Asking("way", say("guide.way"), say("guide.way.why"), "letter", choices))
        if known.said("way") == "letter":
            letter = Doing("letter", deeds.LETTER, "look", say("guide.do.letter"))
            yield from known.once(letter)
        elif known.said("way") == "ipv6":
            yield from _over_six(known, site)
        elif known.said("way") == "rented" and site.hosts and not any(one.tunnel for one in site.gateways.values()):
            yield from _rented(known, site)


def _over_six(known: SoFar, site: Site) -> Iterator[Move]:
    """Where no IPv4 comes in: each public service by its device's own address, which no router translates."""
    for key, service in site.services.items():
        host = site.hosts.get(service.host)
        if service.reach != "public" or service.family == "ipv6" or host is None:
            continue
        if host.address6 is None:
            prefix = site.gateways[gateway_of(site, host)].prefix6
            asked = f"address6 {service.host}"
            begin = _begins(str(prefix)) if prefix is not None else ""
            told = (say("guide.address6.where", host=service.host, begin=begin),) if begin else ()
            text, why = say("guide.address6", host=service.host), say("guide.address6.why")
            yield from known.ask(Asking(asked, text, why, told=told, reads="address6"))
            said = known.said(asked)
            if said is not None:
                written = deeds.CHANGE_HOST(service.host) + given_as(address6=said)
                yield from known.once(Doing(asked, written, "edit", say("guide.do.address6", host=service.host)))
        else:
            over = deeds.CHANGE_SERVICE(key) + given_as(family="ipv6")
            yield from known.once(Doing(f"six {key}", over, "edit", say("guide.do.six", service=key)))


def _begins(prefix: str) -> str:
    """What all addresses of an IPv6 prefix begin with, as far as whole groups go."""
    network = ip_network(prefix)
    groups = network.network_address.exploded.split(":")[: network.prefixlen // 16]
    return "".join(f"{int(group, 16):x}:" for group in groups)


def _before(known: SoFar, site: Site, gateway: str, address: str) -> Iterator[Move]:
    """The router that stands before the outermost one of the file."""
    told = (say("guide.before.told", gateway=gateway, address=address),)
    choices = yes_or_no("guide.before.yes", "guide.before.no")
    asked = Asking(f"before {gateway}", say("guide.before"), say("guide.before.why"), "yes", choices, told=told)
    yield from known.ask(asked)
    if known.said(asked.key) != "yes":
        return
    lan, add, behind = written_before(site, gateway, address)
    if add:
        why = say("guide.before.lan.why", address=address)
        asked = Asking(f"before {gateway} lan", say("guide.before.lan"), why, lan)
        yield from known.ask(asked)
        if (said := known.said(asked.key)) is not None:
            title = say("guide.do.before", gateway=gateway)
            yield from known.once(Doing(f"add before {gateway}", add + given_as(lan=said), "edit", title))
    elif not site.gateways[gateway].behind:
        yield from known.once(Doing(f"behind {gateway}", behind, "edit", say("guide.do.behind", gateway=gateway)))


def written_before(site: Site, gateway: str, address: str) -> tuple[str, str, str]:
    """How a router before another one is written down: its LAN, if it has the first address of it, as most do; the deed
    that adds it, without that; empty: it is there; and the deed that says that the other is behind it.

    address: of the other one outside.
    """
    outer = IPv4Address(address)
    there = next((key for key, one in site.gateways.items() if key != gateway and outer in one.lan.network), None)
    names = ("outer-box", *(f"outer-box-{number}" for number in range(2, 9)))
    key = there or next(name for name in names if name not in site.gateways)
    lines = "".join(given_as(line=line) for line in site.gateways[gateway].line)
    add = deeds.ADD_GATEWAY(key) + lines + given_as(control="hand") + f" {deeds.GIVE('managed-by', 'provider')}"
    behind = deeds.CHANGE_GATEWAY(gateway) + given_as(behind=key, wan=address) + f" {deeds.LEAVE_OUT('line')}"
    return f"{IPv4Address(int(outer) & ~0xFF | 1)}/24", "" if there is not None else add, behind


def _rented(known: SoFar, site: Site) -> Iterator[Move]:
    yield from known.ask(Asking("rented", say("guide.rented"), say("guide.rented.why"), reads="address"))
    address = known.said("rented")
    if address is None:
        return
    hosts = tuple(map(Choice, site.hosts))
    yield from known.ask(Asking("rented host", say("guide.tunnel"), say("guide.tunnel.why"), choices=hosts))
    host = known.said("rented host")
    if host is not None:
        yield from known.once(Doing("rent", deeds.RENT(address, host), "edit", say("guide.do.rent")))


# --- what is here, and who reaches it


def _device(known: SoFar) -> Iterator[Move]:
    find = f"{deeds.FIND} {deeds.SWEEP}"
    yield from known.once(Doing("find", find, "look", say("guide.do.find")))
    choices = tuple(
        Choice(one.address, say("guide.device", name=one.name or "-", about=one.about)) for one in known.found
    )
    if choices:
        yield from known.ask(
            Asking("devices", say("guide.devices"), say("guide.devices.why"), choices=choices, several=True)
        )
    picked = known.said("devices")
    if picked is not None:
        yield from known.once(Doing("adopt", f"{find} {deeds.ADOPT(picked)}", "edit", say("guide.do.adopt")))
        return
    yield from known.ask(Asking("address", say("guide.address"), say("guide.address.why"), reads="address"))
    address = known.said("address")
    if address is not None:
        yield from known.ask(Asking("host", say("guide.host"), say("guide.host.why"), "camera", reads="key"))
        adding = deeds.ADD_HOST(known.said("host") or "camera") + given_as(address=address)
        yield from known.once(Doing("add a host", adding, "edit", say("guide.do.adopt")))


def _service(known: SoFar, site: Site) -> Iterator[Move]:
    """What is to be reached, by whom."""
    if not site.services:
        for host in site.hosts:
            yield from _offered(known, host)
        return
    choices = tuple(
        Choice(key, say("guide.service", host=one.host, speaks=one.speaks, port=one.used_ports.first))
        for key, one in site.services.items()
    )
    default = choices[0].word if len(choices) == 1 else ""
    text, why = say("guide.services"), say("guide.services.why")
    yield from known.ask(Asking("services", text, why, default, choices, several=True))
    for key in listed(known.said("services")):
        if key in site.services:
            yield from _reach(known, site, key)


def _offered(known: SoFar, host: str) -> Iterator[Move]:
    """What a device offers, of which nothing was recognised."""
    speaks = tuple(map(Choice, SPEECHES))
    asked = Asking(f"speaks {host}", say("guide.speaks", host=host), say("guide.speaks.why"), "https", speaks)
    yield from known.ask(asked)
    said = known.said(asked.key)
    if said is None:
        return
    usual = str(SPEECHES[said].port or "")
    where = Asking(f"port {host}", say("guide.port", host=host, speaks=said), say("guide.port.why"), usual)
    yield from known.ask(where)
    port = known.said(where.key)
    if port is not None:
        own = given_as(host=host, speaks=said, port=port if port != usual else None)
        adding = deeds.ADD_A_SERVICE(f"{host}-{said}") + own
        yield from known.once(Doing(f"service {host}", adding, "edit", say("guide.do.service")))


def advice(site: Site, key: str) -> tuple[str, Said]:
    """Who had better reach a service, and why."""
    speech = site.services[key].speech
    marks = {"desktop": speech.desktop, "sharing": speech.sharing, "lan-only": speech.lan_only}
    code = next((code for code, wrong in {**marks, "clear-text": speech.clear_text}.items() if wrong), None)
    if code is not None:
        return "tunnel", say(f"guide.advice.{code}", speaks=speech.key.upper())
    if speech.tunnel:
        return "public", say("guide.advice.tunnel-server")
    return "public", say("guide.advice.encrypted", speaks=speech.key.upper())


def _reach(known: SoFar, site: Site, key: str) -> Iterator[Move]:
    best, why = advice(site, key)
    choices = tuple(Choice(word, say(f"guide.who.{word}")) for word in ("public", "tunnel", "while", "nobody"))
    asked = Asking(f"who {key}", say("guide.who", service=key), say("guide.who.why"), best, choices, told=(why,))
    yield from known.ask(asked)
    said = known.said(asked.key)
    if said in ("public", "tunnel", "while") and site.services[key].reach == "lan":
        yield from _let(known, key, "tunnel" if said == "tunnel" else "public")


def _let(known: SoFar, service: str, reach: str) -> Iterator[Move]:
    deed = deeds.CHANGE_SERVICE(service) + given_as(reach=reach)
    yield from known.once(Doing(f"reach {service} {reach}", deed, "edit", say("guide.do.reach", service=service)))


# --- what stands against it


def _mistake(known: SoFar, step: AheadStep) -> Iterator[Move]:
    choices = (Choice("again", say("guide.again.means")), Choice(SKIP, say("guide.skip.means")))
    text, why = say("guide.mistake"), say("guide.mistake.why")
    yield from known.ask(Asking(f"mistake {step.subject}", text, why, "again", choices, told=(step.why,)))


def _ready(known: SoFar, site: Site, plan: Plan, service: str) -> Iterator[Move]:
    """What keeps a service back: the one question that blocks, with the risk named."""
    for finding in kept_back(site, plan).get(service, []):
        if finding.code == "default-password":
            yield from _password(known, site, service)
        else:
            yield from _risk(known, service, finding.code, finding.message)


def _password(known: SoFar, site: Site, service: str) -> Iterator[Move]:
    host = site.services[service].host
    secure = any(one.speaks == "https" for one in site.services.values() if one.host == host)
    page = f"{'https' if secure else 'http'}://{site.devices[host].address}/"
    choices = (Choice("yes", say("guide.password.yes")), Choice("no", say("guide.password.no", page=page)))
    asked = Asking(f"password {host}", say("guide.password", host=host), say("guide.password.why"), "", choices,
                   told=(say("guide.password.risk", service=service),))  # fmt: skip
    yield from known.ask(asked)
    if known.said(asked.key) == "yes":
        tick = deeds.TICK(host, "default_password_changed")
        yield from known.once(Doing(f"tick {host}", tick, "edit", say("guide.do.tick", host=host)))


def _risk(known: SoFar, service: str, code: str, message: Said) -> Iterator[Move]:
    choices = tuple(Choice(word, say(f"guide.risk.{word}")) for word in ("tunnel", "accept", "leave"))
    text, why = say("guide.risk", service=service), say("guide.risk.why")
    asked = Asking(f"risk {service} {code}", text, why, "tunnel", choices, told=(message,))
    yield from known.ask(asked)
    if known.said(asked.key) == "tunnel":
        yield from _let(known, service, "tunnel")
    elif known.said(asked.key) == "accept":
        reason = Asking(f"reason {service} {code}", say("guide.reason"), say("guide.reason.why"))
        yield from known.ask(reason)
        why_so = known.said(reason.key)
        if why_so is not None:
            taken = deeds.TAKE_RISK(service, code) + given_as(reason=why_so)
            yield from known.once(Doing(f"accept {service} {code}", taken, "edit", say("guide.do.accept")))


# --- tunnels


def _tunnel(known: SoFar, site: Site, subject: str) -> Iterator[Move]:
    if subject == "site":
        hosts, host = tuple(map(Choice, site.hosts)), next(iter(site.hosts), None)
        if len(hosts) != 1:  # else there is nothing to choose
            yield from known.ask(Asking("tunnel host", say("guide.tunnel"), say("guide.tunnel.why"), choices=hosts))
            host = known.said("tunnel host")
        if host is not None:
            yield from known.once(Doing("tunnel", deeds.ADD_FIRST_TUNNEL(host), "edit", say("guide.do.tunnel")))
        return
    peers = sorted(key for key, one in site.peers.items() if one.tunnel == subject and one.revoked is None)
    if not peers:
        return  # its first device comes with its first files
    name = f"make {subject} {','.join(peers)}"
    again = any(done.startswith(f"make {subject} ") for done in known.done)
    make = deeds.MAKE_TUNNEL(subject) + (f" {deeds.FORCE}" if again else "")
    yield from known.once(Doing(name, make, "act", say("guide.do.make", tunnel=subject)))


def _peer(known: SoFar, site: Site, subject: str) -> Iterator[Move]:
    if not subject.startswith("of "):
        hand = handing(site, subject)
        yield from known.once(Doing(f"hand {subject}", hand, "act", say("guide.do.hand", peer=subject)))
        if known.done.get(f"hand {subject}"):  # the code does not fit this window
            page = deeds.HAND(subject) + given_as(out=f"{subject}.html")
            yield from known.once(Doing(f"page {subject}", page, "act", say("guide.do.page", peer=subject)))
        return
    tunnel = subject.removeprefix("of ")
    asked = Asking(f"peer {tunnel}", say("guide.peer"), say("guide.peer.why"), "phone", reads="key")
    yield from known.ask(asked)
    name = known.said(asked.key)
    if name is not None:
        adding = deeds.ADD_PEER(name) + given_as(tunnel=tunnel)
        yield from known.once(Doing(f"add {name}", adding, "edit", say("guide.do.peer", peer=name)))


# --- rules and their proof


def _rule(known: SoFar, step: AheadStep) -> Iterator[Move]:
    gateway, again = step.subject, 0
    choices = yes_or_no("guide.open.yes", "guide.open.no")
    asked = Asking(f"open {gateway}", say("guide.open", gateway=gateway), say("guide.open.why"), "yes", choices)
    while known.done.get(asked.key) == 0 and again < OPENED:  # they were entered, and are not there any more
        again += 1
        text = say("guide.open.again", gateway=gateway)
        asked = Asking(f"open {gateway} {again}", text, say("guide.open.why"), "yes", choices)
    yield from known.ask(asked)
    if known.said(asked.key) == "yes":
        brief = any(word == "while" for key, word in known.answers.items() if key.startswith("who "))
        opening = deeds.OPEN_ON(gateway) + (f" {deeds.LASTING(LEASE)}" if brief else "")
        yield from known.once(Doing(asked.key, opening, "act", say("guide.do.open", gateway=gateway)))


def _sheet(known: SoFar, site: Site, gateway: str) -> Iterator[Move]:
    sheet = deeds.SHEET(gateway) + ("" if not_driven(site, gateway) is not None else f" {deeds.THE_REST}")
    yield from known.once(Doing(f"sheet {gateway}", sheet, "look", say("guide.do.sheet", gateway=gateway)))
    choices = (Choice("typed", say("guide.typed.yes")), Choice("later", say("guide.typed.later")))
    text, why = say("guide.typed", gateway=gateway), say("guide.typed.why")
    yield from known.ask(Asking(f"typed {gateway}", text, why, "typed", choices))
    if known.said(f"typed {gateway}") == "typed":
        ticked = deeds.TICKED(gateway)
        yield from known.once(Doing(f"ticked {gateway}", ticked, "act", say("guide.do.ticked", gateway=gateway)))


def _entry(known: SoFar, site: Site, peer: str) -> Iterator[Move]:
    """A tunnel proven by the device that comes in by it, as its server tells; asked for a few times."""
    key, count = site.peers[peer].tunnel, 1
    tunnel = site.tunnels[key]
    while f"came {peer} {count}" in known.done:
        count += 1
    asked = f"entry {peer}" if count == 1 else f"entry {peer} {count}"
    host = site.services[tunnel.service].host
    told = [say("guide.entry.told", host=host, peer=peer, file=f"{key}.conf")]
    if count > 1:
        told = [say("guide.entry.unseen", peer=peer)]
    if tunnel.seen_by:
        choices = (Choice("on", say("guide.entry.on")), Choice("later", say("guide.entry.later")))
        text, why = say("guide.entry", peer=peer), say("guide.entry.why")
        yield from known.ask(Asking(asked, text, why, "on", choices, told=tuple(told)))
    else:
        told.append(say("guide.entry.then") + brought(site, key) + ".")
        text, why = say("guide.entry.file", host=host), say("guide.entry.why")
        yield from known.ask(Asking(asked, text, why, told=tuple(told)))
    said = known.said(asked)
    if said not in (None, "later") and count <= OPENED:
        look = deeds.SEEN(key) if tunnel.seen_by else deeds.SEEN_IN(key, said)
        yield from known.once(Doing(f"came {peer} {count}", look, "look", say("guide.do.entry", peer=peer)))


def _proof(known: SoFar, site: Site, service: str) -> Iterator[Move]:
    """A look from outside; where it fails, the first broken link, and another look once a person has mended it."""
    keyed = any(tunnel.service == service for tunnel in site.tunnels.values())
    if site.services[service].speaks in TUNNELS and not keyed:
        return  # no probe could tell without a key
    browser = () if site.services[service].used_transport == "udp" else ("phone",)  # no browser speaks by UDP
    ways = (*(("cable",) if known.outside else ()), "hotspot", *browser, "later")
    choices = tuple(Choice(word, say(f"guide.proof.{word}")) for word in ways)
    asked = "proof" if known.said("proof") in (None, *ways) else f"proof {service}"  # not by what does for the others
    yield from known.ask(Asking(asked, say("guide.proof"), say("guide.proof.why"), ways[0], choices))
    how, count = known.said(asked), 1
    if how not in ("cable", "hotspot", "phone"):
        return
    while known.said(f"again {service} {count}") == "again":
        count += 1
    looks = {"cable": deeds.LOOK_FROM_PHONE, "hotspot": deeds.LOOK_BY_HOTSPOT, "phone": deeds.LOOK_BY_ARRIVAL}
    look = looks[how](service)
    name = f"look {service} {count}"
    yield from known.once(Doing(name, look, "look", say("guide.do.look", service=service)))
    if known.done.get(name):
        if how == "cable":
            why = f"{deeds.WHY(service)} {deeds.FROM_PHONE} {deeds.WITH_QUESTIONS}"
            yield from known.once(Doing(f"why {service} {count}", why, "look", say("guide.do.why", service=service)))
        again = (Choice("again", say("guide.again.means")), Choice(SKIP, say("guide.skip.means")))
        text = say("guide.again", service=service)
        yield from known.ask(Asking(f"again {service} {count}", text, say("guide.again.why"), "again", again))
    elif how == "phone":
        yield from _saw(known, service)


def _saw(known: SoFar, service: str) -> Iterator[Move]:
    """What a person sees of it where only a phone's browser was outside."""
    yield from known.once(Doing(f"card of {service}", deeds.CARD(service), "look", say("guide.do.card")))
    choices = tuple(Choice(word, say(f"guide.saw.{word}")) for word in ("page", "warning", "other", "nothing"))
    asked = Asking(f"saw {service}", say("guide.saw"), say("guide.saw.why"), "", choices)
    yield from known.ask(asked)
    if (said := known.said(asked.key)) is not None:
        told = deeds.TELL_SEEN(service, str(say(f"guide.saw.how.{said}")))
        yield from known.once(Doing(asked.key, told, "act", say("guide.do.saw")))


def _name(known: SoFar, site: Site, name: str) -> Iterator[Move]:
    leading = deeds.PUBLISH(name) if site.names[name].updated_by in site.updaters else deeds.NAMES
    yield from known.once(Doing(f"lead {name}", leading, "act", say("guide.do.name", name=name)))


def _certificate(known: SoFar, key: str) -> Iterator[Move]:
    choices = yes_or_no("guide.order.yes", "guide.skip.means")
    asked = Asking(f"order {key}", say("guide.order", certificate=key), say("guide.order.why"), "yes", choices)
    if known.said("agreed") != "yes":  # else it was wished for just now
        yield from known.ask(asked)
    if known.said(asked.key) == "yes" or known.said("agreed") == "yes":
        yield from known.once(Doing(asked.key, deeds.ORDER(key), "act", say("guide.do.order", certificate=key)))
