"""hooper survey"""

from __future__ import annotations

import sys
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.cli.parts.command import command
from hooper.cli.parts.from_where import (
    numbers,
    parse_origin,
    parse_pairs,
    parse_public,
    parse_wan,
    read_address,
)
from hooper.cli.parts.session import Session, console, prompt, run_async, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, SiteFileError, UsageError, worst

if TYPE_CHECKING:
    from collections.abc import Sequence

    from hooper.addresses import IPAddress
    from hooper.check.between import Between
    from hooper.cli.parts.render import Screen
    from hooper.line.judging import Missing
    from hooper.places import Place
    from hooper.planning.guide_values import Before
    from hooper.planning.ways import WayIn
    from hooper.site.load import SiteFile
    from hooper.site.model import Site
    from hooper.usecases.prepare.ports_in import PortsInDocument
    from hooper.usecases.prepare.survey import SurveyDocument

OPENINGS = {"the", "this", "all", "nobody", "so", "where", "two"}
PROTOCOLS = {"igd": "UPnP", "natpmp": "NAT-PMP", "pcp": "PCP"}
app = sub_app("What this line is: addresses, routers, and whether forwarding can work.")

SAVE_DRY_RUN = "With --save: say what would be written."
DEADLINE = "The time limit for everything; --between doubles it."


@command(app, "survey", site=True, state=True, mask=True, deadline=5.0, deadline_help=DEADLINE, dry_run=SAVE_DRY_RUN)
def survey(
    session: Session,
    wan: list[str] | None = None,
    public: list[str] | None = None,
    between: bool = False,
    ask: bool | None = None,
    save: bool = False,
    page: list[str] | None = None,
    ports: bool = False,
    port: list[str] | None = None,
    entered: bool = False,
    origin: str | None = None,
    proxy_password: str | None = None,
) -> int:
    """What this line is, and whether forwarding can work at all.

    Asks the servers of [measure], this computer's gateway and resolvers, the routers of the site file, and those that
    reveal themselves on the way. What cannot be measured is told: --wan ROUTER=ADDRESS for the number on a router's
    status page. It is remembered with its date.
    """
    from hooper.usecases.prepare.survey import survey as measure

    if session.dry_run and not save:
        raise UsageError("--dry-run without --save would change nothing anyway", remedy="Add --save, or leave it out.")
    if ports:
        if origin is None or origin == "here" or wan or between:
            raise UsageError("--ports looks from outside, and measures nothing else", remedy="Add --from interface.")
        place = parse_origin(origin, proxy_password)
        return measure_ports(session, place, port or [], public or [], save=save, entered=entered)
    if origin is not None or port or entered:
        raise UsageError("--from, --port and --entered go with --ports", remedy="Add --ports, or leave them out.")
    file = _site(session, save=save)
    given = parse_public(public or [], file.site)
    told = _told_by_pages(session, page or [], file.site) | parse_wan(wan or [], file.site)
    told |= {f"lines.{line}/public": str(address) for line, address in given.items()}
    quiet = session.json or session.quiet
    asking = ask if ask is not None else sys.stdin.isatty() and sys.stderr.isatty() and not quiet
    question = partial(_ask, session) if asking else None
    how = {"between": between, "save": save, "dry_run": session.dry_run}
    done = session.look(lambda run: measure(run, told, given, session.deadline, ask=question, **how), file)
    document = done.document
    code = session.show(document, lambda shown, out: render(shown, out, verbose=session.verbose), errors=done.trouble)
    if save:
        _saved(session, document)
    _next(session, document, done.run.site)
    wrong = document.can_forward is False or (document.between is not None and document.between.wrong is not None)
    wrong = wrong or any(
        finding.code == "address-differs" and finding.severity == "error" for finding in document.findings
    )
    return worst([code, EXIT_NEEDS_A_PERSON if wrong else 0])


def _told_by_pages(session: Session, given: list[str], site: Site) -> dict[str, str]:
    """The WAN addresses that saved pages show, and what else they say is told. Raises: UsageError."""
    from hooper.cli.prepare.plan import render_page
    from hooper.files import STDIO, read_text
    from hooper.planning.pages import understood
    from hooper.usecases.prepare.page_reading import AnyPage, reader_of

    told: dict[str, str] = {}
    for gateway, name in parse_pairs("--page", given, site).items():
        if Path(name) != STDIO and not Path(name).is_file():
            raise UsageError(f"--page: there is no file {name}", remedy="Write --page GATEWAY=FILE.")
        text = read_text(Path(name))
        read = understood(site, gateway, name, (reader_of(text) or AnyPage()).read(text, name))
        if not session.json and not session.quiet:
            render_page(read, console(stderr=True, plain=session.plain))
        if read.wan_address is not None:
            told[f"gateways.{gateway}/wan"] = read.wan_address
    return told


