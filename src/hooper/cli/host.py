"""hooper host ..."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from hooper.cli.common import (
    JsonFlag,
    MaskFlag,
    QuietFlag,
    Session,
    SiteOption,
    VerboseFlag,
    choose,
    deadline_seconds,
    run_async,
    sub_app,
)
from hooper.cli.editing import ClearOption, EditDryRunFlag, finish, rows_of
from hooper.errors import EXIT_NEEDS_A_PERSON, NoNetwork, UsageError, worst
from hooper.planning.topology import Topology

if TYPE_CHECKING:
    from ipaddress import IPv4Address

    from rich.console import Console

    from hooper.line.neighbours import FindDocument
    from hooper.planning.documents import HostListDocument, SuggestDocument
    from hooper.site.load import SiteFile

app = sub_app("The devices: list, find, add, change, remove, tick off, free addresses.", group=True)

HostArgument = Annotated[str, typer.Argument(metavar="HOST", help="A host's key.")]
AddressOption = Annotated[str | None, typer.Option("--address", metavar="ADDRESS", help="Its IPv4 address.")]
Address6Option = Annotated[str | None, typer.Option("--address6", metavar="ADDRESS", help="Its IPv6 address.")]
MacOption = Annotated[str | None, typer.Option("--mac", metavar="MAC", help="In any common spelling.")]
GivenOption = Annotated[
    str | None, typer.Option("--given-by", metavar="WHO", help="Who gives the address: device, reservation or pool.")
]
BehindOption = Annotated[
    str | None, typer.Option("--behind", metavar="GATEWAY", help="Where the address alone fits several networks.")
]


@app.command("list")
def list_hosts(
    site: SiteOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """All devices of the site file: address, who gives it, services, what is ticked off."""
    from hooper.planning.documents import HostListDocument
    from hooper.planning.lists import host_rows

    session = Session("host list", json, quiet, verbose)
    file = session.read_site(site, mask=mask)
    raise typer.Exit(session.show(HostListDocument(tuple(host_rows(Topology(file.site)))), _render_list))


@app.command()
def add(
    host: Annotated[str, typer.Argument(metavar="HOST", help="The key that it is to have.")],
    address: AddressOption = None,
    address6: Address6Option = None,
    mac: MacOption = None,
    given: GivenOption = None,
    behind: BehindOption = None,
    site: SiteOption = None,
    dry_run: EditDryRunFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Add a device. Without --address it gets the first free one outside the pool."""
    from hooper.planning.addresses import free_addresses
    from hooper.planning.edits import add as add_edit

    session = Session("host add", json, quiet, verbose)
    file = session.read_site(site)
    if address is None:
        gateway = _network(behind, list(file.site.gateways))
        free = next(free_addresses(file.site, gateway), None)
        if free is None:
            raise UsageError(f"no address is free on the network of {gateway}", remedy="Give one with --address.")
        address = str(free)
    rows: dict[str, Any] = rows_of(address=address, address6=address6, mac=mac, address_from=given, behind=behind)
    code = finish(session, file, site, add_edit(file, "hosts", host, rows), dry_run=dry_run)
    session.note(f"\nNext: `hooper service add KEY --host {host} --speaks ...`,")
    session.note(f"      then `hooper worksheet --devices {host}` says what to set on it.")
    raise typer.Exit(code)


