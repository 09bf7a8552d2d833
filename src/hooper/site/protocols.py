"""What a service can speak: usual transport and port, and what that means for exposing it. Data, kept in one place."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Speech:
    """One application protocol. port: the usual one, or None where there is none.

    clear_text: a passer-by can read along. desktop: gives full control of a machine's screen.
    mute: a stranger gets no answer, so that silence proves nothing.
    """

    key: str
    transport: str
    port: int | None
    title: str
    clear_text: bool = False
    desktop: bool = False
    mute: bool = False


SPEECHES: dict[str, Speech] = {
    speech.key: speech
    for speech in (
        Speech("http", "tcp", 80, "a web page without encryption", clear_text=True),
        Speech("https", "tcp", 443, "a web page with encryption"),
        Speech("tls", "tcp", None, "something inside TLS"),
        Speech("tcp", "tcp", None, "anything over TCP"),
        Speech("ssh", "tcp", 22, "a secure shell"),
        Speech("rdp", "tcp", 3389, "a remote desktop", desktop=True),
        Speech("vnc", "tcp", 5900, "a remote screen (RFB)", clear_text=True, desktop=True),
        Speech("rtsp", "tcp", 554, "a camera's film", clear_text=True),
        Speech("wireguard", "udp", 51820, "a WireGuard tunnel", mute=True),
        Speech("openvpn", "udp", 1194, "an OpenVPN tunnel", mute=True),
        Speech("unknown", "tcp", None, "a maker's own protocol"),
    )
}
