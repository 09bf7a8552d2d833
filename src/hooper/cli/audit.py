"""hooper audit"""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from hooper.cli.common import JsonFlag, MaskFlag, QuietFlag, Session, SiteOption, VerboseFlag, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, worst
from hooper.planning.topology import Topology

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.planning.audit import AuditDocument

app = sub_app("What is exposed and should not be.")
STYLE = {"high": "bold red", "medium": "orange3", "low": "green"}


@app.command()
def audit(
    site: SiteOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """What the world can see by this plan, the gravest first, with the safer way for each. Asks nobody."""
    from hooper.planning.audit import audit as make_audit
    from hooper.planning.plan import make_plan

    session = Session("audit", json, quiet, verbose)
    file = session.read_site(site, mask=mask)
    today, topology = session.at.date(), Topology(file.site)
    document = make_audit(topology, make_plan(file, today, topology), today)
    code = session.show(document, _render)
    grave = [row.service for row in document.exposed if row.risk == "high" and not row.accepted]
    if grave:
        session.note(f"\nNext: take the safer way for {', '.join(grave)}, or accept the risk with a reason and an end.")
    raise typer.Exit(worst([code, EXIT_NEEDS_A_PERSON if grave else 0]))


def _render(document: AuditDocument, out: Console) -> None:
    from rich.text import Text

    from hooper.cli.render import counted, heading, indented

    heading(out, f"From outside, {counted(len(document.exposed), 'service')} can be reached")
    for row in document.exposed:
        mark = "accepted" if row.accepted else row.risk
        style = "dim" if row.accepted else STYLE[row.risk]
        who = f"only from {', '.join(row.open_to)}" if row.open_to else "everyone"
        out.print()
        out.print(
            Text.assemble(
                (f"{mark:<10}", style),
                (row.service, "bold"),
                f"  {row.what} on {row.host}: {', '.join(row.outside)} by {row.line}, {who}",
                (f"  {' '.join(row.findings)}", "dim"),
            ),
            soft_wrap=True,
        )
        indented(out, row.why, left=10)
        indented(out, row.safer, left=10, mark="→ ")
    if document.everything:
        out.print()
        indented(
            out, f"{', '.join(document.everything)} hands everything inward: the next router is the firewall.", left=0
        )
    if document.accepted:
        out.print()
        heading(out, "Accepted risks")
        for risk in document.accepted:
            end = f"ended on {risk.until}: look again" if risk.ended else f"until {risk.until}"
            out.print(Text.assemble(f"   {risk.service}  ", (f"{risk.finding}, {end}", "red" if risk.ended else "")))
            indented(out, risk.reason, left=6, style="dim")
    if document.not_exposed:
        out.print()
        out.print(f"Not reachable from outside: {', '.join(document.not_exposed)}")
