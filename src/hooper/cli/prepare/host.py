"""hooper host ..."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from hooper.chosen import chosen
from hooper.cli.parts.command import DRY_RUN, EDIT_DRY_RUN, command
from hooper.cli.parts.editing import finish
from hooper.cli.parts.entity import add_verbs
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.line.neighbours import FindDocument, ForeignHost, FoundHost
    from hooper.planning.documents import HostListDocument, SuggestDocument
    from hooper.site.load import SiteFile
    from hooper.usecases.prepare.hosts import KnownDocument

app = sub_app("The devices: list, find, add, change, remove, tick off, free addresses.", group=True)
add_verbs(app, "hosts", "show", "rename")


@command(app, "host list", site=True, mask=True)
def list_hosts(session: Session) -> int:
    """All devices of the site file: address, who gives it, services, what is ticked off."""
    from hooper.usecases.prepare.lists import list_hosts as look

    document = session.do(look, session.read_site()).document
    code = session.show(document, _render_list)
    if not document.hosts:
        session.ahead()
    return code


@command(app, "host add", site=True, dry_run=EDIT_DRY_RUN, keys="host")
def add(session: Session, keys: dict[str, Any], host: str) -> int:
    """Add a device. Without --address it gets the first free one outside the pool."""
    from hooper.planning.edits import add_host

    code = finish(session, session.read_site(), lambda file: add_host(file, host, keys))
    if "address" not in keys:
        session.then("see-what-to-set", f"worksheet --devices {host}")
    return code


@command(app, "host change", site=True, dry_run=EDIT_DRY_RUN, keys="host")
def change(session: Session, keys: dict[str, Any], host: str, clear: list[str] | None = None) -> int:
    """Change a device, and list all that hangs on its old address."""
    from hooper.planning.edits import change_host

    file = session.read_site()
    (key,) = chosen([host], file.site.hosts, "host")
    if not keys and not clear:
        raise UsageError("nothing to change was given", remedy="Give an option such as --address 10.0.0.20.")
    return finish(session, file, lambda file: change_host(file, key, keys, clear or (), session.at.date()))


@command(app, "host remove", site=True, dry_run=EDIT_DRY_RUN)
def remove(session: Session, host: str, with_services: bool = False) -> int:
    """Remove a device. Its comments in the file stay."""
    from hooper.planning.edits import remove_host

    file = session.read_site()
    (key,) = chosen([host], file.site.hosts, "host")
    return finish(session, file, lambda file: remove_host(file, key, with_services=with_services))


@command(app, "host suggest", site=True, mask=True)
def suggest(session: Session, gateway: str | None = None, count: int = 5) -> int:
    """Free addresses: outside the pool, nobody's in the site file, and silent, where this computer can tell."""
    from hooper.usecases.prepare.hosts import suggest as look

    done = session.look(lambda run: look(run, gateway, count), session.read_site())
    document = done.document
    code = session.show(document, _render_suggest, errors=done.trouble)
    if document.pool is None:
        session.note("The pool is not known, so DHCP may hand these out: better reserve the address on the router.")
    if not document.looked:
        session.note(
            f"This computer is not on the LAN of {document.gateway}, so nobody was asked: try the address before you"
            " use it."
        )
    return code


@command(app, "host find", site=True, mask=True, deadline=10.0, deadline_help="For everything together.",
         dry_run="With --add: say what would be written.")  # fmt: skip
def find(session: Session, sweep: bool = False, no_ports: bool = False, add: list[str] | None = None) -> int:
    """The devices on this computer's own network: what each probably is, held against the site file.

    Without --sweep those that this computer has spoken with lately. Looks nowhere but on this one network. --add takes
    devices into the site file, with what they offer as services for the LAN alone.
    """
    from hooper.usecases.prepare.hosts import find as look

    if session.dry_run and not add:
        raise UsageError("--dry-run without --add would change nothing anyway", remedy="Add --add, or leave it out.")
    if no_ports and add:
        raise UsageError("--no-ports and --add exclude each other: services are known by ports", remedy="Leave one.")
    file = session.read_site()
    done = session.look(lambda run: look(run, session.deadline, sweep=sweep, ports=not no_ports), file)
    if add:
        code = adopt_found(session, file, done.document, add)
        return worst([code, session.failed(done.trouble)])
    code = session.show(done.document, _render_found, errors=done.trouble)
    if not sweep:
        session.next("these-are-those", "host find --sweep")
    hosts = done.document.hosts
    for row in hosts:
        if row.state == "moved":
            session.next("give-its-address", f"worksheet --devices {row.host}", host=row.host)
            return worst([code, EXIT_NEEDS_A_PERSON])
    if any(row.state == "taken" for row in hosts):
        return worst([code, EXIT_NEEDS_A_PERSON])
    new = [row.address for row in hosts if row.state == "new"]
    if new and done.document.gateway is not None:
        shown = [*(["--sweep"] if sweep else []), "--add", ",".join(address.rpartition(".")[2] for address in new)]
        session.next("add-those-that", ("host", "find", *shown))
    return code


