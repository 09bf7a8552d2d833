"""What a keeper does: each task calls a use case, says how it ended, and when it is wanted again.

A further one is a further row of `tasks_for`.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Collection, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Literal

from hooper.certs.store import CertificateStore
from hooper.clock import read_moment
from hooper.errors import EXIT_COUNTERPART, HooperError
from hooper.keep.notices import tell_all
from hooper.keep.schedule import Outcome, Pace
from hooper.line.right_time import clock_now, time_servers
from hooper.places import HERE, Place
from hooper.planning.meetings import meeting_ends
from hooper.planning.openers import driven_gateways
from hooper.site.model import Keep, Site
from hooper.store.kept import Condition, Stood
from hooper.usecases.act.certificates import CertificatesRequest, keep_certificates
from hooper.usecases.act.names import NamesRequest, look_at_line, update_names
from hooper.usecases.act.routers import RouterRequest, open_rules
from hooper.usecases.private.ends_meet import Tended, tend_ends
from hooper.usecases.private.revoking import revocations
from hooper.usecases.private.tunnel_conditions import watch_tunnels
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import GONE, meant_by, standing
from hooper.usecases.watch.conditions import keep_conditions, of_own_clock, of_roots
from hooper.usecases.watch.status import CHECK
from hooper.usecases.watch.watching import WatchRequest, watch_services
from hooper.usecases.watch.witnesses import clock_by_witness, say_there_to_all
from hooper.words.said import say

# events that wake tasks
ADDRESS, ROUTER, TABLE, NETWORK, WOKE, CHANGED = "address", "router", "table", "network", "woke", "changed"
NOW, SOON = timedelta(0), timedelta(seconds=1)
SHOWN_WITHIN_S = 60.0  # seconds for an update to show at the name's own servers; what lags is looked at again
JUDGED_FOR = timedelta(days=1)  # so long a line is trusted to be reached once it was seen to be
RENEWED_AT = 0.45  # of a lease: passed when it is renewed, so that half of it is left for what goes wrong
ISSUED_WITHIN_S, CLOCK_S = 180.0, 3.0
LOOKS_LEFT, AT_LEAST = 40, timedelta(minutes=5)  # looks at a certificate in the life that it has left; between two
FORGOT = timedelta(minutes=1)  # until a router that had lost rules is looked at again
DAY, BEATS = timedelta(days=1), 3  # signs of life in the time after which a witness tells of silence


@dataclass(frozen=True)
class Ended:
    """How a task ended. again: it is wanted sooner than its pace says. trouble: for the person. told: who was told."""

    outcome: Outcome = "well"
    again: datetime | None = None
    trouble: Sequence[HooperError] = ()
    told: Sequence[str] = ()


@dataclass(frozen=True)
class Task:
    """One task.

    limit: seconds that it may take, by which it is ended if it hangs. work: what is done. needs: the memory that it is
    done with: none, that of this process, or a state that outlasts it. without: what it does not do without the last.
    """

    pace: Pace
    work: Callable[[Run], Awaitable[Ended]]
    limit: float = 120.0
    needs: Literal["nothing", "process", "state"] = "nothing"
    without: str = "what is seen is not kept"


def tasks_for(site: Site) -> dict[str, Task]:
    """The tasks of a site, by their keys."""
    keep = site.keep
    found: dict[str, Task] = {}
    if site.names:
        pace = Pace(
            timedelta(seconds=keep.addresses), timedelta(seconds=0.2), latest=timedelta(seconds=keep.addresses),
            wakes={ADDRESS: NOW, ROUTER: NOW, NETWORK: SOON, WOKE: NOW},
        )  # fmt: skip
        found["names"] = Task(
            pace, _names, needs="process", without="what a provider said is forgotten with this keeper"
        )
    if driven_gateways(site):
        pace = _pace(keep.rules, {ROUTER: NOW, TABLE: 5 * SOON, NETWORK: SOON, WOKE: NOW, ADDRESS: SOON})
        kept_to = "no rule is entered or taken away; those that carry Hooper's label are renewed"
        found["rules"] = Task(pace, _rules, without=kept_to)
    if any(one.authority != "device" for one in site.certificates.values()):
        found["certificates"] = Task(
            _pace(keep.certificates, {WOKE: SOON}, latest=12),
            _certificates,
            900.0,
            "state",
            "no certificate is ordered or given",
        )
    if site.witnesses:
        often = timedelta(seconds=min(one.silence for one in site.witnesses.values()) / BEATS)
        pace = Pace(often, min(often, 15 * SOON), latest=often, wakes={ADDRESS: NOW, NETWORK: SOON, WOKE: NOW})
        found["witness"] = Task(pace, _witness, needs="state", without="no witness is told that this site is there")
    if site.certificates or site.tunnels:
        found["clock"] = Task(Pace(timedelta(hours=6), timedelta(hours=1), wakes={WOKE: SOON}), _clock)
    if site.services:
        for place in keep.places or (HERE,):
            pace = _pace(keep.checks, {ADDRESS: timedelta(seconds=10), NETWORK: timedelta(seconds=10), WOKE: SOON})
            found[f"{CHECK}{place}"] = Task(pace, _checks(place, keep))
    if site.lines:
        found["line"] = Task(Pace(DAY, timedelta(minutes=5), wakes={ADDRESS: timedelta(seconds=20)}), _line)
    if any(service.accepted for service in site.services.values()):
        found["risks"] = Task(Pace(timedelta(hours=6), wakes={WOKE: SOON}), _risks)
    if site.tunnels:
        pace = Pace(timedelta(hours=1), wakes={WOKE: SOON, ADDRESS: timedelta(seconds=20)})
        found["tunnels"] = Task(pace, _tunnels, needs="state", without="tunnels and peers are not looked at")
    if meeting_ends(site, date.min):
        pace = Pace(timedelta(seconds=10), wakes={ADDRESS: SOON, NETWORK: SOON, WOKE: NOW})
        found["meetings"] = Task(pace, _meetings(), needs="process", without="how tunnels go is not kept")
    if site.notices:
        pace = Pace(timedelta(minutes=5), 10 * SOON, wakes={CHANGED: 10 * SOON})
        found["notices"] = Task(pace, _notices, needs="process", without="what was told before is not known")
    found["prune"] = Task(Pace(DAY, timedelta(hours=1)), _prune, without="")
    return found


def _pace(every_s: float, wakes: dict[str, timedelta], latest: int = 2) -> Pace:
    every = timedelta(seconds=every_s)
    return Pace(every, retry=min(every, timedelta(seconds=30)), latest=every * latest, wakes=wakes)


def _failed(run: Run, trouble: Sequence[HooperError]) -> Outcome:
    """Whether asking again soon may help: a counterpart did not do its part."""
    met = [*run.trouble, *trouble]
    return "failed" if any(problem.exit_code == EXIT_COUNTERPART for problem in met) else "well"


async def _names(run: Run) -> Ended:
    """The addresses of the lines, and the names that lead there."""
    request = NamesRequest(patience=SHOWN_WITHIN_S, dry_run=False, patient=True, trusting=JUDGED_FOR)
    document, trouble = await update_names(run, request)
    late = any(row.action in ("failed", "unknown", "pending") for row in document.names)
    free = [read_moment(row.again) for row in document.names if row.again is not None]
    return Ended("failed" if late else "well", min(free, default=None), trouble)


async def _rules(run: Run) -> Ended:
    """What the plan wants of the routers' tables, renewed before half of its lease."""
    document, trouble = await open_rules(run, RouterRequest(deadline=20.0, renew_left=1 - RENEWED_AT + 0.05))
    now = run.here.clock.now()
    ends = [read_moment(change.until) for change in document.changes if change.until is not None]
    again = [now + (min(ends) - now) * RENEWED_AT] if ends else []
    if any(change.outcome == "restored" for change in document.changes):  # it has forgotten once, and may again
        again.append(now + FORGOT)
    return Ended(_failed(run, trouble), min(again, default=None), trouble)


