"""hooper plan"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.files import STDIO, read_text
from hooper.planning.values import EVERYTHING, Forward, PlanDocument
from hooper.ports import ports_text
from hooper.visible import shown_lines

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.planning.topology import Topology
    from hooper.planning.values import PageUnderstood

app = sub_app("The rule that every router needs, and what is wrong or risky.")


@command(app, "plan", site=True, state=True, mask=True, dry_run="With --pin: say what would be written; write nothing.")
def plan(
    session: Session,
    chain: bool = False,
    svg: bool = False,
    out: Path | None = None,
    force: bool = False,
    against: list[str] | None = None,
    pin: bool = False,
) -> int:
    """The rule that every router needs, and what is wrong or risky. Asks nobody; writes only what you name."""
    from hooper.usecases.prepare.plan import PlanRequest
    from hooper.usecases.prepare.plan import plan as make

    if chain and (session.json or against):
        raise UsageError("--chain draws for people", remedy="Leave --json and --against out, or --chain.")
    if (out is not None and not svg) or (force and out is None):
        raise UsageError("--out and --force have no effect here", remedy="They go with --svg.")
    if svg and out is None and session.json:
        raise UsageError("--svg and --json exclude each other", remedy="Give one of them, or --out FILE.")
    file = session.read_site()
    tables = _tables(against or [], list(file.site.gateways))
    done = session.do(lambda run: make(run, PlanRequest(pin, tables, session.dry_run)), file, look=True)
    document, run = done.document, done.run
    if pin:
        _pinned(session, document)
    if svg:
        _draw(session, run.topology, out, force=force)
    if svg and out is None:
        return session.failed(done.trouble)
    shown = _tree if chain else render
    code = session.show(
        document, lambda said, out: shown(said, out, run.topology, verbose=session.verbose), errors=done.trouble
    )
    differs = any(row.state != "same" for row in document.against)
    if not against:
        session.ahead()
    return worst([code, 0 if document.feasible and not differs else EXIT_NEEDS_A_PERSON])


def _pinned(session: Session, document: PlanDocument) -> None:
    """What was written down."""
    if not document.pinned:
        session.note("Every outside port is written down already.\n")
        return
    would = "Would be written" if session.dry_run else "Written"
    session.note(f"{would} into {session.site_path}:")
    for line in document.pinned:
        session.note(f"   {line}")
    session.note()


def _draw(session: Session, topology: Topology, out: Path | None, *, force: bool) -> None:
    from hooper.files import MADE_BY
    from hooper.report.chain import as_svg

    mark = "[lab] " if session.world == "lab" else ""
    drawn = as_svg(topology, f"{mark}{topology.site.site.title or 'The chain'}")
    text = shown_lines(session.mask.text(drawn) if session.mask else drawn)
    text = text.replace(">", f"><!-- {MADE_BY.decode()} -->", 1)
    session.give(text, out, force=force)


def _tables(given: list[str], gateways: list[str]) -> dict[str, tuple[str | None, str]]:
    """--against: each table's text, with the gateway that was named. Raises: UsageError."""
    out: dict[str, tuple[str | None, str]] = {}
    for text in given:
        key, equals, name = text.partition("=")
        named = key if equals and key in gateways else None
        path = Path(name if named is not None else text)
        if path != STDIO and not path.is_file():
            raise UsageError(f"--against: there is no file {path}", remedy="Write --against [GATEWAY=]FILE.")
        out[str(path)] = (named, read_text(path))
    return out


def _tree(document: PlanDocument, out: Screen, topology: Topology, *, verbose: bool = False) -> None:
    """The chain as a tree."""
    from hooper.cli.parts.render import heading, line
    from hooper.report.chain import TreeNode, as_tree

    del document, verbose
    styles = {"line": "bold", "gateway": "bold", "host": "", "open": "doubtful", "limited": "well", "closed": "faint"}

    def grow(node: TreeNode, before: str) -> None:
        for number, inner in enumerate(node.inner, 1):
            last = number == len(node.inner)
            branch = before + ("└── " if last else "├── ")
            text = (inner.text, styles.get(inner.kind, "faint"))
            line(
                out,
                (branch, "faint"),
                text,
                (f"  {inner.detail}" if inner.detail else "", "faint"),
                hang=len(branch) + 2,
            )
            grow(inner, before + ("    " if last else "│   "))

    root = as_tree(topology)
    heading(out, root.text)
    grow(root, "")


