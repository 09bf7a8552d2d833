"""The host key of an SSH server, looked at where it stands, so that it can be pinned."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from hooper import deeds
from hooper.check.probes import probe
from hooper.check.targets import Target
from hooper.errors import CounterpartError, HooperError
from hooper.usecases.run import Run


@dataclass(frozen=True, slots=True)
class HostKeyDocument:
    """public_key: as OpenSSH writes it."""

    public_key: str


async def host_key(
    run: Run, address: IPv4Address, port: int, deadline: float = 5.0
) -> tuple[HostKeyDocument, list[HooperError]]:
    """Ask the server for its host key, which it has to prove.

    address, port: of the server, as it is reached at home. deadline: seconds. Raises: CounterpartError: it does not.
    """
    where = (address, port)
    target = Target("ssh", "ssh", "tcp", "", address, port, where, "reachable")
    seen = await probe(run.here, target, deadline)
    if seen.host_key is None:
        raise CounterpartError(
            f"{address}:{port} shows no host key: {seen.detail}",
            code="no-host-key",
            remedy=f"Look from the same network; or give {deeds.PUBLIC_KEY} with the content of its"
            " /etc/ssh/ssh_host_ed25519_key.pub.",
        )
    return HostKeyDocument(seen.host_key), []
