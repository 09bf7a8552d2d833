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
    sub_app,
)
from hooper.cli.editing import ClearOption, EditDryRunFlag, finish, rows_of
from hooper.errors import UsageError

if TYPE_CHECKING:
    from rich.console import Console

    from hooper.planning.documents import HostListDocument, SuggestDocument

app = sub_app("The devices: list, add, change, remove, tick off, free addresses.", group=True)

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
    raise typer.Exit(session.show(HostListDocument(tuple(host_rows(file.site))), _render_list))


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
    """Free addresses: outside the pool, nobody's in the site file. Asks nobody."""
    from itertools import islice

    from hooper.planning.addresses import free_addresses
    from hooper.planning.documents import SuggestDocument

    session = Session("host suggest", json, quiet, verbose)
    if not 1 <= count <= 1000:
        raise UsageError(f"--count {count}: from 1 to 1000")
    file = session.read_site(site, mask=mask)
    key = _network(gateway, list(file.site.gateways))
    entry = file.site.gateways[key]
    found = tuple(str(address) for address in islice(free_addresses(file.site, key), count))
    pool = str(entry.pool) if entry.pool is not None else None
    code = session.show(SuggestDocument(key, str(entry.lan.network), pool, found), _render_suggest)
    if pool is None:
        session.note("The pool is not known, so DHCP may give these away: better reserve the address on the router.")
    raise typer.Exit(code)


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
        rows = tuple(row for row in host_rows(file.site) if row.host == key)
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


def _render_suggest(document: SuggestDocument, out: Console) -> None:
    pool = f", outside the pool {document.pool}" if document.pool else ""
    out.print(f"Free on the LAN of {document.gateway}, {document.network}{pool}:")
    for address in document.addresses:
        out.print(f"   {address}")
    if not document.addresses:
        out.print("   none")
