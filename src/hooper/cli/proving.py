"""The options of `hooper check` for the other ways to prove a service."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from hooper.cli.command import time_option
from hooper.cli.completing import keys_of

ArrivalOption = Annotated[
    bool, typer.Option("--arrival", help="Show a page for a phone, which tells whether it comes in from outside.")
]
UntilOption = Annotated[
    str | None, typer.Option("--until", metavar="answered", help="Look again and again until all is as it should be.")
]
EveryOption = Annotated[float | None, time_option("--every", "With --until: from one look to the next; else 2s.")]
HoldOption = Annotated[
    float | None, time_option("--for", "How long to wait, for somebody or for all to be well; else 10m.")
]
ReportedOption = Annotated[
    str | None,
    typer.Option(
        "--reported",
        metavar="SERVICE",
        help="Keep what a person saw of it; give it with --how. It proves nothing.",
        autocompletion=keys_of("services"),
    ),
]
HowOption = Annotated[str | None, typer.Option("--how", metavar="TEXT", help="With --reported: in their own words.")]
TakeOverOption = Annotated[
    bool, typer.Option("--take-over", help="Borrow a port also from another hand's rule without an end.")
]
CompareOption = Annotated[
    bool, typer.Option("--compare", help="Wait until a person at the phone has compared each certificate.")
]
PackOption = Annotated[
    Path | None,
    typer.Option("--pack", metavar="FILE", help="Write a file by which another computer looks from elsewhere."),
]
ExpiresOption = Annotated[float | None, time_option("--expires", "With --pack: for how long it can be used; else 1w.")]
VisitOption = Annotated[
    Path | None, typer.Option("--visit", metavar="FILE", help="Look from here by such a file, without a site file.")
]
PlaceOption = Annotated[
    str, typer.Option("--place", metavar="TEXT", help="With --visit: where this is, in your words.")
]
BroughtOption = Annotated[
    Path | None, typer.Option("--brought", metavar="FILE", help="Keep the result of a visit, brought home.")
]
OutOption = Annotated[
    Path | None, typer.Option("--out", metavar="FILE", help="With --visit: where its result is written.")
]
ForceOption = Annotated[bool, typer.Option("--force", help="Replace a file that Hooper did not write.")]
YesOption = Annotated[
    bool, typer.Option("--yes", help="With --visit: you know whom it asks, and agree; else you are asked.")
]