async def _certificates(run: Run) -> Ended:
    """Those that end soon are ordered anew, given to whom they are for, and looked at as they are served."""
    trouble = await keep_certificates(run, CertificatesRequest(patience=ISSUED_WITHIN_S, deadline=10.0))
    keep_conditions(run, of_roots(run.site, run.base, run.here.clock.now()))
    store, ends = CertificateStore(run.kept.certificates), list[datetime]()
    for key in run.site.certificates:
        with suppress(HooperError):  # which was told of it already
            kept = store.kept(key)
            ends += [kept.leaf.not_valid_after_utc] if kept is not None else []
    return Ended(_failed(run, trouble), by_life(ends, run.here.clock.now()), trouble)


def by_life(ends: Collection[datetime], now: datetime) -> datetime | None:
    """When certificates are wanted again by what is left of the one that ends first; None: by their pace alone."""
    left = min(ends, default=None)
    return now + max((left - now) / LOOKS_LEFT, AT_LEAST) if left is not None else None


def _checks(place: Place, keep: Keep) -> Callable[[Run], Awaitable[Ended]]:
    if place.user is not None and keep.proxy_password is not None:
        place = replace(place, password=keep.proxy_password)

    async def work(run: Run) -> Ended:
        _, trouble = await watch_services(run, WatchRequest(place))
        return Ended(_failed(run, trouble), None, trouble)

    return work


