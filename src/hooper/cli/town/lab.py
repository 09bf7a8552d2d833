"""hooper lab ..."""

from __future__ import annotations

import json as json_module
import os
import sys
import tempfile
import time
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from hooper.chosen import chosen
from hooper.cli.parts.command import command
from hooper.cli.parts.from_where import read_address
from hooper.cli.parts.session import Session, run_async, sub_app
from hooper.cli.parts.spelling import spelled
from hooper.cli.town.lab_phone import register, register_phone
from hooper.clock import shown_duration
from hooper.environment import leave_lab
from hooper.errors import HooperError, UsageError
from hooper.files import machine_error, read_text, read_whole
from hooper.jsonform import read_as
from hooper.ports import ports_text

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.lab.documents import (
        LabDocument,
        LabFaultsDocument,
        LabLedgerDocument,
        LabLineDocument,
        LabReadDocument,
        LabTypeDocument,
    )

T = TypeVar("T")
app = sub_app("The simulated town by itself: run it, break it, mend it.", group=True)
INPUT_LIMIT = 64 * 1024 * 1024  # bytes of a worksheet document


def _ask(session: Session, do: str, **more: Any) -> dict[str, Any]:
    """Say one verb to the lab that HOOPER_LAB names. Raises: UsageError: it is not set."""
    from hooper.net.lab_door import LabLink, lab_from_environment

    address = lab_from_environment()
    if address is None:
        raise UsageError(
            "HOOPER_LAB is not set, so there is no lab to talk to",
            remedy="Start one with `hooper lab run` and set the variables that it prints.",
        )

    session.detail(f"asking the lab on port {address.port}: {do}")

    async def ask() -> dict[str, Any]:
        return await LabLink(address).ask(do, **more)

    return run_async(ask)


def _answer(session: Session, kind: type[T], do: str, **more: Any) -> T:
    """The lab's answer to one verb, as the document that it is. Raises: UsageError: it is none."""
    answer = _ask(session, do, **more)
    try:
        return read_as(kind, answer)
    except ValueError:
        raise UsageError(
            f"the lab's answer to {do!r} is not understood", remedy="Start a new one: `hooper lab run`."
        ) from None


def _done(session: Session, do: str, **more: Any) -> LabDocument:
    """What the lab says of a deed. Raises: UsageError: nothing of that kind."""
    from hooper.lab.documents import LabDocument

    return _answer(session, LabDocument, do, **more)


@command(app, "lab run")
def run_lab(session: Session, out: Path | None = None, while_stdin_open: bool = False, hairpin: bool = False) -> None:
    """Run the town until Ctrl-C. Prints the two variables that lead other terminals into it.

    In a folder whose site.toml is of the town, as `hooper demo --out` writes one, that one is used.
    """
    from hooper.lab.documents import LabEnvironment, LabRunDocument
    from hooper.lab.serve import serve

    leave_lab()  # this command makes a lab; one that is set belongs to another
    session.world = "lab"

    def started(lab: Path, site: Path) -> None:
        environment = LabEnvironment(str(lab), str(site))
        if session.json:
            session.line(LabRunDocument(environment))
        else:
            form = "$env:{} = '{}'\n" if sys.platform == "win32" else "export {}='{}'\n"
            sys.stdout.write(form.format("HOOPER_LAB", lab) + form.format("HOOPER_SITE", site))
            sys.stdout.flush()
        session.note("The town is running. Set these two in another terminal, then try there:")
        session.note("  hooper plan")
        session.note("  hooper router open")
        session.note("  hooper worksheet --rest --json | hooper lab type -")
        session.note("  hooper check --from interface:usb0")
        session.note("  hooper lab faults")
        session.note("Ctrl-C ends it.")

    async def run(folder: Path) -> None:
        session.detail(f"files in {folder}")
        await serve(folder, started, until_stdin_ends=while_stdin_open, hairpin=hairpin)

    out = out or _of_the_town(session)
    try:
        if out is not None:
            run_async(run, out.absolute())
        else:
            try:
                temporary = tempfile.TemporaryDirectory(prefix="hooper-lab-")
            except OSError as exc:
                raise machine_error(exc, "no temporary folder can be made") from None
            with temporary as folder:
                run_async(run, Path(folder))
    except KeyboardInterrupt:
        pass


def _of_the_town(session: Session) -> Path | None:
    """This folder, if its site file has the town's own routers; None: it has not, or there is none."""
    from hooper.lab.boathouse import site_file
    from hooper.site.load import parse_site
    from hooper.store.sitefile import read_site

    here = Path("site.toml")
    if not here.exists():
        return None
    try:
        own = read_site(here).site.gateways
    except HooperError:  # whatever is wrong with it, it is no matter of the town
        return None
    towns = [one.lan for one in parse_site(site_file(), "site.toml").site.gateways.values()]
    if not own or any(one.lan not in towns for one in own.values()):
        return None
    session.note("The site file of this folder is of the town, and is used.")
    return here.absolute().parent


