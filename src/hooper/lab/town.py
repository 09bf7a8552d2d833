"""The whole town: its streets, and who serves on them."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from hooper.lab.acme import AcmeServer
from hooper.lab.certificates import Identity
from hooper.lab.gate import Client, Gate
from hooper.lab.igd import IgdRouter
from hooper.lab.openvpn_server import OpenVpnServer
from hooper.lab.provider import NameProvider
from hooper.lab.ssh_forwards import SshClient, SshServer
from hooper.lab.streets import Streets
from hooper.lab.web_server import HandsOn


class Town(Streets):
    """All of it."""

    acme: AcmeServer
    provider: NameProvider
    hub: HandsOn

    def __init__(self, now: Callable[[], datetime]) -> None:
        super().__init__(now)
        self.igd: dict[str, IgdRouter] = {}
        self.gate: Gate | None = None
        self.clients: dict[str, Client] = {}  # by the segment of their interface
        self.servers: dict[str, OpenVpnServer] = {}  # by machine and name
        self.ssh_servers: dict[str, SshServer] = {}  # by machine
        self.ssh_clients: dict[str, SshClient] = {}  # by machine and name
        self.root_pem = b""  # of the town's certificate authority
        self.identities: dict[str, Identity] = {}  # what devices show in TLS, by the name of the machine
