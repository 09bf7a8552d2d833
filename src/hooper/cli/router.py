"""hooper router ..."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.accepting import AcceptOption, UntilOption, accepted, refusals
from hooper.cli.common import (
    DryRunFlag,
    JsonFlag,
    MaskFlag,
    QuietFlag,
    Session,
    SiteOption,
    StateOption,
    VerboseFlag,
    choose,
    deadline_seconds,
    run_async,
    sub_app,
)
from hooper.cli.looking import DeadlineOption, Looking, looking, numbers
from hooper.errors import EXIT_NEEDS_A_PERSON, HooperError, NeedsAPerson, UsageError, worst
from hooper.planning.openers import not_driven
from hooper.planning.values import EVERYTHING

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.gateways.find import Neighbourhood
    from hooper.gateways.rules import Wanted
    from hooper.gateways.tables import Change, GatewayTable, RouterChangesDocument, RouterListDocument
    from hooper.gateways.work import Work
    from hooper.planning.values import Plan
    from hooper.site.load import SiteFile
    from hooper.store.state import State

    Deed = Callable[[Work, list[Wanted], Plan], Awaitable[None]]

app = sub_app("The routers' own tables: look, put the plan there, take it back.", group=True)

GatewayOption = Annotated[
    list[str] | None, typer.Option("--gateway", metavar="GATEWAY", help="Only this router; can be given again.")
]
ServiceArgument = Annotated[
    list[str] | None, typer.Argument(metavar="SERVICE", help="Only the rules of these services; else all.")
]
OUTCOME_STYLE = {"failed": "bold red", "refused": "bold red", "by-hand": "orange3"}


@app.command("list")
def list_rules(
    gateway: GatewayOption = None,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """What stands in the routers' own tables, whose it is, how long it lasts, and whether it meets the plan."""
    from hooper.gateways.rules import wan_compared
    from hooper.gateways.tables import RouterListDocument

    session = Session("router list", json, quiet, verbose)
    deadline = deadline_seconds(deadline)
    file = session.read_site(site, mask=mask)
    wanted = _driven(file, gateway)
    tables, trouble = run_async(_list, session, file, wanted, deadline, state)
    compared = [row for one in tables for row in wan_compared(file.site, one.gateway, one.wan_address)]
    code = session.show(RouterListDocument(tuple(tables), tuple(compared)), _render_tables, errors=trouble)
    if not code:
        session.note("\nNext: `hooper router open` enters what is missing, `hooper router close` takes ours away.")
    raise typer.Exit(code)


