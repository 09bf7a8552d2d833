"""The options of `hooper check` for the other ways to prove a service."""

from __future__ import annotations

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
EveryOption = Annotated[float, time_option("--every", "With --until: from one look to the next.")]
HoldOption = Annotated[float, time_option("--for", "How long to wait for somebody, or for all to be well.")]
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
