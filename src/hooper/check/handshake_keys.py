"""What the handshakes of tunnels are tried with. Pure."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from hooper.wire.openvpn import Guard


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


@dataclass(frozen=True)
class PinnedKey:
    """The host key that an SSH server is to have. kind: such as "ssh-ed25519". fingerprint: "sha256:..."."""

    tunnel: str
    kind: str
    fingerprint: str


@dataclass(frozen=True)
class ControlKeys:
    """What the control channel of an OpenVPN server is looked at with.

    guard: makes what guards one conversation. authority: of the server's certificate, as the fingerprint of its public
    key, "sha256:..."; None: it is not known. certificates: of the authority, in DER, as far as they are kept here.
    sure: that this is what guards it is known, so that silence says something.
    """

    tunnel: str
    guard: Callable[[], Guard] = field(repr=False)
    authority: str | None
    certificates: tuple[bytes, ...] = field(default=(), repr=False)
    sure: bool = True


@dataclass(frozen=True)
class StandInKey:
    """The secret of the test in which Hooper itself answers in place of a service."""

    secret: bytes = field(repr=False)


TunnelKeys = ProbeKeys | ControlKeys | PinnedKey | StandInKey
