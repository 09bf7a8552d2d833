"""The page that a phone opens to find out whether it comes in from outside."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from hooper.report.sheets import templates

HEADINGS = {
    "outside": "You have arrived from outside.",
    "home": "You are still at home.",
    "tunnel": "You came through the tunnel.",
    "unclear": "It cannot be told where you are.",
}
NEXT = {
    "outside": (),
    "home": ("Switch Wi-Fi off on this phone, so that it uses mobile data, and load this page again.",),
    "tunnel": ("Switch the VPN on this device off, and load this page again.",),
    "unclear": (
        "Make sure that Wi-Fi and every VPN are off on this phone, and load this page again. If it says the same then,"
        " believe the services below rather than this.",
    ),
}


def as_page(
    title: str, visit: Any, tries: Sequence[Any], path: str, nonce: str, patience_ms: int, *, lab: bool,
    proves: Sequence[str], proves_not: Sequence[str], turns: Any = None,
) -> bytes:  # fmt: skip
    """The page as HTML. visit: as it was judged. tries: what it tries. path: the address of this page on its host.
    turns: of the device whose port is borrowed.
    """
    trying = "The page tries them by itself. What is underlined you can open yourself, too."
    if visit.came != "outside":
        trying = "From here an answer proves nothing about outside."
    return (
        templates()
        .get_template("arrival.html")
        .render(
            title=title, visit=visit, heading=HEADINGS[visit.came], next=NEXT[visit.came], tries=tries, path=path,
            nonce=nonce, patience_ms=patience_ms, lab=lab, proves=proves, proves_not=proves_not, trying=trying,
            turns=turns if visit.came == "outside" else None,
        )
        .encode()
    )  # fmt: skip
