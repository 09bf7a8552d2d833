"""The routers' own tables: look, put the plan there, take it back."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Collection
from dataclasses import dataclass

import anyio

from hooper import deeds
from hooper.chosen import chosen
from hooper.errors import HooperError, NeedsAPerson, NoAnswer, RefusedForSafety, UsageError
from hooper.gateways.documents import GatewayTable, RouterChangesDocument, RouterListDocument, RuleChange, RuleRow
from hooper.gateways.driver import Driver
from hooper.gateways.find import Neighbourhood, find_routers
from hooper.gateways.refusals import LabelledUnknown
from hooper.gateways.rules import Wanted, wan_compared, wanted_rules
from hooper.gateways.work import LEASE_S, Work, entered_rule, read_gateway
from hooper.planning.kept_back import refusals
from hooper.planning.openers import driven_gateways, not_driven, ticked_sheets
from hooper.ports import ports_text, single
from hooper.site.handed import sharing
from hooper.store.entries import Entered
from hooper.store.locking import alone
from hooper.usecases.act.temporary import at_ports, take_back_left
from hooper.usecases.prepare.edits import NOTHING, Acceptance, take_risks
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import keep_changes, keep_conditions, of_changes, of_routers
from hooper.words.said import say

REQUEST_S, LEAST = 5.0, 0.5  # seconds for one request at most, and for a router that was found late at least
Deed = Callable[[Work, list[Wanted]], Awaitable[None]]


@dataclass(frozen=True)
class RouterRequest:
    """gateways: only these; empty: all that a program drives. services: only their rules; empty: all.

    deadline: seconds for all of it. lease_s: how long rules are to last; 0: without an end. take_over: replace what
    somebody else has. dry_run: look, and change nothing. accept: risks that are taken. labelled: take away what carries
    Hooper's label, known or not. given_up: routers that are gone: what was entered there is forgotten.
    renew_left: what is left of a lease when it is renewed, as a share.
    """

    gateways: tuple[str, ...] = ()
    services: tuple[str, ...] = ()
    deadline: float = 5.0
    lease_s: int = LEASE_S
    take_over: bool = False
    dry_run: bool = False
    accept: Acceptance = NOTHING
    labelled: bool = False
    given_up: tuple[str, ...] = ()
    renew_left: float = 0.5


def driven(run: Run, given: Collection[str]) -> tuple[str, ...]:
    """The routers that a program drives. Raises: UsageError: a chosen one is by hand, or none is left."""
    gateways = run.site.gateways
    for key in given:
        reason = not_driven(run.site, key)
        if reason is not None:
            message = f'{key} has control = "{gateways[key].control}": {reason}'
            raise UsageError(message, remedy=f"See `{deeds.SHEET(key)}`.")
    found = tuple(given) or driven_gateways(run.site)
    if not found:
        reasons = "; ".join(f"{key}: {not_driven(run.site, key)}" for key in gateways)
        raise UsageError(
            f"no router of this site takes rules from a program ({reasons or 'it has none'})",
            remedy=f"See `{deeds.SHEET}` for entering by hand.",
        )
    return found


async def _found(run: Run, gateways: tuple[str, ...], deadline: float) -> Neighbourhood:
    """The routers, found within half of the time: the other half is for what they are asked."""
    found = await find_routers(run.here, run.site, gateways, min(deadline / 2, REQUEST_S))
    run.trouble += [found.trouble[key] for key in gateways if key in found.trouble]
    for stranger in found.strangers:
        message = f"another device answers as a router: {stranger}, which is no gateway of the site file"
        run.trouble.append(NeedsAPerson(message, code="unknown-router", remedy="Find out whose it is."))
    return found


async def list_rules(run: Run, request: RouterRequest) -> tuple[RouterListDocument, list[HooperError]]:
    """What stands in the tables. Raises: NoNetwork, NotAtTheSite, UsageError."""
    gateways = driven(run, request.gateways)
    end = run.here.clock.monotonic() + request.deadline
    found = await _found(run, gateways, request.deadline)
    tables: dict[str, GatewayTable] = {}
    problems: dict[str, list[HooperError]] = {}

    async def read(key: str, router: Driver) -> None:
        try:
            with anyio.fail_after(max(end - run.here.clock.monotonic(), LEAST)):
                tables[key], problems[key] = await _read(run, key, router, at_ports(lent, key))
        except (HooperError, TimeoutError) as exc:
            late = NoAnswer(f"{key} has not shown its table within {request.deadline:g} s")
            tables[key] = GatewayTable(key, None, router.device, None, ())
            problems[key] = [exc if isinstance(exc, HooperError) else late]

    lent = await take_back_left(run, found.routers)
    async with anyio.create_task_group() as tasks:
        for key, router in found.routers.items():
            tasks.start_soon(read, key, router)
    shown = tuple(
        tables.get(key) or GatewayTable(key, None, None, None, ())
        for key in run.site.gateways
        if key in tables or key in gateways
    )
    trouble = [problem for table in shown for problem in problems.get(table.gateway, ())]
    trouble += _left_behind(run, request)
    compared = [row for table in shown for row in wan_compared(run.site, table.gateway, table.wan_address)]
    return RouterListDocument(shown, tuple(compared)), trouble


async def _read(
    run: Run, key: str, router: Driver, lent: frozenset[tuple[str, int]]
) -> tuple[GatewayTable, list[HooperError]]:
    """One router's table, and what is wrong with it. Raises: as `read_gateway`."""
    wanted = list(wanted_rules(router, run.plan.forwards, key, LEASE_S))
    journal = run.state.journal.entries(key) if run.state is not None else {}
    table = await read_gateway(key, router, wanted, journal, run.at, lent)
    there = [entry for entry in journal.values() if entry.rule.key not in lent]
    found = (_lost(key, table, there), _unplanned(table), _unknown(table))
    return table, [problem for problem in found if problem is not None]


