"""hooper why"""

from __future__ import annotations

import sys
from functools import partial
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import command
from hooper.cli.parts.from_where import (
    differing,
    numbers,
    parse_origin,
    parse_pairs,
    parse_public,
    parse_wan,
    read_address,
)
from hooper.cli.parts.session import Session, prompt, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.store.preferences import preferences

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.site.model import Site
    from hooper.why.case import WhyDocument
    from hooper.why.questions import SiteQuestion

app = sub_app("The first broken link of a service, with evidence and remedy.")

MARKS = {"ok": ("✓", "well"), "broken": ("✗", "wrong"), "unknown": ("?", "doubtful"), "skipped": ("-", "faint")}
CERTAINTY_STYLE = {"certain": "wrong", "likely": "doubtful", "possible": "told"}


@command(app, "why", site=True, state=True, mask=True, deadline=5.0)
def why(
    session: Session,
    service: str,
    origin: str | None = None,
    proxy_password: str | None = None,
    wan: list[str] | None = None,
    public: list[str] | None = None,
    rule: list[str] | None = None,
    at: str | None = None,
    peer: str | None = None,
    ask: bool = False,
    answer: list[str] | None = None,
) -> int:
    """The first broken link of a service, with the evidence, the likely causes and what would decide between them.

    What you read off a page is given by --wan, --public, --rule and --at, and remembered with its date.
    """
    from hooper.usecases.prove.gathering import WhyRequest
    from hooper.usecases.prove.why import why as diagnose

    origin = origin or preferences().place
    place = parse_origin(origin, proxy_password) if origin not in (None, "here") else None
    if place is None and proxy_password is not None:
        raise UsageError("--proxy-password goes with --from socks5://...", remedy="Give both, or neither.")
    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    given = parse_public(public or [], file.site)
    told = parse_wan(wan or [], file.site)
    told |= {f"lines.{line}/public": str(address) for line, address in given.items()}
    told |= _parse_rules(rule or [], key, file.site)
    if at is not None:
        told[f"hosts.{file.site.services[key].host}/at"] = str(read_address("--at", at))
    answers = _parse_answers(answer or []) if ask or answer else None
    if answers is not None and peer is not None:
        raise UsageError("--ask is about the way from outside, --peer about a tunnel", remedy="Give one of them.")
    asking = partial(_ask, session) if ask and sys.stdin.isatty() and not session.json else None
    whose = chosen([peer], file.site.peers, "peer")[0] if peer is not None else None
    request = WhyRequest(key, place, whose, given, told, session.deadline, ask=asking, answers=answers)
    done = session.look(lambda run: diagnose(run, request), file)
    document = done.document
    code = session.show(document, lambda shown, out: render(shown, out, verbose=session.verbose), errors=done.trouble)
    _next(session, document, whose, origin)
    wrong = any(finding.severity == "error" for finding in document.findings)
    return worst([code, 0 if document.ok and not wrong else EXIT_NEEDS_A_PERSON])


def _parse_answers(given: list[str]) -> dict[str, str]:
    """Read --answer QUESTION=yes|no|unknown. Raises: UsageError."""
    out: dict[str, str] = {}
    for text in given:
        key, equals, word = text.partition("=")
        if not equals or word not in ("yes", "no", "unknown"):
            message = f"--answer {text!r} is not understood"
            raise UsageError(message, remedy="Write --answer QUESTION=yes, =no or =unknown.")
        out[key] = word
    return out


def _ask(session: Session, question: SiteQuestion) -> str | None:
    """One question; None: nobody answers any more."""
    session.progress("")
    while True:
        said = prompt(f"{question.text} (y, n, or ? for not known)")
        if said is None:
            return None
        word = {"y": "yes", "yes": "yes", "n": "no", "no": "no", "?": "unknown", "": "unknown"}.get(said.lower())
        if word is not None:
            return word
        session.note("Type y for yes, n for no, ? where it is not known.")


