"""hooper authority ..."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.editing import of_options
from hooper.cli.parts.entity import group_of
from hooper.cli.parts.session import Session
from hooper.errors import SeveralErrors, SiteFileError

if TYPE_CHECKING:
    from hooper.certs.documents import OwnAuthorityDocument
    from hooper.cli.parts.render import Screen
    from hooper.site.model import Site


app = group_of("authorities", "Who issues certificates, as the site file has them.")


@command(app, "authority make", site=True, state=True, dry_run=EDIT_DRY_RUN)
def make(session: Session, entry: str, signs: list[str] | None = None, again: bool = False) -> int:
    """Make an authority of your own, for names that never leave the LAN: its root may sign for these and nothing else.

    Its key stays in the state; its root is laid beside the site file. Nothing trusts it by itself.
    """
    from hooper.usecases.act.authorities import AuthorityRequest, make_authority

    file = session.read_site()
    request = AuthorityRequest(entry, tuple(signs or ()), again, session.dry_run)
    try:
        done = session.do(lambda run: make_authority(run, request), file, state=True)
    except (SiteFileError, SeveralErrors) as exc:  # the file was sound: what was given is not
        raise of_options(exc) from None
    code = session.show(done.document, _render, errors=done.trouble)
    session.not_written()
    if found := _uncertified(file.site):
        service, host = found
        added = f"certificate add {service} --names {host}.home.arpa --authority {entry} --services {service}"
        session.next("issue-by-it", added, "cert order", service=service)
    session.then("tell-devices", f"cert trust {entry}")
    return code


def _uncertified(site: Site) -> tuple[str, str] | None:
    """A service of the LAN that speaks TLS and has no certificate planned, with its host."""
    planned = {key for one in site.certificates.values() for key in one.services}
    for key, service in site.services.items():
        if (
            service.speaks in ("https", "tls")
            and service.reach != "public"
            and key not in planned
            and key not in site.certificates
        ):
            return key, service.host
    return None


def _render(document: OwnAuthorityDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading

    heading(out, f"{document.authority}: {document.subject}")
    out.print(f"   may sign for {', '.join(document.signs)}, and for nothing else")
    if document.fingerprint is not None:
        out.print(f"   until {(document.not_after or '')[:10]}, {document.fingerprint}")
    out.print(f"   root {document.file}")
