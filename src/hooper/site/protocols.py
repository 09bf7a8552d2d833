"""What a service can speak: usual transport and port, and what that means for exposing it. Data, kept in one place.

Ports are those of the IANA registry of service names and port numbers (RFC 6335).
"""

from __future__ import annotations

from typing import NamedTuple

from hooper.words.data import data


class Speech(NamedTuple):
    """One application protocol.

    transport: tcp, udp, both, or an IP protocol's number. port: the usual one, or None where there is none.
    clear_text: a passer-by can read along. desktop: gives full control of a machine's screen. sharing: hands out
    files. lan_only: made for networks where everyone is trusted, it asks for no login or is used against others.
    mute: a stranger gets no answer, so that silence proves nothing; silence: why, in words. safer: the encrypted
    kind. either: it may run over the other transport too. more: what else it needs, in words, and as transport and
    port: 0 for a range of ports. probe: how it is probed, "tcp" where it can only be connected to.
    """

    key: str
    transport: str
    port: int | None
    title: str
    clear_text: bool = False
    desktop: bool = False
    sharing: bool = False
    lan_only: bool = False
    mute: bool = False
    safer: str = ""
    either: bool = False
    more: str = ""
    more_ports: tuple[str, int] = ("", 0)
    probe: str = "tcp"
    silence: str = ""

    @property
    def tunnel(self) -> bool:
        """Whether it is a way into a network for other protocols."""
        return self.key in TUNNELS

    @property
    def told(self) -> bool:
        """Whether a probe can tell that it is this protocol that answers."""
        return self.probe != "tcp"


TUNNELS = ("wireguard", "openvpn", "ike", "ipsec-nat", "esp", "l2tp", "pptp", "gre")
SPEECHES: dict[str, Speech] = {
    key: Speech(key, **{**row, "more_ports": tuple(row.get("more_ports", ("", 0)))})
    for key, row in data("protocols").items()
}
