"""hooper cert ..."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import DRY_RUN, EDIT_DRY_RUN, command, within
from hooper.cli.parts.session import Done, Session, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.certs.documents import CertificatesDocument
    from hooper.cli.parts.render import Screen

app = sub_app("Certificates: which there are, getting them, looking at any.", group=True)

STYLE = {"current": "well", "ordered": "well", "watched": "told", "due": "doubtful", "unknown": "doubtful"}


@command(app, "cert list", site=True, state=True, mask=True, deadline=5.0)
def list_certificates(
    session: Session, certificate: list[str] | None = None, every: bool = False, figure: Path | None = None
) -> int:
    """Each certificate of the site: for which names, by whom, how long it lasts, and where its files are.

    One that a device keeps itself is looked at where its services show it.
    """
    from hooper.usecases.act.certificates import CertificatesRequest
    from hooper.usecases.act.certificates import list_certificates as look

    file = session.read_site()
    keys = chosen(certificate or (), file.site.certificates, "certificate")
    done = session.look(lambda run: look(run, CertificatesRequest(keys, session.deadline, earlier=every)), file)
    code = _show(session, done)
    if figure is not None:
        from hooper.report.expiry import draw_expiry
        from hooper.usecases.act.certificates import endings

        draw_expiry(endings(done.run, done.document.certificates), session.at, figure)
        session.note(f"Written to {figure}.")
    session.ahead("certificate")
    return code


@command(app, "cert order", site=True, state=True, mask=True, deadline=10.0, dry_run=DRY_RUN)
def order_certificates(
    session: Session,
    certificate: list[str] | None = None,
    again: bool = False,
    staging_first: bool = False,
    patience: float = "2m",  # type: ignore[assignment]
) -> int:
    """Get the certificates that are missing or end soon, by ACME. What was begun before is taken up, not begun again.

    A name is proven by a TXT record that an updater sets, or by this computer at port 80 or 443, where the plan lets
    that in or the routers can let it in for the proof alone.
    """
    from hooper.usecases.act.certificates import CertificatesRequest
    from hooper.usecases.act.certificates import order_certificates as order

    within("--for", patience, 1, 3600)
    file = session.read_site()
    keys = chosen(certificate or (), file.site.certificates, "certificate")
    request = CertificatesRequest(
        keys, session.deadline, patience, again, staging=staging_first, dry_run=session.dry_run
    )
    done = session.look(lambda run: order(run, request), file)
    code = _show(session, done)
    for row in done.document.certificates:
        planned = file.site.certificates[row.certificate]
        if row.state == "ordered" and (planned.give_to or planned.give_command):
            session.next("give-it", f"cert give {row.certificate}")
        elif row.state == "ordered" and row.services:
            lab = [f"lab install {row.certificate} {row.services[0]}"] if session.world == "lab" else []
            session.next("give-the-files", *lab, services=row.services)
            session.then("see-that-it-shows", f"check {row.services[0]}")
    return code


@command(app, "cert look", site=True, state=True, mask=True, deadline=5.0)
def look_at_certificate(
    session: Session,
    what: str | None = None,
    typed: str | None = None,
    origin: str | None = None,
    proxy_password: str | None = None,
    passphrase: str | None = None,
    without_asking: bool = False,
) -> int:
    """The certificate of a server, of a service, or in a file: what it is for, who vouches for it, until when.

    And whether it was revoked, and what browsers and apps say to it.
    """
    from hooper.cli.act.look_at_cert import look
    from hooper.cli.parts.from_where import parse_origin

    place = parse_origin(origin or "here", proxy_password)
    return look(session, what, typed, place, passphrase, not without_asking)


@command(app, "cert give", site=True, state=True, mask=True, deadline=5.0, dry_run=DRY_RUN)
def give_certificates(session: Session, certificate: list[str] | None = None, again: bool = False) -> int:
    """Give certificates to whom the site file names, have them read, and look whether they are shown.

    Where a service does not show the new one, the former one is put back. The keeper does the same.
    """
    from hooper.cli.act.given import render_given
    from hooper.usecases.act.giving import GiveRequest
    from hooper.usecases.act.giving import give_certificates as give

    file = session.read_site()
    every = tuple(key for key, one in file.site.certificates.items() if one.authority != "device")
    keys = chosen(certificate or (), file.site.certificates, "certificate") or every
    request = GiveRequest(keys, session.deadline, again, dry_run=session.dry_run)
    done = session.look(lambda run: give(run, request), file)
    code = session.show(done.document, render_given, errors=done.trouble)
    wrong = [row for row in done.document.certificates if row.outcome in ("put-back", "not-shown")]
    nowhere = [row.certificate for row in done.document.certificates if row.outcome == "nowhere"]
    if wrong:
        session.next("give-it-again", f"cert give {wrong[0].certificate} --again")
    elif nowhere:
        session.next("bundle-it", f"cert bundle {nowhere[0]} --out {nowhere[0]}-files")
    return worst([code, EXIT_NEEDS_A_PERSON if wrong else 0])


@command(app, "cert bundle", site=True, state=True, mask=True)
def bundle_certificate(
    session: Session,
    certificate: str,
    form: str = "pkcs12",
    out: Path | None = None,
    passphrase: str | None = None,
    force: bool = False,
) -> int:
    """A certificate as files for a device's own page, in the form that it takes, and what to press there.

    Whoever has the files has the key: they are for their owner alone, and are deleted once the device has them.
    """
    from hooper.cli.act.given import bundled

    file = session.read_site()
    (key,) = chosen((certificate,), file.site.certificates, "certificate")
    (kind,) = chosen((form,), ("pem", "pem-one", "pkcs1", "pkcs12"), "form")
    if out is None:
        raise UsageError("--out is missing", remedy=f"Name a folder for the files: --out {key}-files.")
    return bundled(session, file, key, kind, out, passphrase, force=force)


@command(app, "cert trust", site=True, mask=True)
def trust(
    session: Session, authority: str = "", for_phones: bool = False, hold: float = 600, out: Path | None = None
) -> int:
    """How each system and browser takes the root of an authority of your own, and what it may sign.

    Nothing is trusted by itself: a person does it, on each device.
    """
    from hooper.cli.act.trust_shown import show_trust

    return show_trust(session, authority, page=for_phones, hold=within("--for", hold, 1, 86_400), out=out)


@command(app, "cert revoke", site=True, state=True, mask=True, deadline=10.0, dry_run=DRY_RUN)
def revoke_certificate(session: Session, certificate: str, generation: str = "", reason: str = "no-longer-used") -> int:
    """Have the authority say that a certificate is worth nothing any more, as when its key was seen by somebody.

    What was revoked is ordered anew by the next `hooper cert order`.
    """
    from hooper.certs.order import REASONS
    from hooper.usecases.act.certificates import CertificatesRequest
    from hooper.usecases.act.certificates import revoke_certificate as revoke

    file = session.read_site()
    keys = chosen((certificate,), file.site.certificates, "certificate")
    chosen((reason,), REASONS, "reason")
    request = CertificatesRequest(keys, session.deadline, generation=generation, reason=reason, dry_run=session.dry_run)
    done = session.look(lambda run: revoke(run, request), file)
    code = session.show(done.document, _render, errors=done.trouble)
    if any(row.state == "revoked" for row in done.document.certificates):
        session.next("get-another-certificate", f"cert order {certificate}")
    return code


@command(app, "cert new-key", site=True, state=True, deadline=10.0, dry_run=DRY_RUN)
def change_account_key(session: Session, authority: str) -> int:
    """Have the key of our account at an authority replaced, as when somebody may have seen it. Certificates stay."""
    from hooper.usecases.act.certificates import CertificatesRequest
    from hooper.usecases.act.certificates import change_account_key as change
    from hooper.words.said import say

    file = session.read_site()
    (key,) = chosen((authority,), file.site.authorities, "authority")
    request = CertificatesRequest(deadline=session.deadline, dry_run=session.dry_run)
    done = session.look(lambda run: change(run, key, request), file)
    said = say("account-key-changed" if done.document.changed else "account-key-would-change", authority=key)
    return session.show(done.document, lambda _, out: out.print(f"{said}."), errors=done.trouble)


@command(app, "cert restore", site=True, state=True, mask=True, dry_run=EDIT_DRY_RUN)
def restore_certificate(session: Session, certificate: str, generation: str = "") -> int:
    """Bring a certificate and its key back that were kept before; the one that is kept now stays as an earlier one."""
    from hooper.usecases.act.certificates import CertificatesRequest
    from hooper.usecases.act.certificates import restore_certificate as restore

    file = session.read_site()
    keys = chosen((certificate,), file.site.certificates, "certificate")
    request = CertificatesRequest(keys, generation=generation, dry_run=session.dry_run)
    code = _show(session, session.look(lambda run: restore(run, request), file))
    session.not_written()
    return code


def _show(session: Session, done: Done[CertificatesDocument]) -> int:
    code = session.show(done.document, _render, errors=done.trouble)
    return worst([code, 0 if all(row.ok for row in done.document.certificates) else EXIT_NEEDS_A_PERSON])


def _render(document: CertificatesDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import table
    from hooper.words.said import state_words

    if not document.certificates:
        return
    drawn = table("", "certificate", "for", "by", "expires", "days left", "state", right=("days left",))
    for row in document.certificates:
        mark = Text("✓", style="well") if row.ok else Text("✗", style="wrong")
        drawn.add_row(
            mark,
            row.certificate,
            "\n".join(row.names),
            row.authority,
            (row.not_after or "-")[:10],
            "-" if row.days_left is None else str(row.days_left),
            Text(str(state_words(row.state)), style=STYLE.get(row.state, "wrong")),
        )
    out.print(drawn)
    for row in document.certificates:
        if row.detail:
            out.print(f"{row.certificate}: {row.detail}.")
        for proof in row.proofs:
            out.print(f"{row.certificate}: {proof.name} by {proof.challenge}: {proof.why}.")
        if row.chain is not None:
            out.print(f"{row.certificate}: certificate {row.chain}")
            out.print(f"{' ' * len(row.certificate)}  key         {row.key}")
    for one in document.earlier:
        what = f"{one.certificate}: kept before {one.generation}, until {one.not_after[:10]}, by {one.issuer}"
        out.print(what)
