"""hooper check"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.chosen import chosen
from hooper.cli.parts.command import command, within
from hooper.cli.parts.from_where import (
    parse_origin,
    parse_public,
)
from hooper.cli.parts.outcome import stderr_width
from hooper.cli.parts.session import Done, Session, sub_app
from hooper.cli.prove.results import render
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.folding import folded_lines
from hooper.store.preferences import preferences

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.check.results import CheckDocument
    from hooper.places import Place
    from hooper.site.load import SiteFile
    from hooper.usecases.prove.check import CheckRequest

app = sub_app("Does it answer, and is it really that service?")


@command(app, "check", site=True, state=True, mask=True, deadline=5.0)
def check(
    session: Session,
    service: list[str] | None = None,
    origin: str | None = None,
    proxy_password: str | None = None,
    public: list[str] | None = None,
    allow_unproven: bool = False,
    strict: bool = False,
    until: str | None = None,
    every: float | None = None,
    hold: float | None = None,
) -> int:
    """Does it answer, and is it really that service?

    From `here`, which is the default, the inner addresses are probed, and that proves nothing about outside. Join this
    computer to a phone's mobile data by cable and use --from interface. With only a phone: `hooper arrival`.
    """
    _fitting(until, every, hold, by_hotspot=origin == "hotspot")
    hold = within("--for", hold or 600, 1, 86_400)
    if strict and allow_unproven:
        raise UsageError("--strict and --allow-unproven exclude each other", remedy="Give one of them.")
    place_from = parse_origin(origin or preferences().place or "here", proxy_password)
    file = session.read_site()
    services = chosen(service or (), file.site.services, "service") or tuple(file.site.services)
    public_given = parse_public(public or [], file.site)
    if public_given and place_from.kind == "here":
        raise UsageError("--public says nothing to a check from here", remedy="Leave it out, or look from outside.")
    if until is not None:
        return _until(session, file, until, (services, place_from, public_given), every or 2.0, hold)
    return _once(session, file, (services, place_from, public_given), hold, allowed=allow_unproven, strict=strict)


Looked = tuple[tuple[str, ...], "Place", "dict[str, IPAddress]"]  # at what, from where, by which addresses


def _fitting(until: str | None, every: float | None, hold: float | None, *, by_hotspot: bool) -> None:
    """Raises: UsageError: an option that does nothing beside the others."""
    if until is not None and by_hotspot:
        raise UsageError("--until and --from hotspot are different ways to prove a service", remedy="Give one of them.")
    for word, given, fits in (("--every", every, "--until"), ("--for", hold, "--until or --from hotspot")):
        if given is not None and until is None and not (by_hotspot and given is hold):
            raise UsageError(f"{word} goes with {fits}", remedy=f"Add {fits}, or leave {word} out.")


def _once(session: Session, file: SiteFile, looked: Looked, hold: float, *, allowed: bool, strict: bool) -> int:
    """One look."""
    from hooper.check.results import passes
    from hooper.usecases.prove.check import CheckRequest
    from hooper.usecases.prove.check import check as look

    request = CheckRequest(*looked, session.deadline)
    by_hotspot = looked[1].kind == "hotspot"
    done = (
        _by_hotspot(session, file, request, hold) if by_hotspot else session.look(lambda run: look(run, request), file)
    )
    document = done.document
    code = session.show(document, lambda shown, out: render(shown, out, verbose=session.verbose), errors=done.trouble)
    _notes(session, document, strict=strict, allowed=allowed)
    passed = passes(document.results, allow_unproven=allowed, strict=strict)
    wrong = any(finding.severity == "error" for finding in document.findings)
    return worst([code, 0 if passed and not wrong else EXIT_NEEDS_A_PERSON])


def _by_hotspot(session: Session, file: SiteFile, check: CheckRequest, hold: float) -> Done[CheckDocument]:
    from hooper.usecases.prove.hotspot import from_hotspot

    def say(text: str) -> None:
        """What to do now: without it nobody could go on, so it is said beside JSON too."""
        session.progress("")
        sys.stderr.write(folded_lines(session.worded(text), stderr_width()) + "\n")
        sys.stderr.flush()

    return session.look(lambda run: from_hotspot(run, check, hold, say), file)


def _until(session: Session, file: SiteFile, word: str, looked: Looked, every: float, hold: float) -> int:
    from hooper.cli.prove.until import look_until
    from hooper.usecases.prove.check import CheckRequest

    chosen([word], ("answered",), "end of waiting")
    within("--every", every, 0.2, 3600)
    return look_until(session, file, CheckRequest(*looked, session.deadline), every, hold)


def _notes(session: Session, document: CheckDocument, *, strict: bool, allowed: bool) -> None:
    """What it means, and what is next."""
    for remark in document.remarks:
        session.note(str(remark))
    for skipped in document.skipped:
        session.note(f"{skipped.service} is not probed: {skipped.reason}")
    broken = [result for result in document.results if not result.ok]
    hopeless = [result.service for result in broken if result.untold and not result.provable and not strict]
    if hopeless and not allowed:
        them = "it is" if len(hopeless) == 1 else "they are"
        session.note(f"{', '.join(hopeless)} could not be proven; {them} not counted (--strict counts all).")
    if any(result.untold and (result.provable or strict) for result in broken) and not allowed:
        session.note("What is unproven could not be told from here; --allow-unproven lets it pass.")
    worse = [result.service for result in broken if not result.untold]
    kind, name = document.from_.kind, document.from_.name
    alike = list(dict.fromkeys(one.service for one in document.results if one.looks_right))
    if alike and document.from_.proves_outside:
        shown = all(one.evidence.certificate is not None for one in document.results if one.looks_right)
        by_hand = f"`{deeds.COMPARE}` has a person compare its certificate"
        decides = by_hand if shown else f"`{deeds.STAND_IN(alike[0])}` proves the way there"
        session.note(
            f"What looks right is not proven, since another of its make would answer alike: {', '.join(alike)}."
            f" {decides}; --strict counts it."
        )
    if kind == "here":
        session.note("This was seen from inside and proves nothing about outside.")
    if worse:
        places = {"interface": ("--from", f"interface:{name}"), "proxy": ("--from", f"socks5://{name}")}
        session.next("find-the-first", ("why", worse[0], *places.get(kind, ())))
    else:
        session.ahead()
