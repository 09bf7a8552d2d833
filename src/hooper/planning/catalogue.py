"""The whole catalogue of findings, by importing every look that raises some."""

from __future__ import annotations

from hooper.planning.findings import CatalogueEntry
from hooper.planning.looks import address, exposure, line, name, port, profile, readiness, router, tunnel

LOOKS = (line, address, port, router, name, tunnel, profile, exposure, readiness)  # as their groups stand on the page
CATALOGUE: dict[str, CatalogueEntry] = {entry.code: entry for look in LOOKS for entry in look.ENTRIES}