async def open_rules(run: Run, request: RouterRequest) -> tuple[RouterChangesDocument, list[HooperError]]:
    """Enter what the plan wants. Raises: NoNetwork, NotAtTheSite, UsageError."""
    entered = {entry.service for entry in run.state.journal.all()} if run.state is not None else set()
    not_public = [key for key in request.services if run.site.services[key].reach != "public" and key not in entered]
    if not_public:
        names, verb = ", ".join(not_public), "is" if len(not_public) == 1 else "are"
        raise UsageError(f"{names} {verb} not public, so there is no rule", remedy='Set reach = "public", if so.')
    driven(run, request.gateways)
    run.accepted = take_risks(run, request.accept)
    together = sharing(run.site)
    keys = [one for key in request.services or run.site.services for one in together.get(key, (key,))]
    public = {f"services.{key}" for key in keys}
    findings = [finding for finding in run.plan.findings if finding.subject in public]
    kept_back = {**_of_their_lines(run, request), **refusals(run.site, run.plan)}

    asked = tuple(dict.fromkeys(map(run.topology.bearer, request.services)))

    async def deed(work: Work, wanted: list[Wanted]) -> None:
        these = [rule for rule in wanted if not asked or rule.service in asked]
        await work.open(
            these, findings, take_over=request.take_over, kept_back=kept_back, services=asked or None,
            renew_left=request.renew_left,
        )  # fmt: skip

    document, trouble = await _change(run, request, deed)
    return document, [*trouble, *_left_behind(run, request)]


def _of_their_lines(run: Run, request: RouterRequest) -> dict[str, HooperError]:
    """Services behind a line by which nothing arrives: a rule for them would be a promise that nobody keeps."""
    if request.accept.reasons:
        return {}
    wrong = {f.subject: f for f in run.plan.findings if f.severity == "error" and f.subject.startswith("lines.")}
    return {
        key: RefusedForSafety(
            f"not entered: {wrong[subject].message}",
            code=wrong[subject].code,
            remedy=f"{wrong[subject].remedy} To enter it all the same, give {deeds.ACCEPT}.",
        )
        for key in run.site.services
        if (subject := f"lines.{run.topology.lines[key]}") in wrong
    }


def _lost(gateway: str, table: GatewayTable, journal: Collection[Entered]) -> HooperError | None:
    """What Hooper had entered and the router has no more, as after a restart."""
    there = {(row.transport, row.outside_ports) for row in table.rules}
    lost = [
        f"{entry.service} ({entry.rule.transport} {entry.rule.outside_port})"
        for entry in journal
        if (entry.rule.transport, single(entry.rule.outside_port)) not in there
    ]
    if not lost:
        return None
    message = f"{gateway} has what was entered no more: {', '.join(lost)}"
    return NeedsAPerson(message, code="rules-lost", remedy=f"`{deeds.OPEN}` enters it again.")


def _unplanned(table: GatewayTable) -> HooperError | None:
    """What Hooper had entered, and the plan does not have any more."""
    left = [_row_words(row) for row in table.rules if row.owner == "ours" and not row.meets_plan]
    if not left:
        return None
    message = f"{table.gateway} still has rules of ours that the plan does not have: {', '.join(left)}"
    return NeedsAPerson(message, code="rule-not-planned", remedy=f"`{deeds.OPEN}` takes them away.")


def _unknown(table: GatewayTable) -> HooperError | None:
    """What carries Hooper's label, and the journal does not have."""
    found = [_row_words(row) for row in table.rules if row.owner == "labelled"]
    if not found:
        return None
    return LabelledUnknown(
        f"{table.gateway} has rules with Hooper's label that this state does not know: {', '.join(found)}",
        remedy=f"`{deeds.OPEN}` takes up those that meet the plan, `{deeds.CLOSE_LABELLED}` takes all away;"
        f" or give the state that has them with {deeds.STATE_FOLDER}.",
    )


def _row_words(row: RuleRow) -> str:
    where = f"{row.transport} {ports_text(row.outside_ports)} to {row.target_address}:{ports_text(row.target_ports)}"
    return f"{where} ({row.label})" if row.label else where