def render(document: PlanDocument, out: Screen, topology: Topology, *, verbose: bool = False) -> None:
    """The ways of the services, those that are not forwarded, the findings."""
    from hooper.cli.parts.render import counted, findings, heading, indented
    from hooper.planning.findings import entry_of

    gateways = list(dict.fromkeys(forward.gateway for forward in document.forwards))
    where = f" on {', '.join(gateways)}" if gateways else ""
    heading(out, f"Plan: {counted(len(document.forwards), 'rule')}{where}")
    if document.forwards:
        out.print()
        ways(document.forwards, out)
    by_name = {one.hands_to for one in document.by_name}
    for reach, words in (("tunnel", "through a tunnel only"), ("lan", "on the LAN only")):
        keys = [key for key, one in topology.site.services.items() if one.reach == reach and key not in by_name]
        if keys:
            out.print(f"Not forwarded, {words}: {', '.join(keys)}")
    for one in document.by_name:
        shown = f"By name: {one.name} ({one.service}), by the rule of {one.by}: {one.server} hands it on to"
        out.print(f"{shown} {one.hands_to} on {one.host}")
    for held in document.held_back:
        indented(out, f"Held back: {held.service}: {held.reason}", left=0, style="doubtful")
    _entering(document, out)
    _understood(document, out)
    if document.against:
        out.print()
        _compared(document, out)
    if document.findings:
        out.print()
        heading(out, f"Findings: {_counts(document)}")
        findings(out, document.findings)
    if verbose:
        for code in dict.fromkeys(item.code for item in document.findings):
            out.print(f"{code}: {entry_of(code).why}", style="faint")


def _entering(document: PlanDocument, out: Screen) -> None:
    """How the rules get into each router, alike services together."""
    from hooper.cli.parts.render import heading, indented

    alike: dict[str, dict[str, list[str]]] = {}
    for row in document.entering:
        if row.protocol is None:
            said = "by hand" if row.by_hand else row.reason
        elif row.from_here == "yes":
            said = f"by a program on this network: {row.reason}"
        elif row.from_here == "unknown":
            said = f"perhaps by a program on this network: {row.reason}"
        elif row.from_device == "yes":
            said = f"by hand, or by the device itself: {row.reason}"
        else:
            said = f"by hand: {row.reason}"
        service = "all else" if row.service == EVERYTHING else row.service
        alike.setdefault(row.gateway, {}).setdefault(said, []).append(service)
    if alike:
        out.print()
        heading(out, "How the rules get there")
    width = max((len(gateway) for gateway in alike), default=0) + 2
    for gateway, ways in alike.items():
        for number, (said, services) in enumerate(ways.items()):
            whom = f" ({', '.join(services)})" if len(ways) > 1 else ""
            indented(out, said + whom, mark=f"{gateway if not number else '':<{width}}", left=0)


STATES = {
    "same": ("✓", "well"),
    "missing": ("missing", "wrong"),
    "different": ("different", "wrong"),
    "unknown": ("not planned", "doubtful"),
    "not-known": ("not known", "doubtful"),
}


def _understood(document: PlanDocument, out: Screen) -> None:
    """What saved pages were taken to say: the person sees at once whether that is so."""
    for page in document.understood:
        out.print()
        render_page(page, out)


def render_page(page: PageUnderstood, out: Screen) -> None:
    """What a saved page was taken to say."""
    from hooper.cli.parts.render import counted, heading, indented

    heading(out, f"Understood from the page {page.file}: {counted(page.rules, 'rule')}")
    if page.wan_address is not None:
        indented(out, f"WAN address {page.wan_address}", left=3)
    if page.pool is not None:
        indented(out, f"DHCP hands out {page.pool[0]} to {page.pool[1]}", left=3)
    for mac, address in page.reservations:
        indented(out, f"reserved: {address} for {mac}", left=3)
    if page.guessed:
        words = "read by how their values look, since they have no headings: look whether the outside port is right"
        indented(out, f"{', '.join(page.guessed)}: {words}", mark="? ", left=3)
    for said in page.not_understood:
        indented(out, f"not understood: {said}", mark="! ", left=3)
    for said in page.differs:
        indented(out, said, mark="≠ ", left=3)


