"""hooper check"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

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

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.check.results import CheckDocument
    from hooper.places import Place
    from hooper.site.load import SiteFile
    from hooper.usecases.prove.check import CheckRequest

app = sub_app("Does it answer, and is it really that service?")

GOES_WITH = {  # an option and the ways in which it does something
    "--every": ("--until",),
    "--for": ("--arrival", "--until", "hotspot"),
    "--take-over": ("--arrival",),
    "--compare": ("--arrival",),
    "--expires": ("--pack",),
    "--place": ("--visit",),
    "--out": ("--visit",),
    "--force": ("--pack", "--visit"),
    "--yes": ("--visit",),
}


@command(app, "check", site=True, state=True, mask=True, deadline=5.0)
def check(
    session: Session,
    service: list[str] | None = None,
    origin: str | None = None,
    proxy_password: str | None = None,
    public: list[str] | None = None,
    allow_unproven: bool = False,
    strict: bool = False,
    arrival: bool = False,
    until: str | None = None,
    every: float | None = None,
    hold: float | None = None,
    reported: str | None = None,
    how: str | None = None,
    take_over: bool = False,
    compare: bool = False,
    pack: Path | None = None,
    expires: float | None = None,
    visit: Path | None = None,
    place: str = "",
    brought: Path | None = None,
    out: Path | None = None,
    force: bool = False,
    yes: bool = False,
) -> int:
    """Does it answer, and is it really that service?

    From `here`, which is the default, the inner addresses are probed, and that proves nothing about outside. Join this
    computer to a phone's mobile data by cable and use --from interface.
    """
    modes = {"--arrival": arrival, "--until": until, "--reported": reported or how, "--pack": pack, "--visit": visit,
             "--brought": brought, "hotspot": origin == "hotspot"}  # fmt: skip
    given = {"--every": every, "--for": hold, "--take-over": take_over, "--compare": compare, "--expires": expires,
             "--place": place, "--out": out, "--force": force, "--yes": yes}  # fmt: skip
    _fitting({word for word, said in modes.items() if said}, {word for word, said in given.items() if said})
    hold = within("--for", hold or 600, 1, 86_400)
    if pack is not None or visit is not None or brought is not None:
        files = _Files(pack, visit, brought, out, force=force, expires=expires or 604_800, place=place, agreed=yes)
        return _visiting(session, tuple(service or ()), files, others=bool(origin))
    if reported is not None or how is not None:
        return _reported(session, reported, how, others=bool(service or origin))
    if arrival:
        return _arrival(session, service or [], public or [], hold, origin, take_over=take_over, compare=compare)
    if strict and allow_unproven:
        raise UsageError("--strict and --allow-unproven exclude each other", remedy="Give one of them.")
    place_from = parse_origin(origin if origin is not None else "here", proxy_password)
    file = session.read_site()
    services = chosen(service or (), file.site.services, "service") or tuple(file.site.services)
    public_given = parse_public(public or [], file.site)
    if public_given and place_from.kind == "here":
        raise UsageError("--public says nothing to a check from here", remedy="Leave it out, or look from outside.")
    if until is not None:
        return _until(session, file, until, (services, place_from, public_given), every or 2.0, hold)
    return _once(session, file, (services, place_from, public_given), hold, allowed=allow_unproven, strict=strict)


Looked = tuple[tuple[str, ...], "Place", "dict[str, IPAddress]"]  # at what, from where, by which addresses


def _fitting(modes: set[str], given: set[str]) -> None:
    """Raises: UsageError: two ways at once, or an option that does nothing in this way."""
    if len(modes - {"hotspot"}) > 1 or ("hotspot" in modes and modes - {"hotspot"}):
        words = " and ".join(sorted(modes - {"hotspot"}) + (["--from hotspot"] if "hotspot" in modes else []))
        raise UsageError(f"{words} are different ways to prove a service", remedy="Give one of them.")
    for word in sorted(given):
        if not modes & set(GOES_WITH[word]):
            fits = " or ".join(one if one != "hotspot" else "--from hotspot" for one in GOES_WITH[word])
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


class _Files(NamedTuple):
    """The files of a visit, as they were named."""

    pack: Path | None
    visit: Path | None
    brought: Path | None
    out: Path | None
    force: bool
    expires: float
    place: str
    agreed: bool


def _visiting(session: Session, services: tuple[str, ...], files: _Files, *, others: bool) -> int:
    from hooper.cli.prove import visit

    if others:
        raise UsageError("--pack, --visit and --brought go without --from", remedy="Leave it out.")
    if files.pack is not None:
        within("--expires", files.expires, 60, 31_536_000)
        known = chosen(services, session.read_site().site.services, "service")
        return visit.pack(session, known, files.pack, files.expires, force=files.force)
    if services:
        raise UsageError("which services are looked at, the file says", remedy="Leave the services out.")
    if files.visit is not None:
        return visit.visit(session, files.visit, files.place, files.out, force=files.force, agreed=files.agreed)
    assert files.brought is not None
    return visit.brought(session, files.brought)


def _reported(session: Session, service: str | None, how: str | None, *, others: bool) -> int:
    from hooper.usecases.prove.brought import keep_reported

    if service is None or how is None or not how.strip() or others:
        raise UsageError("--reported SERVICE and --how TEXT go together, and with nothing else", remedy="Give both.")
    file = session.read_site()
    (key,) = chosen([service], file.site.services, "service")
    done = session.do(lambda run: keep_reported(run, key, " ".join(how.split())[:500]), file, state=True)
    code = session.show(done.document, lambda kept, out: out.print(f"Kept for {kept.service}: {kept.how}"))
    session.note("It is what somebody saw, and no proof: `hooper why` shows it beside what was looked at.")
    session.next("look-from-outside", f"check {key} --from interface")
    return worst([code, *(problem.exit_code for problem in done.trouble)])


def _until(session: Session, file: SiteFile, word: str, looked: Looked, every: float, hold: float) -> int:
    from hooper.cli.prove.until import look_until
    from hooper.usecases.prove.check import CheckRequest

    chosen([word], ("answered",), "end of waiting")
    within("--every", every, 0.2, 3600)
    return look_until(session, file, CheckRequest(*looked, session.deadline), every, hold)


def _arrival(
    session: Session,
    service: list[str],
    public: list[str],
    hold: float,
    origin: str | None,
    *,
    take_over: bool,
    compare: bool,
) -> int:
    from hooper.cli.prove.arrival import wait_for_arrival

    if origin is not None:
        raise UsageError("--arrival waits for a phone: it looks from nowhere else", remedy="Leave --from out.")
    if len(service) > 1:
        raise UsageError("--arrival takes one service at most", remedy="Name the one whose port is to be tried.")
    file = session.read_site()
    (key,) = chosen(service, file.site.services, "service") or (None,)
    return wait_for_arrival(
        session, file, key, parse_public(public, file.site), hold, take_over=take_over, compare=compare
    )


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
    elif kind == "here":
        session.next("from-phone", "check --from interface")
