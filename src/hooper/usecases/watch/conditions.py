"""How things stand after a command or a keeper's task, from its document: what is kept of it, and what changed."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.clock import read_moment, rfc3339, shown_duration
from hooper.evidence.observations import CHANGED, Observation, service_subject
from hooper.store.kept import Condition
from hooper.usecases.watch.condition_kinds import OUTDATED, OWN_CLOCK, standing
from hooper.words.said import NOTHING, say, together

if TYPE_CHECKING:
    from hooper.certs.documents import CertificateRow
    from hooper.check.results import Result
    from hooper.check.wish import Outcome
    from hooper.errors import HooperError
    from hooper.gateways.documents import RuleChange
    from hooper.line.facts import ClockRow
    from hooper.line.situation import LineJudged
    from hooper.line.sources import PublicAddress
    from hooper.names.documents import NameRow
    from hooper.places import Place
    from hooper.site.model import Site
    from hooper.store.kept import Level, Stood
    from hooper.usecases.run import Run
    from hooper.words.said import Said

ENDS_SOON = ("due",)  # a certificate that is to be renewed and has not been
OF_NAMES = {  # the cause, by what became of the update
    "needed": "name-stale", "pending": "name-lags", "waiting": "updater-waits", "refused": "updater-said-no",
    "failed": "updater-failed", "watched": "name-stale", "updated": "name-lags", "unknown": None, "current": None,
}  # fmt: skip
NEW = ("added", "restored", "replaced", "removed", "put-back")  # what changes how a service is reached
OF_RULES = {"refused": "rule-refused", "failed": "rule-failed"}


def keep_conditions(run: Run, conditions: Iterable[Condition], seen: datetime | None = None) -> None:
    """Keep how things stand; what changed by it is added to what the run tells. seen: when; None: now."""
    found = list(conditions)
    with run.keeping() as state:
        if state is not None:
            if any(one.steady for one in found):  # that nothing can be told stands where what was told is history
                old = {(one.condition.subject, one.condition.aspect) for one in how_all_stands(run)
                       if one.condition.state == OUTDATED}  # fmt: skip
                found = [one._replace(steady=one.steady and (one.subject, one.aspect) not in old) for one in found]
            now = seen or (run.door.clock.now() if run.door is not None else run.at)
            run.changed += state.history.note(now, found, past=seen is not None)


def of_results(
    basis_of: Callable[[str], str], place: Place, results: Sequence[Result], causes: Mapping[str, str] | None = None
) -> Iterator[Condition]:
    """The services that were looked at. basis_of: what the site file then said of a subject. causes: what broke
    services, where that was asked.
    """
    aspect = str(place)
    for service in dict.fromkeys(result.service for result in results):
        mine, basis = [result for result in results if result.service == service], basis_of(service_subject(service))
        broken = [result for result in mine if not result.ok and not result.untold]
        if broken:
            first = broken[0]
            detail = say("verdict-and-detail", verdict=(first.verdict, *first.problems), detail=_behind(first))
            cause = (causes or {}).get(service) or next(iter(first.problems), None)
            yield Condition("service", service, aspect, "broken", "wrong", detail, cause, basis=basis)
        elif any(result.ok for result in mine):
            shut = all(result.expected == "unreachable" for result in mine)
            state = "shut" if shut else "answers"
            yield Condition("service", service, aspect, state, "well", mine[0].detail, basis=basis)
        else:
            steady = any(result.provable for result in mine)  # else nothing will ever tell more than this
            detail = mine[0].detail
            yield Condition("service", service, aspect, "unproven", "unknown", detail, steady=steady, basis=basis)


def keep_changes(run: Run, changes: Sequence[RuleChange]) -> None:
    """Keep which services a deed has changed: what was seen of them before is history."""
    done = dict.fromkeys(change.rule.service for change in changes if change.outcome in NEW)
    with run.keeping() as state:
        if state is not None:
            now, seen = run.here.clock.now(), [service_subject(key) for key in done if key]
            changed = (Observation(subject, CHANGED, None, now, "inferred") for subject in seen)
            state.ledger.write(changed, instead=[(subject, "rule@*") for subject in seen])


def how_all_stands(run: Run) -> list[Stood]:
    """What is known of all that the site file has, by what still counts. Raises: StateError."""
    if run.state is None:
        return []
    return list(standing(run.site, run.state.history.conditions(), run.changes()))


def _behind(result: Result) -> Said:
    return say("and-so", detail=result.detail) if result.detail else NOTHING


CLOCK_OFF = timedelta(minutes=5)  # by which certificates and second factors begin to fail
OWN_CLOCK_OFF, ROOT_SOON = timedelta(minutes=1), timedelta(days=180)


def of_clocks(site: Site, outcome: Outcome, now: datetime) -> Iterator[Condition]:
    """The clocks of devices, as far as they tell them by a service that was looked at from inside."""
    told: dict[str, datetime] = {}
    pages = {key[0]: one.page for key, one in outcome.inside.items() if not one.stored}
    if outcome.place.kind == "here":
        pages |= {result.service: result.evidence.page for result in outcome.results}
    for service, page in pages.items():
        if page is not None and page.date is not None:
            told[site.services[service].host] = read_moment(page.date)
    for host, moment in told.items():
        off = round((moment - now).total_seconds())
        if abs(off) < CLOCK_OFF.total_seconds():
            yield Condition("clock", host, "", "right", "well", say("within-five-minutes-of"))
        else:
            detail = say("clock-ahead" if off > 0 else "clock-behind", off=shown_duration(abs(off)))
            yield Condition("clock", host, "", "off", "wrong", detail, "device-clock-off")


def of_own_clock(clock: ClockRow | None) -> Iterator[Condition]:
    """This computer's own clock, as a server of time tells it; nothing where none does."""
    if clock is None:
        return
    if abs(clock.behind_s) < OWN_CLOCK_OFF.total_seconds() + clock.within_s:
        yield Condition("clock", OWN_CLOCK, "", "right", "well", say("by-time-server", server=clock.server))
    else:
        off = shown_duration(round(abs(clock.behind_s)))
        word = "behind" if clock.behind_s > 0 else "ahead"
        detail = say(f"own-clock-off.{word}", off=off, server=clock.server)
        yield Condition("clock", OWN_CLOCK, "", "off", "wrong", detail, "own-clock")