@app.command()
def change(
    host: HostArgument,
    address: AddressOption = None,
    address6: Address6Option = None,
    mac: MacOption = None,
    given: GivenOption = None,
    behind: BehindOption = None,
    clear: ClearOption = None,
    site: SiteOption = None,
    dry_run: EditDryRunFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Change a device, and list all that hangs on its old address."""
    from dataclasses import replace

    from hooper.planning.edits import change as change_edit
    from hooper.planning.edits import hangs_on
    from hooper.planning.plan import make_plan
    from hooper.site.load import parse_site

    session = Session("host change", json, quiet, verbose)
    file = session.read_site(site)
    (key,) = choose([host], file.site.hosts, "host")
    rows: dict[str, Any] = rows_of(address=address, address6=address6, mac=mac, address_from=given, behind=behind)
    if not rows and not clear:
        raise UsageError("nothing to change was given", remedy="Give an option such as --address 10.0.0.20.")
    edited = change_edit(file, "hosts", key, rows, clear or ())
    old = file.site.hosts[key].address
    if parse_site(edited.text.encode(), file.name).site.hosts[key].address != old:
        plan = make_plan(file, session.at.date())
        edited = replace(edited, follows=tuple(hangs_on(file.site, plan, key, old)))
    raise typer.Exit(finish(session, file, site, edited, dry_run=dry_run))


@app.command()
def remove(
    host: HostArgument,
    with_services: Annotated[bool, typer.Option("--with-services", help="Remove its services too.")] = False,
    site: SiteOption = None,
    dry_run: EditDryRunFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Remove a device. Its comments in the file stay."""
    from hooper.planning.edits import remove_host

    session = Session("host remove", json, quiet, verbose)
    file = session.read_site(site)
    (key,) = choose([host], file.site.hosts, "host")
    raise typer.Exit(finish(session, file, site, remove_host(file, key, with_services=with_services), dry_run=dry_run))


@app.command()
def suggest(
    gateway: Annotated[str | None, typer.Argument(metavar="GATEWAY", help="On whose LAN; else the innermost.")] = None,
    count: Annotated[int, typer.Option("--count", help="How many.")] = 5,
    site: SiteOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Free addresses: outside the pool, nobody's in the site file, and silent, where this machine can tell."""
    from itertools import islice

    from hooper.planning.addresses import free_addresses
    from hooper.planning.documents import SuggestDocument

    session = Session("host suggest", json, quiet, verbose)
    if not 1 <= count <= 1000:
        raise UsageError(f"--count {count}: from 1 to 1000")
    file = session.read_site(site, mask=mask)
    key = _network(gateway, list(file.site.gateways))
    entry = file.site.gateways[key]
    looked = run_async(_silent, file, key, count)
    free = looked[0] if looked is not None else islice(free_addresses(file.site, key), count)
    answered = looked[1] if looked is not None else []
    document = SuggestDocument(
        key,
        str(entry.lan.network),
        str(entry.pool) if entry.pool is not None else None,
        tuple(map(str, free)),
        looked is not None,
        tuple(map(str, answered)),
    )
    code = session.show(document, _render_suggest)
    if entry.pool is None:
        session.note("The pool is not known, so DHCP may give these away: better reserve the address on the router.")
    if looked is None:
        session.note(
            f"This machine is not on the LAN of {key}, so nobody was asked: try the address before you use it."
        )
    raise typer.Exit(code)


async def _silent(file: SiteFile, gateway: str, count: int) -> tuple[list[IPv4Address], list[IPv4Address]] | None:
    from hooper.line.neighbours import silent_addresses
    from hooper.net.lab import lab_from_environment
    from hooper.net.opening import open_door
    from hooper.planning.addresses import free_addresses

    door = await open_door(lab_from_environment())
    try:
        return await silent_addresses(door, file.site, gateway, free_addresses(file.site, gateway), count)
    except NoNetwork:
        return None


@app.command()
def find(
    sweep: Annotated[
        bool, typer.Option("--sweep", help="Try every address of this machine's own network, one after the other.")
    ] = False,
    no_ports: Annotated[bool, typer.Option("--no-ports", help="Do not try the usual ports of those found.")] = False,
    deadline: Annotated[float, typer.Option("--deadline", metavar="SECONDS", help="For everything together.")] = 10.0,
    site: SiteOption = None,
    mask: MaskFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """The devices on this machine's own network, held against the site file.

    Without --sweep those that this machine has spoken with lately. Looks nowhere but on this one network.
    """
    session = Session("host find", json, quiet, verbose)
    seconds = deadline_seconds(deadline)
    file = session.read_site(site, mask=mask)
    document = run_async(_find, session, file, seconds, sweep, not no_ports)
    code = session.show(document, _render_found)
    if not sweep:
        session.note("\nOnly those that this machine has spoken with: `hooper host find --sweep` tries every address.")
    for row in document.hosts:
        if row.state == "moved":
            session.note(f"\nNext: give {row.host} its address again: `hooper worksheet --devices {row.host}`.")
            raise typer.Exit(worst([code, EXIT_NEEDS_A_PERSON]))
    if any(row.state == "taken" for row in document.hosts):
        raise typer.Exit(worst([code, EXIT_NEEDS_A_PERSON]))
    if any(row.state == "new" for row in document.hosts):
        session.note("\nNext: `hooper host add KEY --address ADDRESS --mac MAC` for those that belong to the site.")
    raise typer.Exit(code)


async def _find(session: Session, file: SiteFile, deadline: float, sweep: bool, ports: bool) -> FindDocument:
    from hooper.line.neighbours import find_hosts
    from hooper.net.lab import lab_from_environment
    from hooper.net.opening import open_door

    door = await open_door(lab_from_environment())
    session.at = door.clock.now()
    return await find_hosts(door, file.site, deadline, sweep=sweep, ports=ports)


@app.command()
def tick(
    host: HostArgument,
    item: Annotated[list[str] | None, typer.Argument(metavar="ITEM", help="What is so; without it the list.")] = None,
    is_not: Annotated[bool, typer.Option("--not", help="Say that it is not so.")] = False,
    all_items: Annotated[bool, typer.Option("--all", help="All of the list is so.")] = False,
    site: SiteOption = None,
    dry_run: EditDryRunFlag = False,
    json: JsonFlag = False,
    quiet: QuietFlag = False,
    verbose: VerboseFlag = False,
) -> None:
    """Tick off what is done on a device before it is exposed; without an item, show its list."""
    from hooper.planning.documents import HostListDocument
    from hooper.planning.edits import tick as tick_edit
    from hooper.planning.lists import host_rows
    from hooper.planning.looks.readiness import ITEMS

    session = Session("host tick", json, quiet, verbose)
    file = session.read_site(site)
    (key,) = choose([host], file.site.hosts, "host")
    if all_items and (item or is_not):
        raise UsageError("--all stands alone", remedy="Leave the items and --not out.")
    if not item and not all_items:
        if is_not:
            raise UsageError("--not needs an item", remedy=f"There are: {', '.join(one.key for one in ITEMS)}.")
        rows = tuple(row for row in host_rows(Topology(file.site)) if row.host == key)
        code = session.show(HostListDocument(rows), _render_ticks)
        session.note(f"\nNext: `hooper host tick {key} ITEM` for what is so, with --not for what is not.")
        raise typer.Exit(code)
    items = {one.key: True for one in ITEMS} if all_items else dict.fromkeys(item or [], not is_not)
    raise typer.Exit(finish(session, file, site, tick_edit(file, key, items), dry_run=dry_run))


def _network(given: str | None, gateways: list[str]) -> str:
    """The gateway whose LAN is meant. Raises: UsageError."""
    if given is not None:
        return choose([given], gateways, "gateway")[0]
    if not gateways:
        raise UsageError("this site has no gateway", remedy="Add a [gateways.*] first.")
    return gateways[-1]


def _render_list(document: HostListDocument, out: Console) -> None:
    from hooper.cli.render import table

    if not document.hosts:
        out.print("There are no hosts yet: `hooper host add KEY`.")
        return
    several = len({row.network for row in document.hosts}) > 1
    drawn = table("host", "address", "given by", *(["on"] if several else []), "ready", "services")
    drawn.columns[0].no_wrap = drawn.columns[1].no_wrap = True
    for row in document.hosts:
        given = row.address_from + (", in the pool" if row.in_pool and row.address_from != "reservation" else "")
        done = sum(said is True for said in row.ready.values())
        wrong = sum(said is False for said in row.ready.values())
        ticks = f"{done} of {len(row.ready)}" + (f", {wrong} not so" if wrong else "")
        address = "\n".join(one for one in (row.address, row.address6, row.mac) if one is not None)
        network = [row.network] if several else []
        drawn.add_row(row.host, address, given, *network, ticks, ", ".join(row.services) or "-")
    out.print(drawn)


def _render_ticks(document: HostListDocument, out: Console) -> None:
    from rich.text import Text

    from hooper.cli.render import heading
    from hooper.planning.looks.readiness import ITEMS

    for row in document.hosts:
        heading(out, f"Before {row.host} is exposed")
        for item in ITEMS:
            mark, style = {True: ("[x]", "green"), False: ("[!]", "red"), None: ("[ ]", "")}[row.ready[item.key]]
            out.print(Text.assemble((f"   {mark} ", style), (f"{item.key:<26}", "bold"), item.question), soft_wrap=True)


def _render_found(document: FindDocument, out: Console) -> None:
    from hooper.cli.render import indented, table

    where = f"the LAN of {document.gateway}" if document.gateway is not None else "no network of the site file"
    out.print(f"{document.network} by {document.interface}: {where}")
    drawn = table("address", "MAC", "name", "open ports", "what it is")
    drawn.columns[0].no_wrap = drawn.columns[1].no_wrap = True
    for row in document.hosts:
        what = f"{row.host}, {row.meaning}" if row.host is not None and row.state != "moved" else row.meaning
        if row.in_pool and "pool" not in what:
            what += "; in the pool"
        name = (row.name or "").partition(".")[0]
        drawn.add_row(row.address, row.mac or "?", name, " ".join(map(str, row.open_ports)), what)
    out.print(drawn)
    if document.silent:
        indented(out, f"Planned here and not found: {', '.join(document.silent)}.", left=0)
    if document.outstanding:
        indented(out, f"The time did not suffice for: {', '.join(document.outstanding)}.", left=0)


def _render_suggest(document: SuggestDocument, out: Console) -> None:
    pool = f", outside the pool {document.pool}" if document.pool else ""
    silent = ", and silent" if document.looked else ""
    out.print(f"Free on the LAN of {document.gateway}, {document.network}{pool}{silent}:")
    for address in document.addresses:
        out.print(f"   {address}")
    if not document.addresses:
        out.print("   none")
    if document.answered:
        out.print(f"Not offered, since somebody is there: {', '.join(document.answered)}")
