"""The options of `hooper check` for the other ways to prove a service."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from hooper.cli.command import time_option
from hooper.cli.completing import keys_of
from hooper.cli.options import option

ArrivalOption = Annotated[
    bool, option("--arrival", "Show a page for a phone, which tells whether it comes in from outside.")
]
UntilOption = Annotated[str | None, option("--until answered", "Look again and again until all is as it should be.")]
EveryOption = Annotated[float | None, time_option("--every", "With --until: from one look to the next; else 2s.")]
HoldOption = Annotated[
    float | None, time_option("--for", "How long to wait, for somebody or for all to be well; else 10m.")
]
ReportedOption = Annotated[
    str | None,
    option(
        "--reported SERVICE",
        "Keep what a person saw of it; give it with --how. It proves nothing.",
        keys_of("services"),
    ),
]
HowOption = Annotated[str | None, option("--how TEXT", "With --reported: in their own words.")]
TakeOverOption = Annotated[bool, option("--take-over", "Borrow a port also from another hand's rule without an end.")]
CompareOption = Annotated[bool, option("--compare", "Wait until a person at the phone has compared each certificate.")]
PackOption = Annotated[
    Path | None,
    option("--pack FILE", "Write a file by which another computer looks from elsewhere."),
]
ExpiresOption = Annotated[float | None, time_option("--expires", "With --pack: for how long it can be used; else 1w.")]
VisitOption = Annotated[Path | None, option("--visit FILE", "Look from here by such a file, without a site file.")]
PlaceOption = Annotated[str, option("--place TEXT", "With --visit: where this is, in your words.")]
BroughtOption = Annotated[Path | None, option("--brought FILE", "Keep the result of a visit, brought home.")]
OutOption = Annotated[Path | None, option("--out FILE", "With --visit: where its result is written.")]
ForceOption = Annotated[bool, option("--force", "Replace a file that Hooper did not write.")]
YesOption = Annotated[bool, option("--yes", "With --visit: you know whom it asks, and agree; else you are asked.")]
