"""hooper audit"""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.audit import AuditDocument

app = sub_app("What is exposed and should not be.")
STYLE = {"high": "wrong", "medium": "doubtful", "low": "well"}


@command(app, "audit", site=True, state=True, mask=True)
def audit(session: Session) -> int:
    """What the world can see by this plan, the gravest first, with the safer way for each. Asks nobody."""
    from hooper.usecases.prepare.lists import audit as make

    done = session.do(make, session.read_site(), look=True)
    document = done.document
    code = session.show(document, _render, errors=done.trouble)
    grave = [row.service for row in document.exposed if row.risk == "high" and not row.accepted]
    if grave:
        session.next("take-the-safer", f"service change {grave[0]} --reach tunnel", keys=tuple(grave))
    return worst([code, EXIT_NEEDS_A_PERSON if grave else 0])


def _render(document: AuditDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import counted, heading, indented
    from hooper.words.said import state_words

    heading(out, f"From outside, {counted(len(document.exposed), 'service')} can be reached")
    for row in document.exposed:
        mark = "accepted" if row.accepted else row.risk
        style = "faint" if row.accepted else STYLE[row.risk]
        who = f"only from {', '.join(row.open_to)}" if row.open_to else "everyone"
        out.print()
        out.print(
            Text.assemble(
                (f"{mark:<10}", style),
                (row.service, "bold"),
                f"  {row.what} on {row.host}: {', '.join(map(str, row.outside))} by {row.line}, {who};"
                f" {f'last look: {state_words(row.state)}' if row.seen is not None else 'not checked yet'}",
                (f"  {' '.join(row.findings)}", "faint"),
            ),
            hang=10,
        )
        out.about = row.service
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
            end = f"expired on {risk.until}: look again" if risk.ended else f"until {risk.until}"
            out.print(Text.assemble(f"   {risk.service}  ", (f"{risk.finding}, {end}", "wrong" if risk.ended else "")))
            indented(out, risk.reason, left=6, style="faint")
    if document.peers:
        out.print()
        heading(out, "By tunnels")
        for peer in document.peers:
            kept = "kept to it by the server" if peer.enforced == "server" else "kept to it by nobody"
            until = f", until {peer.until}" if peer.until is not None else ""
            whose = f" ({peer.person})" if peer.person else ""
            words = f"{peer.tunnel}: {peer.peer}{whose} reaches {', '.join(peer.into)}, {kept}{until}"
            style = "wrong" if peer.ended else "doubtful" if peer.enforced == "nowhere" else ""
            indented(out, words + (": its time is over" if peer.ended else ""), left=3, style=style)
    if document.not_exposed:
        out.print()
        out.print(f"By the plan not reachable from outside: {', '.join(document.not_exposed)}")
        out.print("What else stands on a router, `hooper router list` shows.")
