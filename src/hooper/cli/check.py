"""hooper check"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated
from urllib.parse import urlsplit

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
from hooper.errors import EXIT_NEEDS_A_PERSON, HooperError, StateError, UsageError, worst
from hooper.secret import Secret, SecretRef

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from hooper.addresses import IPAddress
    from hooper.net.types import Door
    from hooper.reach.check import Outcome
    from hooper.reach.model import CheckDocument, Result
    from hooper.site.load import SiteFile
    from hooper.site.model import Site

app = sub_app("Does it answer, and is it really that service?")

VERDICT_STYLE = {
    "answered": "green",
    "connected": "cyan",
    "mismatched": "bold red",
    "refused": "red",
    "silent": "red",
    "unproven": "yellow",
}


MEANINGS = {  # what a verdict that is not as it should be points to, and what to do
    "silent": "a rule is missing on a router, the device has moved, or the provider drops the port. Compare each"
    " router's list with `hooper worksheet`.",
    "refused": "the way is open, but the program on the device does not run or listens on another port.",
    "mismatched": "a rule names another device. Compare the inside addresses with `hooper worksheet`.",
    "unproven": "could not be told from here, so it is not counted as good; --allow-unproven lets it pass.",
}


@dataclass(frozen=True)
class Origin:
    """What --from says."""

    kind: str  # here, interface, proxy
    name: str = ""
    port: int = 0
    user: str | None = None


def parse_origin(text: str) -> Origin:
    """Read --from. Raises: UsageError; a password in it is never repeated."""
    if text == "here":
        return Origin("here")
    kind, colon, rest = text.partition(":")
    if kind == "interface" and colon and rest and len(rest) < 64:
        return Origin("interface", rest)
    if text.startswith("socks5://"):
        try:
            url = urlsplit(text)
            if url.password is not None:
                raise UsageError(
                    "a password in the arguments can be read by everyone on this machine",
                    remedy="Leave it out of the URL and give --proxy-password env:NAME or file:PATH.",
                )
            if url.hostname and url.path in ("", "/") and not url.query and not url.fragment:
                return Origin("proxy", url.hostname, url.port or 1080, url.username)
        except ValueError:
            pass
        raise UsageError("--from: not a SOCKS5 URL", remedy="Write it like socks5://198.51.100.7:1080.")
    raise UsageError(
        f"--from {text!r} is not understood",
        remedy="Give here, interface:NAME (such as interface:usb0), or socks5://HOST:PORT.",
    )


def parse_public(given: list[str], site: Site) -> dict[str, IPAddress]:
    """Read --public ADDRESS or LINE=ADDRESS. Raises: UsageError."""
    from hooper.addresses import classify, parse_address

    out: dict[str, IPAddress] = {}
    for text in given:
        line, equals, written = text.rpartition("=")
        try:
            address = parse_address(written)
        except ValueError:
            raise UsageError(
                f"--public {text!r}: {written!r} is not an address", remedy="Give one such as 203.0.113.44."
            ) from None
        if address.version != 4 or classify(address).key in ("unspecified", "multicast", "broadcast", "loopback"):
            raise UsageError(f"--public {address}: no IPv4 address that a service could have")
        if equals:
            (line,) = choose([line], site.lines, "line")
        elif len(site.lines) == 1:
            line = next(iter(site.lines))
        else:
            raise UsageError(
                f"--public {text}: this site has several lines", remedy=f"Write {next(iter(site.lines))}={address}."
            )
        out[line] = address
    return out


@app.command()
def check(
    service: Annotated[
        list[str] | None, typer.Argument(metavar="[SERVICE]...", help="Only these services; else all.")
    ] = None,
    origin: Annotated[
        str, typer.Option("--from", metavar="PLACE", help="here, interface:NAME, or socks5://[USER@]HOST:PORT.")
    ] = "here",
    proxy_password: Annotated[
        str | None, typer.Option(metavar="REF", help="The proxy's password: env:NAME or file:PATH.")
    ] = None,
    public: Annotated[
        list[str] | None, typer.Option(metavar="ADDRESS", help="The public address, or LINE=ADDRESS; else it is found.")
    ] = None,
    allow_unproven: Annotated[bool, typer.Option("--allow-unproven", help="Let what cannot be told pass.")] = False,
    deadline: Annotated[float, typer.Option(metavar="SECONDS", help="For each probe; all run side by side.")] = 5.0,
    site: SiteOption = None,
    state: StateOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Does it answer, and is it really that service?

    From `here` the inner addresses are probed, which proves nothing about outside. For that, join this computer
    to a phone's mobile data by cable and use --from interface:NAME.
    """
    session = Session("check", json, quiet, verbose)
    place = parse_origin(origin)
    if proxy_password is not None and place.user is None:
        raise UsageError("--proxy-password needs a user in the proxy's URL", remedy="Write socks5://USER@HOST:PORT.")
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
    """Open the doors and the state, check, keep the results."""
    from hooper.net.lab import lab_from_environment
    from hooper.net.opening import open_door
    from hooper.reach.check import Wish, check_here, check_outside
    from hooper.store.state import State, state_folder, store_name

    here = await open_door(lab_from_environment())
    session.at = here.clock.now()
    trouble: list[HooperError] = []
    store: State | None = None
    try:
        try:
            store = State(state_folder(state) / store_name(file))
            session.detail(f"state in {store.path}")
        except StateError as exc:
            trouble.append(exc)
        wish = Wish(file.site, services, deadline, public)
        if place.kind == "here":
            outcome = await check_here(here, wish)
        else:
            outside = await _outside(here, place, proxy_password, file, deadline)
            outcome = await check_outside(here, outside, wish, store)
        if store is not None:
            try:
                store.save_check(session.at, outcome.origin, outcome.results, outcome.inside)
            except StateError as exc:
                trouble.append(exc)
    finally:
        if store is not None:
            store.close()
    outcome.errors += trouble
    return outcome


