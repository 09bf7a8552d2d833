"""The whole catalogue of findings, by importing every look that raises some."""

from __future__ import annotations

from hooper.planning.findings import CatalogueEntry
from hooper.planning.looks import address, exposure, line, name, port, readiness, router

LOOKS = (line, address, port, router, name, exposure, readiness)  # as their groups stand on the page
CATALOGUE: dict[str, CatalogueEntry] = {entry.code: entry for look in LOOKS for entry in look.ENTRIES}
