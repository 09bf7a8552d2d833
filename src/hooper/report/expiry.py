"""What ends when, as a time line: certificates, peers' days, risks that were taken."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from hooper.errors import UsageError
from hooper.files import write_atomically
from hooper.report.figures import MOST, UNKNOWN, WELL, WRONG, NoFigures, available, plain, rendered, sheet

if TYPE_CHECKING:
    from matplotlib.figure import Figure

AHEAD = timedelta(days=400)  # that the time line shows; what lasts longer goes over its edge
Care = Literal["renewed", "by-hand"]
COLOURS: dict[Care, str] = {"renewed": WELL, "by-hand": "#1f5f8b"}


@dataclass(frozen=True, slots=True)
class Ending:
    """One thing that ends. begin: when it began; None: not known. care: renewed: Hooper does that by itself."""

    label: str
    begin: datetime | None
    end: datetime
    care: Care


def draw_expiry(endings: Sequence[Ending], now: datetime, path: Path) -> None:
    """Write the time line, .png or .svg by the file's name. Raises: UsageError, NoFigures, MachineError."""
    form = path.suffix.lower().lstrip(".")
    if form not in ("png", "svg"):
        raise UsageError(f"{path}: a figure is .png or .svg", remedy="Name such a file.")
    if not available():
        raise NoFigures("figures need pandas and Matplotlib, which are not installed")
    import matplotlib

    matplotlib.use("Agg")
    write_atomically(path, rendered(_figure(sorted(endings, key=lambda one: one.end)[:MOST], now), form))


def _figure(endings: Sequence[Ending], now: datetime) -> Figure:
    import matplotlib.dates as dates
    from matplotlib.patches import Patch

    made: Any = dates
    last = max((one.end for one in endings), default=now)
    right = min(max(last, now + timedelta(days=30)), now + AHEAD)
    right += (right - now) * 0.22  # room for the words
    left = now - (right - now) * 0.08
    figure, axes = sheet(1.5 + 0.34 * max(len(endings), 1), "What ends when")
    for number, one in enumerate(endings):
        begin = max(one.begin or left, left)
        end = min(one.end, right)
        colour = WRONG if one.end <= now else COLOURS[one.care]
        span = (made.date2num(begin), max(made.date2num(end) - made.date2num(begin), 0.3))
        hatch = "////" if one.end <= now else "" if one.care == "renewed" else ".."
        axes.broken_barh([span], (number - 0.32, 0.64), facecolor=colour, hatch=hatch, edgecolor="white", linewidth=0)
        days = (one.end - now).days
        said = f"{one.end:%Y-%m-%d}, " + (f"in {days} days" if one.end > now else "ENDED")
        beyond = one.end > now + AHEAD
        place = made.date2num(end) if not beyond else made.date2num(right)
        axes.annotate(
            f"{said} →" if beyond else said, (place, number), xytext=(-5 if beyond else 5, 0),
            textcoords="offset points", va="center", ha="right" if beyond else "left", fontsize=8.5,
            color="white" if beyond else "black", bbox={"fc": colour, "ec": "none", "pad": 2} if beyond else None,
        )  # fmt: skip
    axes.axvline(made.date2num(now), color=UNKNOWN, linewidth=1.2)
    axes.annotate("today", (made.date2num(now), -0.62), ha="center", va="bottom", fontsize=8.5, color="#5b6168")
    axes.set_yticks(range(len(endings)), [plain(one.label) for one in endings])
    axes.set_ylim(max(len(endings), 1) - 0.4, -0.9)
    axes.xaxis_date()
    locator = made.AutoDateLocator(tz=now.tzinfo, minticks=4, maxticks=9)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(made.ConciseDateFormatter(locator, tz=now.tzinfo))
    axes.set_xlim(left, right)
    handles = [
        Patch(facecolor=COLOURS["renewed"], label="renewed by itself"),
        Patch(facecolor=COLOURS["by-hand"], hatch="..", edgecolor="white", linewidth=0, label="by hand"),
        Patch(facecolor=WRONG, hatch="////", edgecolor="white", linewidth=0, label="ended"),
    ]
    figure.legend(handles=handles, loc="outside lower left", ncols=3, fontsize=9, frameon=False)
    return figure
