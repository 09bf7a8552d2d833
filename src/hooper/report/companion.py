"""The page by which a phone goes along with a guided run."""

from __future__ import annotations

from hooper.report.sheets import templates


def as_page(title: str, path: str, nonce: str, *, lab: bool) -> bytes:
    """The page as HTML; what it shows comes to it while it is open. path: of this page on its host."""
    page = templates().get_template("companion.html")
    return page.render(title=title, path=path, nonce=nonce, lab=lab).encode()
