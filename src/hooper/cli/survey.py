"""hooper survey"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import typer

from hooper.cli.common import (
    JsonFlag,
    MaskFlag,
    QuietFlag,
    Session,
    SiteOption,
    StateOption,
    VerboseFlag,
    deadline_seconds,
    run_async,
    sub_app,
)
from hooper.cli.looking import (
    DeadlineOption,
    PublicOption,
    WanOption,
    looking,
    numbers,
    parse_public,
    parse_wan,
)
from hooper.errors import EXIT_NEEDS_A_PERSON, CounterpartError, HooperError, StateError, worst

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.reach.line import SurveyDocument
    from hooper.site.load import SiteFile

app = sub_app("What this line is: addresses, routers, and whether forwarding can work.")


@app.command()
def survey(
    wan: WanOption = None,
    public: PublicOption = None,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """What this line is, and whether forwarding can work at all.

    What cannot be measured is told: --wan ROUTER=ADDRESS for the number on a router's status page. It is remembered
    with its date.
    """
    session = Session("survey", json, quiet, verbose)
    deadline = deadline_seconds(deadline)
    file = session.read_site(site, mask=mask)
    told = parse_wan(wan or [], file.site)
    told |= {f"public:{line}": str(address) for line, address in parse_public(public or [], file.site).items()}
    document, trouble = run_async(_run, session, file, told, deadline, state)
    code = session.show(document, render, errors=trouble)
    _next(session, document)
    raise typer.Exit(worst([code, EXIT_NEEDS_A_PERSON if document.can_forward is False else 0]))


async def _run(
    session: Session, file: SiteFile, told: dict[str, str], deadline: float, state: Path | None
) -> tuple[SurveyDocument, list[HooperError]]:
    from hooper.reach.facts import Told
    from hooper.reach.line import document
    from hooper.reach.survey import gather_line

    async with looking(session, file, state) as opened:
        known = {}
        if opened.state is not None:
            try:
                opened.state.tell(session.at, told)
                known = opened.state.told()
            except StateError as exc:
                opened.trouble.append(exc)
        known |= {key: Told(value, session.at) for key, value in told.items()}
        facts = await gather_line(opened.here, file.site, known, deadline, now=session.at)
        if facts.stun_silent:
            names = ", ".join(f"{address}:{port}" for address, port in file.site.measure.stun)
            remedy = "Check this machine's internet access, or name other servers in [measure]."
            opened.trouble.append(CounterpartError(f"no STUN server answered ({names})", code="no-stun", remedy=remedy))
        return document(file.site, facts), opened.trouble


def render(document: SurveyDocument, out: Console) -> None:
    """The sentence, the boxes, the numbers, what is wrong."""
    from hooper.cli.render import findings, heading, indented, table
    from hooper.reach.line import SENTENCES

    heading(out, f"This line: {document.situation}")
    indented(out, SENTENCES[document.situation], left=0)
    out.print()
    drawn = table("from inside outward", "address", "WAN address")
    drawn.add_row("this machine", document.own_address.ipv4 or "not at the site", "")
    for row in reversed(document.gateways):
        drawn.add_row(row.gateway, row.address, row.wan_address or "not told yet")
    drawn.add_row("the internet sees", document.public_address.ipv4 or "not measured", "")
    out.print(drawn)
    if document.comparisons:
        out.print()
        heading(out, "The numbers")
        numbers(document.comparisons, out)
    if document.findings:
        out.print()
        heading(out, "Findings")
        findings(out, document.findings)


def _next(session: Session, document: SurveyDocument) -> None:
    if document.can_forward:
        session.note("\nForwarding can work here. Next: `hooper plan`.")
    elif document.can_forward is None:
        missing = [row.gateway for row in document.gateways if row.wan_address is None]
        if missing:
            session.note(f"\nNext: read the WAN address on {missing[0]}'s status page, then")
            session.note(f"      `hooper survey --wan {missing[0]}=ADDRESS`.")
        else:
            session.note("\nNext: look at the pair marked ≠ or ?, and read that number again.")
