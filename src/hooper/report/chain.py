"""A picture of the chain: the line, the gateways, the rules, the hosts. As SVG, and as a tree of words."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from html import escape
from typing import TYPE_CHECKING

from hooper import visible
from hooper.planning.topology import Topology
from hooper.ports import ports_text
from hooper.site.references import Chain, chains_to, services_by_host

if TYPE_CHECKING:
    from hooper.site.model import Site

WIDTH, ROW, HEAD, EDGE, GAP = 1240, 27, 96, 24, 30  # pixels
LINE_WIDTH, BOX_WIDTH, HOST_WIDTH = 150, 148, 440
INK, SOFT, FAINT, OPEN, LIMITED, OTHER = "#1c2733", "#5b6775", "#c9ced6", "#b3401f", "#0b6e6e", "#8a5200"


@dataclass(frozen=True, slots=True)
class PanelRow:
    """One row: a service, the ports on each link where it is public, and why it is not."""

    service: str
    host: str
    links: tuple[str, ...]
    who: str
    what: str
    note: str = ""


def panels(topology: Topology) -> dict[Chain, list[PanelRow]]:
    """The rows of each chain that leads to a host, hosts in the order of their addresses."""
    site, offered = topology.site, services_by_host(topology.site)
    out: dict[Chain, list[PanelRow]] = {}
    hosts = [*site.hosts, *(key for key in site.gateways if offered[key])]
    hosts.sort(key=lambda key: (int(site.devices[key].address), key))
    for host in hosts:
        chains = chains_to(site, topology.gateway(host))
        for key in offered[host] or [""]:
            if not key:
                out.setdefault(chains[0], []).append(PanelRow("", host, (), "", "", "no service"))
                continue
            service = site.services[key]
            chain = next((way for way in chains if way.line == topology.lines[key]), chains[0])
            way = topology.ways.get(key)
            links: tuple[str, ...] = ()
            note = {"tunnel": "tunnel only", "lan": "LAN only"}.get(service.reach, "")
            if way is not None and way.refused is None:
                links = tuple(ports_text(ports) for ports in way.ports) or (f"IP {service.used_transport}",) * (
                    len(chain.gateways) + 1
                )
            elif service.reach == "public":
                note = "IPv6 only" if way is None else "no rule: see the findings"
            who = "limited" if service.sources else "everyone"
            what = f"{service.speaks} {'' if not service.has_ports else service.used_ports}".strip()
            out.setdefault(chain, []).append(PanelRow(key, host, links, who, what, note))
    return out


def as_svg(topology: Topology, title: str, *, said: str = "") -> str:
    """The picture. It needs nothing beside it."""
    drawn, at = [], 54
    for chain, entries in panels(topology).items():
        drawn.append(f'<g transform="translate(0 {at})">')
        drawn += _panel(topology.site, chain, entries)
        drawn.append("</g>")
        at += HEAD + ROW * len(entries) + GAP
    shown = _text(EDGE, 30, _cut(title, 640), size=18, weight=600)
    legend = (
        _box(WIDTH - 560, 16, 28, 18, edge=OTHER, fill="#fdf6ea")
        + _text(WIDTH - 524, 30, "another port from here", colour=SOFT)
        + _origin(WIDTH - 350, 25, "everyone")
        + _text(WIDTH - 338, 30, "open to everyone", colour=SOFT)
        + _origin(WIDTH - 180, 25, "limited")
        + _text(WIDTH - 168, 30, "allowed sources only", colour=SOFT)
    )
    label = escape(visible.shown(said or title))
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {at}" width="{WIDTH}" height="{at}"'
        f' font-family="system-ui, DejaVu Sans, sans-serif" role="img" aria-label="{label}">'
        f'<rect width="{WIDTH}" height="{at}" fill="#ffffff"/>{shown}{legend}{"".join(drawn)}</svg>\n'
    )


def as_rows(topology: Topology) -> list[tuple[str, str]]:
    """The picture in words, for a window that is too narrow for it: each service that is let in, and its way."""
    rows = []
    for chain, entries in panels(topology).items():
        for entry in entries:
            if entry.links:
                hops = [part for pair in zip(entry.links, chain.gateways, strict=False) for part in pair]
                whom = "allowed sources only" if entry.who == "limited" else "everyone"
                rows.append((f"{entry.service}, {whom}", " → ".join((*hops, entry.links[-1], entry.host))))
    return rows


def _panel(site: Site, chain: Chain, entries: list[PanelRow]) -> Iterator[str]:
    line = site.lines[chain.line]
    bottom = HEAD + ROW * len(entries)
    start, end = EDGE + LINE_WIDTH, WIDTH - EDGE - HOST_WIDTH
    count = len(chain.gateways)
    width = min(BOX_WIDTH, (end - start) / count - 34)
    step = (end - start) / count
    lefts = [start + step * at + (step - width) / 2 for at in range(count)]
    yield _text(EDGE, 22, chain.line, size=15, weight=600)
    address = ", ".join(map(str, line.address)) or "dynamic address"
    yield _text(EDGE, 42, _cut(address, LINE_WIDTH), colour=SOFT)
    blocked = ", ".join(f"{span.transport} {span.ports}" for span in line.blocked)
    if blocked:
        yield _text(EDGE, 60, _cut(f"drops {blocked}", LINE_WIDTH), colour=OPEN)
    for at, (key, left) in enumerate(zip(chain.gateways, lefts, strict=True)):
        gateway = site.gateways[key]
        wan = gateway.wan_behind(chain.gateways[at - 1] if at else chain.line)
        yield _box(left, 0, width, bottom - 6, fill="#f4f6f8")
        middle = left + width / 2
        yield _text(middle, 22, _cut(key, width), size=15, weight=600, anchor="middle")
        yield _text(middle, 41, f"WAN {wan}" if wan else "WAN: not known", colour=SOFT, anchor="middle")
        yield _text(middle, 58, f"LAN {gateway.lan}", colour=SOFT, anchor="middle")
        how = "hands all inward" if gateway.everything_to else f"rules: {gateway.control}"
        yield _text(middle, 75, how, colour=SOFT, anchor="middle")
    previous = ""
    for number, entry in enumerate(entries):
        y = HEAD + ROW * number + ROW / 2
        if entry.host != previous:
            rows = sum(other.host == entry.host for other in entries)
            height = ROW * rows - 4
            yield _box(end, y - ROW / 2 + 2, HOST_WIDTH, height)
            yield _text(end + 10, y + 4, _cut(entry.host, 92), weight=600)
            address = str(site.devices[entry.host].address)
            yield _text(end + HOST_WIDTH - 10, y + 4, address, colour=SOFT, size=11, anchor="end")
            previous = entry.host
        label = f"{entry.service}  {entry.what}" if entry.service else entry.note
        yield _text(end + 108, y + 4, _cut(label, HOST_WIDTH - 112 - 85), colour=INK if entry.links else SOFT)
        if not entry.links:
            if entry.service:
                yield _text(end - 10, y + 4, entry.note, colour=SOFT, anchor="end", size=11)
            continue
        colour = LIMITED if entry.who == "limited" else OPEN
        yield _origin(EDGE + 6, y, entry.who)
        edges = [EDGE + 14, *lefts, end]
        rights = [EDGE + 14, *(left + width for left in lefts)]
        dashes = ' stroke-dasharray="7 4"' if entry.who == "limited" else ""
        yield f'<path d="M{rights[0]} {y:.1f} H{end - 7}" stroke="{colour}" stroke-width="1.8"{dashes} fill="none"/>'
        yield f'<path d="M{end - 8} {y - 4:.1f} l8 4 l-8 4 z" fill="{colour}"/>'
        before = entry.links[0]
        for link, (right, left) in zip(entry.links, zip(rights, edges[1:], strict=True), strict=True):
            middle = (right + left) / 2
            half = len(link) * 3.6 + 7
            other = link != before  # the gateway before has made another port of it
            edge, ground = (OTHER, "#fdf6ea") if other else ("none", "#ffffff")
            yield _box(middle - half, y - 9, half * 2, 18, edge=edge, fill=ground)
            yield _text(middle, y + 4, link, anchor="middle", size=12, weight=600 if other else 400)
            before = link


def _origin(x: float, y: float, who: str) -> str:
    """Who comes in: everyone a full dot, allowed sources alone a ring, so that colours tell it not alone."""
    fill, edge = ("#ffffff", LIMITED) if who == "limited" else (OPEN, OPEN)
    return f'<circle cx="{x}" cy="{y:.1f}" r="4.5" fill="{fill}" stroke="{edge}" stroke-width="2"/>'


def _box(x: float, y: float, width: float, height: float, *, fill: str = "#ffffff", edge: str = FAINT) -> str:
    size = f'x="{x:.1f}" y="{y:.1f}" width="{width:.1f}" height="{height:.1f}"'
    return f'<rect {size} rx="6" fill="{fill}" stroke="{edge}"/>'


def _cut(text: str, width: float) -> str:
    """`text` as far as it fits into that many pixels."""
    most = max(4, int(width / 6.7))
    return text if len(text) <= most else text[: most - 1] + "…"


def _text(
    x: float, y: float, text: str, *, size: int = 12, weight: int = 400, colour: str = INK, anchor: str = "start"
) -> str:
    return (
        f'<text x="{x:.0f}" y="{y:.0f}" font-size="{size}" font-weight="{weight}" fill="{colour}"'
        f' text-anchor="{anchor}">{escape(visible.shown(text))}</text>'
    )


# --- as words


@dataclass(frozen=True, slots=True)
class TreeNode:
    """One line of the tree, with what hangs on it."""

    kind: str
    text: str
    detail: str
    inner: tuple[TreeNode, ...] = ()


def as_tree(topology: Topology) -> TreeNode:
    """The chain as a tree: lines, gateways, hosts, services."""
    site = topology.site
    lines = tuple(
        TreeNode("line", key, _line_detail(site, key), tuple(_gateways(topology, key, outer=None)))
        for key in site.lines
    )
    return TreeNode("internet", "internet", "", lines)


def _line_detail(site: Site, key: str) -> str:
    line = site.lines[key]
    address = ", ".join(map(str, line.address)) or "dynamic address"
    blocked = ", ".join(f"{span.transport} {span.ports}" for span in line.blocked)
    return address + (f"; drops {blocked}" if blocked else "")


def _gateways(topology: Topology, line: str, outer: str | None) -> Iterator[TreeNode]:
    """The gateways on a line, or behind another gateway; a host stands where its services come in."""
    entries = {chain: rows for chain, rows in panels(topology).items() if chain.line == line}
    site = topology.site
    for key, gateway in site.gateways.items():
        if (outer is None and line not in gateway.line) or (outer is not None and outer not in gateway.behind):
            continue
        wan = gateway.wan_behind(outer if outer is not None else line)
        detail = " ".join([f"WAN {wan}," if wan else "", f"LAN {gateway.lan}, rules: {gateway.control}"]).strip()
        if gateway.everything_to:
            detail += f", hands everything to {gateway.everything_to}"
        rows = [
            row for chain, found in entries.items() if chain.gateways[-1] == key and _by(chain, outer) for row in found
        ]
        hosts = [
            TreeNode(
                "host", host, str(site.devices[host].address), tuple(_service(row) for row in rows if row.host == host)
            )
            for host in dict.fromkeys(row.host for row in rows)
        ]
        yield TreeNode("gateway", key, detail, (*hosts, *_gateways(topology, line, key)))


def _by(chain: Chain, outer: str | None) -> bool:
    before = chain.gateways[-2] if len(chain.gateways) > 1 else None
    return before == outer


def _service(row: PanelRow) -> TreeNode:
    if not row.service:
        return TreeNode("none", row.note, "")
    if not row.links:
        return TreeNode("closed", row.service, f"{row.what}, {row.note}")
    links = " → ".join(dict.fromkeys(row.links)) if len(set(row.links)) > 1 else row.links[0]
    return TreeNode("open" if row.who == "everyone" else "limited", row.service, f"{row.what}: {links}, {row.who}")
