"""Probes as results: held against the plan and the inside, and with whom a stranger looks like."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Literal, Protocol

from hooper.certs.problems import CODES
from hooper.check.handshake_keys import ControlKeys
from hooper.check.results import SPEECH, Evidence, InsideSeen, PageSeen, Result, Seen
from hooper.check.targets import Target, is_ok
from hooper.clock import rfc3339
from hooper.evidence.identity import Identified, LedTo, Signs, identified, target_of
from hooper.evidence.observations import basis_of
from hooper.ports import ports_text
from hooper.sourced import FRESH, age_of
from hooper.words.said import NOTHING, Said, quoted, say, together

if TYPE_CHECKING:
    from hooper.check.addressing import Addressed
    from hooper.check.view import View
    from hooper.check.wish import Outcome, Wish
    from hooper.evidence.observations import Observation
    from hooper.gateways.reading import ShownTable, Tables
    from hooper.net.types import Neighbour
    from hooper.store.kept import PageKnown, StoredInside

EPOCH = datetime.fromtimestamp(0, UTC)
THERE = ("answered", "connected")
BEHIND_UNHEARD, BEHIND_CUT_OFF, BEHIND_DOWN = "behind-unheard", "behind-cut-off", "behind-down"
HANDED_OTHER, NOT_HANDED = "handed-to-other", (502, 503, 504)
CLOSED = ("silent", "refused", "unproven")  # what is told of a port that is not open, or may not be


class InsideMemory(Protocol):
    """What earlier checks saw of the services from inside."""

    def inside(self, service: str, transport: str, port: int) -> StoredInside | None: ...

    def page(self, service: str, transport: str, port: int) -> PageKnown | None:
        """What was kept of its page as its own."""
        ...

    def rule(self, service: str, gateway: str) -> Observation | None:
        """What a router's table last said of its rule."""
        ...

    def showing(self, fingerprint: str) -> tuple[str, ...]:
        """The services that showed this certificate or host key."""
        ...