def adopt_found(session: Session, file: SiteFile, found: FindDocument, wanted: list[str]) -> int:
    """Take the chosen ones of those that were found into the site file."""
    from hooper.planning.adopting import NewDevice, adopt

    new = {row.address: row for row in found.hosts if row.state == "new"}
    rows = [new[address] for address in _chosen_addresses(wanted, new, found)]
    devices = [
        NewDevice(row.address, row.mac, row.name or row.kind or "", bool(row.in_pool), row.offers) for row in rows
    ]
    return finish(session, file, lambda file: adopt(file, devices))


def _chosen_addresses(wanted: list[str], new: dict[str, FoundHost], document: FindDocument) -> list[str]:
    """The addresses that are meant, each whole or by its end. Raises: UsageError."""
    out: dict[str, None] = {}
    for word in (part.strip() for text in wanted for part in text.split(",") if part.strip()):
        fitting = [address for address in new if word == address or address.endswith(f".{word}")]
        if len(fitting) != 1:
            known = next((row for row in document.hosts if word in (row.address, row.address.rpartition(".")[2])), None)
            what = f"{known.address} is {known.meaning}" if known is not None else "there is no such new device here"
            what = f"it fits {' and '.join(fitting)}" if fitting else what
            remedy = f"New here: {', '.join(new) or 'none'}."
            raise UsageError(f"--add {word}: {what}", remedy=remedy)
        out[fitting[0]] = None
    return list(out)


@command(app, "host know", site=True, state=True, mask=True, deadline=5.0, dry_run=DRY_RUN)
def know(session: Session, host: str) -> int:
    """Keep what a device shows now as its own: its certificate, its host key, its greeting, its page.

    By these a later check tells it from another device. Say so here when you have set it up anew. Of what shows only a
    page, a line of your own proves it: write one on its page, and name it as the service's `expect`.
    """
    from hooper.usecases.prepare.hosts import know as look

    file = session.read_site()
    (key,) = chosen([host], file.site.devices, "host")
    done = session.look(lambda run: look(run, key, session.deadline, dry_run=session.dry_run), file)
    document = done.document
    code = session.show(document, _render_known, errors=done.trouble)
    session.not_written()
    if document.mac is not None and document.planned_mac not in (None, document.mac):
        session.next("write-its-mac", f"host change {key} --mac {document.mac}")
        return worst([code, EXIT_NEEDS_A_PERSON])
    return code


@command(app, "host tick", site=True, dry_run=EDIT_DRY_RUN)
def tick(
    session: Session, host: str, item: list[str] | None = None, is_not: bool = False, all_items: bool = False
) -> int:
    """Tick off what is done on a device before it is exposed; without an item, show its list."""
    from hooper.planning.edits import tick as tick_edit
    from hooper.usecases.prepare.lists import list_hosts as look
    from hooper.words.catalogue import ticks

    file = session.read_site()
    (key,) = chosen([host], file.site.devices, "host")
    if all_items and (item or is_not):
        raise UsageError("--all stands alone", remedy="Leave the items and --not out.")
    if not item and not all_items:
        if is_not:
            raise UsageError("--not needs an item", remedy=f"There are: {', '.join(known.key for known in ticks())}.")
        code = session.show(session.do(lambda run: look(run, key), file).document, _render_ticks)
        session.next("say-what-is", f"host tick {key} {ticks()[0].key}")
        return code
    items = {known.key: True for known in ticks()} if all_items else dict.fromkeys(item or [], not is_not)
    return finish(session, file, lambda file: tick_edit(file, key, items))


