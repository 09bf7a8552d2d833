"""What a condition can be about: one table of its kinds. Pure.

What has gone from the site file stands no more, whichever command took it out: `standing` is what all who show how
things are go by, and the keeper lets go of the rest.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Literal, NamedTuple

from hooper import deeds
from hooper.places import HERE, Place
from hooper.planning.openers import driven_gateways
from hooper.site.model import Site
from hooper.store.kept import Condition, Level, Stood
from hooper.words.said import NOTHING, Said, say

if TYPE_CHECKING:
    from hooper.evidence.observations import LastChange
    from hooper.store.kept import Subject


class ConditionKind(NamedTuple):
    """One kind. table: of the site file, in which its subjects stand. task: of the keeper, that looks at it. there:
    whether it can still be, by the site file. need: what a person does about it. watched: it can be out of order for a
    time. What proves it stands in the words, as proof.KIND or proof.KIND.VARIANT.
    """

    table: str
    task: str
    there: Callable[[Site, Condition], bool]
    need: Callable[[Condition], Said]
    watched: bool = False
    variant: Callable[[Condition], str] = lambda one: ""


def _service_there(site: Site, one: Condition) -> bool:
    """Where nobody in the file looks from any more, its looks go too: a keeper would never renew them."""
    return one.subject in site.services


def _named(site: Site, one: Condition) -> bool:
    return one.subject in site.names and one.aspect in site.names[one.subject].types


def _certificate_there(site: Site, one: Condition) -> bool:
    entry = site.certificates.get(one.subject)
    shown_by = one.aspect.removeprefix(AT)
    return entry is not None and (not one.aspect.startswith(AT) or shown_by in entry.services)


def _rule_there(site: Site, one: Condition) -> bool:
    return one.subject in site.services and one.aspect in driven_gateways(site)


def _risk_there(site: Site, one: Condition) -> bool:
    table, _, key = one.subject.partition(".")
    service = site.services.get(key) if table == "services" else None
    return service is not None and any(risk.finding == one.aspect for risk in service.accepted)


def _peer_there(site: Site, one: Condition) -> bool:
    return one.subject in site.peers or one.aspect == "out"  # a removed peer may still be let in


def _why(one: Condition) -> Said:
    place = Place.read(one.aspect)
    if place.kind == "here" or place.option is None:
        need = say("need.service", why=deeds.WHY(one.subject))
        return need + " " + place.way_back if place.way_back else need
    return say("need.service.from", why=deeds.WHY(one.subject), option=place.option)


def _certificate_need(one: Condition) -> Said:
    if one.aspect.startswith(AT):
        return say("need.certificate.shown")
    return say("need.order", deed=deeds.ORDER)


def _peer_need(one: Condition) -> Said:
    if one.aspect == "way":
        return say("need.meeting", deed=deeds.MEET(one.subject))
    if one.aspect == "out":
        return say("need.peer.out", shut_out=deeds.SHUT_OUT(one.subject))
    return say("need.see", deed=deeds.PEERS)


PUT_BACK = "put-back"  # how the state of a certificate begins that a device did not take
OWN_CLOCK = "this computer"  # as the subject of a clock
AT = "service:"  # the aspect of a certificate that a service shows
KINDS: dict[Subject, ConditionKind] = {
    "service": ConditionKind("services", "check", _service_there, _why, True,
                             lambda one: "here" if one.aspect == str(HERE) else "outside"),
    "name": ConditionKind("names", "names", _named,
                          lambda one: say("need.publish", deed=deeds.PUBLISH(one.subject)), True),
    "certificate": ConditionKind("certificates", "certificates", _certificate_there, _certificate_need, True,
                                 lambda one: "shown" if one.aspect.startswith(AT) else ""),
    "rule": ConditionKind("services", "rules", _rule_there,
                          lambda one: say("need.enter", deed=deeds.OPEN(one.subject)), True,
                          lambda one: "by-hand" if one.state == "by-hand" else ""),
    "router": ConditionKind("gateways", "rules", lambda site, one: one.subject in driven_gateways(site),
                            lambda one: say("need.router"), True),
    "address": ConditionKind("lines", "names", lambda site, one: one.subject in site.lines, lambda one: NOTHING),
    "line": ConditionKind("lines", "line", lambda site, one: one.subject in site.lines,
                          lambda one: say("need.line"), True),
    "risk": ConditionKind("services", "risks", _risk_there, lambda one: say("need.risk")),
    "clock": ConditionKind("hosts", "clock",
                           lambda site, one: one.subject in site.devices or one.subject == OWN_CLOCK,
                           lambda one: say("need.clock"),
                           variant=lambda one: "own" if one.subject == OWN_CLOCK else ""),
    "authority": ConditionKind("authorities", "certificates", lambda site, one: one.subject in site.authorities,
                               lambda one: say("need.root", make=deeds.MAKE_AUTHORITY(one.subject)), True),
    "tunnel": ConditionKind("tunnels", "tunnels", lambda site, one: one.subject in site.tunnels,
                            lambda one: say("need.see", deed=deeds.TUNNELS)),
    "peer": ConditionKind("peers", "tunnels", _peer_there, _peer_need, False,
                          lambda one: "way" if one.aspect == "way" else "server" if one.aspect else ""),
    "witness": ConditionKind("witnesses", "witness", lambda site, one: one.subject in site.witnesses,
                             lambda one: say("need.witness", deed=deeds.LIST_WITNESSES), True),
    "meeting": ConditionKind("meetings", "meetings", lambda site, one: one.subject in site.meetings,
                             lambda one: say("need.meeting", deed=deeds.MEET(one.subject)), True),
    "keeper": ConditionKind("", "", lambda site, one: True, lambda one: say("need.keeper")),
}  # fmt: skip


OUTDATED = "outdated"


def standing(site: Site, stood: Iterable[Stood], changes: Mapping[str, LastChange] = {}) -> Iterator[Stood]:
    """What of it the site file still has, by what still counts. changes: by service."""
    for one in stood:
        what = one.condition
        if not KINDS[what.kind].there(site, what):
            continue
        change = changes.get(what.subject) if what.kind == "service" else None
        if change is not None and change.outdates(one.at, what.basis):
            words = say("seen-before-a-change", state=what.state)
            one = one._replace(condition=what._replace(state=OUTDATED, level="unknown", detail=words, cause=None))
        yield one


FADES, GONE = timedelta(hours=1), timedelta(days=7)  # the age at which a proof fades, and that at which it is none
ORDER: tuple[Level, ...] = ("wrong", "unknown", "fact", "well")


def freshness_of(one: Stood, now: datetime) -> Literal["fresh", "fading", "old"]:
    """Of the look at it."""
    age = now - one.at
    return "fresh" if age < FADES else "fading" if age < GONE else "old"


def level_of(one: Stood, now: datetime) -> Level:
    """How it stands: what was well so long ago is not known any more."""
    known = one.condition.level
    return "unknown" if known == "well" and freshness_of(one, now) == "old" else known


class Judgement(NamedTuple):
    """What all that still counts of a service comes to. state: in a word. because: the look that counts; None: nobody
    has looked. proof: of what kind that was, and from where. would_decide: what tells more; empty: nothing is open.
    """

    state: str
    level: Level
    because: Stood | None
    proof: Said
    would_decide: Said


def of_service(site: Site, key: str, stood: Sequence[Stood], now: datetime) -> Judgement:
    """What counts of a service among the places that it was looked at from, and how it stands by that.

    The places of the site file count, else any outside, else what was seen from inside, which proves nothing to those
    outside. What could not be told from one place takes nothing from what was told from another, and what is long ago
    nothing from what was seen since. stood: of this service.
    """
    outward = site.services[key].reach == "public"
    look = say("would-decide.look", deed=deeds.LOOK_FROM_PHONE if outward else deeds.LOOK_FROM_HERE)
    if not stood:
        return Judgement("not-looked-at", "unknown", None, say("proof.never"), look)
    places = {id(one): Place.read(one.condition.aspect) for one in stood}
    kept = [place for place in site.keep.places if place.kind != "here"]
    outside = [one for one in stood if places[id(one)].kind != "here"]
    counting = [one for one in outside if any(meant_by(places[id(one)], place) for place in kept)]
    newest = max((one.at for one in counting), default=None)
    counting += [one for one in outside if newest is None or one.at > newest]  # those are none of the file's
    among = counting or stood
    told = [one for one in among if one.condition.level != "unknown"] or among
    latest = max(one.at for one in told)
    lately = [one for one in told if latest - one.at < GONE]
    chosen = min(lately, key=lambda one: (ORDER.index(one.condition.level), -one.at.timestamp()))
    level = level_of(chosen, now)
    if site.services[key].reach == "tunnel" and level == "well":  # that it is shut outside is half of it
        by_tunnel = [one for one in lately if one.condition.state == "answers" and places[id(one)].kind != "here"]
        chosen = max(by_tunnel, key=lambda one: one.at, default=chosen)
        level = level_of(chosen, now) if by_tunnel else "unknown"
    if not counting and outward and level == "well":
        level = "unknown"
    decides = NOTHING if level == "well" else _why(chosen.condition) if level == "wrong" else look
    return Judgement(chosen.condition.state, level, chosen, proof_of(chosen.condition), decides)


def of_services(site: Site, stood: Iterable[Stood], now: datetime) -> dict[str, Judgement]:
    """How all services stand."""
    looks: dict[str, list[Stood]] = {key: [] for key in site.services}
    for one in stood:
        if one.condition.kind == "service":
            looks[one.condition.subject].append(one)
    return {key: of_service(site, key, mine, now) for key, mine in looks.items()}


def meant_by(place: Place, wanted: Place) -> bool:
    """Whether a place is the one that is wanted; a kind without a name means whichever there is of it."""
    return place.kind == wanted.kind and wanted.name in ("", place.name)


def proof_of(one: Condition) -> Said:
    """Of what kind it was, and from where."""
    if one.level == "unknown":
        return say("proof.none")
    code, variant = f"proof.{one.kind}", KINDS[one.kind].variant(one)
    code = f"{code}.{variant}" if variant else code
    if one.aspect == "way" and one.level == "well":
        return one.detail  # the delay and the loss of both ways
    if code == "proof.service.outside":
        return say(code, place=Place.read(one.aspect).shown)
    return say(code)


def aspect_words(kind: str, aspect: str) -> str:
    """The side of a thing, as people read it."""
    if kind == "service":
        return Place.read(aspect).shown if aspect else ""
    if aspect == "way":
        return str(say("its-way"))
    return (
        str(say("at-service", service=aspect.removeprefix(AT)))
        if kind == "certificate" and aspect.startswith(AT)
        else aspect
    )
