"""hooper cert ..."""

from __future__ import annotations

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
    choose,
    deadline_seconds,
    run_async,
    sub_app,
)
from hooper.cli.looking import DeadlineOption, Looking, looking
from hooper.errors import EXIT_NEEDS_A_PERSON, HooperError, UsageError, worst

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.certs.order import Ordering
    from hooper.certs.rows import CertificateRow, CertificatesDocument
    from hooper.site.load import SiteFile

app = sub_app("Certificates: which there are, and getting them.", group=True)

CertificateArgument = Annotated[
    list[str] | None, typer.Argument(metavar="CERTIFICATE", help="Only these of [certificates]; else all.")
]
STYLE = {"current": "green", "ordered": "green", "watched": "cyan", "due": "orange3", "unknown": "orange3"}


@app.command("list")
def list_certificates(
    certificate: CertificateArgument = None,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Each certificate of the site: for which names, by whom, how long it lasts, and where its files are.

    One that a device keeps itself is looked at where its services show it.
    """
    session = Session("cert list", json, quiet, verbose)
    deadline = deadline_seconds(deadline)
    file = session.read_site(site, mask=mask)
    chosen = _chosen(file, certificate)
    rows, trouble = run_async(_list, session, file, chosen, deadline, state)
    code = _show(session, rows, trouble)
    if any(row.state in ("absent", "due", "expired") and row.authority != "device" for row in rows):
        session.note("\nNext: `hooper cert order`.")
    raise typer.Exit(code)


@app.command("order")
def order_certificates(
    certificate: CertificateArgument = None,
    anew: Annotated[bool, typer.Option("--anew", help="Order also where the one that is kept is still good.")] = False,
    patience: Annotated[
        float,
        typer.Option("--patience", metavar="SECONDS", help="How long to wait for a record to show, or the authority."),
    ] = 120.0,
    deadline: DeadlineOption = 10.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Get the certificates that are missing or end soon, by ACME. What was begun before is taken up, not begun again.

    A name is proven by a TXT record that its own updater sets, or by a page at port 80 where the plan lets it in.
    """
    session = Session("cert order", json, quiet, verbose)
    deadline = deadline_seconds(deadline)
    if not 1 <= patience <= 3600:
        raise UsageError(f"--patience {patience:g}: from 1 to 3600 seconds")
    file = session.read_site(site, mask=mask)
    chosen = _chosen(file, certificate)
    if not certificate:
        chosen = tuple(key for key in chosen if file.site.certificates[key].authority != "device")
    if not chosen:
        raise UsageError("all certificates of this site are kept by devices", remedy="See `hooper cert list`.")
    rows, trouble = run_async(_order, session, file, chosen, deadline, patience, state, anew)
    code = _show(session, rows, trouble)
    for row in rows:
        if row.state == "ordered" and row.services:
            services = ", ".join(row.services)
            session.note(f"\nNext: give {services} these two files, on the device's page for certificates,")
            if session.world == "lab":
                session.note(f"      which in the lab is `hooper lab install {row.certificate} {row.services[0]}`,")
            session.note(f"      then `hooper check {row.services[0]}`.")
    raise typer.Exit(code)


def _chosen(file: SiteFile, given: list[str] | None) -> tuple[str, ...]:
    chosen = choose(given or (), file.site.certificates, "certificate") or tuple(file.site.certificates)
    if not chosen:
        raise UsageError("the site file has no certificates", remedy="Add [certificates.KEY] with its names.")
    return chosen


def _ordering(opened: Looking, file: SiteFile, deadline: float, patience: float) -> Ordering:
    from hooper.certs.order import Ordering
    from hooper.certs.store import CertificateStore

    assert opened.state is not None
    store = CertificateStore(opened.state.certificates)
    base = Path(file.name).parent
    return Ordering(opened.here, file.site, base, store, opened.state, deadline, patience)


async def _list(
    session: Session, file: SiteFile, chosen: tuple[str, ...], deadline: float, state: Path | None
) -> tuple[list[CertificateRow], list[HooperError]]:
    from hooper.check.shown import watched

    rows: list[CertificateRow] = []
    async with looking(session, file, state) as opened:
        for key in chosen:
            if file.site.certificates[key].authority == "device":
                rows.append(await watched(opened.here, file.site, key, deadline))
            elif opened.state is not None:
                rows.append(_ordering(opened, file, deadline, 0).row(key))
        return rows, opened.trouble


async def _order(
    session: Session,
    file: SiteFile,
    chosen: tuple[str, ...],
    deadline: float,
    patience: float,
    state: Path | None,
    anew: bool,
) -> tuple[list[CertificateRow], list[HooperError]]:
    from dataclasses import replace

    rows: list[CertificateRow] = []
    async with looking(session, file, state) as opened:
        if opened.state is None:
            return [], opened.trouble
        ordering = _ordering(opened, file, deadline, patience)
        for key in chosen:
            session.detail(f"{key}: {', '.join(file.site.certificates[key].names)}")
            try:
                rows.append(await ordering.order(key, anew=anew))
            except HooperError as exc:
                exc.message = f"{key}: {exc.message}"
                opened.trouble.append(exc)
                if file.site.certificates[key].authority != "device":
                    row = ordering.row(key)
                    rows.append(replace(row, state="failed" if not row.ok else row.state, detail="not ordered"))
        return rows, opened.trouble


def _show(session: Session, rows: list[CertificateRow], trouble: list[HooperError]) -> int:
    from hooper.certs.rows import CertificatesDocument

    code = session.show(CertificatesDocument(tuple(rows)), _render, errors=trouble)
    return worst([code, 0 if all(row.ok for row in rows) else EXIT_NEEDS_A_PERSON])


def _render(document: CertificatesDocument, out: Console) -> None:
    from rich.text import Text

    from hooper.cli.render import table

    if not document.certificates:
        return
    drawn = table("", "certificate", "for", "by", "ends", "days left", "state", right=("days left",))
    for row in document.certificates:
        mark = Text("✓", style="green") if row.ok else Text("✗", style="red")
        drawn.add_row(
            mark,
            row.certificate,
            "\n".join(row.names),
            row.authority,
            (row.not_after or "-")[:10],
            "-" if row.days_left is None else str(row.days_left),
            Text(row.state, style=STYLE.get(row.state, "bold red")),
        )
    out.print(drawn)
    for row in document.certificates:
        if row.detail:
            out.print(f"{row.certificate}: {row.detail}.", soft_wrap=True)
        if row.chain is not None:
            out.print(f"{row.certificate}: certificate {row.chain}", soft_wrap=True)
            out.print(f"{' ' * len(row.certificate)}  key         {row.key}", soft_wrap=True)