async def _clock(run: Run) -> Ended:
    """This computer's own clock."""
    told = await clock_now(run.here, await time_servers(run.here, run.site), CLOCK_S)
    keep_conditions(run, of_own_clock(told or await clock_by_witness(run)))
    return Ended()


async def _witness(run: Run) -> Ended:
    """Each witness is told that this site is there."""
    trouble = await say_there_to_all(run)
    return Ended(_failed(run, trouble), None, trouble)


async def _line(run: Run) -> Ended:
    await look_at_line(run)
    return Ended()


async def _risks(run: Run) -> Ended:
    """The accepted risks whose end has passed."""
    today = run.here.clock.now().date()
    rows = [
        Condition(
            "risk", f"services.{key}", risk.finding,
            *(("over", "wrong") if risk.until < today else ("taken", "fact")),
            say("risk-until", until=risk.until, reason=risk.reason),
            "risk-over" if risk.until < today else None,
        )
        for key, service in run.site.services.items() for risk in service.accepted
    ]  # fmt: skip
    keep_conditions(run, rows)
    return Ended()


async def _tunnels(run: Run) -> Ended:
    """The files of servers and peers, the peers' last days, and whom a server that runs here has seen."""
    trouble = await watch_tunnels(run)
    return Ended(_failed(run, trouble), None, trouble)


def _meetings() -> Callable[[Run], Awaitable[Ended]]:
    """The tunnels that look for the direct way between their ends."""
    known: dict[str, Tended] = {}

    async def work(run: Run) -> Ended:
        again, trouble = await tend_ends(run, known)
        return Ended(_failed(run, trouble), again, trouble)

    return work


async def _notices(run: Run) -> Ended:
    told, trouble = await tell_all(run)
    return Ended(_failed(run, trouble), None, trouble, told)


async def _prune(run: Run) -> Ended:
    """What is no more in the site file, or too old, is let go."""
    site = run.site
    if run.state is not None and run.state.kept:
        history = run.state.history
        history.prune(run.here.clock.now())
        looked_from = (HERE, *site.keep.places)
        let_in, stood = revocations(run), history.conditions()
        live = {id(one) for one in standing(site, stood)}
        history.forget(
            (one.condition.kind, one.condition.subject, one.condition.aspect)
            for one in stood
            if id(one) not in live
            or (one.condition.kind == "peer" and one.condition.aspect == "out" and one.condition.subject not in let_in)
            or (one.condition.kind == "service" and _left_alone(one, looked_from, run.here.clock.now()))
        )
    return Ended()


def _left_alone(one: Stood, looked_from: Sequence[Place], now: datetime) -> bool:
    """Whether nobody looks from there any more, and the last look was long ago."""
    place = Place.read(one.condition.aspect)
    return now - one.at > GONE and not any(meant_by(place, wanted) for wanted in looked_from)