def _compared(document: PlanDocument, out: Screen) -> None:
    """The table that was given against the plan, gateway by gateway."""
    from rich.text import Text

    from hooper.cli.parts.render import heading, table

    for gateway in dict.fromkeys(row.gateway for row in document.against):
        rows = [row for row in document.against if row.gateway == gateway]
        wrong = sum(row.state != "same" for row in rows)
        heading(out, f"{gateway}, as it is: " + (f"{wrong} not as planned" if wrong else "all as planned"))
        drawn = table("", "service", "outside", "planned", "found", "at", prose=("found", "at"))
        for row in rows:
            mark, style = STATES[row.state]
            outside = f"{row.transport} {ports_text(row.outside_ports)}"
            cells = (row.planned or "-", row.found or ("as planned" if row.state == "same" else "-"), row.place)
            drawn.add_row(Text(mark, style=style), row.service or "-", outside, *cells)
        out.print(drawn)


def _counts(document: PlanDocument) -> str:
    from hooper.cli.parts.render import counted

    counts = {s: sum(item.severity == s for item in document.findings) for s in ("error", "warning", "note")}
    return ", ".join(counted(number, word) for word, number in counts.items() if number)


def ways(forwards: tuple[Forward, ...], out: Screen) -> None:
    """One row a service: where it comes in, and where each gateway sends it. One table for each chain."""
    from hooper.cli.parts.render import table

    steps: dict[tuple[str, str, int], list[Forward]] = {}
    order: dict[str, int] = {}
    for forward in forwards:
        order.setdefault(forward.gateway, len(order))
        same = [row for key, row in steps.items() if key[0] == forward.service]
        nth = sum(row[-1].gateway == forward.gateway for row in same)
        waiting = [row for row in same if row[-1].gateway != forward.gateway and _leads_to(row[-1], forward)]
        if waiting:
            waiting[0].append(forward)
        else:
            steps[forward.service, forward.gateway, nth] = [forward]
    chains: dict[tuple[str, ...], list[list[Forward]]] = {}
    for row in steps.values():
        chains.setdefault(tuple(forward.gateway for forward in row), []).append(row)
    for chain, rows in chains.items():
        drawn = table("service", "from outside", *(f"{gateway} sends to" for gateway in chain))
        for row in rows:
            cells = [_target(forward) for forward in row]
            name = "all else" if row[0].service == EVERYTHING else row[0].service
            drawn.add_row(name, _outside(row[0]), *cells)
        out.print(drawn)
        out.print()
    limited: dict[str, list[str]] = {}
    for forward in forwards:
        if forward.sources:
            limited.setdefault(", ".join(forward.sources), []).append(forward.service)
    for sources, services in limited.items():
        out.print(f"Only from {sources}: {', '.join(dict.fromkeys(services))}")


def _outside(rule: Forward) -> str:
    if rule.kind == "pinhole":
        return f"IPv6 {rule.transport} {ports_text(rule.outside_ports)}"
    if rule.outside_ports is None:
        return f"IP protocol {rule.transport}"
    return f"{rule.transport} {ports_text(rule.outside_ports)}"


def _target(rule: Forward) -> str:
    if rule.kind == "pinhole":
        return f"[{rule.target_address}]"
    ports = f":{ports_text(rule.target_ports)}" if rule.target_ports and rule.service != EVERYTHING else ""
    return f"{rule.target_address}{ports}"


def _leads_to(outer: Forward, inner: Forward) -> bool:
    """Whether what `outer` sends on arrives at `inner`."""
    if outer.kind != inner.kind or outer.target_address != inner.outside_address:
        return False
    if outer.target_ports is None or inner.outside_ports is None:
        return outer.transport == inner.transport
    carried = inner.transport == "both" or outer.transport in (inner.transport, "both")
    return carried and inner.outside_ports[0] <= outer.target_ports[0] <= inner.outside_ports[1]
