"""What all findings are made from: the site, the ways, the rules."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, NamedTuple

from hooper.planning.paths import RefusedWay, Way
from hooper.planning.topology import Topology
from hooper.planning.values import Forward
from hooper.site.references import Chain

if TYPE_CHECKING:
    from hooper.site.load import SiteFile
    from hooper.site.model import Site


class Facts(NamedTuple):
    """A site and what was planned for it.

    hosts: all ways in to each. ways: of the public services over IPv4. lines: by which each public service is
    reached; lines6: over IPv6. no_pinhole: why a service gets none over IPv6.
    """

    file: SiteFile
    site: Site
    today: date
    topology: Topology
    hosts: dict[str, tuple[Chain, ...]]
    ways: dict[str, Way]
    lines: dict[str, str]
    lines6: dict[str, str]
    forwards: tuple[Forward, ...]
    no_pinhole: dict[str, RefusedWay]

    def has_pinhole(self, service: str) -> bool:
        """Whether it is reached over IPv6 too."""
        entry = self.site.services[service]
        if self.site.devices[entry.host].address6 is None or entry.family == "ipv4" or service in self.no_pinhole:
            return False
        return not entry.sources or any(source.version == 6 for source in entry.sources)

    def place(self, host: str) -> str:
        """The gateway whose LAN the host is on."""
        return self.hosts[host][0].gateways[-1]

    @property
    def public(self) -> list[str]:
        """The public services, by key."""
        return list(self.lines)
