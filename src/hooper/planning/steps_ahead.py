"""What comes next: the whole job as an ordered list of steps, from the plan and from how everything stands. Pure.

Each step says what it is about, why, by which command, and what has to be done before. A step that is done is told too,
so that a list always has the same order, and a number that falls.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Literal, NamedTuple

from hooper import deeds
from hooper.planning.access import handing
from hooper.planning.openers import not_driven
from hooper.planning.server_lists import TELLING, brought, look_at_list
from hooper.planning.values import EVERYTHING
from hooper.site.protocols import SPEECHES, TUNNELS
from hooper.site.references import made_gateways
from hooper.words.said import Said, say, together

if TYPE_CHECKING:
    from hooper.planning.values import Entering, Finding, Forward, Plan
    from hooper.site.model import Site

StepName = Literal[
    "line", "device", "service", "mistake", "ready", "tunnel", "peer", "rule", "sheet", "entry", "proof", "name",
    "certificate", "keeper",
]  # fmt: skip
Who = Literal["hooper", "person"]
MINUTES: Mapping[StepName, int] = {
    "line": 1, "device": 2, "service": 2, "mistake": 5, "ready": 5, "tunnel": 5, "peer": 3, "rule": 1, "sheet": 5,
    "entry": 2, "proof": 1, "name": 1, "certificate": 2, "keeper": 2,
}  # fmt: skip
BY_HOOPER = ("line", "rule", "name", "certificate")


@dataclass(frozen=True, slots=True)
class AheadStep:
    """One step.

    step: its name. subject: what it is about. why: in a sentence. state: blocked: others come before it. after: which,
    as STEP:SUBJECT. command: what does it; empty: nothing is left. minutes: about how long. by: who does it: the
    program, or a person.
    """

    step: StepName
    subject: str
    why: Said
    state: Literal["done", "open", "blocked"]
    after: tuple[str, ...]
    command: str
    minutes: int
    by: Who


class OutsideLook(NamedTuple):
    """How a service stands from where it counts. looked: somebody has looked from there. place: as an option has it."""

    level: str
    looked: bool
    place: str


NO_LOOK = OutsideLook("unknown", False, "")


@dataclass(frozen=True)
class Stands:
    """How things stand, by what still counts.

    levels: of each condition, by kind, subject and aspect: well, wrong, unknown or fact. proofs: of the services that
    are to be reached. ticked: the
    gateways whose sheet was ticked off as it is now. came: the peers that came in from outside with the file that they
    have. held: the services that are kept back, with what to do. wished:
    a keeper is wanted. keeper: one runs.
    """

    levels: Mapping[tuple[str, str, str], str] = field(default_factory=dict)
    proofs: Mapping[str, OutsideLook] = field(default_factory=dict)
    ticked: frozenset[str] = frozenset()
    came: frozenset[str] = frozenset()
    held: Mapping[str, str] = field(default_factory=dict)
    wished: bool = False
    keeper: bool = False


def steps_ahead(site: Site, plan: Plan, ways: Iterable[Entering], stands: Stands) -> tuple[AheadStep, ...]:
    """All steps, done and not, in the order of the work. ways: how each rule can be put on its gateway."""
    found: dict[str, AheadStep] = {}
    for step in _Ahead(site, plan, tuple(ways), stands).all():
        before = tuple(one for one in step.after if one in found and found[one].state != "done")
        if step.state == "done":
            told = replace(step, after=(), command="", minutes=0)
        else:
            told = replace(step, after=before, state="blocked" if before else "open")
        found[f"{step.step}:{step.subject}"] = told
    return tuple(found.values())


@dataclass(frozen=True)
class _Ahead:
    site: Site
    plan: Plan
    ways: tuple[Entering, ...]
    stands: Stands

    def all(self) -> Iterator[AheadStep]:
        yield from self._lines()
        yield from self._written()
        yield from (self._mistake(one) for one in self.plan.findings if one.severity == "error")
        yield from (
            _step("ready", key, say("ahead.ready", service=key, remedy=remedy), False, deeds.TICK(self._host(key)))
            for key, remedy in self.stands.held.items()
        )
        yield from self._tunnels()
        yield from self._rules()
        yield from self._proofs()
        yield from self._names()
        yield from self._certificates()
        if self.stands.wished:
            yield _step("keeper", "site", say("ahead.keeper"), self.stands.keeper, deeds.KEEP)

    def _level(self, kind: str, subject: str, aspect: str = "") -> str | None:
        return self.stands.levels.get((kind, subject, aspect))

    def _host(self, service: str) -> str:
        return self.site.services[service].host if service in self.site.services else service

    def _lines(self) -> Iterator[AheadStep]:
        """Of each line that something comes in by; what stands in front of a rented machine is no line of the home."""
        rented = {line for gateway in self.site.gateways.values() if gateway.tunnel for line in gateway.line}
        used = {rule.line for rule in self.plan.forwards} if rented else set(self.site.lines)
        for key in self.site.lines:
            if key in rented or key not in used:
                continue
            level = self._level("line", key)
            own = [rule.kind for rule in self.plan.forwards if rule.line == key]
            if level == "wrong" and own and "forward" not in own:
                continue  # it lets no IPv4 in, and nothing is to come in by that
            if level == "wrong":
                yield _step("line", key, say("ahead.line.barred", line=key), False, deeds.LETTER)
            else:
                yield _step("line", key, say("ahead.line", line=key), level == "well", deeds.SURVEY)

    def _written(self) -> Iterator[AheadStep]:
        site = self.site
        yield _step("device", "site", say("ahead.device"), bool(site.hosts), deeds.FIND)
        reached = any(one.reach != "lan" for one in site.services.values())
        first = next(iter(site.services), None)
        host = next(iter(site.hosts), None)
        adding = (
            "" if host is None else f"{deeds.ADD_A_SERVICE(f'{host}-page')} {deeds.GIVE('host', host)} {deeds.HTTPS}"
        )
        command = (adding or deeds.ADD_SERVICE) if first is None else deeds.REACH(first)
        why = say("ahead.service") if first is None else say("ahead.reach")
        yield _step("service", "site", why, reached, command, "device:site")

    def _mistake(self, finding: Finding) -> AheadStep:
        why = say("ahead.mistake", what=finding.message, remedy=finding.remedy)
        return _step("mistake", f"{finding.subject} {finding.code}", why, False, deeds.EXPLAIN(finding.code))

    def _tunnels(self) -> Iterator[AheadStep]:
        waiting = [one.subject for one in self.plan.findings if one.code == "tunnel-missing"]
        if waiting:
            host = self._host(waiting[0].removeprefix("services."))
            why = say("ahead.tunnel.missing", number=len(waiting))
            yield _step("tunnel", "site", why, False, deeds.ADD_FIRST_TUNNEL(host))
        for key, tunnel in self.site.tunnels.items():
            level = self._level("tunnel", key)
            if tunnel.made_by == "hooper":
                done = level is not None and level != "wrong"
                first: tuple[str, ...] = ()
                if not any(peer.tunnel == key and peer.revoked is None for peer in self.site.peers.values()):
                    why, first = say("ahead.peer.none", tunnel=key), (f"peer:of {key}",)
                    yield _step("peer", f"of {key}", why, False, deeds.ADD_FIRST_PEER(key))
                yield _step("tunnel", key, say("ahead.tunnel", tunnel=key), done, deeds.MAKE_TUNNEL(key), *first)
        for key, peer in self.site.peers.items():
            if peer.revoked is None and self.site.tunnels[peer.tunnel].made_by == "hooper":
                done = self._level("peer", key) == "well"
                why = say("ahead.peer", peer=key)
                yield _step("peer", key, why, done, handing(self.site, key), f"tunnel:{peer.tunnel}")

    def _entered(self) -> dict[str, list[Forward]]:
        """The rules that are to be entered on each gateway, outermost first; what is held back is none."""
        made = made_gateways(self.site)
        out: dict[str, list[Forward]] = {}
        for rule in self.plan.forwards:
            if rule.gateway not in made and rule.service not in self.stands.held:
                out.setdefault(rule.gateway, []).append(rule)
        return out

    def _typed(self, gateway: str, rules: list[Forward]) -> list[Forward]:
        """Those of a gateway's rules that a person enters."""
        if not_driven(self.site, gateway) is not None:
            return rules
        by_hand = {way.service for way in self.ways if way.gateway == gateway and way.from_here == "no"}
        return [one for one in rules if one.kind == "pinhole" or one.service in by_hand]

    def _rules(self) -> Iterator[AheadStep]:
        typed_in: dict[str, list[Forward]] = {}
        for gateway, rules in self._entered().items():
            typed = typed_in[gateway] = self._typed(gateway, rules)
            entered = [one for one in rules if one not in typed]
            barred = self._barred(rules)
            if entered:
                left = [one.service for one in entered if self._level("rule", one.service, gateway) != "well"]
                why = say("ahead.rule", gateway=gateway, number=len(left) or len(entered))
                yield _step("rule", gateway, why, not left, deeds.OPEN, *barred)
        for gateway, typed in typed_in.items():  # once these are typed, it answers
            if typed:
                barred = self._barred(typed)
                done = gateway in self.stands.ticked or self._answered({one.service for one in typed})
                told = deeds.TICKED(gateway)
                why = say("ahead.sheet", gateway=gateway, number=len(typed), ticked=told)
                sheet = deeds.SHEET(gateway) + (
                    "" if not_driven(self.site, gateway) is not None else f" {deeds.THE_REST}"
                )
                yield _step("sheet", gateway, why, done, sheet, *barred)

    def _barred(self, rules: list[Forward]) -> tuple[str, ...]:
        """The lines that let nothing in, of those that the rules are for."""
        lines = dict.fromkeys(rule.line for rule in rules if rule.kind == "forward")
        return tuple(f"line:{key}" for key in lines if self._level("line", key) == "wrong")

    def _answered(self, services: set[str]) -> bool:
        """Whether the rules are there, by what answers through them: what no probe can tell takes nothing from that."""
        looks = [self.stands.proofs.get(key, NO_LOOK) for key in services if key != EVERYTHING]
        mute = [key for key in services if key != EVERYTHING and self.site.services[key].speaks in TUNNELS]
        untold = sum(self.stands.proofs.get(key, NO_LOOK)[:2] == ("unknown", True) for key in mute)
        well = sum(one.level == "well" for one in looks)
        return bool(well) and well + untold == len(looks)

    def _proofs(self) -> Iterator[AheadStep]:
        before: dict[str, list[str]] = {}
        for gateway, rules in self._entered().items():
            typed = self._typed(gateway, rules)
            for rule in rules:
                before.setdefault(rule.service, []).append(f"{'sheet' if rule in typed else 'rule'}:{gateway}")
        for key, service in self.site.services.items():
            if service.reach != "public" or key in self.stands.held:
                continue
            proof = self.stands.proofs.get(key, NO_LOOK)
            yield from self._entries(key, tuple(before.get(key, ())))
            tunnels = [one for one, tunnel in self.site.tunnels.items() if tunnel.service == key]
            if proof.level == "wrong":
                where = f" {deeds.FROM_ELSEWHERE} {proof.place}" if proof.place else ""
                why, command = say("ahead.proof.wrong", service=key), deeds.WHY(key) + where
            elif proof.level == "unknown" and proof.looked and service.speaks in TUNNELS and not tunnels:
                why, command = say("ahead.proof.key", service=key), deeds.ADD_TUNNEL_TO(key)
            else:
                why, command = say("ahead.proof", service=key), deeds.LOOK_FROM_PHONE(key)
            hopeless = service.used_transport == "udp" and not SPEECHES[service.speaks].told  # no look tells more
            tried = proof.level == "unknown" and proof.looked and service.speaks not in TUNNELS
            done = proof.level == "well" or (tried and hopeless)
            yield _step("proof", key, why, done, command, *before.get(key, ()), *(f"tunnel:{one}" for one in tunnels))

    def _entries(self, service: str, before: tuple[str, ...]) -> Iterator[AheadStep]:
        """A tunnel is proven by each device that came in by it, as its server tells."""
        for key, peer in self.site.peers.items():
            tunnel = self.site.tunnels[peer.tunnel]
            if tunnel.service != service or peer.revoked is not None or tunnel.kind not in TELLING:
                continue
            if tunnel.made_by == "hooper":
                asked = look_at_list(self.site, peer.tunnel)
                why = together((say("ahead.entry", peer=key), brought(self.site, peer.tunnel)))
                yield _step("entry", key, why, key in self.stands.came, asked, *before, f"peer:{key}")

    def _names(self) -> Iterator[AheadStep]:
        for key, entry in self.site.names.items():
            for record in entry.types:
                done = self._level("name", key, record) == "well"
                ours = entry.updated_by in self.site.updaters
                why = say("ahead.name", name=key) if ours else say("ahead.name.watched", name=key, by=entry.updated_by)
                command = deeds.PUBLISH(key) if ours else deeds.NAMES
                yield _step("name", f"{key} {record}" if record != "A" else key, why, done, command)

    def _certificates(self) -> Iterator[AheadStep]:
        for key, entry in self.site.certificates.items():
            if entry.authority != "device":
                names = tuple(f"name:{name}" for name in entry.names)
                done = self._level("certificate", key) == "well"
                yield _step(
                    "certificate", key, say("ahead.certificate", certificate=key), done, deeds.ORDER(key), *names
                )


def _step(name: StepName, subject: str, why: Said, done: bool, command: str, *after: str) -> AheadStep:
    by: Who = "hooper" if name in BY_HOOPER and (name, command) != ("line", deeds.LETTER) else "person"
    return AheadStep(name, subject, why, "done" if done else "open", after, command, MINUTES[name], by)
