"""The page that a person is handed with a profile: it needs nothing beside it, and holds a key to the house."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from typing import Any

from hooper.report.qr import picture
from hooper.report.sheets import templates


def as_page(
    profile: Any, data: bytes, document: Any, title: str, ways: Sequence[tuple[str, Sequence[str]]], *, lab: bool
) -> bytes:
    """The page as HTML.

    Args: profile: what the file says. data: the file itself. document: of the hand-over. title: of the site. ways: the
    steps on each kind of device, under its title. lab: it is of the simulated town.
    """
    from markupsafe import Markup

    whole = b"PUT-THE-PRIVATE-KEY" not in data and profile.ending == ".conf"  # no app scans another kind
    code = picture(data.decode(), ".svg") if whole else b""
    kind = "application/zip" if profile.ending == ".zip" else "text/plain"
    return (
        templates()
        .get_template("handover.html")
        .render(
            title=title,
            profile=profile,
            document=document,
            ways=ways,
            lab=lab,
            text=data.decode() if profile.ending == ".txt" else "",
            code=Markup("data:image/svg+xml;base64,{}").format(base64.b64encode(code).decode()) if code else "",
            file=Markup("data:{};base64,{}").format(kind, base64.b64encode(data).decode()),
        )
        .encode()
    )
