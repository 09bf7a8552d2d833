"""What the handshakes of tunnels are tried with. Pure."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field
from datetime import datetime


@dataclass(frozen=True)
class ProbeKeys:
    """A peer of its own, which reaches nothing; never a device's key. server: the server's public key.

    label: the TAI64N of an initiation at a moment, later than any before. turn: who has it sends; two initiations that
    overtake each other would silence the later one.
    """

    tunnel: str
    private: bytes = field(repr=False)
    server: bytes
    label: Callable[[datetime], bytes] = field(repr=False)
    turn: AbstractAsyncContextManager[None] = field(repr=False, compare=False)
