"""The results of a check as people read them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from hooper.cli.parts.from_where import differing

if TYPE_CHECKING:
    from hooper.check.results import CheckDocument, Result
    from hooper.cli.parts.render import Grid, Screen

VERDICT_STYLE = {
    "answered": "well",
    "connected": "told",
    "mismatched": "wrong",
    "refused": "wrong",
    "silent": "wrong",
    "unproven": "doubtful",
}


def render(document: CheckDocument, out: Screen, *, verbose: bool = False) -> None:
    """The addresses, one row a probe, how many are as they should be."""
    from hooper.cli.parts.render import heading

    origin = document.from_
    where = {
        "here": "here, at the inner addresses",
        "interface": f"the interface {origin.name}",
        "hotspot": "the phone's hotspot",
        "visit": origin.name,
    }
    heading(out, f"From {where.get(origin.kind, f'the proxy {origin.name}')}: {summary(document.results)}")
    _addresses(document, out)
    out.print(results_table(document.results))
    differing(document.findings, out)
    if verbose:
        _evidence(document, out)


def results_table(results: Iterable[Result], *, brief: bool = False, header: bool = True) -> Grid:
    """One row a probe; brief: without ports and times."""
    from rich.text import Text

    from hooper.cli.parts.render import table

    more = () if brief else ("probed", "ms")
    seen = "what was seen"
    drawn = table("", "service", *more, "verdict", seen, right=("ms",), prose=(seen,), header=header)
    for result in results:
        mark = Text("✓", style="well") if result.ok else Text("✗", style="wrong")
        if result.untold:
            mark = Text("?", style="doubtful")
        verdict = Text(result.verdict, style="well" if result.ok else VERDICT_STYLE[result.verdict])
        numbers = () if brief else (f"{result.transport} {result.port}", str(result.took_ms))
        drawn.add_row(mark, result.service, *numbers, verdict, _words(result))
    return drawn


def summary(results: Sequence[Result]) -> str:
    """How many are as they should be."""
    from hooper.cli.parts.render import counted

    good = sum(result.ok for result in results)
    unproven = sum(result.untold for result in results)
    bad = len(results) - good - unproven
    parts = [f"{len(results)} checked", f"{good} ok"]
    parts += [f"{bad} failed"] if bad else []
    parts += [f"{unproven} unproven"] if unproven else []
    alike = sum(result.looks_right for result in results)
    proven = sum(result.ok and result.identity == "proven" for result in results)
    whose = [f"{proven} {'is' if proven == 1 else 'are'} proven"] if proven else []
    whose += [f"{alike} {'looks' if alike == 1 else 'look'} right"] if alike else []
    answers = f" Of {counted(proven + alike, 'answer')} {', '.join(whose)}." if whose else ""
    return ", ".join(parts) + "." + answers


def _words(result: Result) -> str:
    if result.expected == "unreachable" and result.ok:
        return "closed, as planned"
    problems = f" [{', '.join(result.problems)}]" if result.problems else ""
    return f"{result.detail}{problems}"


def _addresses(document: CheckDocument, out: Screen) -> None:
    public = {r.evidence.public_address for r in document.results if r.evidence.public_address is not None}
    for found in sorted(public, key=str):
        out.print(f"Public address {found.value}: {found.source}")
    place = next((r.evidence.place_address for r in document.results if r.evidence.place_address), None)
    if place is not None:
        out.print(f"This place shows itself as {place.value}: {place.source}")
    out.print()


def _evidence(document: CheckDocument, out: Screen) -> None:
    from hooper.jsonform import plain

    out.print()
    for result in document.results:
        kept = plain(result.evidence)
        for key in ("public_address", "place_address"):
            kept.pop(key)
        for key, words in _facts(kept):
            out.print(f"{result.service}: {key}: {words}", style="faint", hang=4)


def _facts(value: Mapping[str, Any], before: str = "") -> Iterator[tuple[str, str]]:
    """Each fact of an object, what is inside an object under both names."""
    for key, inner in value.items():
        name = f"{before} {key}".strip().replace("_", " ")
        if isinstance(inner, Mapping):
            yield from _facts(inner, name)
        elif isinstance(inner, list):
            yield name, ", ".join(map(str, inner))
        elif inner is not None:
            yield name, {True: "yes", False: "no"}.get(inner, str(inner)) if isinstance(inner, bool) else str(inner)
