"""`docs/house.svg`, the map of the code: `python -m scripts.house docs/house.svg`. Widths go by lines of source."""

from __future__ import annotations

import sys
from pathlib import Path
from textwrap import wrap
from xml.sax.saxutils import escape

SOURCE = Path(__file__).parents[1] / "src" / "hooper"
FLOORS = (  # from the roof down: package, what it is, the steps of the walk that pass through it
    (("cli", "parses, calls, renders; rooms: parts, prepare, act, prove, private, watch, town", (1, 9)),),
    (("keep", "the keeper: what is due, and who is told", ()),
     ("usecases", "one job a module; rooms in the order of the work: prepare, act, prove, private, watch", (2, 8))),
    (("check", "does it answer, and is it that service", (4, 7)), ("why", "the first broken link", ()),
     ("tunnels", "private access: both sides", ()), ("witness", "the helper outside", ())),
    (("gateways", "drives routers", ()), ("line", "the public address, NAT, neighbours", ()),
     ("names", "publishes names", ()), ("certs", "orders and keeps certificates", ())),
    (("lab", "the simulated town", ()), ("store", "what is kept between runs", (8,)),
     ("report", "pages and figures", ())),
    (("planning", "rules, findings, sheets, edits", (3,)), ("evidence", "what observations come to", ())),
    (("net", "the one door to the network: this computer, an interface, a proxy, the lab", (5,)),),
    (("site", "the site file", (2,)), ("wire", "one protocol a module: bytes in, values out", (6,))),
    (("foundations", "errors, addresses, ports, places, clock, secrets", ()), ("words", "sentences, as data", ())),
)  # fmt: skip
PURE = {"planning", "evidence", "site", "wire", "words"}
WIDE, HIGH, LEFT, GAP, LEAST = 1200, 74, 40, 10, 190  # pixels


def lines_of(package: str) -> int:
    """Lines of source of a package, to the next 500; "foundations": of the modules beside the packages."""
    found = SOURCE.glob("*.py") if package == "foundations" else (SOURCE / package).rglob("*.py")
    exact = sum(len(path.read_text(encoding="utf-8").splitlines()) for path in found)
    return max(round(exact / 500), 1) * 500  # so that the map stays as it is for a while


def _box(x: float, y: float, width: float, name: str, text: str, steps: tuple[int, ...]) -> list[str]:
    pure = name in PURE
    fill, edge = ("#e3f1e6", "#2c6e49") if pure else ("#eef1f6", "#34495e")
    dashes = ' stroke-dasharray="6 3"' if pure else ""
    told = f"{name}{'/' if name != 'foundations' else ''} · ~{lines_of(name):,} lines{' · pure' if pure else ''}"
    out = [
        f'<rect x="{x:.0f}" y="{y:.0f}" width="{width:.0f}" height="{HIGH}" rx="6" fill="{fill}" stroke="{edge}"'
        f"{dashes}/>",
        f'<text x="{x + 12:.0f}" y="{y + 24:.0f}" font-weight="bold">{escape(told)}</text>',
    ]
    for row, part in enumerate(wrap(text, int((width - 24) / 7.2))[:2]):
        out.append(f'<text x="{x + 12:.0f}" y="{y + 44 + 17 * row:.0f}" fill="#333">{escape(part)}</text>')
    for place, step in enumerate(reversed(steps)):
        cx = x + width - 22 - 34 * place
        out.append(f'<circle cx="{cx:.0f}" cy="{y + 20:.0f}" r="13" fill="#8c1c13"/>')
        out.append(f'<text x="{cx:.0f}" y="{y + 25:.0f}" fill="#fff" text-anchor="middle">{step}</text>')
    return out


def drawn() -> str:
    """The map: a floor stands on what it uses."""
    body, y = [], 64.0
    for floor in FLOORS:
        sizes = [lines_of(name) for name, _, _ in floor]
        room = WIDE - GAP * (len(floor) - 1) - LEAST * len(floor)
        x = float(LEFT)
        for (name, text, steps), size in zip(floor, sizes, strict=True):
            width = LEAST + room * size / sum(sizes)
            body += _box(x, y, width, name, text, steps)
            x += width + GAP
        y += HIGH + GAP
    title = "Each floor uses those below it, never one above. Red: the way of one check, as docs/house.md tells it."
    return "\n".join([
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE + 2 * LEFT} {y + 20:.0f}" font-size="13"'
        ' role="img" font-family="DejaVu Sans, Verdana, sans-serif" aria-label="The packages of Hooper as a house">',
        '<rect width="100%" height="100%" fill="#fff"/>',
        f'<text x="{LEFT}" y="40" font-size="17">{escape(title)}</text>', *body, "</svg>", "",
    ])  # fmt: skip


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(drawn(), encoding="utf-8")
