"""The page of a drill: one half to take along, one for who stays."""

from __future__ import annotations

import base64
from typing import Any

from hooper.report.qr import picture
from hooper.report.sheets import templates


def as_page(document: Any, title: str, today: str, *, lab: bool) -> str:
    """The page as HTML. document: of the drill, as it may be shown. lab: it is of the simulated town."""
    from markupsafe import Markup

    codes = {
        card.service: Markup("data:image/svg+xml;base64,{}").format(
            base64.b64encode(picture(card.type, ".svg")).decode()
        )
        for card in document.cards
        if "://" in card.type
    }
    told = {row.subject: row.detail for row in document.rows if row.kind == "people" and row.state == "ok"}
    return (
        templates()
        .get_template("journey.html")
        .render(document=document, title=title, today=today, lab=lab, codes=codes, told=told)
    )
