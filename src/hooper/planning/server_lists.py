"""What the server of a tunnel can tell of whom it saw, and how one gets at it. Pure."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import ends
from hooper.words.said import NOTHING, Said, say

if TYPE_CHECKING:
    from hooper.site.model import Site

TELLING = ("wireguard", "openvpn")  # the kinds whose servers keep a list of whom they saw
STATUS = "/run/openvpn-server"  # where Debian's openvpn-server@.service has its status files
OWN_LIST = ("wg", "show", "all", "dump")


def status_files(site: Site, key: str) -> tuple[str, ...]:
    """The files in which an OpenVPN server keeps it."""
    return tuple(f"{STATUS}/status-{end.name}.log" for end in ends(site, key))


def list_command(site: Site, key: str) -> str:
    """What prints it on the server, as root."""
    return f"cat {status_files(site, key)[0]}" if site.tunnels[key].kind == "openvpn" else " ".join(OWN_LIST)


def list_file(key: str) -> str:
    """What the file may be called in which it is brought here."""
    return f"{key}-seen.txt"


def brought(site: Site, key: str) -> Said:
    """How a person brings it here; nothing where the tunnel's own command does."""
    if site.tunnels[key].seen_by:
        return NOTHING
    host = site.services[site.tunnels[key].service].host
    return say("list-brought", host=host, printing=list_command(site, key), file=list_file(key))


def look_at_list(site: Site, key: str) -> str:
    """The deed that looks at it: by the tunnel's own command, else in the file that was brought."""
    return deeds.SEEN(key) if site.tunnels[key].seen_by else deeds.SEEN_IN(key, list_file(key))
