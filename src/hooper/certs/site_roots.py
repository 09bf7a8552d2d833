"""Whom a site trusts beside those whom everybody knows: the roots that lie beside its site file. One answer for all."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.certs.inspect import load_pem
from hooper.errors import MachineError
from hooper.files import read_text

if TYPE_CHECKING:
    from cryptography import x509

    from hooper.site.model import Site


def roots_beside(site: Site, base: Path, authorities: tuple[str, ...] | None = None) -> list[x509.Certificate]:
    """The roots of these authorities; None: of all. base: the site file's folder. A file that is missing, or holds
    none, vouches for nothing.
    """
    found: list[x509.Certificate] = []
    for key in site.authorities if authorities is None else authorities:
        trust = site.authorities[key].trust
        with suppress(MachineError, ValueError):
            found += load_pem(read_text(base / trust.place).encode()) if trust is not None else []
    return found


def own_roots(site: Site, base: Path) -> dict[str, x509.Certificate]:
    """By the site's own authorities, the root of each that lasts longest; nothing that they vouch for outlasts it."""
    found: dict[str, x509.Certificate] = {}
    for key, authority in site.authorities.items():
        roots = roots_beside(site, base, (key,)) if authority.kind == "own" else []
        if roots:
            found[key] = max(roots, key=lambda root: root.not_valid_after_utc)
    return found
