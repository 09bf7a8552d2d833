"""hooper why"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
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
    WanOption,
    looking,
    numbers,
    open_outside,
    parse_origin,
    parse_pairs,
    parse_public,
    parse_wan,
    read_address,
)
from hooper.errors import EXIT_NEEDS_A_PERSON, HooperError, StateError, UsageError, worst
from hooper.sourced import as_told

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.site.load import SiteFile
    from hooper.site.model import Site
    from hooper.store.state import State
    from hooper.why.case import WhyDocument
    from hooper.why.evidence import Past

app = sub_app("The first broken link of a service, with evidence and remedy.")

MARKS = {"ok": ("✓", "green"), "broken": ("✗", "bold red"), "unknown": ("?", "orange3"), "skipped": ("-", "dim")}
CERTAINTY_STYLE = {"certain": "bold red", "likely": "orange3", "possible": "blue"}


@dataclass(frozen=True)
class Asked:
    """What the command line says. told: by the keys of the store."""

    service: str
    origin: Origin | None
    proxy_password: str | None
    told: dict[str, str]
    deadline: float
    state: Path | None


@app.command()
def why(
    service: Annotated[str, typer.Argument(help="The service that does not answer.")],
    origin: FromOption = None,
    proxy_password: ProxyPasswordOption = None,
    wan: WanOption = None,
    public: PublicOption = None,
    rule: Annotated[
        list[str] | None,
        typer.Option(metavar="GATEWAY=WORD", help="What a router's list says: there, missing, or its ADDRESS."),
    ] = None,
    at: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="The address that the device or its router shows."),
    ] = None,
    deadline: DeadlineOption = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """The first broken link of a service, with the evidence, the likely causes and what would decide between them.

    What you read off a page is given by --wan, --public, --rule and --at, and remembered with its date.
    """
    session = Session("why", json, quiet, verbose)
    place = parse_origin(origin, proxy_password) if origin not in (None, "here") else None
    if place is None and proxy_password is not None:
        raise UsageError("--proxy-password goes with --from socks5://...", remedy="Give both, or neither.")
    deadline = deadline_seconds(deadline)
    file = session.read_site(site, mask=mask)
    (chosen,) = choose([service], file.site.services, "service")
    told = parse_wan(wan or [], file.site)
    told |= {f"public:{line}": str(address) for line, address in parse_public(public or [], file.site).items()}
    told |= _parse_rules(rule or [], chosen, file.site)
    if at is not None:
        told[f"at:{file.site.services[chosen].host}"] = str(read_address("--at", at))
    asked = Asked(chosen, place, proxy_password, told, deadline, state)
    document, trouble = run_async(_run, session, file, asked)
    code = session.show(document, lambda shown, out: render(shown, out, verbose=verbose), errors=trouble)
    _next(session, document, asked)
    raise typer.Exit(worst([code, 0 if document.ok else EXIT_NEEDS_A_PERSON]))


def _parse_rules(given: list[str], service: str, site: Site) -> dict[str, str]:
    """Read --rule GATEWAY=there|missing|ADDRESS[:PORT]. Raises: UsageError."""
    out: dict[str, str] = {}
    for gateway, word in parse_pairs("--rule", given, site).items():
        if word not in ("there", "missing"):
            address, colon, port = word.partition(":")
            if colon and not (port.isascii() and port.isdigit() and 1 <= int(port) <= 65535):
                raise UsageError(f"--rule {gateway}: {port!r} is not a port", remedy="Write ADDRESS or ADDRESS:PORT.")
            word = str(read_address(f"--rule {gateway}", address)) + colon + port
        out[f"rule:{service}:{gateway}"] = word
    return out


async def _run(session: Session, file: SiteFile, asked: Asked) -> tuple[WhyDocument, list[HooperError]]:
    from hooper.planning.plan import make_plan
    from hooper.why.diagnosis import diagnose
    from hooper.why.evidence import Past, gather_service

    async with looking(session, file, asked.state) as opened:
        past = Past()
        if opened.state is not None:
            try:
                opened.state.tell(session.at, asked.told)
                past = _past(opened.state, session, asked.service, file.site)
            except StateError as exc:
                opened.trouble.append(exc)
        past = _with_told(past, session, asked)
        plan = make_plan(file, session.at.date())
        outside = None
        if asked.origin is not None:
            outside = await open_outside(opened.here, asked.origin, asked.proxy_password, file, asked.deadline)
        facts, looks = await gather_service(
            opened.here,
            outside,
            file.site,
            plan,
            asked.service,
            past,
            opened.state,
            asked.deadline,
            now=session.at,
            base=Path(file.name).parent,
        )
        for look in looks:
            opened.trouble += look.errors
            if opened.state is not None:
                try:
                    opened.state.save_check(session.at, look.origin, look.results, look.inside)
                except StateError as exc:
                    opened.trouble.append(exc)
        return diagnose(file.site, plan, facts), opened.trouble


def _past(state: State, session: Session, service: str, site: Site) -> Past:
    from hooper.why.evidence import STORED_FOR, Past, stored_result

    rows = state.outside_since(session.at - STORED_FOR - timedelta(seconds=1), service)
    newest = (rows[0][0], stored_result(rows[0][1])) if rows else None
    entered = {key: frozenset(entry.service for entry in state.entries(key).values()) for key in site.gateways}
    return Past(state.told(), newest, state.fingerprints(), entered)


def _with_told(past: Past, session: Session, asked: Asked) -> Past:
    """What was told now counts also where it could not be remembered."""
    from dataclasses import replace

    return replace(past, told={**past.told, **{key: as_told(value, session.at) for key, value in asked.told.items()}})


def render(document: WhyDocument, out: Console, *, verbose: bool = False) -> None:
    """The chain with its first broken link, the causes, the numbers."""
    from rich.text import Text

    from hooper.cli.render import heading, indented

    words = {True: "all is well", False: "something is broken", None: "not proven from outside"}
    heading(out, f"{document.service}: {words[document.ok]}")
    out.print()
    for step in document.steps:
        if step.state == "skipped" and not verbose:
            continue
        mark, style = MARKS[step.state]
        first, *more = step.evidence or ("",)
        label = f"{step.step:<20}"
        out.print(Text.assemble((f"{mark} ", style), (label, "bold")), end="")
        _hanging(out, first)
        for line in more:
            indented(out, line, left=22)
    if document.causes:
        out.print()
        heading(out, "What may be wrong, the likeliest first" if len(document.causes) > 1 else "What is wrong")
        for cause in document.causes:
            head = (f"{cause.certainty:<9}", CERTAINTY_STYLE[cause.certainty])
            out.print(Text.assemble(head, (cause.code, "bold")), soft_wrap=True)
            indented(out, cause.message, left=9)
            indented(out, cause.remedy, mark="→ ", left=9)
            if cause.would_make_certain:
                indented(out, cause.would_make_certain, mark="? ", left=9)
    if document.comparisons:
        out.print()
        heading(out, "The numbers")
        numbers(document.comparisons, out)


def _hanging(out: Console, text: str) -> None:
    """The rest of a line whose first 22 columns are printed, wrapped below itself."""
    import textwrap

    lines = textwrap.wrap(text, max(out.width - 22, 20), break_on_hyphens=False) or [""]
    for number, line in enumerate(lines):
        out.print((" " * 22 if number else "") + line, soft_wrap=True)


def _next(session: Session, document: WhyDocument, asked: Asked) -> None:
    first = document.causes[0] if document.causes else None
    if document.ok is None and asked.origin is not None:
        session.note("\nThe line marked ? at `outside` says why this look could not prove it.")
    elif document.ok is None:
        session.note("\nNext: join this computer to a phone's mobile data by cable, then")
        session.note(f"      `hooper why {asked.service} --from interface:NAME`.")
    elif first is not None and first.would_make_certain:
        session.note("\nNext: the line marked ? below the first cause would decide it.")
    elif first is not None:
        session.note(f"\nNext: do what → says, then `hooper why {asked.service}` again.")