def _left_behind(run: Run, request: RouterRequest) -> list[HooperError]:
    """Rules of ours at routers that no program drives any more: nobody takes those away."""
    if run.state is None or request.gateways:
        return []
    out: list[HooperError] = []
    entries = [entry for entry in run.state.journal.all() if entry.until is None or entry.until > run.at]
    for key in sorted({entry.gateway for entry in entries}):
        known = run.site.gateways.get(key)
        if known is not None and not_driven(run.site, key) is None:
            continue
        left = [f"{e.rule.transport} {e.rule.outside_port} ({e.service})" for e in entries if e.gateway == key]
        why = "the site file does not have it any more" if known is None else str(not_driven(run.site, key))
        message = f"rules of ours may still stand at {key}: {', '.join(left)}; {why}"
        remedy = f"Take them off on its pages, then `{deeds.GIVE_UP(key)}`."
        out.append(NeedsAPerson(message, code="rules-left-behind", remedy=remedy))
    return out


def _unfinished(gateway: str, deadline: float) -> HooperError:
    return NoAnswer(
        f"{gateway} was not done with within {deadline:g} s; what was begun stands in the journal",
        remedy=f"Run the command again, which takes it up; {deeds.WAIT_LONGER} gives it more time.",
    )


async def close_rules(run: Run, request: RouterRequest) -> tuple[RouterChangesDocument, list[HooperError]]:
    """Take away what is ours. Raises: NoNetwork, NotAtTheSite, UsageError: nothing has such a service."""

    async def deed(work: Work, wanted: list[Wanted]) -> None:
        del wanted
        entered = {entry.service for entry in work.journal.entries(work.gateway).values()}
        known = [*run.site.services, *sorted(entered - {*run.site.services})]
        for key in request.services:
            if key not in entered and (by := run.topology.bearer(key)) != key:
                raise UsageError(
                    f"{key} has no rule of its own: it comes in by that of {by}, and its web server knows it by name",
                    remedy=f"Take its name out of the web server's file; `{deeds.CLOSE(by)}` closes all of them.",
                )
        await work.close(chosen(request.services, known, "service") or None, labelled=request.labelled)

    if request.given_up:
        return _given_up(run, request)
    document, trouble = await _change(run, request, deed)
    return document, [*trouble, *_left_behind(run, request)]


def _given_up(run: Run, request: RouterRequest) -> tuple[RouterChangesDocument, list[HooperError]]:
    """Forget what was entered at routers that are gone. Raises: UsageError: nothing was entered there."""
    if run.state is None:
        return RouterChangesDocument(request.dry_run, ()), []
    entries = run.state.journal.all()
    changes: list[RuleChange] = []
    for key in chosen(request.given_up, sorted({entry.gateway for entry in entries}), "router with rules of ours"):
        mine = [entry for entry in entries if entry.gateway == key]
        if not request.dry_run:
            run.state.journal.forget(key, [entry.key for entry in mine])
        for entry in mine:
            changes.append(RuleChange(key, "close", entered_rule(entry), "gone", None, say("given-up")))
    return RouterChangesDocument(request.dry_run, tuple(changes)), []


async def _change(run: Run, request: RouterRequest, deed: Deed) -> tuple[RouterChangesDocument, list[HooperError]]:
    """Find the routers, and do the deed on each. Without a journal nothing is touched."""
    gateways = driven(run, request.gateways)
    changes: list[RuleChange] = []
    trouble: list[HooperError] = []
    if run.state is None:
        return RouterChangesDocument(request.dry_run, ()), trouble
    end = run.here.clock.monotonic() + request.deadline
    found = await _found(run, gateways, request.deadline)
    lent = frozenset() if request.dry_run else await take_back_left(run, found.routers)
    for key, router in found.routers.items():
        run.detail(f"{key}: {router.device or 'a router'} at {router.where}")
        journal, clock, dry = run.state.journal, run.here.clock, request.dry_run
        work = Work(key, router, str(found.own), journal, clock, dry, at_ports(lent, key), run.state.kept)
        try:
            with anyio.fail_after(max(end - run.here.clock.monotonic(), LEAST)):
                async with alone(run.state.lock(f"router-{key}"), run.here.clock, f"is changing {key}"):
                    await deed(work, list(wanted_rules(router, run.plan.forwards, key, request.lease_s)))
        except TimeoutError:
            work.trouble.append(_unfinished(key, request.deadline))
        except HooperError as exc:
            if exc.exit_code == UsageError.exit_code:
                raise
            work.trouble.append(exc)
        changes += work.changes
        trouble += work.trouble
    if not request.dry_run:
        keep_changes(run, changes)
        keep_conditions(run, (*of_changes(changes), *of_routers(found.routers, gateways, found.trouble)))
    done = ticked_sheets(run.site, run.plan, run.site.gateways, run.told())
    by_hand = {change.gateway for change in changes if change.outcome == "by-hand"} - done.keys()
    return RouterChangesDocument(request.dry_run, tuple(changes), tuple(sorted(by_hand))), trouble
