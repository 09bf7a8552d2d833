"""Where something stands in the site file, and the mistake that is made most."""

from __future__ import annotations

from collections.abc import Mapping

from hooper.chosen import nearest

Path = tuple[str | int, ...]  # of a value: its keys from the outermost table on, and the places in lists
DEPTH_LIMIT = 64  # nested brackets, or parts of one dotted key; a site file needs 5
Mistake = tuple[Path, str, str]  # path, message, remedy


def unknown(path: Path, kind: str, key: str, known: Mapping[str, object]) -> Mistake:
    near = nearest(key, known)
    if near:
        remedy = f"Write {near[0]!r}, or add [{kind}.{key}]."
    elif known:
        remedy = f"Use one of {', '.join(list(known)[:8])}, or add [{kind}.{key}]."
    else:
        remedy = f"Add [{kind}.{key}]."
    return path, f"there is no {singular(kind)} {key!r}", remedy


def singular(table: str) -> str:
    """What one entry of a table is: "host" of hosts, "authority" of authorities."""
    if table.endswith("sses"):
        return table.removesuffix("es")
    return f"{table.removesuffix('ies')}y" if table.endswith("ies") else table.removesuffix("s")