@app.command("open")
def open_rules(
    service: ServiceArgument = None,
    gateway: GatewayOption = None,
    take_over: Annotated[
        bool, typer.Option("--take-over", help="Replace what another hand has at a port; `close` puts it back.")
    ] = False,
    lease: Annotated[
        int, typer.Option("--lease", metavar="SECONDS", help="How long the rules are to last; 0: without an end.")
    ] = 604_800,
    accept: AcceptOption = None,
    until: UntilOption = None,
    dry_run: DryRunFlag = False,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Enter the plan's rules into the routers that answer by IGD, read them back, and say how long they last.

    What another hand has entered is left alone. What a router cannot be told by IGD is for the worksheet. What would
    be exposed before it is ready is not entered (exit code 5).
    """
    session = Session("router open", json, quiet, verbose)
    if not 0 <= lease <= 31_536_000:
        raise UsageError(f"--lease {lease}: from 0 to 31536000 seconds (a year)", remedy="Leave it out for a week.")
    deadline = deadline_seconds(deadline)
    file = session.read_site(site, mask=mask)
    services = choose(service or (), file.site.services, "service")
    not_public = [key for key in services if file.site.services[key].reach != "public"]
    if not_public:
        raise UsageError(f"{not_public[0]} is not public, so it has no rule", remedy='Set reach = "public", if so.')
    gateways = _driven(file, gateway)
    file = accepted(session, file, site, accept, until, services, dry_run=dry_run)

    async def deed(work: Work, wanted: list[Wanted], plan: Plan) -> None:
        chosen = [one for one in wanted if not services or one.service in services]
        public = {f"services.{key}" for key in services or file.site.services}
        findings = [one for one in plan.findings if one.subject in public]
        await work.open(chosen, findings, take_over=take_over, kept_back=refusals(file, plan))

    _change(session, file, gateways, deed, lease, deadline, state, dry_run=dry_run)


@app.command("close")
def close_rules(
    service: ServiceArgument = None,
    gateway: GatewayOption = None,
    dry_run: DryRunFlag = False,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Take away the rules that `router open` entered, those alone, and put back what they replaced."""
    session = Session("router close", json, quiet, verbose)
    deadline = deadline_seconds(deadline)
    file = session.read_site(site, mask=mask)
    gateways = _driven(file, gateway)

    async def deed(work: Work, wanted: list[Wanted], plan: Plan) -> None:
        del wanted, plan
        entered = {entry.service for entry in work.journal.entries(work.gateway).values()}
        chosen = choose(service or (), [*file.site.services, *sorted(entered - {*file.site.services})], "service")
        await work.close(chosen or None)

    _change(session, file, gateways, deed, 0, deadline, state, dry_run=dry_run)


def _driven(file: SiteFile, given: list[str] | None) -> tuple[str, ...]:
    """The routers that are driven by a protocol. Raises: UsageError: a chosen one is by hand, or none is left."""
    site = file.site
    chosen = choose(given or (), site.gateways, "gateway")
    for key in chosen or site.gateways:
        reason = not_driven(site.gateways[key])
        if chosen and reason is not None:
            raise UsageError(f'{key} has control = "{site.gateways[key].control}": {reason}', remedy=_sheet(key))
    driven = tuple(key for key in chosen or site.gateways if not_driven(site.gateways[key]) is None)
    if not driven:
        why = dict.fromkeys(f"{key}: {not_driven(gateway)}" for key, gateway in site.gateways.items())
        raise UsageError(
            f"Hooper enters rules on no router of this site ({'; '.join(why) or 'it has none'})",
            remedy="See `hooper worksheet` for entering by hand.",
        )
    return driven


def _sheet(gateway: str) -> str:
    return f"See `hooper worksheet {gateway}`."


async def _found(opened: Looking, file: SiteFile, gateways: tuple[str, ...], deadline: float) -> Neighbourhood:
    from hooper.gateways.find import find_routers

    found = await find_routers(opened.here, file.site, gateways, deadline)
    opened.trouble += [found.trouble[key] for key in gateways if key in found.trouble]
    for stranger in found.strangers:
        message = f"another device answers as a router: {stranger}, which is no gateway of the site file"
        opened.trouble.append(NeedsAPerson(message, code="unknown-router", remedy="Find out whose it is."))
    return found


async def _list(
    session: Session, file: SiteFile, gateways: tuple[str, ...], deadline: float, state: Path | None
) -> tuple[list[GatewayTable], list[HooperError]]:
    from hooper.gateways.rules import wanted_rules
    from hooper.gateways.tables import GatewayTable
    from hooper.gateways.work import LEASE_S, read_gateway
    from hooper.planning.plan import make_plan

    tables: list[GatewayTable] = []
    async with looking(session, file, state) as opened:
        found = await _found(opened, file, gateways, deadline)
        plan = make_plan(file, session.at.date())
        for key in file.site.gateways:
            router = found.routers.get(key)
            if router is None:
                if key in gateways:
                    tables.append(GatewayTable(key, None, None, None, ()))
                continue
            wanted = list(wanted_rules(plan.forwards, key, LEASE_S))
            try:
                journal = opened.state.entries(key) if opened.state is not None else {}
                tables.append(await read_gateway(key, router, wanted, journal, session.at))
            except HooperError as exc:
                opened.trouble.append(exc)
                tables.append(GatewayTable(key, None, router.device, None, ()))
    return tables, opened.trouble


def _change(
    session: Session,
    file: SiteFile,
    gateways: tuple[str, ...],
    deed: Deed,
    lease: int,
    deadline: float,
    state: Path | None,
    *,
    dry_run: bool,
) -> None:
    """Find the routers, do the deed on each, show what came of it, and leave."""
    from hooper.gateways.tables import RouterChangesDocument
    from hooper.gateways.work import DONE
    from hooper.planning.plan import make_plan

    plan = make_plan(file, session.at.date())
    changes, trouble, ticked = run_async(_work, session, file, plan, gateways, deed, lease, deadline, state, dry_run)
    code = session.show(RouterChangesDocument(dry_run, tuple(changes)), _render_changes, errors=trouble)
    by_hand = sorted({change.gateway for change in changes if change.outcome == "by-hand"} - ticked)
    needs = EXIT_NEEDS_A_PERSON if by_hand or any(c.outcome not in (*DONE, "by-hand") for c in changes) else 0
    for key in by_hand:
        names = ", ".join(_service(c.rule.service) for c in changes if c.gateway == key and c.outcome == "by-hand")
        session.note(f"\nNext: at {key}, enter {names} by hand as `hooper worksheet {key} --rest` says,")
        session.note(f"      then tell so: `hooper worksheet {key} --ticked`.")
    hand = [key for key, gateway in file.site.gateways.items() if gateway.control == "hand"]
    if hand and session.command == "router open":
        session.note(f"{', '.join(hand)}: by hand, so it needs its sheet too: `hooper worksheet {hand[0]}`.")
    if session.command == "router close" and not changes and not code:
        session.note("Nothing of ours is there.")
    raise typer.Exit(worst([code, needs]))


async def _work(
    session: Session,
    file: SiteFile,
    plan: Plan,
    gateways: tuple[str, ...],
    deed: Deed,
    lease: int,
    deadline: float,
    state: Path | None,
    dry_run: bool,
) -> tuple[list[Change], list[HooperError], set[str]]:
    from hooper.gateways.rules import wanted_rules
    from hooper.gateways.work import Work

    changes: list[Change] = []
    async with looking(session, file, state) as opened:
        if opened.state is None:
            return [], opened.trouble, set()  # without a journal nothing is touched
        found = await _found(opened, file, gateways, deadline)
        for key, router in found.routers.items():
            session.detail(f"{key}: {router.device or 'a router'} at {router.control}, {router.service}")
            work = Work(key, router, str(found.own), opened.state, opened.here.clock, dry_run)
            try:
                await deed(work, list(wanted_rules(plan.forwards, key, lease)), plan)
            except HooperError as exc:
                if exc.exit_code == UsageError.exit_code:
                    raise
                work.trouble.append(exc)
            changes += work.changes
            opened.trouble += work.trouble
        return changes, opened.trouble, _ticked(opened.state, plan, gateways)


def _ticked(state: State, plan: Plan, gateways: tuple[str, ...]) -> set[str]:
    """The routers whose sheet was ticked off as it now stands: what is by hand there has been entered."""
    from hooper.planning.worksheet import sheet_mark

    told = state.told()
    return {
        key
        for key in gateways
        if (tick := told.get(f"sheet:{key}")) is not None and tick.value == sheet_mark(plan, key)
    }


def _render_tables(document: RouterListDocument, out: Console) -> None:
    from rich.text import Text

    from hooper.cli.render import heading, table

    for number, gateway in enumerate(document.gateways):
        if number:
            out.print()
        if gateway.protocol is None:
            heading(out, f"{gateway.gateway}: answers no protocol")
            continue
        device = f", {gateway.device}" if gateway.device and gateway.device != gateway.gateway else ""
        heading(out, f"{gateway.gateway}: by IGD{device}, WAN address {gateway.wan_address or 'not told'}")
        if not gateway.rules:
            out.print("Its table is empty.")
            continue
        drawn = table("", "outside", "leads to", "service", "owner", "lasts", "label", right=("outside",))
        for rule in gateway.rules:
            mark = Text("✓", style="green") if rule.meets_plan else Text("≠", style="red" if rule.service else "dim")
            source = f" from {rule.source}" if rule.source else ""
            off = "" if rule.enabled else " (off)"
            drawn.add_row(
                mark,
                f"{rule.transport} {rule.outside_ports[0]}",
                f"{rule.target_address}:{rule.target_ports[0]}{source}{off}",
                _service(rule.service),
                rule.owner,
                lasting(rule.lease_s),
                rule.label,
            )
        out.print(drawn)
    if document.comparisons:
        out.print()
        heading(out, "The numbers")
        numbers(document.comparisons, out)


def _service(key: str | None) -> str:
    """A rule's service as it is shown; the one entry for all that no other rule takes has none."""
    return "all else" if key == EVERYTHING else key or "-"


def lasting(seconds: int | None) -> str:
    """How long something lasts, in the largest unit that is right enough; None: until it is removed."""
    if seconds is None:
        return "no end"
    for size, unit in ((86_400, "d"), (3_600, "h"), (60, "min")):
        if seconds >= size * 2 or (unit == "d" and seconds >= size):
            return f"{seconds / size:.0f} {unit}"
    return f"{seconds} s"


def _render_changes(document: RouterChangesDocument, out: Console) -> None:
    from rich.text import Text

    from hooper.cli.render import heading, indented, table

    if document.dry_run and document.changes:
        heading(out, "Nothing was done; this is what would be:")
    for gateway in dict.fromkeys(change.gateway for change in document.changes):
        changes = [change for change in document.changes if change.gateway == gateway]
        heading(out, f"{gateway}")
        drawn = table("outcome", "service", "outside", "leads to", "until", right=("outside",))
        for change in changes:
            rule = change.rule
            last = "" if rule.outside_ports[0] == rule.outside_ports[1] else f"-{rule.outside_ports[1]}"
            drawn.add_row(
                Text(change.outcome, style=OUTCOME_STYLE.get(change.outcome, "green")),
                _service(rule.service),
                f"{rule.transport} {rule.outside_ports[0]}{last}",
                f"{rule.target_address}:{rule.target_ports[0]}",
                _until(change, dry=document.dry_run),
            )
        out.print(drawn)
        details: dict[str, list[str]] = {}
        for change in changes:
            if change.detail and change.outcome not in ("failed", "refused"):  # failures are told as errors
                details.setdefault(change.detail, []).append(_service(change.rule.service))
        for detail, services in details.items():
            indented(out, f"{', '.join(services)}: {detail}", left=0)


def _until(change: Change, *, dry: bool) -> str:
    if change.until is not None:
        return change.until[:16].replace("T", " ") + " UTC"
    stays = change.action == "open" and change.outcome in ("added", "renewed", "already", "replaced", "left")
    return "no end" if stays and not dry else "-"
