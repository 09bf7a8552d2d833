"""What devices inside need where the public address does not work from there: lines for their hosts files. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

from hooper.planning.paths import gateway_of
from hooper.site.references import name_of_line

if TYPE_CHECKING:
    from hooper.site.model import Site


class HostsLines(NamedTuple):
    """The inner addresses that one name stands for.

    addresses: of the hosts whose public services go by it; more than one cannot all be right in a hosts file.
    gateway: that decides whether the public address works inside. sure: it is known not to work.
    """

    gateway: str
    addresses: tuple[str, ...]
    services: tuple[str, ...]
    sure: bool


def hairpin_lines(site: Site, lines: Mapping[str, str]) -> dict[str, HostsLines]:
    """By name: what devices inside would write. lines: of each public service.

    A service goes by its own `name`, else by the name of its line, where that has exactly one. It is the gateway of
    the host that turns a packet from inside back; without a word on it in the file, nothing is known.
    """
    found: dict[str, list[str]] = {}
    for key, line in lines.items():
        name = site.services[key].name or name_of_line(site, line)
        if name is not None:
            found.setdefault(name, []).append(key)
    out: dict[str, HostsLines] = {}
    for name, keys in sorted(found.items()):
        hosts = list(dict.fromkeys(site.services[key].host for key in keys))
        gateways = [gateway_of(site, site.devices[host]) for host in hosts]
        blind = [key for key in gateways if site.gateways[key].form.hairpin is False]
        out[name] = HostsLines(
            (blind or gateways)[0], tuple(str(site.devices[host].address) for host in hosts), tuple(keys), bool(blind)
        )
    return out
