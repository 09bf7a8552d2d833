"""The names of this computer's interfaces, quickly: for a shell that offers them."""

from __future__ import annotations

import socket


def interface_names() -> list[str]:
    """Those that lead anywhere; empty where the system does not say."""
    try:
        return [name for _, name in socket.if_nameindex() if name != "lo"]
    except OSError:
        return []
