"""The figures of what happened: availability, address changes, how long names took, delay. pandas and Matplotlib are
imported here alone, and only when something is drawn.
"""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from hooper import visible
from hooper.clock import shown_duration
from hooper.errors import MachineError
from hooper.files import make_folder, write_atomically

if TYPE_CHECKING:
    from matplotlib.figure import Figure

WELL, WRONG, UNKNOWN = "#2f8f5b", "#c0392b", "#b9bec4"
HATCHES = {True: "", False: "////", None: "...."}  # so that no bar is told by its colour alone
DASHES, MARKERS = ("-", "--", "-.", ":"), "osD^vP"
LINES = ("#1f5f8b", "#a05a2c", "#6a4c93", "#2f8f5b", "#7a7f87", "#c0392b")
WIDTH_IN, DPI = 9.0, 110
MOST = 60  # strips in one figure; what is more is left out, and said


class NoFigures(MachineError):
    """What draws is not installed."""

    code = "figures-not-installed"
    remedy = "Install it with `pip install 'hooper[figures]'`; tables and CSV work without."


@dataclass(frozen=True)
class Strip:
    """One row of the availability figure. parts: begin, end and whether it was well; None: it was not looked at."""

    label: str
    parts: tuple[tuple[datetime, datetime, bool | None], ...]


@dataclass(frozen=True)
class Drawn:
    """What is drawn.

    addresses: when which line got which address. lags: when a name was updated, and the seconds that it took. delays:
    day, service, mean milliseconds.
    """

    begin: datetime
    end: datetime
    strips: tuple[Strip, ...]
    addresses: tuple[tuple[datetime, str, str], ...]
    lags: tuple[tuple[datetime, str, float], ...]
    delays: tuple[tuple[str, str, float], ...]


def available() -> bool:
    """Whether figures can be drawn here."""
    from importlib.util import find_spec

    return all(find_spec(name) is not None for name in ("pandas", "matplotlib"))


def draw_all(drawn: Drawn, folder: Path) -> list[Path]:
    """Every figure that there is something for, as PNG and SVG. Raises: NoFigures; MachineError."""
    make_folder(folder)
    written: list[Path] = []
    for name, figure in figures(drawn).items():
        for form in ("png", "svg"):
            path = folder / f"{name}.{form}"
            write_atomically(path, rendered(figure, form))
            written.append(path)
    return written


def figures(drawn: Drawn) -> dict[str, Figure]:
    """The figures by their names, for which there is anything. Raises: NoFigures."""
    if not available():
        raise NoFigures("figures need pandas and Matplotlib, which are not installed")
    import matplotlib

    matplotlib.use("Agg")
    parts: dict[str, tuple[bool, Callable[[Drawn], Figure]]] = {
        "availability": (bool(drawn.strips), _availability),
        "addresses": (bool(drawn.addresses), _addresses),
        "name-lag": (bool(drawn.lags), _lags),
        "delay": (len({day for day, *_ in drawn.delays}) > 1, _delays),
    }
    return {name: draw(drawn) for name, (there, draw) in parts.items() if there}


def rendered(figure: Figure, form: str) -> bytes:
    """A figure as PNG or SVG; the same data gives the same bytes."""
    import matplotlib

    out = io.BytesIO()
    with matplotlib.rc_context({"svg.hashsalt": "hooper", "svg.fonttype": "none"}), warnings.catch_warnings():
        warnings.simplefilter("ignore", UserWarning)  # a letter that its font has not
        metadata: dict[str, Any] = {"Date": None, "Creator": "Hooper"} if form == "svg" else {"Software": "Hooper"}
        figure.savefig(out, format=form, dpi=DPI, metadata=metadata)
    return out.getvalue()


def sheet(height: float, title: str) -> tuple[Figure, Any]:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(WIDTH_IN, height), layout="constrained")
    axes = figure.add_subplot()
    axes.set_title(title, loc="left", fontsize=11, fontweight="bold")
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="both", labelsize=9, length=0)
    return figure, axes


def _time_axis(axes: Any, drawn: Drawn) -> None:
    import matplotlib.dates as dates

    made: Any = dates  # which says nothing of its types
    zone = drawn.begin.astimezone().tzinfo
    locator = made.AutoDateLocator(tz=zone, minticks=4, maxticks=9)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(made.ConciseDateFormatter(locator, tz=zone))
    axes.set_xlim(drawn.begin, drawn.end)


