"""What stands on routers by the journal, and is planned no more."""

from __future__ import annotations

from hooper.planning.looks.router import still_stands
from hooper.planning.values import Finding, LeftOver
from hooper.usecases.run import Run


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
    return [still_stands(one) for one in standing(run)]