@dataclass
class Comparing:
    """What was seen from a place, held against the plan, the inside, and what is known of the devices.

    near: this computer's neighbours, as they are after all was probed. tables: of the routers that were read.
    """

    view: View
    wish: Wish
    found: Addressed
    outcome: Outcome
    memory: InsideMemory | None
    now: datetime = EPOCH
    near: tuple[Neighbour, ...] = ()
    tables: dict[str, ShownTable] = field(default_factory=dict)
    spoke: dict[tuple[str, str, int], frozenset[str]] = field(default_factory=dict)  # faults of speech, seen inside

    async def read(self, tables: Tables) -> None:
        self.tables = await tables.read()

    def results(self, targets: Sequence[Target], inner: Sequence[Target], probed: Sequence[Seen]) -> list[Result]:
        """probed: of those targets that have an address, then of the inner ones, in the same moment."""
        view, came, out = self.view, iter(probed), []
        for target, seen in zip(inner, probed[len(probed) - len(inner) :], strict=True):
            self.wish.judge.hold(target, seen, self.now)
            self._seen_inside(target, seen)
        for target in targets:
            why = view.unfit.words if view.unfit is not None else target.beyond or say("public-unknown")
            looked = view.unfit is None and target.address is not None
            seen = next(came) if looked else Seen(verdict="unproven", detail=why)
            self.wish.judge.hold(target, seen, self.now)
            self._hold_behind(target, seen)
            evidence = self.found.about(target, self.now) if view.outside else Evidence()
            if view.outside and looked:
                out.append(self._outside(target, seen, evidence))
                continue
            if view.within is not None and target.expected == "unreachable" and seen.verdict not in CLOSED:
                seen.detail += say("not-for-peer", peer=view.within.peer)
            if not view.outside and view.within is None:
                self._seen_inside(target, seen)
            out.append(as_result(target, seen, evidence, self._identify(target, seen, None)))
        return out

    def _hold_behind(self, target: Target, seen: Seen) -> None:
        """Whether a web server hands its name on to the device that the plan means."""
        inside = self.outcome.inside.get(target.behind.seen_as) if target.behind is not None else None
        for code, words in handed_wrong(target, seen, inside):
            seen.problems.append(code)
            seen.detail += quoted("; ") + words

    def _outside(self, target: Target, seen: Seen, evidence: Evidence) -> Result:
        before = inside_of(target, self.outcome.inside, self.memory)
        evidence = compare(target, seen, evidence, before, visible=target.gateway in self.view.sight)
        return as_result(target, seen, evidence, self._identify(target, seen, before))

    def _seen_inside(self, target: Target, seen: Seen) -> None:
        key = target.seen_as
        self.outcome.inside[key] = as_inside(seen, self.now)
        self.spoke[key] = SPEECH & set(seen.problems)
        if identified(self._signs(target, seen, None, outside=False)).against:
            self.outcome.strangers.add(key)

    def _kept(self, target: Target) -> StoredInside | None:
        return self.memory.inside(*target.seen_as) if self.memory is not None else None

    def _identify(self, target: Target, seen: Seen, before: InsideSeen | None) -> Identified:
        """Whose answer it was; one that is not its own is no answer."""
        found = identified(self._signs(target, seen, before, outside=self.view.outside))
        if target.expected != "reachable" or not found.against or seen.verdict not in THERE:
            return found
        if found.identity == "other" or not seen.problems:  # else that says why its certificate is another
            seen.detail += quoted("; ") + together(found.against)
            seen.problems += [found.code] if found.code is not None else []
        if found.identity == "other":
            seen.verdict = "mismatched"
        elif found.code is None:
            seen.verdict = "unproven"
        return found

    def _signs(self, target: Target, seen: Seen, before: InsideSeen | None, *, outside: bool) -> Signs:
        """before: the inside that it is held against. outside: it was seen from there."""
        site = self.wish.site
        host, kept, key = site.services[target.service].host, self._kept(target), seen.fingerprint
        device, there = site.devices[host], seen.verdict in THERE
        inner = target.seen_as
        inside = self.outcome.inside.get(inner)
        near = there if not outside else inside is not None and inside.verdict in THERE  # so the entry is of now
        mac = next((one.mac for one in self.near if one.address == target.inner[0]), None) if near else None
        away = (one.address for one in self.near if one.mac == device.mac and one.address != target.inner[0])
        warned = (
            seen.certificate is None
            or seen.certificate.browsers_warn is not None
            or not set(CODES).isdisjoint(seen.problems)
        )
        return Signs(
            reached=seen.verdict not in CLOSED,
            other=seen.verdict == "mismatched",
            told=target.told and seen.verdict == "answered",
            secret=(_secret(target) or target.own_line) and seen.verdict == "answered",
            vouched=there and target.speaks == "https" and target.server_name is not None and not warned,
            otherwise=outside and there and near and self._otherwise(seen, inner),
            key=key is not None,
            same=key == before.fingerprint if key and before is not None and before.fingerprint else None,
            kept=key == kept.fingerprint if key and kept is not None and kept.fingerprint else None,
            page_kept=self._page_kept(inner, seen) if key is None else None,
            shared=self._shared(target, key) if key is not None else None,
            inside=_word(inside) if outside and inside is not None else None,
            mac=None if None in (device.mac, mac) else "planned" if mac == device.mac else "other",
            mac_at=next(map(str, away), None) if device.mac is not None and mac not in (None, device.mac) else None,
            rules=tuple(self._rules(target)) if outside and target.expected == "reachable" else (),
        )

    def _page_kept(self, inner: tuple[str, str, int], seen: Seen) -> bool | None:
        """Whether its title is the one that was kept as its own."""
        kept = self.memory.page(*inner) if self.memory is not None and seen.page is not None else None
        if kept is None or kept.title is None or seen.page is None or seen.page.title is None:
            return None
        return kept.title == seen.page.title

    def _otherwise(self, seen: Seen, inner: tuple[str, str, int]) -> bool:
        """Whether it speaks otherwise than inside: in the clear, or of what has no key, with another status."""
        page = self.outcome.inside[inner].page if seen.fingerprint is None else None
        return bool(SPEECH & set(seen.problems) - self.spoke[inner]) or statuses_differ(seen.page, page)

    def _shared(self, target: Target, key: str) -> str | None:
        """A service of another host that shows the same key."""
        services = self.wish.site.services
        now = [known[0] for known, one in self.outcome.inside.items() if one.fingerprint == key]
        shown = (*now, *(self.memory.showing(key) if self.memory is not None else ()))
        own = services[target.service].host
        return next((one for one in shown if one in services and services[one].host != own), None)

    def _rules(self, target: Target) -> Iterator[LedTo]:
        """Where the routers' rules for a service lead, as far as that was read, or told within the hour."""
        site, told, by = self.wish.site, self.wish.known.told, self.wish.topology.bearer(target.service)
        wanted = [one for one in self.wish.forwards if one.service == by and one.kind == "forward"]
        for gateway in dict.fromkeys(one.gateway for one in wanted):
            key = f"services.{by}/rule@{gateway}"
            table, by_person = self.tables.get(gateway), told.get(key)
            said = table.said(self.wish.forwards, by, {}, self.now) if table is not None else None
            if said is not None and said != "unseen":
                self.outcome.rules[key] = said
            earlier = None
            if said is None and by_person is not None and by_person.fresh(self.now):
                said = by_person.value
            elif said is None and (earlier := self._read_before(by, gateway)) is not None:
                said = str(earlier.value)
            address, port = target_of(said or "")
            if said == "there" or not address[:1].isdigit():
                continue
            mine = [one for one in wanted if one.gateway == gateway]
            ports = [ports_text(one.target_ports) for one in mine if str(one.target_address) == address]
            whose = next((key for key, one in site.devices.items() if str(one.address) == address), None)
            right = bool(ports) and port in ("", *ports)
            at, ago = f"{address}:{port}" if port else address, None
            if earlier is not None:
                ago = age_of(earlier.at, self.now)
            yield LedTo(gateway, at, right, whose, port=bool(ports), ago=ago)

    def _read_before(self, service: str, gateway: str) -> Observation | None:
        """What its table said within the hour, of a router that says nothing now: it may have been changed since."""
        seen = self.memory.rule(service, gateway) if self.memory is not None else None
        lately = seen is not None and timedelta(0) <= self.now - seen.at <= FRESH
        return seen if lately and seen is not None and seen.basis == basis_of(self.wish.topology, service) else None


