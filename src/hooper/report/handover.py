"""The page that a person is handed with a profile: it needs nothing beside it, and holds a key to the house."""

from __future__ import annotations

import base64
from typing import Any

from hooper.report.qr import picture
from hooper.report.sheets import templates
from hooper.site.protocols import SPEECHES


def as_page(profile: Any, text: str, document: Any, title: str, *, lab: bool) -> bytes:
    """The page as HTML.

    Args: profile: what the file says. text: the file itself. document: of the hand-over. title: of the site. lab: it is
    of the simulated town.
    """
    from markupsafe import Markup

    whole = "PUT-THE-PRIVATE-KEY" not in text
    code = picture(text, ".png") if whole else b""
    data = base64.b64encode(text.encode()).decode()
    return (
        templates()
        .get_template("handover.html")
        .render(
            title=title,
            profile=profile,
            document=document,
            text=text,
            lab=lab,
            what=SPEECHES["wireguard"].title,
            code=Markup("data:image/png;base64,{}").format(base64.b64encode(code).decode()) if code else "",
            file=Markup("data:text/plain;base64,{}").format(data),
        )
        .encode()
    )