def _saved(session: Session, document: SurveyDocument) -> None:
    """What was written."""
    if document.saved:
        session.note(f"\n{'Would be written' if session.dry_run else 'Written'} to {session.site_path}:")
        for written in document.saved:
            was = f", was {written.before}" if written.before is not None else ""
            session.note(f"   {written.key} = {written.after}{was}")
    else:
        session.note("\nNothing to write: the site file says so already, or it is not clear yet.")


def _site(session: Session, *, save: bool) -> SiteFile:
    """The site file; where there is none and none was named, what can be seen from here stands in for it."""
    try:
        return session.read_site()
    except SiteFileError as exc:
        if exc.code != "site-file-missing" or session.site_path != Path("site.toml"):
            raise
        if save:
            raise
    from hooper.usecases.prepare.starting import site_found_here

    session.keeps = False
    session.note("There is no site file here: this is what can be seen without one, and nothing of it is kept.\n")
    return run_async(site_found_here, session.deadline)


def _ask(session: Session, missing: Missing) -> IPAddress | None:
    """One number of a person's; an empty answer: it is not known."""
    session.progress("")
    session.note(f"Nobody here says the {missing.number} of {missing.gateway}. It stands {missing.where}.")
    while True:
        given = prompt("It is (empty: not known)")
        if not given:
            return None
        try:
            return read_address(missing.gateway, given)
        except UsageError as exc:
            session.note(exc.message)


def render(document: SurveyDocument, out: Screen, *, verbose: bool = False) -> None:
    """The sentence, what is wrong, the boxes, the numbers."""
    from hooper.cli.parts.render import findings, indented, line, table
    from hooper.line.judging import SENTENCES

    proven = document.can_forward is not None or document.situation == "unclear"
    sentence = ("" if proven else "Likely, not proven: ") + str(SENTENCES[document.situation])
    line(out, (sentence, "bold"), (f"  {document.situation}", "faint"))
    for said in map(str, document.evidence):
        first = said.split(" ", 1)[0]  # a key of the site file keeps its spelling
        indented(out, f"{said[:1].upper() if first in OPENINGS else said[:1]}{said[1:]}.", mark="- ", left=0)
    if document.findings:
        out.print()
        findings(out, document.findings)
    if document.ways:
        _ways(document.ways, out)
    out.print()
    drawn = table("from inside outward", "address", "WAN address", "answers")
    own = "\n".join(text for text in (document.own_address.ipv4, document.own_address.ipv6) if text)
    drawn.add_row("this computer", own or "not at the site", "", "")
    for row in reversed(document.gateways):
        answers = ", ".join(PROTOCOLS[protocol] for protocol in row.control) or "nothing"
        drawn.add_row(row.gateway, row.address, row.wan_address or "not known yet", answers)
    seen = "\n".join(text for text in (document.public_address.ipv4, document.public_address.ipv6) if text)
    drawn.add_row("the internet sees", seen or "not measured", "", "")
    out.print(drawn)
    numbers(document.comparisons, out, verbose=verbose)
    if document.between is not None:
        _render_between(document.between, out)
    remarks = list(map(str, document.remarks))
    more = [*_nat_lines(document), *remarks] if verbose else remarks
    for number, remark in enumerate(more):
        if not number:
            out.print()
        indented(out, remark, mark="- ", left=0)
    if document.outstanding:
        out.print()
        indented(out, f"Still running when the time was over: {', '.join(map(str, document.outstanding))}.", left=0)


def _ways(ways: Sequence[WayIn], out: Screen) -> None:
    """The ways in that are left, with what each needs."""
    from hooper.cli.parts.render import heading, table

    out.print()
    heading(out, "The ways in that are left, best first")
    drawn = table("", "way", "needs", "begin with", prose=("needs", "begin with"))
    for way in ways:
        drawn.add_row({True: "✓", False: "✗", None: "?"}[way.fits], way.title, way.needs, way.how)
    out.print(drawn)


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