def _render_known(document: KnownDocument, out: Screen) -> None:
    from hooper.cli.parts.render import counted, table

    out.print(f"{document.host} at {document.address}: what it shows is kept as its own.")
    drawn = table("service", "port", "known by", "seen", prose=("seen",))
    for row in document.signs:
        key = f"its key {row.key[:23]}…" if row.key is not None else "nothing that another of its make would not show"
        if row.page is not None:
            pictures = f", {counted(len(row.pictures), 'picture')}" if row.pictures else ""
            key = f"its page “{row.page}”{pictures}"
            key += ": another of its make may show the same"
        if row.before is not None and row.before != row.key:
            key += f", before {row.before[:23]}…"
        drawn.add_row(row.service, f"{row.transport} {row.port}", key, str(row.detail))
    out.print(drawn)
    if document.mac is not None:
        same = {None: "the site file has none", document.mac: "as in the site file"}
        out.print(f"MAC {document.mac}: {same.get(document.planned_mac, f'the site file has {document.planned_mac}')}")
    if document.silent:
        out.print(f"Not seen, so kept as before: {', '.join(document.silent)}.")


def _render_list(document: HostListDocument, out: Screen) -> None:
    from hooper.cli.parts.render import table

    if not document.hosts:
        out.print("There are no hosts yet.")
        return
    several = len({row.network for row in document.hosts}) > 1
    drawn = table("host", "address", "given by", *(["on"] if several else []), "ready", "services", prose=("services",))
    for row in document.hosts:
        given = row.address_from + (", in the pool" if row.in_pool and row.address_from != "reservation" else "")
        done = sum(said is True for said in row.ready.values())
        wrong = sum(said is False for said in row.ready.values())
        ticks = f"{done} of {len(row.ready)}" + (f", {wrong} not so" if wrong else "")
        address = "\n".join(text for text in (row.address, row.address6, row.mac) if text is not None)
        network = [row.network] if several else []
        drawn.add_row(row.host, address, given, *network, ticks, ", ".join(row.services) or "-")
    out.print(drawn)


def _render_ticks(document: HostListDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import heading
    from hooper.words.catalogue import ticks

    for row in document.hosts:
        heading(out, f"Before {row.host} is exposed")
        for item in ticks():
            mark, style = {True: ("[x]", "well"), False: ("[!]", "wrong"), None: ("[ ]", "")}[row.ready[item.key]]
            out.print(Text.assemble((f"   {mark} ", style), (f"{item.key:<26}", "bold"), item.question))


def _render_found(document: FindDocument, out: Screen) -> None:
    from hooper.cli.parts.render import indented, table

    where = f"the LAN of {document.gateway}" if document.gateway is not None else "no network of the site file"
    out.print(f"{document.network} by {document.interface}: {where}")
    drawn = table("address", "MAC", "name", "open ports", "what it is", prose=("open ports", "what it is"))
    for row in document.hosts:
        what = f"{row.host}, {row.meaning}" if row.host is not None and row.state != "moved" else row.meaning
        if row.in_pool and "pool" not in what:
            what += "; in the pool"
        if row.host is None and row.state == "new":
            what = f"new; {probably(row)}" + ("; in the pool" if row.in_pool else "")
        name = (row.name or "").partition(".")[0]
        drawn.add_row(row.address, row.mac or "?", name, " ".join(map(str, row.open_ports)), what)
    out.print(drawn)
    for foreign in document.foreign:
        render_foreign(foreign, out)
    if document.silent:
        indented(out, f"Planned here and not found: {', '.join(document.silent)}.", left=0)
    if document.outstanding:
        indented(out, f"The time did not suffice for: {', '.join(document.outstanding)}.", left=0)


def probably(row: FoundHost) -> str:
    """What a device probably is, and from what it says so."""
    says = ", ".join(map(str, row.says))
    if row.kind is None:
        return says or "what it is cannot be told"
    return f"probably {row.kind_title}: {says}"


def render_foreign(row: ForeignHost, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented

    name = f" ({row.name})" if row.name is not None else ""
    out.print()
    heading(out, f"{row.address}{name} is on this network with an address of another one, as from its factory")
    kind = f"It is probably {row.kind_title}: {', '.join(map(str, row.says))}. " if row.kind is not None else ""
    indented(out, f"{kind}It was heard by {' and '.join(row.by)}, and can be reached for its first setting:", left=0)
    for number, step in enumerate(row.steps, 1):
        indented(out, step, mark=f"{number}. ", left=3)


def _render_suggest(document: SuggestDocument, out: Screen) -> None:
    pool = f", outside the pool {document.pool}" if document.pool else ""
    silent = ", and silent" if document.looked else ""
    out.print(f"Free on the LAN of {document.gateway}, {document.network}{pool}{silent}:")
    for address in document.addresses:
        out.print(f"   {address}")
    if not document.addresses:
        out.print("   none")
    if document.answered:
        out.print(f"Not offered, since somebody is there: {', '.join(document.answered)}")
