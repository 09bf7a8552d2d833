"""Forwards through SSH in the town: ports of a peer's machine that lead to what the server's list permits.

The files are those that real software loads. What they say is carried out; the town does not encrypt it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import partial
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

import anyio
from anyio.abc import ByteStream

from hooper.errors import UsageError
from hooper.lab.things import Arrival, Machine
from hooper.net.types import Endpoint

if TYPE_CHECKING:
    from hooper.lab.streets import Streets

_KEY = re.compile(r"(?P<options>\S*(?:\"[^\"]*\"\S*)*) (?P<key>ssh-\S+ \S+)")


@dataclass
class SshServer:
    """A machine that takes peers' keys. permitted: by public key, the targets as host:port; None: all."""

    node: Machine
    permitted: dict[str, frozenset[str] | None] = field(default_factory=dict)

    def load(self, text: str) -> int:
        """Take the list of keys (authorized_keys(5)). Returns: how many. Raises: UsageError: it is none."""
        found: dict[str, frozenset[str] | None] = {}
        for line in text.splitlines():
            if not line.strip() or line.startswith("#"):
                continue
            match = _KEY.match(line)
            if match is None:
                raise UsageError(f"the gate does not understand the line {line[:40]!r}", remedy="Load what was made.")
            options = match["options"]
            targets = frozenset(re.findall(r'permitopen="([^"]+)"', options))
            allowed = "port-forwarding" in options.split(",")
            found[match["key"]] = targets if targets else None if allowed else frozenset()
        self.permitted = found
        return len(found)

    def permits(self, key: str, address: IPv4Address, port: int) -> bool:
        """Whether a key may have a connection made to there."""
        if key not in self.permitted:
            return False
        targets = self.permitted[key]
        return targets is None or bool({f"{address}:{port}", f"{address}:*"} & targets)


@dataclass
class SshClient:
    """A peer's machine on which the tunnel is started. host, port: of the server, as its file has it."""

    town: Streets
    node: Machine
    key: str
    host: str
    port: int
    ports: dict[int, tuple[IPv4Address, int]]

    @classmethod
    def load(cls, town: Streets, node: Machine, config: str, private: str) -> SshClient:
        """Start it from its files. Raises: UsageError: they are none."""
        said = {name.lower(): value for name, value in _lines(config)}
        forwards = [value.split() for name, value in _lines(config) if name.lower() == "localforward"]
        if "hostname" not in said or not forwards:
            raise UsageError("this is no file for ssh with forwards in it", remedy="Load the .config of the hand-over.")
        ports = {}
        for local, target in forwards:
            address, _, port = target.rpartition(":")
            ports[int(local.rpartition(":")[2])] = IPv4Address(address), int(port)
        made = cls(town, node, _public(private), said["hostname"], int(said.get("port", "22")), ports)
        made.start()
        return made

    def start(self) -> None:
        """Listen at its own ports."""
        for local, (address, port) in self.ports.items():
            self.node.tcp[local] = partial(self._carry, Endpoint(address, port))

    def stop(self) -> None:
        """Close them."""
        for local in self.ports:
            self.node.tcp.pop(local, None)

    def _server(self) -> SshServer | None:
        """Where its connection ends, by the way that packets go now; None: at no server that takes keys."""
        found = self.town.lookup(self.host) if not self.host[:1].isdigit() else [IPv4Address(self.host)]
        if not found:
            return None
        result = self.town.route(self.node, found[0], "tcp", self.port, self.town.free_port())
        if not isinstance(result, Arrival) or self.town.stream_handler(result) is None:
            return None
        return next((one for one in self.town.ssh_servers.values() if one.node is result.node), None)

    async def _carry(self, target: Endpoint, stream: ByteStream, _: Endpoint) -> None:
        """One connection at a local port; what is not permitted is hung up on."""
        server = self._server()
        assert isinstance(target.address, IPv4Address)
        if server is None or not server.permits(self.key, target.address, target.port):
            return
        async with self.town.dialled(server.node, target.address, target.port) as far:
            if far is None:
                return
            async with anyio.create_task_group() as tasks:
                tasks.start_soon(_pour, stream, far, tasks.cancel_scope)
                tasks.start_soon(_pour, far, stream, tasks.cancel_scope)


async def _pour(source: ByteStream, target: ByteStream, scope: anyio.CancelScope) -> None:
    try:
        while True:
            await target.send(await source.receive())
    except (anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError):
        scope.cancel()


def _lines(text: str) -> Iterator[tuple[str, str]]:
    for line in text.splitlines():
        name, _, value = line.strip().partition(" ")
        if name and not name.startswith("#"):
            yield name, value.strip()


def _public(private: str) -> str:
    """The public key of a private one, as OpenSSH writes it. Raises: UsageError: it is none."""
    from cryptography.hazmat.primitives import serialization

    try:
        public = serialization.load_ssh_private_key(private.encode(), None).public_key()
    except ValueError:
        raise UsageError(
            "its private key cannot be read", remedy="Unpack all files of the hand-over together."
        ) from None
    return public.public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH).decode()


def is_config(text: str) -> bool:
    """Whether a file is in the form of ssh_config(5), with forwards."""
    return any(name.lower() == "localforward" for name, _ in _lines(text))


def is_keys(text: str) -> bool:
    """Whether a file is a list of keys that a server takes."""
    return bool(re.search(r"^restrict,.* ssh-", text, re.MULTILINE))