@command(app, "lab faults")
def list_faults(session: Session) -> None:
    """The faults that the town can have, and those that are active."""
    _show_faults(session)
    look = "why film-page --from interface:usb0"
    session.next("break-something-and", "lab break forward-missing-inner")
    session.then("see-what-it-does", look)
    session.then("mend-it", "lab mend")


def _show_faults(session: Session, changed: Sequence[str] | None = None, done: str = "") -> None:
    """changed: only these are shown, and what else is broken. done: in a word, what was done to them; None: all."""
    from hooper.lab.documents import LabFaultsDocument

    render = _render_faults if changed is None else partial(_render_changed, changed=changed, done=done)
    session.show(_answer(session, LabFaultsDocument, "faults"), render)


def _render_faults(document: LabFaultsDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table

    drawn = table("fault", "active", "what it does", prose=("what it does",))
    for row in document.faults:
        drawn.add_row(row.fault, (row.service or "yes") if row.active else "-", row.summary)
    out.print(drawn)


def _render_changed(document: LabFaultsDocument, out: Screen, *, changed: Sequence[str], done: str) -> None:
    from rich.text import Text

    for row in document.faults:
        if row.fault in changed:
            hit = f"{row.service}: " if row.active and row.service else ""
            out.print(Text(f"{done}: {hit}{row.summary}  ").append(row.fault, style="faint"))
    if not changed:
        out.print("Nothing was broken.")
    rest = [row.fault for row in document.faults if row.active and row.fault not in changed]
    if rest:
        out.print(f"Also broken: {', '.join(rest)}.")


@command(app, "lab break")
def break_town(session: Session, fault: str, service: str | None = None) -> None:
    """Break something in the town."""
    from hooper.lab.faults import FAULTS

    hit = _ask(session, "break", fault=fault, service=service)["service"]
    _show_faults(session, [fault], "Broken")
    looks = [one.removeprefix("hooper ") for one in spelled(FAULTS[fault].look).split("; ") if one]
    session.next("see-what-it-does", *(looks or [f"why {hit} --from interface:usb0"]))
    session.then("mend-it", "lab mend")


@command(app, "lab mend")
def mend_town(session: Session, fault: str | None = None) -> None:
    """Take a fault back, or all of them."""
    mended = _ask(session, "mend", fault=fault)["mended"]
    _show_faults(session, mended, "Mended")


@command(app, "lab line")
def set_line(
    session: Session,
    kind: str | None = None,
    mapping: str = "endpoint",
    filtering: str = "address-and-port",
    hairpin: bool = False,
    speaks: str = "inner",
    dead: list[str] | None = None,
    resolver: str = "usual",
    far_mapping: str = "endpoint",
    far_filtering: str = "address-and-port",
) -> None:
    """Give the town another line, with routers that behave otherwise. What was entered into them stays."""
    from hooper.lab.documents import LabLineDocument, LineKind
    from hooper.lab.lines import KINDS
    from hooper.words import catalogue

    shape = {"mapping": mapping, "filtering": filtering, "hairpin": hairpin, "speaks": speaks, "resolver": resolver}
    shape |= {"far_mapping": far_mapping, "far_filtering": far_filtering}
    wanted = {"kind": kind, **shape, "dead": dead or []} if kind is not None else None
    now = _ask(session, "line", shape=wanted)["shape"]
    kinds = tuple(LineKind(name, one.situation, catalogue.lines()[name]) for name, one in KINDS.items())
    shown = read_as(LabLineDocument, {**now, "kinds": kinds})
    session.show(shown, _render_line)
    session.next("see-what-it-does", "survey")
    session.then("set-it-back", "lab line several-nats")


def _render_line(document: LabLineDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table

    drawn = table("", "kind", "what it is", prose=("what it is",))
    for row in document.kinds:
        drawn.add_row("now" if row.kind == document.kind else "", row.kind, row.summary)
    out.print(drawn)
    out.print(
        f"Mapping: {document.mapping}. Filtering: {document.filtering}. Hairpin: {'yes' if document.hairpin else 'no'}."
        f" Who speaks a protocol: {document.speaks}. Who answers nothing: {', '.join(document.dead) or 'nobody'}."
        f" Resolver: {document.resolver}. The hut's line: {document.far_mapping}, {document.far_filtering}."
    )


@command(app, "lab plug")
def plug(session: Session, where: str) -> None:
    """Be the person who carries the laptop to another socket."""
    done = _done(session, "plug", where=where)
    words = {
        "home": "The laptop is plugged in on the club's LAN.",
        "between": "The laptop is plugged in between the two routers.",
        "away": "The laptop is away from home: it has the phone's mobile data alone.",
    }
    session.show(done, lambda shown, out: out.print(words[shown["where"]]))


@command(app, "lab install", site=True, state=True)
def install(session: Session, certificate: str, service: str, manner: str = "takes") -> None:
    """Be the person at a device's page who gives it the certificate that was ordered; or be the device's own program,
    to which `hooper cert give` gives it.
    """
    if certificate == "-":
        paths = [os.environ.get(name) for name in ("HOOPER_CERTIFICATE", "HOOPER_KEY")]
        if None in paths:
            raise UsageError("`hooper cert give` has not named its files", remedy="Write this as a certificate's `to`.")
        chain, key = (read_text(Path(str(path))) for path in paths)
        _installed(session, service, chain, key, manner, "what it was given")
        return
    from hooper.certs.store import CertificateStore
    from hooper.store.place import state_path
    from hooper.store.state import State

    file = session.read_site()
    chosen([certificate], file.site.certificates, "certificate")
    with State(state_path(session.state_folder, file)) as opened:
        store = CertificateStore(opened.certificates)
    if store.kept(certificate) is None:
        raise UsageError(f"{certificate} was not ordered yet", remedy="Order it: `hooper cert order`.")
    chain, key = read_text(store.chain_path(certificate)), read_text(store.key_path(certificate))
    _installed(session, service, chain, key, manner, f"the certificate {certificate}")


def _installed(session: Session, service: str, chain: str, key: str, manner: str, what: str) -> None:
    done = _done(session, "install", service=service, chain=chain, key=key, manner=manner)
    words = {
        "takes": "{} now shows {}.",
        "late": "{} has {}, and will show it in a while.",
        "never": "{} has {}, and goes on showing the former one.",
        "half": "{} has taken {} by half: it shows nothing any more.",
    }
    session.show(done, lambda shown, out: out.print(words[shown["manner"]].format(shown["host"], what)))


@command(app, "lab hand-on")
def hand_on(session: Session, name: str, service: str | None = None) -> None:
    """Be the person at the hub's web server who has it hand a name on to a device; without SERVICE: refuse it."""
    done = _done(session, "hand-on", name=name, service=service)
    to = "refuses the name" if service is None else f"hands it on to {service}"
    session.show(done, lambda shown, out: out.print(f"{shown['name']}: the web server on {shown['host']} {to}."))


@command(app, "lab unpack")
def unpack(session: Session, address: str | None = None) -> None:
    """Be the person who plugs in a new camera with its factory's address; with ADDRESS, who gives it that one."""
    wanted = str(read_address("ADDRESS", address)) if address is not None else None
    done = _done(session, "unpack", address=wanted)
    session.show(done, lambda shown, out: out.print(f"{shown['host']} is plugged in, and has {shown['address']}."))
    session.next("see-it-found", "host find --sweep")


@command(app, "lab restart")
def restart(session: Session, gateway: str) -> None:
    """Restart a router: what programs entered is lost, what was typed stays, its control address changes."""
    done = _done(session, "restart", gateway=gateway)
    session.show(done, lambda shown, out: out.print(f"{shown['gateway']} has restarted."))


@command(app, "lab readdress")
def readdress(session: Session, address: str | None = None) -> None:
    """Be the provider that gives the line another address at night. Routers that speak announce it."""
    done = _done(session, "readdress", address=address)
    session.show(done, lambda shown, out: out.print(f"{shown['gateway']} has {shown['address']} now."))


@command(app, "lab power-cut")
def power_cut(session: Session) -> None:
    """Let the power go and come back: all routers begin anew, and lose what programs entered."""
    done = _done(session, "power-cut")
    session.show(done, lambda shown, out: out.print(f"The power was gone. Begun anew: {', '.join(shown['gateways'])}."))


@command(app, "lab lag")
def lag(
    session: Session, second: float | None = None, provider: float | None = None, spacing: float | None = None
) -> None:
    """Make name servers and the name provider slow; without options, how slow they are."""
    done = _done(session, "lag", second_s=second, provider_s=provider, spacing_s=spacing)

    def render(shown: LabDocument, out: Screen) -> None:
        second, provider, spacing = shown["second_s"], shown["provider_s"], shown["spacing_s"]
        out.print(f"second name server: {f'{second:g} s behind' if second is not None else 'there is none'}")
        out.print(f"name provider: shows after {provider:g} s, wants {spacing:g} s between updates")

    session.show(done, render)


@command(app, "lab type")
def type_sheet(
    session: Session,
    sheet: str,
    wrongly: bool = False,
    pause: float = "0s",  # type: ignore[assignment]
) -> None:
    """Be the person who enters a worksheet into the town's routers, whatever the site file calls them."""
    from hooper.lab.documents import LabTypeDocument

    document = _read_document(sheet)
    if "errors" in document and "sheets" not in document:
        said = "; ".join(str(error.get("message")) for error in document["errors"] if isinstance(error, dict))
        raise UsageError(f"this is no worksheet, but an error: {said}", remedy="Put that right first.")
    entered: list[Any] = []
    for number, part in enumerate(_parts(document.get("sheets"), pause)):
        if number:
            time.sleep(pause)
        entered += _answer(session, LabTypeDocument, "type", sheets=part, wrongly=wrongly).entered
    session.show(LabTypeDocument(tuple(entered)), _render_typed)


def _parts(sheets: Any, pause: float) -> list[Any]:
    """What is typed before each pause: a rule. Without a pause, or where these are no sheets: all of it."""
    known = isinstance(sheets, list) and all(isinstance(one, dict) and one.get("rules") for one in sheets)
    if not pause or not known:
        return [sheets]
    return [[{**one, "rules": [rule]}] for one in sheets for rule in one["rules"]]


def _read_document(sheet: str) -> dict[str, Any]:
    remedy = "Give it the output of `hooper worksheet --json`."
    try:
        data = read_whole(Path(sheet), INPUT_LIMIT)
    except OSError as exc:
        raise UsageError(f"{sheet} cannot be read: {exc.strerror or exc}") from None
    try:
        document = json_module.loads(data)
    except (ValueError, RecursionError):
        raise UsageError("this is not JSON", remedy=remedy) from None
    if not isinstance(document, dict):
        raise UsageError("this is not a worksheet document", remedy=remedy)
    return document


def _arrow(rule: Any) -> tuple[str, str, str]:
    return (
        f"{rule.transport} {ports_text(rule.outside_ports)}",
        f"{rule.target_address}:{ports_text(rule.target_ports)}",
        ", ".join(rule.sources) or "anyone",
    )


def _render_typed(document: LabTypeDocument, out: Screen) -> None:
    from hooper.cli.parts.render import counted, heading, table

    for gateway in dict.fromkeys(rule.gateway for rule in document.entered):
        rules = [rule for rule in document.entered if rule.gateway == gateway]
        heading(out, f"{gateway}: {counted(len(rules), 'rule')} typed in")
        drawn = table("label", "from outside", "sent to", "only from", "outcome")
        for rule in rules:
            drawn.add_row(rule.label, *_arrow(rule), rule.outcome)
        out.print(drawn)
        out.print()


@command(app, "lab read")
def read_pages(session: Session, gateway: list[str] | None = None) -> None:
    """Be the person who reads numbers and rules off the town's routers."""
    from hooper.lab.documents import LabReadDocument

    session.show(_answer(session, LabReadDocument, "read", gateways=gateway or []), _render_pages)


def _render_pages(document: LabReadDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, table

    for number, page in enumerate(document.gateways):
        if number:
            out.print()
        heading(out, f"{page.gateway}: WAN address {page.wan_address}, LAN {page.lan}")
        if not page.rules:
            out.print("no rules")
            continue
        drawn = table("label", "from outside", "sent to", "only from", "state")
        for rule in page.rules:
            drawn.add_row(rule.label, *_arrow(rule), rule.state)
        out.print(drawn)
    devices = [device for page in document.gateways for device in page.devices]
    if devices:
        out.print()
        heading(out, "Devices on the routers' lists")
        drawn = table("address", "MAC")
        for device in devices:
            drawn.add_row(device.address, device.mac)
        out.print(drawn)


@command(app, "lab ledger")
def show_ledger(session: Session) -> None:
    """Everything that was sent in the town so far: who asked whom, and what became of it."""
    from hooper.lab.documents import LabLedgerDocument

    session.show(_answer(session, LabLedgerDocument, "ledger"), _render_ledger)


def _render_ledger(document: LabLedgerDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table

    drawn = table("at", "from", "by", "to", "outcome")
    for entry in document.entries:
        drawn.add_row(entry.at, entry.place, entry.transport, entry.to, entry.outcome)
    out.print(drawn)


@command(app, "lab clock")
def move_clock(
    session: Session,
    advance: float = "0s",  # type: ignore[assignment]
    back: float = "0s",  # type: ignore[assignment]
    asleep: bool = False,
) -> None:
    """The town's clock; it can be moved."""
    if asleep and not advance:
        raise UsageError("--asleep has no effect here", remedy="It goes with --advance.")
    if advance and back:
        raise UsageError("--advance and --back exclude each other", remedy="Give one of them.")
    done = _done(session, "clock", advance_s=advance - back, asleep=asleep)
    done["now"] = done["now"][:19] + "Z"
    session.show(done, _render_clock)


def _render_clock(document: LabDocument, out: Screen) -> None:
    way = "behind" if document["ahead_s"] < 0 else "ahead of"
    out.print(f"{document['now']}, {shown_duration(abs(document['ahead_s']))} {way} this computer")


register(app, _done)
register_phone(app, _done)
