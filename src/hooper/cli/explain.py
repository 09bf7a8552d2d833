"""hooper explain"""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, sub_app

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.explaining import ExplainDocument

app = sub_app("What a finding, a cause or a problem means, by its code.")


@command(app, "explain")
def explain(session: Session, code: str | None = None) -> int:
    """What a finding, a cause or a problem means, what it does to people, and what to do about it."""
    from hooper.usecases.explaining import explain as look

    document = look(code)
    return session.show(document, lambda shown, out: _render(shown, out, brief=code is None))


def _render(document: ExplainDocument, out: Screen, *, brief: bool) -> None:
    from hooper.cli.parts.render import SEVERITY_STYLE, indented, line, table

    if brief:
        drawn = table("code", "kind", "what it is", prose=("what it is",))
        for row in document.meanings:
            drawn.add_row(row.code, row.severity or row.kind, row.what)
        out.print(drawn)
        return
    for number, row in enumerate(document.meanings):
        if number:
            out.print()
        kind = (row.severity or row.kind, SEVERITY_STYLE.get(row.severity or "", "bold"))
        line(out, kind, "  ", (row.code, "bold"), f"  {row.what}", hang=8)
        indented(out, row.why)
        indented(out, row.do, mark="→ ")
        if row.holds_back:
            indented(out, "While it stands, `hooper router open` and the router's sheet leave the service out.")
        if row.acceptable:
            indented(out, "The risk can be accepted, with a reason and an end: [services.KEY.accepted].")
