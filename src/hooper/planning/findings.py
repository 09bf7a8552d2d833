"""What a finding is, and the catalogue of them: each entry stands beside the look that raises it, and registers."""

from __future__ import annotations

from importlib import import_module
from typing import NamedTuple

from hooper.planning.values import Finding, Severity


class CatalogueEntry(NamedTuple):
    """One kind of finding.

    what: in one clause. why: one sentence on what it does to the user. do: the remedy in general.
    acceptable: a person may take the risk. gate: rules are not entered while it stands.
    """

    code: str
    group: str
    severity: Severity
    what: str
    why: str
    do: str
    acceptable: bool = False
    gate: bool = False


GROUPS: dict[str, str] = {
    "line": "The connection to the internet",
    "address": "Addresses inside",
    "port": "Ports and rules",
    "router": "What a router can do",
    "name": "Names",
    "certificate": "Certificates",
    "exposure": "What should not be open",
    "tunnel": "Private access",
    "profile": "Profiles of tunnels",
    "readiness": "Before a device is exposed",
}


def group(group: str, *rows: tuple[str, Severity, str, str, str]) -> list[CatalogueEntry]:
    return [CatalogueEntry(code, group, severity, what, why, do) for code, severity, what, why, do in rows]


def risks(*rows: tuple[str, Severity, str, str, str], gate: bool = False) -> list[CatalogueEntry]:
    return [
        CatalogueEntry(code, "exposure", severity, what, why, do, acceptable=True, gate=gate)
        for code, severity, what, why, do in rows
    ]


_REGISTERED: dict[str, CatalogueEntry] = {}
_ORDER: dict[str, int] = {"error": 0, "warning": 1, "note": 2}


def register(*entries: CatalogueEntry) -> tuple[CatalogueEntry, ...]:
    """Put entries into the catalogue. A code stands in it once."""
    for entry in entries:
        assert entry.code not in _REGISTERED, entry.code
        _REGISTERED[entry.code] = entry
    return entries


def known(code: str) -> CatalogueEntry | None:
    """The entry of a code; None: there is no such finding."""
    if code not in _REGISTERED:
        import_module("hooper.planning.catalogue")  # its look was not needed so far
    return _REGISTERED.get(code)


def entry_of(code: str) -> CatalogueEntry:
    """The entry of a code. Raises: KeyError: there is no such finding."""
    entry = known(code)
    if entry is None:
        raise KeyError(code)
    return entry


def finding(code: str, subject: str, message: str, remedy: str, *, severity: Severity | None = None) -> Finding:
    """A finding with the severity that the catalogue gives it, unless the case at hand has another one."""
    return Finding(code, severity or entry_of(code).severity, subject, message, remedy)


def rank(item: Finding) -> tuple[int, str, str, str]:
    """Sorting key: most severe first, then by code, subject and message."""
    return _ORDER[item.severity], item.code, item.subject, item.message
