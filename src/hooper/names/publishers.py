"""Which publisher an updater of the site file has: one of ours, or one that another package adds."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, cast

from hooper.added import added
from hooper.files import read_text
from hooper.names.dynamic import DnsPublisher
from hooper.names.handing import CommandPublisher
from hooper.names.publish import HttpPublisher, Publisher, UpdaterSaid

if TYPE_CHECKING:
    from hooper.net.types import Door
    from hooper.secret import Secret
    from hooper.site.model import Site, Updater


def open_publisher(door: Door, site: Site, key: str, base: Path, deadline: float) -> Publisher:
    """The publisher of [updaters.KEY]. base: the site file's folder; deadline: seconds for each request.

    Raises: MachineError: its secret cannot be had; AddedWrong.
    """
    updater = site.updaters[key]
    token = updater.token.read(base) if updater.token is not None else None
    if (own := OWN.get(updater.kind)) is not None:
        return own(door, site, updater, token, base, deadline)
    part = added("hooper.publishers", updater.kind)
    made = part(door, site, updater, token, base, deadline)
    said = {"set": UpdaterSaid, "set_text": UpdaterSaid, "clear_text": UpdaterSaid}
    return cast(Publisher, part.giving(made, ("together", *said), **said))


Opener = Callable[["Door", "Site", "Updater", "Secret | None", "Path", float], Publisher]


def _by_http(door: Door, site: Site, updater: Updater, token: Secret | None, base: Path, deadline: float) -> Publisher:
    roots = read_text(base / updater.trust.place) if updater.trust is not None else None
    return HttpPublisher(door, updater, token, roots, deadline)


def _by_dns(door: Door, site: Site, updater: Updater, token: Secret | None, base: Path, deadline: float) -> Publisher:
    assert token is not None
    return DnsPublisher(door, site, updater, token, deadline)


def _by_command(
    door: Door, site: Site, updater: Updater, token: Secret | None, base: Path, deadline: float
) -> Publisher:
    return CommandPublisher(updater, token, base)


OWN: dict[str, Opener] = {"http": _by_http, "dns-update": _by_dns, "command": _by_command}