def _render_between(between: Between, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented, table

    out.print()
    heading(out, f"Between {between.outer} and {between.inner}")
    drawn = table(
        "", "service", f"tried at {between.tried_address}", "verdict", "what was seen", prose=("what was seen",)
    )
    for row in between.results:
        mark = {True: "✓", False: "✗", None: "?"}[row.ok]
        drawn.add_row(mark, row.service, f"{row.transport} {row.port}", row.verdict, row.detail)
    out.print(drawn)
    indented(out, between.meaning, left=0)


def routers_before(document: SurveyDocument) -> list[Before]:
    """The routers of the file that another one stands before, each with its own outside address."""
    from ipaddress import ip_address

    from hooper.addresses import classify
    from hooper.planning.guide_values import Before

    subjects = [found.subject for found in document.findings if found.code == "line-behind-router"]
    outside = {row.gateway: row.wan_address for row in document.gateways}
    found = [(key, outside.get(key)) for key in (subject.removeprefix("gateways.") for subject in subjects)]
    return [Before(key, wan) for key, wan in found if wan is not None and classify(ip_address(wan)).key == "private"]


def _next(session: Session, document: SurveyDocument, site: Site) -> None:
    before = routers_before(document)
    if not session.keeps:
        session.next("write-down-what-was", "new --found")
    elif before:
        from hooper.cli.parts.spelling import spelled
        from hooper.planning.guide_values import given_as
        from hooper.planning.guiding import written_before

        lan, add, behind = written_before(site, *before[0])
        deeds = (add + given_as(lan=lan), behind) if add else (behind,)
        commands = [spelled(deed).removeprefix("hooper ") for deed in deeds]
        session.next("write-down-the-router-before", *commands, gateway=before[0].gateway)
    elif document.between is not None:
        sheet = document.between.inner if document.between.wrong is not None else document.between.outer
        session.next("hold-the-list", f"worksheet {sheet}", sheet=sheet)
    elif document.can_forward:
        session.ahead(most=1)
    elif document.missing:
        missing = document.missing[0]
        session.next(
            "read-the-of",
            ("survey", missing.option),
            number=missing.number,
            gateway=missing.gateway,
            where=missing.where,
        )
    elif document.can_forward is None:
        session.note("\nNext: look at the pair marked ≠ or ?, and read that number again.")


SIGN = {True: "✓", False: "✗", None: "?"}


def measure_ports(
    session: Session, origin: Place, ports: list[str], public: list[str], *, save: bool, entered: bool
) -> int:
    """Which ports come in, and what is written of it."""
    from hooper.usecases.prepare.ports_in import ports_in

    asked = tuple(_port(text) for text in ports)
    file = session.read_site()
    given = parse_public(public, file.site)
    how = {"save": save, "entered": entered, "dry_run": session.dry_run}
    done = session.look(lambda run: ports_in(run, origin, asked, given, session.deadline, **how), file)
    document = done.document
    code = session.show(document, _render, errors=done.trouble)
    for written in document.saved:
        verb = "Would be written" if session.dry_run else "Written"
        session.note(f"{verb} to {session.site_path}: {written.key} = {written.after}")
    if save and not document.saved:
        session.note("Nothing to write: the site file says so already, or it could not be told.")
    elif not save and any(row.let_in is False for row in document.ports):
        session.next("write-down-what", ("survey", "--ports", "--from", str(origin), "--save"))
    return worst([code, 0 if any(row.let_in for row in document.ports) else EXIT_NEEDS_A_PERSON])


def _port(text: str) -> tuple[str, int]:
    kind, _, number = text.strip().partition(" ")
    if kind not in ("tcp", "udp") or not number.isascii() or not number.isdigit() or not 1 <= int(number) <= 65535:
        raise UsageError(f"--port {text!r} is no port", remedy="Write it like 'tcp 443' or 'udp 51820'.")
    return kind, int(number)


def _render(document: PortsInDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented, table

    let = sum(row.let_in is True for row in document.ports)
    kept = sum(row.let_in is False for row in document.ports)
    told = f"{let} open, {kept} blocked, {len(document.ports) - let - kept} not tested"
    heading(out, f"Ports of {document.line}, tried at {document.address} from {document.from_.name}: {told}.")
    drawn = table("", "port", "", prose=("",))
    for row in document.ports:
        drawn.add_row(SIGN[row.let_in], f"{row.transport} {row.port}", row.why)
    out.print(drawn)
    for remark in document.remarks:
        indented(out, remark, left=0)