def plain(text: str) -> str:
    """A label as it is: nothing in it is taken for mathematics, nothing acts on who reads it, and none is left out, as
    one that begins with an underscore would be.
    """
    shown = visible.shown(text).replace("$", r"\$")
    return f" {shown}" if shown.startswith("_") else shown


def _availability(drawn: Drawn) -> Figure:
    import matplotlib.dates as dates
    from matplotlib.patches import Patch

    date2num: Any = dates.date2num

    strips = drawn.strips[:MOST]
    figure, axes = sheet(1.3 + 0.32 * len(strips), "Availability, seen from outside where that was done")
    colours = {True: WELL, False: WRONG, None: UNKNOWN}
    for number, strip in enumerate(strips):
        for state, colour in colours.items():
            bars = [(date2num(a), date2num(b) - date2num(a)) for a, b, well in strip.parts if well is state]
            axes.broken_barh(
                bars, (number - 0.36, 0.72), facecolor=colour, hatch=HATCHES[state], edgecolor="white", linewidth=0
            )
    axes.set_yticks(range(len(strips)), [plain(strip.label) for strip in strips])
    axes.set_ylim(len(strips) - 0.4, -0.6)
    axes.xaxis_date()
    _time_axis(axes, drawn)
    words = {True: "ok", False: "FAILED", None: "not checked"}
    handles = [
        Patch(facecolor=colour, hatch=HATCHES[state], edgecolor="white", linewidth=0, label=words[state])
        for state, colour in colours.items()
    ]
    figure.legend(handles=handles, loc="outside lower left", ncols=3, fontsize=9, frameon=False)
    if len(drawn.strips) > MOST:
        axes.set_xlabel(f"{len(drawn.strips) - MOST} more are not drawn", fontsize=9)
    return figure


def _addresses(drawn: Drawn) -> Figure:
    """Each line's address as a staircase; every new address is a step."""
    import pandas as pd

    frame = pd.DataFrame(drawn.addresses, columns=["at", "line", "address"])
    order = list(dict.fromkeys(frame["address"]))
    shown = order if len(order) <= 12 else []
    figure, axes = sheet(1.6 + 0.22 * min(len(order), 12), f"Public address, {len(frame)} changes")
    for number, (line, rows) in enumerate(frame.groupby("line", sort=False)):
        heights = [order.index(address) for address in rows["address"]]
        times = [*rows["at"], drawn.end]
        colour = LINES[number % len(LINES)]
        axes.step(
            times,
            [*heights, heights[-1]],
            where="post",
            color=colour,
            linewidth=1.6,
            linestyle=DASHES[number % len(DASHES)],
            label=plain(str(line)),
        )
        axes.plot(list(rows["at"]), heights, "o", color=colour, markersize=3)
    axes.set_yticks(range(len(shown)), [plain(address) for address in shown])
    if not shown:
        axes.set_ylabel(f"{len(order)} addresses", fontsize=9)
    axes.margins(y=0.12)
    _time_axis(axes, drawn)
    if frame["line"].nunique() > 1:
        axes.legend(fontsize=9, frameon=False)
    return figure


def _lags(drawn: Drawn) -> Figure:
    import pandas as pd

    frame = pd.DataFrame(drawn.lags, columns=["at", "name", "seconds"])
    middle, most = frame["seconds"].median(), frame["seconds"].max()
    title = f"Until a name led here again: half within {middle:.2g} s, the longest {most:.3g} s"
    figure, axes = sheet(2.6, title)
    for number, (name, rows) in enumerate(frame.groupby("name", sort=False)):
        colour = LINES[number % len(LINES)]
        marker = MARKERS[number % len(MARKERS)]
        axes.plot(list(rows["at"]), list(rows["seconds"].clip(lower=0.01)), marker, color=colour, markersize=4,
                  label=plain(str(name)))  # fmt: skip
    axes.set_yscale("log")
    axes.set_ylabel("seconds", fontsize=9)
    axes.grid(axis="y", color="#e3e6ea", linewidth=0.8)
    axes.margins(y=0.2)
    _time_axis(axes, drawn)
    if frame["name"].nunique() > 1:
        axes.legend(fontsize=9, frameon=False)
    return figure


