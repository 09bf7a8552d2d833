"""hooper plan"""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from hooper.cli.common import JsonFlag, MaskFlag, QuietFlag, Session, SiteOption, VerboseFlag, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, worst
from hooper.planning.model import Forward, PlanDocument, ports_text

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.site.model import Site

app = sub_app("The rule that every router needs, and what is wrong or risky.")


@app.command()
def plan(
    site: SiteOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """The rule that every router needs, and what is wrong or risky. Touches nothing and asks nothing."""
    from hooper.planning.plan import make_plan

    session = Session("plan", json, quiet, verbose)
    file = session.read_site(site, mask=mask)
    made = make_plan(file, session.at.date())
    document = PlanDocument(made.forwards, made.findings, made.feasible)
    code = session.show(document, lambda shown, out: render(shown, out, file.site, verbose=verbose))
    if made.feasible:
        driven = sorted({forward.gateway for forward in made.forwards if forward.by in ("auto", "igd")})
        if driven:
            session.note(f"\nNext: `hooper router open` enters what {', '.join(driven)} takes from a program;")
            session.note("      `hooper worksheet --rest` then says what to enter by hand.")
        else:
            session.note("\nNext: `hooper worksheet` says what to enter on each router.")
    else:
        session.note("\nNext: put the errors right in the site file, then `hooper plan` again.")
    raise typer.Exit(worst([code, 0 if made.feasible else EXIT_NEEDS_A_PERSON]))


def render(document: PlanDocument, out: Console, site: Site, *, verbose: bool = False) -> None:
    """The ways of the services, those that are not forwarded, the findings."""
    from hooper.cli.render import counted, findings, heading
    from hooper.planning.catalogue import CATALOGUE

    gateways = list(dict.fromkeys(forward.gateway for forward in document.forwards))
    where = f" on {', '.join(gateways)}" if gateways else ""
    heading(out, f"Plan: {counted(len(document.forwards), 'rule')}{where}")
    if document.forwards:
        out.print()
        ways(document.forwards, out)
    for reach, words in (("tunnel", "through a tunnel only"), ("lan", "on the LAN only")):
        keys = [key for key, service in site.services.items() if service.reach == reach]
        if keys:
            out.print(f"Not forwarded, {words}: {', '.join(keys)}")
    if document.findings:
        out.print()
        heading(out, f"Findings: {_counts(document)}")
        findings(out, document.findings)
    if verbose:
        for code in dict.fromkeys(item.code for item in document.findings):
            out.print(f"{code}: {CATALOGUE[code].why}", style="dim")


def _counts(document: PlanDocument) -> str:
    from hooper.cli.render import counted

    counts = {s: sum(item.severity == s for item in document.findings) for s in ("error", "warning", "note")}
    return ", ".join(counted(number, word) for word, number in counts.items() if number)


def ways(forwards: tuple[Forward, ...], out: Console) -> None:
    """One row a service: where it comes in, and where each gateway sends it. One table for each chain."""
    from hooper.cli.render import table

    steps: dict[tuple[str, str, int], list[Forward]] = {}
    order: dict[str, int] = {}
    for forward in forwards:
        order.setdefault(forward.gateway, len(order))
        same = [row for key, row in steps.items() if key[0] == forward.service]
        nth = sum(row[-1].gateway == forward.gateway for row in same)
        waiting = [row for row in same if row[-1].gateway != forward.gateway and _leads_to(row[-1], forward)]
        if waiting:
            waiting[0].append(forward)
        else:
            steps[forward.service, forward.gateway, nth] = [forward]
    chains: dict[tuple[str, ...], list[list[Forward]]] = {}
    for row in steps.values():
        chains.setdefault(tuple(forward.gateway for forward in row), []).append(row)
    for chain, rows in chains.items():
        drawn = table("service", "from outside", *(f"{gateway} sends to" for gateway in chain))
        for row in rows:
            cells = [f"{forward.target_address}:{ports_text(forward.target_ports)}" for forward in row]
            drawn.add_row(row[0].service, f"{row[0].transport} {ports_text(row[0].outside_ports)}", *cells)
        out.print(drawn)
        out.print()
    limited: dict[str, list[str]] = {}
    for forward in forwards:
        if forward.sources:
            limited.setdefault(", ".join(forward.sources), []).append(forward.service)
    for sources, services in limited.items():
        out.print(f"Only from {sources}: {', '.join(dict.fromkeys(services))}")


def _leads_to(outer: Forward, inner: Forward) -> bool:
    """Whether what `outer` sends on arrives at `inner`."""
    if outer.target_address != inner.outside_address or outer.target_ports is None or inner.outside_ports is None:
        return False
    carried = inner.transport == "both" or outer.transport in (inner.transport, "both")
    return carried and inner.outside_ports[0] <= outer.target_ports[0] <= inner.outside_ports[1]
