"""What `hooper cert look` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.cli.parts.session import Session
    from hooper.places import Place
    from hooper.site.load import SiteFile
    from hooper.usecases.prove.cert_look import LookedDocument, ShownCertificate

CLIENTS = {
    "browser": "browsers",
    "app": "apps",
    "apple": "iPhone, iPad, Mac",
    "told-of-root": "who was given your root",
}
STANDINGS = {"good": ("✓", "well"), "revoked": ("✗", "wrong"), "unknown": ("?", "doubtful")}


def look(session: Session, what: str | None, name: str | None, place: Place, passphrase: str | None, ask: bool) -> int:
    """Look, and show it; the exit code."""
    from hooper.cli.parts.passphrase import passphrase_of
    from hooper.usecases.prove.cert_look import LookRequest, look_at

    if what is None:
        raise UsageError("WHAT is missing", remedy="Name HOST[:PORT], a URL, a service of the site, or a file.")
    secret = passphrase_of(session, passphrase, twice=False) if passphrase is not None else None
    file = _site(session)
    request = LookRequest(what, name, place, session.deadline, secret, ask=ask)
    done = session.look(lambda run: look_at(run, request), file)
    code = session.show(done.document, _render, errors=done.trouble)
    return worst([code, 0 if done.document.ok else EXIT_NEEDS_A_PERSON])


def _site(session: Session) -> SiteFile:
    """The site file; where there is none, one that says nothing: a certificate can be looked at without."""
    from hooper.site.load import parse_site

    if session.site_file is None and not session.site_path.exists():
        return parse_site(b"version = 1\n", "site.toml")
    return session.read_site()


def _render(document: LookedDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import heading, indented, table

    heading(out, _headline(document))
    for number, one in enumerate(document.chain):
        _certificate(one, number, out)
    if document.has_key:
        fits = {True: "and the key for it", False: "and a key that is NOT for it", None: "and a key that stays closed"}
        out.print(f"The file holds {fits[document.key_fits]}.")
    if document.chain and document.chain[0].authority:
        out.print("It is an authority's own: no server shows it, and who is given it trusts what it signs.")
    alike: dict[tuple[str, bool, str], list[str]] = {}
    for word in document.clients:
        alike.setdefault((word.typed, word.takes, str(word.says)), []).append(CLIENTS[word.client])
    if alike:
        out.print()
        drawn = table("", "typed", "who", "says", prose=("says", "who"))
        everybody = {word.client for word in document.clients}
        for (typed, takes, says), who in alike.items():
            mark = Text("✓", style="well") if takes else Text("✗", style="wrong")
            drawn.add_row(mark, typed, "all" if len(who) == len(everybody) else ", ".join(who), says)
        out.print(drawn)
    for row in document.revocation:
        mark_text, _ = STANDINGS[row.standing]
        indented(out, f"{row.by.upper()} {row.where}: {row.says}", mark=f"{mark_text} ", left=2)
    if document.clients and not document.revocation:
        out.print("It names no place to ask whether it was revoked.")
    for problem in document.problems:
        indented(out, f"a check has against it: {problem.says}", mark="✗ ", left=2)


def _headline(document: LookedDocument) -> str:
    if document.source == "file":
        return f"{document.subject}, {document.form}"
    by = f" ({document.tls_version})" if document.tls_version else ""
    asked = f", asked for {document.server_name}" if document.server_name else ""
    return f"{document.subject} at {document.address}, port {document.port}{by}{asked}"


def _certificate(one: ShownCertificate, number: int, out: Screen) -> None:
    from hooper.cli.parts.render import indented

    lead = "its own" if number == 0 else "above it"
    ends = f"in {one.days_left} days" if one.days_left >= 0 else f"ended {-one.days_left} days ago"
    indented(out, f"{lead}: {one.subject or '(no subject)'}", mark=f"{number + 1} ", left=2)
    if one.names:
        indented(out, f"for {', '.join(one.names[:8])}{' and more' if len(one.names) > 8 else ''}", left=4)
    indented(out, f"from {one.not_before[:10]} until {one.not_after[:10]} ({ends}), by {one.issuer}", left=4)
    vouching = ", may vouch for others" if one.authority else ""
    indented(out, f"key {one.key}, signed with {one.signature}{vouching}, {one.fingerprint}", left=4)
