"""Whether all that is needed away from home lasts until the return: what runs out, what nobody renews. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING, Literal, NamedTuple

from hooper import deeds
from hooper.clock import Awake, shown_duration
from hooper.planning.access import handing
from hooper.planning.guide_values import given_as
from hooper.planning.server_lists import TELLING, brought, look_at_list
from hooper.site.protocols import TUNNELS
from hooper.words.said import Said, say, together

if TYPE_CHECKING:
    from hooper.site.model import Site

MARGIN = timedelta(days=2)  # a journey may take longer
SLEPT_S, DAY_S = 60.0, 86_400.0  # seconds: it sleeps; it has been up long enough to tell
Lasts = Literal["ok", "wrong", "open"]
Kind = Literal["proof", "certificate", "peer", "rule", "risk", "name", "keeper", "device", "people"]


@dataclass(frozen=True, slots=True)
class DrillRow:
    """One thing that has to be so until the return.

    kind: of what. subject: which. state: ok; wrong: it would fail before; open: nobody knows. detail: in words.
    command: what does it; empty: nothing is left.
    """

    kind: Kind
    subject: str
    state: Lasts
    detail: Said
    command: str = ""


class ProvenOutside(NamedTuple):
    """The newest look at a service from outside. level: as a judgement has it. at: None: there was none."""

    level: str
    at: datetime | None


class RuleEnds(NamedTuple):
    """A rule that a program has entered. until: None: it does not end by itself."""

    service: str
    gateway: str
    until: datetime | None


@dataclass(frozen=True)
class Provisions:
    """What is known on the day of the drill.

    proofs: of each service that is to be reached. certificates: their ends; None: there is none. rules: that programs
    entered. keeper: one runs. peers: how each stands, by level. came: when each last came in from outside with the file
    that it has. told: who is at home, another way in, until when accounts last. awake: of this computer, where its
    keeper runs; None: it does not tell.
    """

    now: datetime
    proofs: Mapping[str, ProvenOutside] = field(default_factory=dict)
    certificates: Mapping[str, datetime | None] = field(default_factory=dict)
    rules: tuple[RuleEnds, ...] = ()
    keeper: bool = False
    peers: Mapping[str, str] = field(default_factory=dict)
    came: Mapping[str, datetime] = field(default_factory=dict)
    told: Mapping[str, str] = field(default_factory=dict)
    awake: Awake | None = None


def needed(site: Site) -> list[str]:
    """The services that are to be reached away from home."""
    return [key for key, one in site.services.items() if one.reach == "public"]


def lasting(site: Site, until: date, have: Provisions) -> tuple[DrillRow, ...]:
    """All of it, in the order of the work. until: the day of the return."""
    end = until + MARGIN
    rows = [*_proofs(site, have), *_certificates(site, end, have), *_peers(site, end, have), *_rules(end, have),
            *_risks(site, end), *_names(site, until, have)]  # fmt: skip
    return (*rows, *_keeper(site, until, have), *_devices(site), *_people(site, until, have))


def may_go(rows: tuple[DrillRow, ...]) -> bool:
    """Nothing is known to fail, and what is needed was proven from outside on the day itself."""
    proven = any(row.kind == "proof" and row.state == "ok" for row in rows)
    return proven and not any(row.state == "wrong" for row in rows)


def _proofs(site: Site, have: Provisions) -> Iterator[DrillRow]:
    for key in needed(site):
        seen = have.proofs.get(key, ProvenOutside("unknown", None))
        again = deeds.LOOK_FROM_PHONE(key)
        if seen.at is None:
            yield DrillRow("proof", key, "wrong", say("drill.proof.never"), again)
        elif seen.level == "wrong":
            yield DrillRow("proof", key, "wrong", say("drill.proof.fails"), f"{deeds.WHY(key)} {deeds.FROM_PHONE}")
        elif seen.level != "well" and site.services[key].speaks in TUNNELS:
            yield DrillRow("proof", key, "open", say("drill.proof.mute"), deeds.ADD_TUNNEL_TO(key))
        elif seen.level != "well":
            yield DrillRow("proof", key, "wrong", say("drill.proof.unknown"), again)
        elif seen.at.date() != have.now.date():
            yield DrillRow("proof", key, "wrong", say("drill.proof.old", day=seen.at.date()), again)
        else:
            yield DrillRow("proof", key, "ok", say("drill.proof.today"))


def _certificates(site: Site, end: date, have: Provisions) -> Iterator[DrillRow]:
    for key, entry in site.certificates.items():
        ends = have.certificates.get(key)
        order = deeds.ORDER_ANEW if entry.authority != "device" else deeds.CERTIFICATES
        if ends is None:
            state: Lasts = "open" if entry.authority == "device" else "wrong"
            yield DrillRow("certificate", key, state, say("drill.certificate.none"), deeds.ORDER(key))
        elif ends.date() >= end:
            yield DrillRow("certificate", key, "ok", say("drill.until", day=ends.date()))
        elif have.keeper and entry.authority != "device" and (entry.give_to or entry.give_command):
            yield DrillRow("certificate", key, "ok", say("drill.certificate.renewed", day=ends.date()))
        else:
            yield DrillRow("certificate", key, "wrong", say("drill.ends", day=ends.date()), order)


def _peers(site: Site, end: date, have: Provisions) -> Iterator[DrillRow]:
    for key, peer in site.peers.items():
        if peer.revoked is not None:
            continue
        if peer.until is not None and peer.until < end:
            extend = deeds.CHANGE_PEER(key) + given_as(until=str(end))
            yield DrillRow("peer", key, "wrong", say("drill.ends", day=peer.until), extend)
        elif have.peers.get(key) != "well":
            yield DrillRow("peer", key, "wrong", say("drill.peer.no-file"), handing(site, key))
        elif site.tunnels[peer.tunnel].kind not in TELLING:
            yield DrillRow("peer", key, "open", say("drill.peer.untold"), deeds.PROVE(key))
        elif key not in have.came or have.came[key].date() != have.now.date():
            day = have.came[key].date() if key in have.came else None
            said = say("drill.peer.old", day=day) if day is not None else say("drill.peer.never")
            state: Lasts = "open" if day is not None else "wrong"
            look = look_at_list(site, peer.tunnel)
            yield DrillRow("peer", key, state, together((said, brought(site, peer.tunnel))), look)
        else:
            yield DrillRow("peer", key, "ok", say("drill.peer.today"))


def _rules(end: date, have: Provisions) -> Iterator[DrillRow]:
    for rule in have.rules:
        name = f"{rule.service} on {rule.gateway}"
        if rule.until is None:
            yield DrillRow("rule", name, "ok", say("drill.rule.permanent"))
        elif rule.until.date() >= end:
            yield DrillRow("rule", name, "ok", say("drill.until", day=rule.until.date()))
        elif have.keeper:
            yield DrillRow("rule", name, "ok", say("drill.rule.renewed", day=rule.until.date()))
        else:
            yield DrillRow("rule", name, "wrong", say("drill.ends", day=rule.until.date()), deeds.KEEP)


def _risks(site: Site, end: date) -> Iterator[DrillRow]:
    for key, service in site.services.items():
        for risk in service.accepted:
            name = f"{key} {risk.finding}"
            if risk.until < end:
                again = deeds.TAKE_RISK(key, risk.finding) + given_as(reason=risk.reason, until=str(end))
                yield DrillRow("risk", name, "wrong", say("drill.risk.ends", day=risk.until), again)
            else:
                yield DrillRow("risk", name, "ok", say("drill.until", day=risk.until))


def _names(site: Site, until: date, have: Provisions) -> Iterator[DrillRow]:
    for key, name in site.names.items():
        line, updater = site.lines.get(name.line), site.updaters.get(name.updated_by)
        changes = line is not None and not line.address
        idle = updater.refresh if updater is not None else None
        away = (until - have.now.date()).days * 86_400
        if updater is None:
            yield DrillRow("name", key, "ok", say("drill.name.others", by=name.updated_by))
        elif have.keeper:
            yield DrillRow("name", key, "ok", say("drill.name.kept"))
        elif idle is not None and idle < away:
            yield DrillRow("name", key, "wrong", say("drill.name.idle", days=round(idle / 86_400)), deeds.KEEP)
        elif changes:
            yield DrillRow("name", key, "wrong", say("drill.name.nobody"), deeds.KEEP)
        else:
            yield DrillRow("name", key, "ok", say("drill.name.fixed"))


def _keeper(site: Site, until: date, have: Provisions) -> Iterator[DrillRow]:
    here = site.site.here
    if not have.keeper:
        yield DrillRow("keeper", "site", "open", say("drill.keeper.none"), deeds.KEEP)
        return
    yield DrillRow("keeper", "site", "ok", say("drill.keeper.runs"))
    if not site.notices:
        yield DrillRow("keeper", "notices", "open", say("drill.keeper.silent"), deeds.ADD_NOTICE)
    if here is None or here not in site.devices:
        yield DrillRow("keeper", "computer", "open", say("drill.keeper.where"))
    elif site.devices[here].ready.autostart is not True:
        yield DrillRow("keeper", here, "open", say("drill.keeper.power", host=here), deeds.TICK(here, "autostart"))
    else:
        yield DrillRow("keeper", here, "ok", say("drill.device.autostart"))
    if have.awake is not None:
        yield _sleep(have.awake, until)


def _sleep(awake: Awake, until: date) -> DrillRow:
    """Whether the computer that keeps it all sleeps, by what it did since it was started."""
    again, up = deeds.DRILL(str(until)), shown_duration(round(awake.up_s))
    if awake.slept_s >= SLEPT_S:
        detail = say("drill.sleep.sleeps", slept=shown_duration(round(awake.slept_s)), up=up)
        return DrillRow("keeper", "sleep", "wrong", detail, again)
    if awake.up_s < DAY_S:
        return DrillRow("keeper", "sleep", "open", say("drill.sleep.new", up=up), again)
    return DrillRow("keeper", "sleep", "ok", say("drill.sleep.never", up=up))


def _devices(site: Site) -> Iterator[DrillRow]:
    """What has to come up again after a power cut."""
    for key in dict.fromkeys(site.services[one].host for one in needed(site)):
        said = site.devices[key].ready.autostart
        if said is True:
            yield DrillRow("device", key, "ok", say("drill.device.autostart"))
        else:
            code = "drill.device.not" if said is False else "drill.device.unsaid"
            yield DrillRow("device", key, "wrong" if said is False else "open", say(code), deeds.TICK(key, "autostart"))


def _people(site: Site, until: date, have: Provisions) -> Iterator[DrillRow]:
    asked = [("at-home", deeds.AT_HOME), ("second-way", deeds.SECOND_WAY)]
    if site.names or any(gateway.tunnel for gateway in site.gateways.values()):
        asked.append(("accounts", deeds.ACCOUNTS))
    for key, option in asked:
        said = have.told.get(key, "")
        if said:
            yield DrillRow("people", key, "ok", say("drill.people.said", text=said))
        else:
            yield DrillRow("people", key, "open", say(f"drill.people.{key}"), f"{deeds.DRILL(str(until))} {option}")
