"""The rule that every router needs, and what is wrong or risky."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from hooper.errors import HooperError
from hooper.planning.findings import rank
from hooper.planning.values import Compared, Finding, HeldBack, PageUnderstood, PlanDocument
from hooper.sourced import Sourced, SourcedAddress
from hooper.usecases.prepare.lists import findings as standing_findings
from hooper.usecases.run import Run


@dataclass(frozen=True)
class PlanRequest:
    """pin: write the chosen outside ports down. against: the text of each table to hold against the plan, by its name;
    with the gateway that it is of, where that was said. dry_run: write nothing.
    """

    pin: bool = False
    against: Mapping[str, tuple[str | None, str]] = field(default_factory=dict)
    dry_run: bool = False


def plan(run: Run, request: PlanRequest) -> tuple[PlanDocument, list[HooperError]]:
    """Plan. Asks nobody. Raises: CannotEdit, MachineError, BadTable, StateError."""
    from hooper.planning.kept_back import refusals
    from hooper.planning.lists import handed_names
    from hooper.planning.openers import entering

    pinned = _pinned(run, request.dry_run) if request.pin else ()
    made = run.plan
    findings = tuple(sorted([*made.findings, *_contradicted(run), *standing_findings(run)], key=rank))
    feasible = made.feasible and not any(finding.severity == "error" for finding in findings)
    ways_to_enter = tuple(entering(run.topology, made))
    compared, understood = _against(run, request)
    kept = {key: exc for key, exc in refusals(run.site, made).items() if run.topology.bearer(key) == key}
    held = tuple(HeldBack(key, exc.reason, exc.remedy) for key, exc in kept.items())
    by_name = tuple(handed_names(run.topology))
    return PlanDocument(
        made.forwards, findings, feasible, ways_to_enter, compared, pinned, held, understood, by_name
    ), []


def _contradicted(run: Run) -> list[Finding]:
    """What is written as fixed, where it was last measured to be another address."""
    found = []
    fixed = any(line.address for line in run.site.lines.values())
    seen = run.state.ledger.addresses(run.at) if run.state is not None and fixed else {}
    for key, address in seen.items():
        line = run.site.lines.get(key)
        if line is not None and line.address and address.value not in line.address:
            from hooper.line.sources import WRITTEN
            from hooper.planning.looks.line import address_differs

            claim: SourcedAddress = Sourced(line.address[0], WRITTEN, how="written")
            known = Sourced(address.value, address.source + ", " + address.age(run.at), address.at)
            found.append(address_differs(key, claim, known, fresh=address.fresh(run.at)))
    return found


def _pinned(run: Run, dry_run: bool) -> tuple[str, ...]:
    from hooper.planning.edits import pin
    from hooper.store.sitefile import save_site

    edited = pin(run.file)
    if edited.changes and not dry_run:
        run.use(save_site(run.path, run.file, edited.text))
    return tuple(f"{change.key} = {change.after}" for change in edited.changes)


def _against(run: Run, request: PlanRequest) -> tuple[tuple[Compared, ...], tuple[PageUnderstood, ...]]:
    """The tables and pages that were given against the plan, and what pages were understood to say."""
    if not request.against:
        return (), ()
    from hooper.planning.against import compare_table, read_table
    from hooper.planning.pages import understood
    from hooper.usecases.prepare.page_reading import reader_of

    gateways = list(run.site.gateways)
    out: list[Compared] = []
    pages: list[PageUnderstood] = []
    for name, (gateway, text) in request.against.items():
        if (reader := reader_of(text)) is not None:
            page = reader.read(text, name)
            pages.append(understood(run.site, gateway, name, page))
            out += compare_table(run.plan.forwards, list(page.rules), gateways, gateway, name, page.may_hold)
        else:
            out += compare_table(run.plan.forwards, read_table(text, name), gateways, gateway, name)
    return tuple(out), tuple(pages)
