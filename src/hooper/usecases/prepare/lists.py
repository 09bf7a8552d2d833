"""What the plan exposes; hosts and services as lists."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from hooper.clock import rfc3339
from hooper.planning.values import Finding, LeftOver
from hooper.usecases.run import Run

if TYPE_CHECKING:
    from hooper.errors import HooperError
    from hooper.planning.audit import AuditDocument, Exposed
    from hooper.planning.documents import HostListDocument, RisksDocument, ServiceListDocument
    from hooper.usecases.run import Run
    from hooper.usecases.watch.condition_kinds import Judgement


def audit(run: Run) -> tuple[AuditDocument, list[HooperError]]:
    """What the plan lets in, and what of ours stands on routers beside it. Asks nobody. Raises: StateError."""
    from hooper.planning.audit import audit as make_audit
    from hooper.usecases.watch.condition_kinds import of_services
    from hooper.usecases.watch.conditions import how_all_stands

    made = make_audit(run.topology, run.plan, run.at.date(), standing(run))
    judged = of_services(run.site, how_all_stands(run), run.at)
    return replace(made, exposed=tuple(_seen(row, judged.get(row.service)) for row in made.exposed)), []


def _seen(row: Exposed, judged: Judgement | None) -> Exposed:
    """judged: None: the site file has it no more."""
    if judged is None or judged.because is None:
        return row
    return replace(row, state=judged.state, seen=rfc3339(judged.because.at))


def list_hosts(run: Run, only: str | None = None) -> tuple[HostListDocument, list[HooperError]]:
    """The hosts of the file. only: this one."""
    from hooper.planning.documents import HostListDocument
    from hooper.planning.lists import host_rows

    rows = (row for row in host_rows(run.topology) if only in (None, row.host))
    return HostListDocument(tuple(rows)), []


def list_services(run: Run) -> tuple[ServiceListDocument, list[HooperError]]:
    """The services of the file."""
    from hooper.planning.documents import ServiceListDocument
    from hooper.planning.lists import service_rows

    return ServiceListDocument(tuple(service_rows(run.topology))), []


def list_risks(run: Run) -> tuple[RisksDocument, list[HooperError]]:
    """The risks that are taken, those whose time is over too."""
    from hooper.planning.documents import Risk, RisksDocument

    taken = [(key, one) for key, service in run.site.services.items() for one in service.accepted]
    today = run.at.date()
    rows = (Risk(key, one.finding, one.reason, str(one.until), one.until < today) for key, one in taken)
    return RisksDocument(tuple(rows)), []


def standing(run: Run) -> list[LeftOver]:
    """Entries of ours that the plan does not have, unless they have ended by themselves. Raises: StateError."""
    if run.state is None or not (entries := run.state.journal.all()):
        return []
    from hooper.gateways.rules import is_planned

    hosts = {str(host.address): key for key, host in run.site.hosts.items()}
    return [
        LeftOver(
            entry.service,
            entry.gateway,
            f"{entry.rule.transport} {entry.rule.outside_port}",
            f"{entry.rule.target_address}:{entry.rule.target_port}",
            hosts.get(entry.rule.target_address, ""),
        )
        for entry in entries
        if (entry.until is None or entry.until > run.at) and not is_planned(entry, run.plan.forwards)
    ]


def findings(run: Run) -> list[Finding]:
    """The same as findings of the plan. Raises: StateError."""
    from hooper.planning.looks.router import still_stands

    return [still_stands(one) for one in standing(run)]