def of_roots(site: Site, base: Path, now: datetime) -> Iterator[Condition]:
    """The roots of the site's own authorities: nothing that they vouch for outlasts them."""
    from hooper.certs.site_roots import own_roots

    for key, root in own_roots(site, base).items():
        until = say("until-moment", moment=rfc3339(root.not_valid_after_utc)[:10])
        if root.not_valid_after_utc - now < ROOT_SOON:
            yield Condition("authority", key, "", "ends-soon", "wrong", until, "root-ends")
        else:
            yield Condition("authority", key, "", "good", "well", until)


NAME_LEVELS: dict[str, Level] = {"current": "well", "updated": "well", "unknown": "unknown"}


def of_names(rows: Iterable[NameRow]) -> Iterator[Condition]:
    for row in rows:
        level = "well" if row.ok else NAME_LEVELS.get(row.action, "wrong")
        state = "current" if row.ok else "unknown" if level == "unknown" else "stale"
        shown = say("name-has", published=row.published, source=row.published_source)
        detail = together((shown, row.detail))
        cause = None if row.ok else OF_NAMES[row.action]
        if row.action == "updated" and row.ok:  # for as long as that took, it led elsewhere
            yield Condition("name", row.name, row.type, "stale", "wrong", say("it-led-elsewhere"), "name-stale")
        yield Condition("name", row.name, row.type, state, level, detail, cause, row.took_s, steady=level == "unknown")


def of_addresses(found: Iterable[PublicAddress]) -> Iterator[Condition]:
    """The public addresses of the lines, as far as they were measured."""
    for public in found:
        seen = public.seen
        if seen.measured and seen.value is not None:
            family = f"ipv{seen.value.version}"
            detail = say("address-by", source=seen.source)
            yield Condition("address", public.line, family, str(seen.value), "fact", detail)


def of_line(line: str, judged: LineJudged) -> Iterator[Condition]:
    """Whether something from outside arrives at a line at all."""
    if not line:
        return
    detail = together(judged.evidence)
    if judged.can_forward is False:
        from hooper.line.judging import CODES

        yield Condition("line", line, "", "barred", "wrong", detail, CODES.get(judged.kind, "line-behind-carrier"))
    elif judged.can_forward:
        yield Condition("line", line, "", "reaches", "well", detail)
    else:
        yield Condition("line", line, "", "unclear", "unknown", detail, steady=True)


def of_certificates(rows: Iterable[CertificateRow]) -> Iterator[Condition]:
    for row in rows:
        level: Level = "well" if row.ok and row.state not in ENDS_SOON else "wrong"
        state = "good" if level == "well" else "ends-soon" if row.ok else "wrong"
        if row.state == "unknown":
            state, level = "unknown", "unknown"
        ends = say("until-moment", moment=row.not_after[:10]) if row.not_after is not None else None
        detail = together((ends, row.detail)) if ends is not None else row.detail or say("none-kept")
        yield Condition("certificate", row.certificate, "", state, level, detail, None, steady=level == "unknown")


def of_changes(changes: Sequence[RuleChange]) -> Iterator[Condition]:
    """The rules that were looked at, by service and gateway."""
    from hooper.gateways.documents import DONE

    for service, gateway in dict.fromkeys((change.rule.service or "", change.gateway) for change in changes):
        mine = [c for c in changes if (c.rule.service or "", c.gateway) == (service, gateway)]
        opened = [change for change in mine if change.action == "open"]
        done = any(change.outcome in DONE for change in opened)  # what is left by hand then is its opening for IPv6
        left = [one for one in opened if one.outcome not in DONE and not (done and one.outcome == "by-hand")]
        wrong = next(iter(left), None)
        if wrong is not None and wrong.outcome == "by-hand":
            yield Condition("rule", service, gateway, "by-hand", "fact", wrong.detail)
        elif wrong is not None:
            yield Condition("rule", service, gateway, "missing", "wrong", wrong.detail, OF_RULES.get(wrong.outcome))
        elif opened:
            if any(change.outcome == "restored" for change in opened):
                yield Condition("rule", service, gateway, "missing", "wrong", say("the-router-had-lost"), "rules-lost")
            ends = min((change.until for change in opened if change.until is not None), default=None)
            detail = say("until-moment", moment=ends) if ends else say("without-an-end")
            yield Condition("rule", service, gateway, "entered", "well", detail)


def of_routers(
    answered: Collection[str], asked: Iterable[str], trouble: Mapping[str, HooperError]
) -> Iterator[Condition]:
    """Which routers answered, of those that were asked. trouble: why others did not."""
    for key in asked:
        problem = trouble.get(key)
        if key in answered:
            yield Condition("router", key, "", "answers", "well")
        elif problem is not None:
            yield Condition("router", key, "", "mute", "wrong", problem.told, problem.code)
