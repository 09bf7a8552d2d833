"""The page that says how each system takes the root of an authority of one's own."""

from __future__ import annotations

import base64
from typing import Any

from hooper.report.qr import picture
from hooper.report.sheets import templates

TITLES = {
    "windows": "Windows",
    "macos": "macOS",
    "debian": "Debian, Ubuntu and theirs",
    "fedora": "Fedora, Red Hat, Arch and theirs",
    "iphone": "iPhone and iPad",
    "android": "Android",
    "firefox": "Firefox, wherever it runs",
    "chromium": "Chromium on Linux",
}
PHONES = ("iphone", "android")


def as_page(document: Any, stem: str, *, lab: bool, address: str = "") -> bytes:
    """The page as HTML. document: how it is trusted. stem: of the files beside the page. address: of the page, where it
    is shown on the LAN, so that it can be handed on from screen to phone.
    """
    code = base64.b64encode(picture(address, ".png")).decode() if address else ""
    steps = sorted(document.steps, key=lambda step: step.system not in PHONES)
    page = templates().get_template("trust.html")
    shown = _in_pairs(document.fingerprint.partition(":")[2])
    html: str = page.render(
        document=document, steps=steps, titles=TITLES, stem=stem, lab=lab, fingerprint=shown, code=code
    )
    return html.encode()


def _in_pairs(digits: str) -> str:
    """A fingerprint as systems show it."""
    return " ".join(digits[at : at + 2].upper() for at in range(0, len(digits), 2))
