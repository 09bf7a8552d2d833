"""hooper survey"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

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
    site_path,
    sub_app,
)
from hooper.cli.looking import (
    Looking,
    PublicOption,
    WanOption,
    looking,
    numbers,
    parse_public,
    parse_wan,
    read_address,
)
from hooper.errors import EXIT_NEEDS_A_PERSON, CounterpartError, HooperError, StateError, UsageError, worst
from hooper.sourced import FRESH, age_of, as_told

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.line.facts import LineFacts
    from hooper.line.judging import Between, SurveyDocument
    from hooper.planning.documents import ChangedKey
    from hooper.site.load import SiteFile

OPENINGS = {"the", "this", "all", "nobody", "so", "where", "two"}
PROTOCOLS = {"igd": "UPnP", "natpmp": "NAT-PMP", "pcp": "PCP"}
app = sub_app("What this line is: addresses, routers, and whether forwarding can work.")

DeadlineOption = Annotated[
    float, typer.Option("--deadline", metavar="SECONDS", help="For everything together; --between takes as long again.")
]


@app.command()
def survey(
    wan: WanOption = None,
    public: PublicOption = None,
    between: Annotated[
        bool, typer.Option("--between", help="This machine is plugged in between two boxes: try the inner one.")
    ] = False,
    ask: Annotated[
        bool | None,
        typer.Option("--ask/--no-ask", help="Ask here for the numbers that are missing; else only on a terminal."),
    ] = None,
    save: Annotated[bool, typer.Option("--save", help="Write what was measured into the site file.")] = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="With --save: say what would be written.")] = False,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """What this line is, and whether forwarding can work at all.

    Asks the servers of [measure], this machine's gateway and resolvers, the routers of the site file, and those that
    reveal themselves on the way. What cannot be measured is told: --wan ROUTER=ADDRESS for the number on a router's
    status page. It is remembered with its date.
    """
    session = Session("survey", json, quiet, verbose)
    deadline = deadline_seconds(deadline)
    if dry_run and not save:
        raise UsageError("--dry-run without --save would change nothing anyway", remedy="Add --save, or leave it out.")
    file = session.read_site(site, mask=mask)
    told = parse_wan(wan or [], file.site)
    told |= {f"public:{line}": str(address) for line, address in parse_public(public or [], file.site).items()}
    asking = ask if ask is not None else sys.stdin.isatty() and sys.stderr.isatty() and not (json or quiet)
    document, facts, trouble = run_async(_run, session, file, told, deadline, state, asking, between)
    if save:
        document = replace(document, saved=_save(file, site, facts, document, dry_run=dry_run))
    code = session.show(document, render, errors=trouble)
    if save and document.saved:
        session.note(f"\n{'Would be written' if dry_run else 'Written'} to {site_path(site)}:")
        for one in document.saved:
            session.note(f"   {one.key} = {one.after}" + (f", was {one.before}" if one.before is not None else ""))
    elif save:
        session.note("\nNothing to write: the site file says so already, or it is not clear yet.")
    _next(session, document)
    wrong = document.can_forward is False or (document.between is not None and document.between.wrong is not None)
    raise typer.Exit(worst([code, EXIT_NEEDS_A_PERSON if wrong else 0]))


async def _run(
    session: Session,
    file: SiteFile,
    told: dict[str, str],
    deadline: float,
    state: Path | None,
    asking: bool,
    between: bool,
) -> tuple[SurveyDocument, LineFacts, list[HooperError]]:
    from hooper.line.judging import document
    from hooper.line.measure import measure_line

    async with looking(session, file, state) as opened:
        _remember(session, opened, told)
        known = opened.state.told() if opened.state is not None else {}
        known |= {key: as_told(value, session.at) for key, value in told.items()}
        progress = _Progress(session)
        try:
            facts = await measure_line(opened.here, file.site, known, deadline, now=session.at, progress=progress.show)
        finally:
            progress.clear()
        opened.trouble += facts.measured.trouble if facts.measured is not None else ()
        if asking:
            facts = _ask(session, opened, file, facts)
        if facts.stun_silent:
            names = ", ".join(facts.measured.silent) if facts.measured is not None else ""
            remedy = "Check this machine's internet access, or name other servers in [measure]."
            opened.trouble.append(CounterpartError(f"no STUN server answered ({names})", code="no-stun", remedy=remedy))
        done = document(file.site, facts)
        if between:
            done = replace(done, between=await _between(session, opened, file, facts, deadline))
        return done, facts, opened.trouble


def _remember(session: Session, opened: Looking, told: dict[str, str]) -> None:
    if opened.state is not None:
        try:
            opened.state.tell(session.at, told)
        except StateError as exc:
            opened.trouble.append(exc)


async def _between(session: Session, opened: Looking, file: SiteFile, facts: LineFacts, deadline: float) -> Between:
    from hooper.check.between import look_between
    from hooper.planning.plan import make_plan

    plan = make_plan(file, session.at.date())
    failed: dict[str, str] = {}
    for service, entry in file.site.services.items():
        if opened.state is not None and entry.reach == "public":
            looks = opened.state.outside_since(session.at - FRESH, service)
            if looks and not looks[0][1]["ok"]:
                failed[service] = age_of(looks[0][0], session.at)
    own = facts.own.value
    return await look_between(opened.here, file.site, plan, facts.at, own, deadline, failed=failed)


class _Progress:
    """One line on a terminal: what is still running."""

    def __init__(self, session: Session) -> None:
        self.on = sys.stderr.isatty() and not (session.json or session.quiet)

    def show(self, running: tuple[str, ...]) -> None:
        if self.on and running:
            more = f", and {len(running) - 2} more" if len(running) > 2 else ""
            sys.stderr.write(f"\r\x1b[2Klooking: {', '.join(running[:2])}{more}"[:100])
            sys.stderr.flush()

    def clear(self) -> None:
        if self.on:
            sys.stderr.write("\r\x1b[2K")
            sys.stderr.flush()


def _ask(session: Session, opened: Looking, file: SiteFile, facts: LineFacts) -> LineFacts:
    """Ask the person for exactly what is missing; an empty answer leaves it so."""
    from hooper.line.judging import missing_numbers

    asked: set[str] = set()
    while True:
        missing = next((one for one in missing_numbers(file.site, facts) if one.gateway not in asked), None)
        if missing is None:
            return facts
        asked.add(missing.gateway)
        session.note(f"Nobody here says the {missing.number} of {missing.gateway}. It stands {missing.where}.")
        while True:
            given = typer.prompt("It is (empty: not known)", default="", show_default=False, err=True).strip()
            if not given:
                break
            try:
                address = read_address(missing.gateway, given)
            except UsageError as exc:
                session.note(exc.message)
                continue
            _remember(session, opened, {f"wan:{missing.gateway}": str(address)})
            facts = replace(facts, wan={**facts.wan, missing.gateway: as_told(str(address), session.at)})
            break


def _save(
    file: SiteFile, given: Path | None, facts: LineFacts, document: SurveyDocument, *, dry_run: bool
) -> tuple[ChangedKey, ...]:
    """Write what is clear into the site file; returns the keys that it changed."""
    from hooper.planning.edits import measured
    from hooper.site.load import parse_site
    from hooper.store.sitefile import save_site

    situation = document.situation if document.can_forward is not None else None
    if situation == "one-nat" and any(facts.chain[-1] in one.behind for one in file.site.gateways.values()):
        situation = "several-nats"  # seen from between two boxes; the line has both
    inner = zip(facts.chain, facts.chain[1:], strict=False)
    wans = {key: (outer, facts.wan[key].value) for outer, key in inner if key in facts.wan}
    edited = measured(file, facts.line, situation, wans)
    parse_site(edited.text.encode(), file.name)
    if edited.text != file.text and not dry_run:
        save_site(site_path(given), file, edited.text)
    return edited.changes


def render(document: SurveyDocument, out: Console) -> None:
    """The sentence, the boxes, the numbers, what is wrong."""
    from hooper.cli.render import findings, heading, indented, table
    from hooper.line.judging import SENTENCES

    heading(out, f"This line: {document.situation}")
    proven = document.can_forward is not None or document.situation == "unclear"
    indented(out, ("" if proven else "Likely, not proven: ") + SENTENCES[document.situation], left=0)
    for said in document.evidence:
        first = said.split(" ", 1)[0]  # a key of the site file keeps its spelling
        indented(out, f"{said[:1].upper() if first in OPENINGS else said[:1]}{said[1:]}.", mark="- ", left=0)
    out.print()
    drawn = table("from inside outward", "address", "WAN address", "answers")
    own = "\n".join(one for one in (document.own_address.ipv4, document.own_address.ipv6) if one)
    drawn.add_row("this machine", own or "not at the site", "", "")
    for row in reversed(document.gateways):
        answers = ", ".join(PROTOCOLS[one] for one in row.control) or "nothing"
        drawn.add_row(row.gateway, row.address, row.wan_address or "not told yet", answers)
    seen = "\n".join(one for one in (document.public_address.ipv4, document.public_address.ipv6) if one)
    drawn.add_row("the internet sees", seen or "not measured", "", "")
    out.print(drawn)
    out.print()
    for line in (*_nat_lines(document), *document.remarks):
        indented(out, line, mark="- ", left=0)
    if document.comparisons:
        out.print()
        heading(out, "The numbers")
        numbers(document.comparisons, out)
    if document.between is not None:
        _render_between(document.between, out)
    if document.findings:
        out.print()
        heading(out, "Findings")
        findings(out, document.findings)
    if document.outstanding:
        out.print()
        indented(out, f"Still running when the time was over: {', '.join(document.outstanding)}.", left=0)


def _nat_lines(document: SurveyDocument) -> list[str]:
    """How the NAT treats UDP, in one sentence."""
    nat = document.nat
    if nat is None:
        return []
    parts = [f"mapping {nat.mapping}" if nat.mapping else "", f"filtering {nat.filtering}" if nat.filtering else ""]
    if nat.hairpin is not None:
        parts.append(f"hairpin {'yes' if nat.hairpin else 'no'}")
    if nat.ports_kept is not None:
        parts.append("ports kept" if nat.ports_kept else "ports changed")
    lines = [f"The NAT and UDP: {', '.join(filter(None, parts))}."] if any(parts) else []
    if nat.hairpin is False:
        lines.append(
            "Without hairpin, devices inside use the inner addresses; a test of the public one proves nothing."
        )
    return [*lines, f"{nat.note[:1].upper()}{nat.note[1:]}."] if nat.note else lines


def _render_between(between: Between, out: Console) -> None:
    from hooper.cli.render import heading, indented, table

    out.print()
    heading(out, f"Between {between.outer} and {between.inner}")
    drawn = table("service", f"tried at {between.tried_address}", "verdict", "")
    for row in between.results:
        mark = {True: "ok", False: "not ok", None: "?"}[row.ok]
        drawn.add_row(row.service, f"{row.transport} {row.port}", row.verdict, f"{mark}: {row.detail}")
    out.print(drawn)
    indented(out, between.meaning, left=0)


def _next(session: Session, document: SurveyDocument) -> None:
    if document.between is not None:
        sheet = document.between.inner if document.between.wrong is not None else document.between.outer
        session.note(f"\nNext: hold the list on the page of {sheet} against `hooper worksheet {sheet}`.")
    elif document.can_forward:
        session.note("\nForwarding can work here. Next: `hooper plan`.")
    elif document.missing:
        missing = document.missing[0]
        session.note(f"\nNext: read the {missing.number} of {missing.gateway}. It stands {missing.where}. Then")
        session.note(f"      `hooper survey {missing.option}`.")
    elif document.can_forward is None:
        session.note("\nNext: look at the pair marked ≠ or ?, and read that number again.")
