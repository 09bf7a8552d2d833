"""The report as one page that needs nothing beside it."""

from __future__ import annotations

from typing import Any

from hooper.clock import DAY, local, shown_duration
from hooper.report.figures import Drawn, NoFigures, as_svg_text, available, figures, in_words
from hooper.report.sheets import templates
from hooper.words.said import state_words

MOST = 100  # outages in the table


def as_page(report: Any, drawn: Drawn, day: str, *, lab: bool) -> str:
    """The report's document as HTML. drawn: what its figures are made from. lab: it is about the simulated town."""
    from markupsafe import Markup

    pictures: list[tuple[Markup, str]] = []
    missing = ""
    if available():
        for name, figure in figures(drawn).items():
            picture = Markup(as_svg_text(figure, name))  # noqa: S704 - our own drawing, whose texts Matplotlib quotes
            pictures.append((picture, in_words(drawn, name)))
    else:
        missing = f"There are no figures: what draws them is not installed. {NoFigures.remedy}"
    environment = templates()
    environment.filters["state"] = state_words
    environment.filters["local"] = lambda moment: local(moment, "%Y-%m-%d %H:%M")
    environment.filters["day"] = lambda moment: local(moment, DAY)
    environment.filters["duration"] = lambda seconds: shown_duration(round(seconds))
    return environment.get_template("report.html").render(
        report=report,
        day=day,
        zone=local(report.since, "%Z"),
        lab=lab,
        figures=pictures,
        no_figures=missing,
        most=MOST,
        open_to_all=sum(not row.open_to for row in report.exposed),
    )