def _secret(target: Target) -> bool:
    """Whether it answers only who has what nobody else can have."""
    if isinstance(target.keys, ControlKeys):
        return target.keys.authority is not None
    return target.keys is not None


def _word(inside: InsideSeen) -> Literal["there", "refused", "silent", "nobody"] | None:
    if inside.stored or inside.verdict in ("mismatched", "unproven"):
        return None
    if inside.verdict in THERE:
        return "there"
    return "nobody" if inside.nobody else "refused" if inside.verdict == "refused" else "silent"


def handed_wrong(target: Target, seen: Seen, inside: InsideSeen | None) -> Iterator[tuple[str, Said]]:
    """What is wrong with how a web server hands a name on: codes, each with its words. inside: the device's own page.

    It answers itself where the device does not (RFC 9110 sections 15.6.3 to 15.6.5).
    """
    if target.behind is None or seen.verdict != "answered" or seen.page is None or target.expected != "reachable":
        return
    at = f"{target.behind.inner[0]}:{target.behind.inner[1]}"
    if seen.page.status in NOT_HANDED:
        word = (_word(inside) if inside is not None and not inside.stored else None) or "unseen"
        there = say(f"handed-behind.{word}")
        code = {"unseen": BEHIND_UNHEARD, "there": BEHIND_CUT_OFF}.get(word, BEHIND_DOWN)
        yield code, say("handed-nowhere", status=seen.page.status, behind=target.behind.service, at=at, there=there)
    elif inside is not None and not inside.stored and titles_differ(seen.page, inside.page):
        assert inside.page is not None
        yield HANDED_OTHER, say("handed-other", behind=target.behind.service, title=inside.page.title)


def as_inside(seen: Seen, at: datetime) -> InsideSeen:
    return InsideSeen(seen.verdict, seen.fingerprint, seen.greeting, rfc3339(at), False, seen.nobody, seen.page)


def inside_of(
    target: Target, now: Mapping[tuple[str, str, int], InsideSeen], memory: InsideMemory | None
) -> InsideSeen | None:
    """The inside as seen now, or as it was stored where it cannot be seen now."""
    key = target.seen_as
    seen = now.get(key)
    if seen is not None and (seen.fingerprint or seen.greeting or seen.verdict == "answered"):
        return seen
    stored = memory.inside(*key) if memory is not None else None
    return InsideSeen(stored.verdict, stored.fingerprint, stored.greeting, stored.at, True, False) if stored else seen


