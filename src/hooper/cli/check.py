"""hooper check"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.common import (
    JsonFlag,
    MaskFlag,
    QuietFlag,
    Session,
    SiteOption,
    StateOption,
    VerboseFlag,
    choose,
    deadline_seconds,
    run_async,
    sub_app,
)
from hooper.cli.looking import (
    DeadlineOption,
    FromOption,
    Origin,
    ProxyPasswordOption,
    PublicOption,
    looking,
    open_outside,
    parse_origin,
    parse_public,
)
from hooper.errors import EXIT_NEEDS_A_PERSON, StateError, UsageError, worst

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from hooper.addresses import IPAddress
    from hooper.check.checking import Outcome
    from hooper.check.results import CheckDocument, Result
    from hooper.site.load import SiteFile

app = sub_app("Does it answer, and is it really that service?")

VERDICT_STYLE = {
    "answered": "green",
    "connected": "cyan",
    "mismatched": "bold red",
    "refused": "red",
    "silent": "red",
    "unproven": "orange3",
}


@app.command()
def check(
    service: Annotated[
        list[str] | None, typer.Argument(metavar="SERVICE", help="Only these services; else all.")
    ] = None,
    origin: FromOption = None,
    proxy_password: ProxyPasswordOption = None,
    public: PublicOption = None,
    allow_unproven: Annotated[bool, typer.Option("--allow-unproven", help="Let what cannot be told pass.")] = False,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Does it answer, and is it really that service?

    From `here`, which is the default, the inner addresses are probed, and that proves nothing about outside. Join this
    computer to a phone's mobile data by cable and use --from interface:NAME.
    """
    session = Session("check", json, quiet, verbose)
    place = parse_origin(origin if origin is not None else "here", proxy_password)
    deadline = deadline_seconds(deadline)
    file = session.read_site(site, mask=mask)
    services = choose(service or (), file.site.services, "service") or tuple(file.site.services)
    given = parse_public(public or [], file.site)
    if given and place.kind == "here":
        raise UsageError("--public says nothing to a check from here", remedy="Leave it out, or look from outside.")
    outcome = run_async(_run, session, file, services, place, proxy_password, given, deadline, state)
    code = show(session, outcome)
    passed = all(result.ok or (allow_unproven and result.verdict == "unproven") for result in outcome.results)
    raise typer.Exit(worst([code, 0 if passed else EXIT_NEEDS_A_PERSON]))


async def _run(
    session: Session,
    file: SiteFile,
    services: tuple[str, ...],
    place: Origin,
    proxy_password: str | None,
    public: dict[str, IPAddress],
    deadline: float,
    state: Path | None,
) -> Outcome:
    """Check, and keep the results."""
    from hooper.check.checking import Wish, check_here, check_outside
    from hooper.check.results import Found

    async with looking(session, file, state) as opened:
        given = {line: Found(str(address), "given with --public") for line, address in public.items()}
        wish = Wish(file.site, services, deadline, given, Path(file.name).parent)
        if place.kind == "here":
            outcome = await check_here(opened.here, wish)
        else:
            outside = await open_outside(opened.here, place, proxy_password, file, deadline)
            outcome = await check_outside(opened.here, outside, wish, opened.state)
        if opened.state is not None:
            try:
                opened.state.save_check(session.at, outcome.origin, outcome.results, outcome.inside)
            except StateError as exc:
                opened.trouble.append(exc)
    outcome.errors += opened.trouble
    return outcome


