"""How things stand after a command or a keeper's task, from its document: what is kept of it, and what changed."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta

from hooper.certs.rows import CertificateRow
from hooper.check.checking import Outcome
from hooper.check.results import From, Result
from hooper.clock import read_moment
from hooper.durations import shown_duration
from hooper.errors import HooperError
from hooper.gateways.tables import RuleChange
from hooper.gateways.work import DONE
from hooper.line.judging import CODES
from hooper.line.situation import LineJudged
from hooper.line.sources import PublicAddress
from hooper.names.rows import NameRow
from hooper.site.model import Site
from hooper.store.kept import Condition, Level
from hooper.usecases.occasions import OF_NAMES, OF_RULES
from hooper.usecases.run import Run

ENDS_SOON = ("due",)  # a certificate that is to be renewed and has not been


def keep_conditions(run: Run, conditions: Iterable[Condition]) -> None:
    """Keep how things stand; what changed by it is added to what the run tells."""
    found = list(conditions)
    with run.keeping() as state:
        if state is not None:
            now = run.door.clock.now() if run.door is not None else run.at
            run.changed += state.history.note(now, found)


def place_of(origin: From) -> str:
    """The place of a look, as conditions name it."""
    return "here" if origin.kind == "here" else origin.name


def of_results(origin: From, results: Sequence[Result], causes: Mapping[str, str] | None = None) -> Iterator[Condition]:
    """The services that were looked at. causes: what broke them, by service, where that was asked."""
    for service in dict.fromkeys(result.service for result in results):
        mine = [result for result in results if result.service == service]
        broken = [result for result in mine if not result.ok and not result.untold]
        if broken:
            first = broken[0]
            said = ", ".join((first.verdict, *first.problems))
            detail = f"{said}: {first.detail}" if first.detail else said
            cause = (causes or {}).get(service) or next(iter(first.problems), None)
            yield Condition("service", service, place_of(origin), "broken", "wrong", detail, cause)
        elif any(result.ok for result in mine):
            shut = all(result.expected == "unreachable" for result in mine)
            state = "shut" if shut else "answers"
            yield Condition("service", service, place_of(origin), state, "well", mine[0].detail)
        else:
            steady = any(result.provable for result in mine)  # else nothing will ever tell more than this
            yield Condition("service", service, place_of(origin), "unproven", "unknown", mine[0].detail, steady=steady)


CLOCK_OFF = timedelta(minutes=5)  # by which certificates and second factors begin to fail


def of_clocks(site: Site, outcome: Outcome, now: datetime) -> Iterator[Condition]:
    """The clocks of devices, as far as they tell them by a service that was looked at from inside."""
    told: dict[str, datetime] = {}
    pages = {key[0]: one.page for key, one in outcome.inside.items() if not one.stored}
    if outcome.origin.kind == "here":
        pages |= {result.service: result.evidence.page for result in outcome.results}
    for service, page in pages.items():
        if page is not None and page.date is not None:
            told[site.services[service].host] = read_moment(page.date)
    for host, moment in told.items():
        off = round((moment - now).total_seconds())
        if abs(off) < CLOCK_OFF.total_seconds():
            yield Condition("clock", host, "", "right", "well", "within five minutes of this machine's")
        else:
            way = "ahead of" if off > 0 else "behind"
            said = f"its clock is {shown_duration(abs(off))} {way} this machine's"
            yield Condition("clock", host, "", "off", "wrong", said, "device-clock-off")


NAME_LEVELS: dict[str, Level] = {"current": "well", "updated": "well", "unknown": "unknown"}


def of_names(rows: Iterable[NameRow]) -> Iterator[Condition]:
    for row in rows:
        level = "well" if row.ok else NAME_LEVELS.get(row.action, "wrong")
        state = "current" if row.ok else "unknown" if level == "unknown" else "stale"
        shown = f"{', '.join(row.published) or 'nothing'}, says {row.published_source}"
        detail = f"{shown}; {row.detail}" if row.detail else shown
        cause = None if row.ok else OF_NAMES[row.action]
        if row.action == "updated" and row.ok:  # for as long as that took, it led elsewhere
            yield Condition("name", row.name, row.type, "stale", "wrong", "it led elsewhere", "name-stale")
        yield Condition("name", row.name, row.type, state, level, detail, cause, row.took_s, steady=level == "unknown")


def of_addresses(found: Iterable[PublicAddress]) -> Iterator[Condition]:
    """The public addresses of the lines, as far as they were measured."""
    for public in found:
        seen = next((other for _, other in public.differs if other.measured), public.address)
        if seen.measured and seen.value is not None:
            family = f"ipv{seen.value.version}"
            yield Condition("address", public.line, family, str(seen.value), "fact", f"says {seen.source}")


def of_line(line: str, judged: LineJudged) -> Iterator[Condition]:
    """Whether something from outside arrives at a line at all."""
    if not line:
        return
    said = "; ".join(judged.evidence)
    if judged.can_forward is False:
        yield Condition("line", line, "", "barred", "wrong", said, CODES.get(judged.kind, "line-behind-carrier"))
    elif judged.can_forward:
        yield Condition("line", line, "", "reaches", "well", said)
    else:
        yield Condition("line", line, "", "unclear", "unknown", said, steady=True)


def of_certificates(rows: Iterable[CertificateRow]) -> Iterator[Condition]:
    for row in rows:
        state, level = ("good", "well") if row.ok and row.state not in ENDS_SOON else ("wrong", "wrong")
        if row.ok and row.state in ENDS_SOON:
            state, level = "ends-soon", "wrong"
        if row.state == "unknown":
            state, level = "unknown", "unknown"
        ends = f"until {row.not_after[:10]}" if row.not_after is not None else "none"
        detail = "; ".join(filter(None, (ends, row.detail)))
        yield Condition(
            "certificate", row.certificate, "", state, level, detail, None, steady=level == "unknown"  # type: ignore[arg-type]
        )  # fmt: skip


def of_changes(changes: Sequence[RuleChange]) -> Iterator[Condition]:
    """The rules that were looked at, by service and gateway."""
    for service, gateway in dict.fromkeys((change.rule.service or "", change.gateway) for change in changes):
        mine = [c for c in changes if (c.rule.service or "", c.gateway) == (service, gateway)]
        opened = [change for change in mine if change.action == "open"]
        wrong = next((change for change in opened if change.outcome not in DONE), None)
        if wrong is not None and wrong.outcome == "by-hand":
            yield Condition("rule", service, gateway, "by-hand", "fact", wrong.detail)
        elif wrong is not None:
            yield Condition("rule", service, gateway, "missing", "wrong", wrong.detail, OF_RULES.get(wrong.outcome))
        elif opened:
            if any(change.outcome == "restored" for change in opened):
                yield Condition("rule", service, gateway, "missing", "wrong", "the router had lost it", "rules-lost")
            ends = min((change.until for change in opened if change.until is not None), default=None)
            yield Condition("rule", service, gateway, "entered", "well", f"until {ends}" if ends else "without an end")


def of_routers(
    answered: Collection[str], asked: Iterable[str], trouble: Mapping[str, HooperError]
) -> Iterator[Condition]:
    """Which routers answered, of those that were asked. trouble: why others did not."""
    for key in asked:
        problem = trouble.get(key)
        if key in answered:
            yield Condition("router", key, "", "answers", "well")
        elif problem is not None:
            yield Condition("router", key, "", "mute", "wrong", problem.message, problem.code)
