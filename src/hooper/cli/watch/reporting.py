"""hooper report"""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.cli.parts.command import command, within
from hooper.cli.parts.session import Session, sub_app
from hooper.clock import DAY, local, shown_duration
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.accounts import AccountsDocument
    from hooper.usecases.watch.history import WholePast
    from hooper.usecases.watch.reporting import ReportDocument

app = sub_app("What is exposed, to whom, since when, proven when, and the risks taken: for whoever asks.")
YEARS_S = 10 * 366 * 86_400.0


@command(app, "report", site=True, state=True, mask=True)
def report(
    session: Session,
    html: bool = False,
    accounts: bool = False,
    out: Path | None = None,
    since: float = "90d",  # type: ignore[assignment]
    force: bool = False,
) -> int:
    """What is exposed, to whom, since when and proven when; the risks taken and until when; what was out of order.

    It asks nobody: it tells what `keep` and `check` have seen.
    """
    from hooper.usecases.watch.history import gather
    from hooper.usecases.watch.reporting import report as make

    within("--since", since, 1, YEARS_S)
    if accounts:
        return _accounts(session, html=html)
    if (out is not None and not html) or (force and out is None):
        raise UsageError("--out and --force have no effect here", remedy="They go with --html.")
    if html and session.json:
        raise UsageError("--html and --json exclude each other", remedy="Give one of them.")
    file = session.read_site()
    session.use_lab_time()
    begin = session.at - timedelta(seconds=since)
    done = session.do(lambda run: make(run, begin), file, look=True)
    if not html:
        code = session.show(done.document, _render, errors=done.trouble)
        session.next("make-a-page", "report --html --out report.html")
        return code
    from hooper.report.page import as_page

    past: WholePast = session.do(lambda run: (gather(run, begin), []), file, look=True).document
    day = f"{session.at:%Y-%m-%d}"
    page = as_page(session.masked_document(done.document), past.figures(), day, lab=session.world == "lab")
    session.give(session.worded(page), out, force=force)
    return session.failed(done.trouble)


def _accounts(session: Session, *, html: bool) -> int:
    """Who has which login, and what is to be taken away when they go."""
    from hooper.planning.accounts import AccountsDocument, account_rows

    if html:
        raise UsageError("--html and --accounts exclude each other", remedy="Give one of them.")
    document = AccountsDocument(account_rows(session.read_site().site))
    code = session.show(document, _render_accounts)
    if not document.accounts:
        session.next("write-a-login-down", "account add NAME --host HOST --user USER --person PERSON")
    return code


def _render_accounts(document: AccountsDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented

    if not document.accounts:
        out.print("The site file has no logins.")
    person = ""
    for row in document.accounts:
        if row.person != person:
            person = row.person
            heading(out, person)
        since = f", since {row.since}" if row.since else ""
        until = f", until {row.until}" if row.until else ""
        factor = {True: ", with a second factor", False: ", WITHOUT a second factor", None: ""}[row.second_factor]
        indented(out, f"{row.host}, as {row.user}: {', '.join(row.rights)}{since}{until}{factor}", left=3)
        for deed in row.leave:
            indented(out, f"when they go, {deed}", mark="- ", left=6)


def _render(document: ReportDocument, out: Screen) -> None:
    from hooper.cli.parts.render import counted, heading, line, table
    from hooper.words.said import state_words

    heading(out, f"{document.title}: {counted(len(document.exposed), 'service')} can be reached from outside")
    out.print()
    drawn = table("service", "from outside", "to", "risk", "state", "last proof", "well", prose=("to", "last proof"))
    for row in document.exposed:
        who = ", ".join(row.open_to) or "everyone"
        risk = f"{row.risk}, accepted" if row.accepted else row.risk
        proof = f"{local(row.proven, DAY)}, {row.proof}" if row.proven else "never"
        share = f"{100 * row.available:.2f} %" if row.available is not None else "-"
        drawn.add_row(row.service, "\n".join(map(str, row.outside)), who, risk, state_words(row.state), proof, share)
    out.print(drawn)
    if document.not_exposed:
        out.print(f"Not reachable: {', '.join(document.not_exposed)}.")
    for risk_taken in document.accepted:
        over = ", which is over" if risk_taken.ended else ""
        line(out, ("risk taken  ", "faint"), f"{risk_taken.service}, {risk_taken.finding}: {risk_taken.reason}",
             f" (until {risk_taken.until}{over})", hang=12)  # fmt: skip
    out.print()
    lost = sum(outage.seconds for outage in document.outages)
    words = f"{counted(len(document.outages), 'outage')}, {shown_duration(round(lost))} together"
    if not lost:
        seen = counted(document.looked, "look") if document.looked else ""
        words = f"No outage seen in {seen}" if seen else "Nobody has looked from outside"
    changes = counted(document.addresses, "change")
    out.print(f"{words} since {local(document.since, DAY)}; {changes} of the public address.")