def show(session: Session, outcome: Outcome) -> int:
    """Print the outcome; returns the exit code of what went wrong on the way."""
    from hooper.check.results import CheckDocument

    document = CheckDocument(outcome.origin, tuple(outcome.results))
    code = session.show(document, lambda shown, out: render(shown, out, verbose=session.verbose), errors=outcome.errors)
    for remark in outcome.remarks:
        session.note(remark)
    for key, reason in outcome.skipped.items():
        session.note(f"{key} is not probed: {reason}")
    broken = [result for result in outcome.results if not result.ok]
    if any(result.verdict == "unproven" for result in broken):
        session.note("What is unproven could not be told from here; --allow-unproven lets it pass.")
    worse = [result.service for result in broken if result.verdict != "unproven"]
    if outcome.origin.kind == "here":
        session.note("This was seen from inside and proves nothing about outside.")
    if worse:
        kind, name = outcome.origin.kind, outcome.origin.name
        place = {"here": "", "interface": f" --from interface:{name}"}.get(kind, f" --from socks5://{name}")
        session.note(f"Next: `hooper why {worse[0]}{place}`.")
    elif outcome.origin.kind == "here":
        session.note("Next: join this computer to a phone's mobile data by cable, then")
        session.note("      `hooper check --from interface:NAME`.")
    return code


def render(document: CheckDocument, out: Console, *, verbose: bool = False) -> None:
    """The addresses, one row a probe, how many are as they should be."""
    from hooper.cli.render import heading

    origin = document.from_
    where = {"here": "here, at the inner addresses", "interface": f"the interface {origin.name}"}
    heading(out, f"Check from {where.get(origin.kind, f'the proxy {origin.name}')}")
    _addresses(document, out)
    out.print(results_table(document.results))
    out.print()
    out.print(summary(document.results))
    if verbose:
        _evidence(document, out)


def results_table(results: Iterable[Result], *, brief: bool = False, header: bool = True) -> Table:
    """One row a probe; brief: without ports and times."""
    from rich.text import Text

    from hooper.cli.render import table

    more = () if brief else ("probed", "ms")
    drawn = table("", "service", *more, "verdict", "what was seen", right=("ms",))
    drawn.show_header = header
    for result in results:
        mark = Text("✓", style="green") if result.ok else Text("✗", style="red")
        if result.verdict == "unproven":
            mark = Text("?", style="orange3")
        verdict = Text(result.verdict, style="green" if result.ok else VERDICT_STYLE[result.verdict])
        numbers = () if brief else (f"{result.transport} {result.port}", str(result.took_ms))
        drawn.add_row(mark, result.service, *numbers, verdict, _words(result))
    return drawn


def summary(results: Sequence[Result]) -> str:
    """How many are as they should be."""
    from hooper.cli.render import counted

    good = sum(result.ok for result in results)
    unproven = sum(result.verdict == "unproven" for result in results)
    bad = len(results) - good - unproven
    parts = [f"{good} of {counted(len(results), 'probe')} as it should be"]
    parts += [f"{bad} not"] if bad else []
    parts += [f"{unproven} unproven"] if unproven else []
    return ", ".join(parts) + "."


def _words(result: Result) -> str:
    if result.expected == "unreachable" and result.ok:
        return "not reachable, as it should be"
    problems = f" [{', '.join(result.problems)}]" if result.problems else ""
    return result.detail + problems


def _addresses(document: CheckDocument, out: Console) -> None:
    public = {r.evidence.public_address for r in document.results if r.evidence.public_address is not None}
    for found in sorted(public, key=str):
        out.print(f"Public address {found.value}: {found.source}", soft_wrap=True)
    place = next((r.evidence.place_address for r in document.results if r.evidence.place_address), None)
    if place is not None:
        out.print(f"This place shows itself as {place.value}: {place.source}", soft_wrap=True)
    out.print()


def _evidence(document: CheckDocument, out: Console) -> None:
    from hooper.jsonform import plain

    out.print()
    for result in document.results:
        kept = {key: value for key, value in plain(result.evidence).items() if value is not None}
        kept = {key: value for key, value in kept.items() if key not in ("public_address", "place_address")}
        for key, value in kept.items():
            words = value if not isinstance(value, Mapping) else ", ".join(f"{k} {v}" for k, v in value.items())
            out.print(f"{result.service}: {key} {words}", style="dim", soft_wrap=True)