def compare(target: Target, seen: Seen, evidence: Evidence, inside: InsideSeen | None, *, visible: bool) -> Evidence:
    """Hold the inside against what was seen: another certificate or greeting is another device."""
    evidence = replace(evidence, inside=inside if target.expected == "reachable" else None)
    if target.expected == "unreachable":
        if seen.verdict not in CLOSED:
            seen.detail += say("must-not-be-reachable")
        return evidence
    same = same_device(target, seen, inside) if inside is not None else None
    if inside is not None and same is not None:
        sign = "greeting" if not seen.fingerprint else "host-key" if target.speaks == "ssh" else "certificate"
        if not seen.fingerprint and titles_differ(seen.page, inside.page):
            sign = "page"
        when = say("on-day", day=inside.at[:10]) if inside.stored else NOTHING
        if same:
            seen.detail += say("same-as-inside", sign=say(sign), when=when)
        else:
            seen.verdict, seen.detail = "mismatched", say("not-as-inside", sign=say(sign), when=when)
    elif seen.verdict == "answered" and target.keys is None:
        why = NOTHING if visible else say("not-on-its-network")
        seen.detail += say("not-compared", why=why)
    return evidence


def same_device(target: Target, seen: Seen, inside: InsideSeen) -> bool | None:
    """Whether outside and inside show the same: by certificate or host key, else by the greeting; many servers of SSH
    greet in the same words, and a page without encryption whose title is another one is another page. None: nothing to
    compare.
    """
    if seen.verdict not in THERE or inside.verdict not in THERE:
        return None
    if seen.fingerprint or inside.fingerprint:
        return seen.fingerprint == inside.fingerprint if seen.fingerprint and inside.fingerprint else None
    if titles_differ(seen.page, inside.page):
        return False
    if target.speaks == "ssh" and seen.greeting == inside.greeting:
        return None
    return seen.greeting == inside.greeting if seen.greeting or inside.greeting else None


def statuses_differ(one: PageSeen | None, other: PageSeen | None) -> bool:
    """Whether two pages of the same moment say something else of themselves. A device that is busy with the other look
    (429, 5xx) says nothing, and where each is sent on need not be the same.
    """
    if one is None or other is None or one.status == other.status:
        return False
    return all(page.status < 500 and page.status != 429 and page.status // 100 != 3 for page in (one, other))


def titles_differ(one: PageSeen | None, other: PageSeen | None) -> bool:
    """Whether two pages that came in the same moment are not the same one."""
    if one is None or other is None or one.title is None or other.title is None:
        return False
    return one.status == other.status and one.title != other.title


def as_result(target: Target, seen: Seen, evidence: Evidence, found: Identified | None = None) -> Result:
    """found: whose answer it was; None: that was not asked."""
    warned = seen.certificate.browsers_warn if seen.certificate is not None else None
    if warned is not None and seen.verdict == "answered" and not seen.problems and target.address != target.inner[0]:
        seen.detail += say("browsers-warn", warned=warned)
    if target.wrong is not None:
        seen.problems.append(target.wrong[0])
        seen.detail += quoted("; ") + target.wrong[1]
    return Result(
        service=target.service,
        expected=target.expected,
        ok=is_ok(target, seen.verdict, seen.problems),
        verdict=seen.verdict,
        problems=tuple(seen.problems),
        family="ipv6" if target.address is not None and target.address.version == 6 else "ipv4",
        target_address=str(target.address) if target.address is not None else None,
        transport=target.transport,
        port=target.port,
        took_ms=seen.took_ms,
        fingerprint=seen.fingerprint,
        evidence=replace(
            evidence,
            certificate=seen.certificate,
            tls_version=seen.tls_version,
            page=seen.page,
            greeting=seen.greeting,
            first_bytes=seen.first_bytes,
            icmp=seen.icmp,
        ),
        detail=seen.detail,
        name=target.name,
        provable=target.provable,
        identity=found.identity if found is not None else "none",
    )


def judged(target: Target, seen: Seen) -> Result:
    """One probe as a result, with nothing to compare it with."""
    return as_result(target, seen, Evidence())