def _delays(drawn: Drawn) -> Figure:
    import pandas as pd

    frame = pd.DataFrame(drawn.delays, columns=["day", "service", "ms"])
    frame["day"] = pd.to_datetime(frame["day"], utc=True)
    wide = frame.pivot_table(index="day", columns="service", values="ms", aggfunc="mean")
    figure, axes = sheet(2.8, "How long an answer took, by day")
    slowest = list(wide.mean().sort_values(ascending=False).index[: len(LINES)])
    for number, service in enumerate(slowest):
        rows = wide[service].dropna()
        told_apart = {"marker": MARKERS[number % len(MARKERS)], "linestyle": DASHES[number % len(DASHES)]}
        axes.plot(list(rows.index), list(rows), color=LINES[number], linewidth=1.4, markersize=3.5,
                  label=plain(str(service)), **told_apart)  # fmt: skip
    axes.set_ylabel("milliseconds", fontsize=9)
    axes.set_ylim(bottom=0)
    axes.grid(axis="y", color="#e3e6ea", linewidth=0.8)
    _time_axis(axes, drawn)
    rest = len(wide.columns) - len(slowest)
    title = f"the slowest; {rest} more" if rest else None
    axes.legend(fontsize=8, frameon=False, loc="upper left", bbox_to_anchor=(1.0, 1.0), title=title, title_fontsize=8)
    return figure


def as_svg_text(figure: Figure, name: str) -> str:
    """A figure as an element of a page, without its XML declaration. name: sets its ids apart from another figure's."""
    text = rendered(figure, "svg").decode("utf-8")
    text = re.sub(r'(\bid="|href="#|url\(#)', rf"\g<1>{name}-", text[text.index("<svg") :])
    return text.replace("<svg ", f'<svg role="img" aria-label="{TITLES[name]}" ', 1)


TITLES = {
    "availability": "Availability",
    "addresses": "Public address",
    "name-lag": "Until a name led here again",
    "delay": "How long an answer took",
}


def in_words(drawn: Drawn, name: str) -> str:
    """What a figure shows, for who does not see it."""
    told = {"availability": _availability_told, "addresses": _addresses_told, "name-lag": _lags_told,
            "delay": _delays_told}[name]  # fmt: skip
    return f"{TITLES[name]}: {'; '.join(told(drawn)[:MOST])}."


def _availability_told(drawn: Drawn) -> list[str]:
    rows = []
    for strip in drawn.strips:
        seconds = {True: 0.0, False: 0.0, None: 0.0}
        for begin, end, well in strip.parts:
            seconds[well] += (end - begin).total_seconds()
        looked = seconds[True] + seconds[False]
        share = f"ok {100 * seconds[True] / looked:.2f} % of the time" if looked else "not checked"
        failed = f", failed for {shown_duration(round(seconds[False]))}" if seconds[False] else ""
        rows.append(f"{visible.shown(strip.label)} {share}{failed}")
    return rows


def _addresses_told(drawn: Drawn) -> list[str]:
    by_line: dict[str, list[str]] = {}
    for _, line, address in drawn.addresses:
        by_line.setdefault(line, []).append(address)
    return [
        f"{visible.shown(line)} had {len(seen)}, at last {visible.shown(seen[-1])}" for line, seen in by_line.items()
    ]


def _lags_told(drawn: Drawn) -> list[str]:
    by_name: dict[str, list[float]] = {}
    for _, name, seconds in drawn.lags:
        by_name.setdefault(name, []).append(seconds)
    return [f"{visible.shown(name)} {len(took)} times, {max(took):.3g} s at most" for name, took in by_name.items()]


def _delays_told(drawn: Drawn) -> list[str]:
    by_service: dict[str, list[float]] = {}
    for _, service, took_ms in drawn.delays:
        by_service.setdefault(service, []).append(took_ms)
    means = {service: sum(took) / len(took) for service, took in by_service.items()}
    slowest = sorted(means, key=lambda service: -means[service])
    return [f"{visible.shown(service)} {means[service]:.0f} ms on average" for service in slowest]
