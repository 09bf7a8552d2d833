"""What is not entered into any router while a device is not ready for it, or a risk is not accepted. Pure."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper import deeds
from hooper.errors import RefusedForSafety
from hooper.planning.findings import entry_of
from hooper.planning.values import Finding, Plan
from hooper.site.handed import sharing

if TYPE_CHECKING:
    from hooper.site.model import Site


ALWAYS = ("default-password", "open-by-another")  # whoever may come


class NotReady(RefusedForSafety):
    """A service would be exposed in a way that is known to end badly."""

    code = "not-ready"

    def __init__(self, reason: str, remedy: str | None, service: str | None = None) -> None:
        """reason: what stands against it. service: whose rules, where that has to be said."""
        super().__init__(f"{f'{service}: ' if service else ''}not entered: {reason}", remedy=remedy)
        self.reason = reason


def kept_back(site: Site, plan: Plan) -> dict[str, list[Finding]]:
    """The services whose rules are not to be entered, each with what stands against it.

    A default password that nobody has denied always counts; clear text, a desktop and file sharing count where
    everyone may come. What a person has accepted is a note, and does not count.
    """
    out: dict[str, list[Finding]] = {}
    together = sharing(site)
    for item in plan.findings:
        if not entry_of(item.code).gate or item.severity == "note":
            continue
        key = item.subject.removeprefix("services.")
        if item.code in ALWAYS or not site.services[key].sources:
            for one in together.get(key, (key,)):  # what one rule lets in is held back together
                out.setdefault(one, []).append(item)
    for key, items in out.items():
        items.sort(key=lambda item: item.subject != f"services.{key}")  # its own first
    return out


def refusal(found: list[Finding]) -> NotReady:
    """The error that says so."""
    said = "; ".join(dict.fromkeys(str(item.message) for item in found))
    remedy = str(found[0].remedy)
    if all(entry_of(item.code).acceptable for item in found):
        remedy += f" If it has to be so, give {deeds.ACCEPT}: it is written into the site file with an end."
    return NotReady(said, remedy)


def refusals(site: Site, plan: Plan) -> dict[str, NotReady]:
    """Why services are left out of what is entered."""
    return {key: refusal(found) for key, found in kept_back(site, plan).items()}
