"""hooper router ..."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import DRY_RUN, command, within
from hooper.cli.parts.editing import acceptance, taken
from hooper.cli.parts.from_where import numbers
from hooper.cli.parts.session import Done, Session, sub_app
from hooper.clock import local, shown_duration
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.planning.values import EVERYTHING

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.gateways.documents import RouterChangesDocument, RouterListDocument, RuleChange

app = sub_app("The routers' own tables: look, put the plan there, take it back.", group=True)

ALL_OF_IT = "For all of it; what was begun and not done is taken up by the next run."
WOULD = {
    "added": "would add",
    "renewed": "would renew",
    "replaced": "would replace",
    "removed": "would remove",
    "put-back": "would put back",
}  # what an outcome is called where nothing was done
OUTCOME_STYLE = {"failed": "wrong", "refused": "wrong", "by-hand": "doubtful"}


@command(app, "router list", site=True, state=True, mask=True, deadline=10.0, deadline_help=ALL_OF_IT)
def list_rules(session: Session, gateway: list[str] | None = None) -> int:
    """What stands in the routers' own tables, whose it is, how long it lasts, and whether it meets the plan."""
    from hooper.usecases.act.routers import RouterRequest
    from hooper.usecases.act.routers import list_rules as look

    file = session.read_site()
    request = RouterRequest(chosen(gateway or (), file.site.gateways, "gateway"), deadline=session.deadline)
    done = session.look(lambda run: look(run, request), file)
    code = session.show(done.document, partial(_render_tables, verbose=session.verbose), errors=done.trouble)
    if not code:
        session.ahead("rule", "sheet")
    return code


@command(app, "router open", site=True, state=True, mask=True, deadline=60.0, deadline_help=ALL_OF_IT, dry_run=DRY_RUN)
def open_rules(
    session: Session,
    service: list[str] | None = None,
    gateway: list[str] | None = None,
    take_over: bool = False,
    lease: float = "1w",  # type: ignore[assignment]
    accept: list[str] | None = None,
    until: str | None = None,
) -> int:
    """Enter the plan's rules into the routers that answer by IGD, read them back, and say how long they last.

    What somebody else has entered is left alone. What a router cannot be told by IGD is for the worksheet. What would
    be exposed before it is ready is not entered (exit code 5).
    """
    from hooper.usecases.act.routers import RouterRequest
    from hooper.usecases.act.routers import open_rules as enter

    within("--lease", lease, 0, 31_536_000)
    file = session.read_site()
    services = chosen(service or (), file.site.services, "service")
    gateways = chosen(gateway or (), file.site.gateways, "gateway")
    asked = acceptance(accept, until, services, dry_run=session.dry_run)
    request = RouterRequest(gateways, services, session.deadline, int(lease), take_over, session.dry_run, asked)
    done = session.look(lambda run: enter(run, request), file)
    code = _show(session, done)
    if not done.document.by_hand:
        session.ahead()
    return code


@command(app, "router close", site=True, state=True, mask=True, deadline=60.0, deadline_help=ALL_OF_IT, dry_run=DRY_RUN)
def close_rules(
    session: Session,
    service: list[str] | None = None,
    gateway: list[str] | None = None,
    labelled: bool = False,
    given_up: list[str] | None = None,
) -> int:
    """Take away the rules that `router open` entered, those alone, and put back what they replaced."""
    from hooper.usecases.act.routers import RouterRequest
    from hooper.usecases.act.routers import close_rules as take_away

    if given_up and (service or gateway or labelled):
        raise UsageError(
            "--given-up forgets all of that router, and looks at none",
            remedy="Give it without services and --labelled.",
        )
    file = session.read_site()
    gateways = chosen(gateway or (), file.site.gateways, "gateway")
    request = RouterRequest(
        gateways,
        tuple(service or ()),
        session.deadline,
        dry_run=session.dry_run,
        labelled=labelled,
        given_up=tuple(given_up or ()),
    )
    done = session.look(lambda run: take_away(run, request), file)
    code = _show(session, done)
    if not done.document.changes and not code:
        session.note("Nothing of ours is there.")
    return code


def _show(session: Session, done: Done[RouterChangesDocument]) -> int:
    """What was done, and what is left."""
    from hooper.gateways.documents import DONE

    document = done.document
    code = session.show(document, _render_changes, errors=done.trouble)
    if done.run.accepted is not None:
        taken(session, done.run.accepted)
    if document.by_hand:
        session.ahead("sheet")
    failed = any(change.outcome not in (*DONE, "by-hand") for change in document.changes)
    return worst([code, EXIT_NEEDS_A_PERSON if document.by_hand or failed else 0])


def _render_tables(document: RouterListDocument, out: Screen, *, verbose: bool = False) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import heading, table
    from hooper.planning.openers import called

    for number, gateway in enumerate(document.gateways):
        if number:
            out.print()
        if gateway.protocol is None:
            heading(out, f"{gateway.gateway}: answers no protocol")
            continue
        device = f", {gateway.device}" if gateway.device and gateway.device != gateway.gateway else ""
        by = f"by {called(gateway.protocol)}{device}"
        heading(out, f"{gateway.gateway}: {by}, WAN address {gateway.wan_address or 'not known'}")
        if not gateway.rules:
            out.print("Its table is empty.")
            continue
        drawn = table("", "outside", "leads to", "service", "owner", "lasts", "label", right=("outside",))
        for rule in gateway.rules:
            mark = Text("✓", style="well") if rule.meets_plan else Text("≠", style="wrong" if rule.service else "faint")
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
    numbers(document.comparisons, out, verbose=verbose)


def _service(key: str | None) -> str:
    """A rule's service as it is shown; the one entry for all that no other rule takes has none."""
    return "all else" if key == EVERYTHING else key or "-"


def lasting(seconds: int | None) -> str:
    """How long something lasts; None: until it is removed."""
    return "no expiry" if seconds is None else shown_duration(seconds)


def _render_changes(document: RouterChangesDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import heading, indented, table

    if document.dry_run and document.changes:
        heading(out, "Nothing was done; this is what would be:")
    for gateway in dict.fromkeys(change.gateway for change in document.changes):
        changes = [change for change in document.changes if change.gateway == gateway]
        heading(out, f"{gateway}")
        drawn = table("outcome", "service", "outside", "leads to", "until", right=("outside",))
        for change in changes:
            rule = change.rule
            style = OUTCOME_STYLE.get(change.outcome, "well")
            last = "" if rule.outside_ports[0] == rule.outside_ports[1] else f"-{rule.outside_ports[1]}"
            drawn.add_row(
                Text(WOULD.get(change.outcome, change.outcome) if document.dry_run else change.outcome, style=style),
                _service(rule.service),
                f"{rule.transport} {rule.outside_ports[0]}{last}",
                f"{rule.target_address}:{rule.target_ports[0]}",
                _until(change, dry=document.dry_run),
            )
        out.print(drawn)
        details: dict[str, list[str]] = {}
        for change in changes:
            if change.detail and change.outcome not in ("failed", "refused"):  # failures are told as errors
                details.setdefault(str(change.detail), []).append(_service(change.rule.service))
        for detail, services in details.items():
            indented(out, f"{', '.join(services)}: {detail}", left=0)


def _until(change: RuleChange, *, dry: bool) -> str:
    if change.until is not None:
        return local(change.until)
    stays = change.action == "open" and change.outcome in ("added", "renewed", "already", "replaced", "left")
    return "no expiry" if stays and not dry else "-"