def _parse_rules(given: list[str], service: str, site: Site) -> dict[str, str]:
    """Read --rule GATEWAY=WORD|ADDRESS[:PORT]. Raises: UsageError."""
    from hooper.why.router_rules import RULE_WORDS

    out: dict[str, str] = {}
    for gateway, word in parse_pairs("--rule", given, site).items():
        if word not in RULE_WORDS:
            address, colon, port = word.partition(":")
            if colon and not (port.isascii() and port.isdigit() and 1 <= int(port) <= 65535):
                raise UsageError(f"--rule {gateway}: {port!r} is not a port", remedy="Write ADDRESS or ADDRESS:PORT.")
            words = f"Write {', '.join(RULE_WORDS)}, or the address that it names, such as 10.44.7.30."
            word = str(read_address(f"--rule {gateway}", address, words)) + colon + port
        out[f"services.{service}/rule@{gateway}"] = word
    return out


def render(document: WhyDocument, out: Screen, *, verbose: bool = False) -> None:
    """The chain with its first broken link, the causes, the numbers."""
    from hooper.cli.parts.render import heading, indented, line
    from hooper.words.said import general, say

    words = {True: "all is well", False: "something is broken", None: "not proven from outside"}
    wrong = any(finding.severity == "error" for finding in document.findings)
    if any(step.step == "tunnel" for step in document.steps) and document.ok is None:
        words[None] = "not proven: its tunnel was not looked through"
    if document.ok and document.causes:
        words[True] = "it answers from outside, and something is wrong with this computer"
    word = "it answers, but see the findings" if document.ok and wrong else words[document.ok]
    heading(out, f"{document.service}: {word}")
    for number, cause in enumerate(document.causes):
        if not number:
            out.print()
        line(
            out,
            (f"{cause.certainty:<10}", CERTAINTY_STYLE[cause.certainty]),
            cause.message,
            (f"  {cause.code}", "faint"),
            hang=10,
        )
        out.about = cause.code
        indented(out, cause.remedy, mark="→ ", left=10)
        if cause.would_make_certain:
            indented(out, cause.would_make_certain, mark="To be sure: ", left=10)
    if document.rare:
        out.print()
        named = tuple(general("cause", code, "what") for code in document.rare)
        line(out, f"{say('rare', causes=named) if verbose else say('rare.count', count=len(named))}.")
    out.print()
    good = [step for step in document.steps if step.state == "ok" and not verbose]
    for step in document.steps:
        if step.state == "skipped" and not verbose:
            continue
        mark, style = MARKS[step.state]
        first, *more = step.evidence or ("",)
        line(out, (f"{mark} ", style), (f"{step.step:<20}", "bold"), first, hang=22)
        out.about = step.step
        for one in more if step not in good else ():
            indented(out, one, left=22)
    for number, asked in enumerate(document.asked):
        if not number:
            out.print()
            heading(out, "What somebody on site says")
        line(out, (f"{asked.answer or '?':<9}", "bold"), asked.text, hang=9)
        if asked.answer is None:
            indented(out, f"give --answer {asked.key}=yes, =no or =unknown", mark="→ ", left=9)
    numbers(document.comparisons, out, verbose=verbose)
    differing(document.findings, out)


def _next(session: Session, document: WhyDocument, peer: str | None, origin: str | None) -> None:
    outside = origin not in (None, "here")
    by = f" --peer {peer}" if peer is not None else ""
    first = document.causes[0] if document.causes else None
    through = next((step for step in document.steps if step.step == "tunnel" and step.state == "unknown"), None)
    if document.ok is None and through is not None:
        (seen,) = through.evidence
        if seen.code == "tunnel-not-looked":
            session.next("look-through-the", f"why {document.service} --peer {seen['peers'][0]} --from interface")
        elif seen.code == "tunnel-reaches-nobody":
            session.next("let-a-peer-reach", f"peer add laptop --into {document.service}")
    elif document.ok is None and outside:
        session.note("\nThe line marked ? at `outside` says why this look could not prove it.")
    elif document.ok is None:
        session.next("from-phone", f"why {document.service}{by} --from interface")
    elif first is not None:
        code = "decide-then-look" if first.would_make_certain else "do-then-look"
        place = ("--from", str(origin)) if outside else ()
        session.next(code, ("why", document.service, *by.split(), *place))
