"""What was seen, read or told: one value for all of it, and what of it still counts. Pure.

Nothing else is evidence. Its rules:
- A newer observation takes the place of an older one of the same aspect, place and source.
- What is older than the last change of what it is about, or was seen by another plan, is history and no evidence.
- What is dated later than now is not known.
"""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

if TYPE_CHECKING:
    from hooper.evidence.identity import Identity
    from hooper.planning.topology import Topology

By = Literal["measured", "read", "told", "remembered", "inferred"]
REACH, REACH_INSIDE, CHANGED = "reach", "reach@inside", "changed"
ADDRESS, SURVEY = "address", "survey"  # of a line, as they were measured
HANDSHAKE = "handshake@"  # of a tunnel, by the public key whose it was


class Observation(NamedTuple):
    """One thing that was seen.

    subject: as a path of the site file, such as services.film-page. aspect: which side of it, with @ and what it is at:
    reach, inside@tcp/443, page@tcp/80, rule@GATEWAY, wan, address, survey, handshake@PUBLIC-KEY, changed. value: as
    JSON has it. by: measured, read in a table, told by a person, remembered, or inferred from something else. place:
    the one that it was seen from, as text; empty: none. strength: of a look at a service, whose answer it is known to
    be. basis: what the plan then said of it; empty: it does not hang on that. run: the one that saw it.
    """

    subject: str
    aspect: str
    value: Any
    at: datetime
    by: By
    place: str = ""
    strength: Identity | Literal[""] = ""
    basis: str = ""
    run: str = ""

    @property
    def key(self) -> str:
        """By which people's words are kept: SUBJECT/ASPECT."""
        return f"{self.subject}/{self.aspect}"


def split_key(key: str) -> tuple[str, str]:
    """Subject and aspect."""
    subject, _, aspect = key.partition("/")
    return subject, aspect


def inside_aspect(transport: str, port: int) -> str:
    """What a service looks like from inside: verdict, fingerprint and greeting."""
    return f"inside@{transport}/{port}"


def page_aspect(transport: str, port: int) -> str:
    """What tells its page again: title, and path, width and height of its pictures."""
    return f"page@{transport}/{port}"


def service_subject(key: str) -> str:
    """The subject that a service is."""
    return f"services.{key}"


def basis_of(topology: Topology, service: str) -> str:
    """How a service is reached by the site file, in signs: what was seen by another one says nothing of it now."""
    site, chain = topology.site, topology.chain(service)
    entry, address = site.services[service], site.devices[site.services[service].host].address
    ports = entry.used_ports if entry.has_ports else ""
    outside = topology.outside_ports.get(service, "") if entry.reach == "public" else ""
    boxes = ",".join(chain.gateways)
    to = f" to {entry.hands_to}" if entry.hands_to is not None else ""
    return f"{address} {entry.used_transport} {ports} {entry.reach} {outside} {entry.name} {chain.line} {boxes}{to}"


class LastChange(NamedTuple):
    """Since when something is what it is. at: when a deed of Hooper's changed it; None: none did. basis: as it is by
    the site file of today.
    """

    at: datetime | None
    basis: str

    def outdates(self, at: datetime, basis: str) -> bool:
        """Whether what was seen then is history. basis: by the site file of then; empty: not known."""
        return (self.at is not None and at < self.at) or bool(basis and basis != self.basis)