async def _outside(here: Door, place: Origin, proxy_password: str | None, file: SiteFile, deadline: float) -> Door:
    """The door that --from names. Raises: UsageError, MachineError, ProxyFailed."""
    if place.kind == "interface":
        return here.through(place.name)
    import anyio

    from hooper.addresses import parse_address
    from hooper.net.proxy import ProxyDoor, ProxyFailed, close_quietly
    from hooper.net.types import Endpoint

    try:
        address = parse_address(place.name)
    except ValueError:
        found = await here.lookup(place.name, "ipv4")
        if not found:
            raise ProxyFailed(f"the proxy's name {place.name} has no address") from None
        address = found[0]
    password = _read_secret(proxy_password, file) if proxy_password is not None else None
    if place.user is not None and password is None:
        raise UsageError("the proxy's user needs a password", remedy="Give --proxy-password env:NAME or file:PATH.")
    door = ProxyDoor(here, Endpoint(address, place.port), place.user, password)
    try:
        with anyio.fail_after(max(deadline, 3.0)):
            await close_quietly(await door.greet())
    except TimeoutError:
        raise ProxyFailed(f"the proxy {door.proxy} does not answer") from None
    return door


def _read_secret(text: str, file: SiteFile) -> Secret:
    try:
        reference = SecretRef.parse(text)
    except ValueError as exc:
        raise UsageError(f"--proxy-password: {exc}", remedy="Write env:NAME or file:PATH.") from None
    return reference.read(Path(file.name).parent)


def show(session: Session, outcome: Outcome) -> int:
    """Print the outcome; returns the exit code of what went wrong on the way."""
    from hooper.reach.model import CheckDocument

    document = CheckDocument(outcome.origin, tuple(outcome.results))
    code = session.show(document, lambda shown, out: render(shown, out, verbose=session.verbose), errors=outcome.errors)
    for key, reason in outcome.skipped.items():
        session.note(f"{key} is not probed: {reason}")
    verdicts = {result.verdict for result in outcome.results if not result.ok}
    for verdict, meaning in MEANINGS.items():
        if verdict in verdicts:
            session.note(f"{verdict}: {meaning}")
    if outcome.origin.kind == "here":
        session.note("This was seen from inside and proves nothing about outside.")
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
    drawn = table("", "service", *more, "verdict", "what was seen", right=("ms",), fold=("what was seen",))
    drawn.show_header = header
    for result in results:
        mark = Text("✓", style="green") if result.ok else Text("✗", style="red")
        if result.verdict == "unproven":
            mark = Text("?", style="yellow")
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
    from hooper.document import plain

    out.print()
    for result in document.results:
        kept = {key: value for key, value in plain(result.evidence).items() if value is not None}
        kept = {key: value for key, value in kept.items() if key not in ("public_address", "place_address")}
        for key, value in kept.items():
            words = value if not isinstance(value, Mapping) else ", ".join(f"{k} {v}" for k, v in value.items())
            out.print(f"{result.service}: {key} {words}", style="dim", soft_wrap=True)
