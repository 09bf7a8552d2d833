"""The boathouse on kernel NAT with a tunnel: a gate that runs real WireGuard software, peers behind a carrier's NAT."""

from __future__ import annotations

import base64
import contextlib
import errno
import os
import socket
import subprocess
import time
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from hooper.tunnels.keys import KeyRing
from hooper.wire.wireguard import Initiator, SessionKeys, tai64n
from support.namespaces import PUBLIC, RENTED, SITE, KernelTown, inside, kernel_town, sh
from support.program import Ran, hooper

GATE = """\
[hosts.gate]
address = "10.44.7.60"
[services.gate]
host = "gate"
speaks = "wireguard"
reach = "public"
[services.film-files]
host = "film-box"
speaks = "https"
port = 8443
reach = "tunnel"
"""


@dataclass
class TunnelTown(KernelTown):
    """Beside the usual: the gate on the club's LAN, and two machines behind the carrier's NAT."""

    label: bytes = b""

    def build(self) -> None:
        super().build()
        for name in ("gate", "phone", "laptop"):
            sh("ip", "netns", "add", self.ns(name))
            self.run(name, "ip", "link", "set", "lo", "up")
        self._link("club-router", "p-gate", None, "gate", "eth0", "10.44.7.60")
        self.run("club-router", "ip", "link", "set", "p-gate", "master", "lan")
        self.run("gate", "ip", "route", "add", "default", "via", "10.44.7.1", "dev", "eth0", "metric", "100")
        for number, name in enumerate(("phone", "laptop"), 6):
            self._link("carrier", f"p-{name}", f"100.72.{number}.9", name, "eth0", f"100.72.{number}.20")
            self.run(name, "ip", "route", "add", "default", "via", f"100.72.{number}.9")
            self.run("carrier", "nft", "insert", "rule", "ip", "town", "through", "iifname", f"p-{name}", "accept")
        self.mark = f"{os.getpid() % 100_000}{self.prefix[4:5]}"  # interfaces of other towns have other names
        self.tunnel, self.server = f"oars{self.mark}", "gate"

    def name(self, key: str) -> str:
        """The key of a peer, which its interface is called by too."""
        return f"{key}{self.mark}"

    def hooper(self, *words: str, place: str | None = None) -> Ran:
        site, state = str(self.folder / "site.toml"), str(self.folder / "state")
        return hooper(
            *words, "--site", site, *(("--state", state) if words[0] in ("tunnel", "peer", "check", "why") else ()),
            place=self.ns(place) if place is not None else None,
        )  # fmt: skip

    def write_site(self, more: str = GATE, *words: str, way_back: str = "route") -> None:
        self.site_more(more, "--subnet", "10.88.44.0/24", "--way-back", way_back, *words)

    def site_more(self, more: str, *words: str) -> None:
        """The site file with more in it and a tunnel. words: of the tunnel."""
        (self.folder / "site.toml").write_text(SITE + more)
        ran = self.hooper("tunnel", "add", self.tunnel, *words)
        assert ran.code == 0, ran.err

    def add_peer(self, key: str, *words: str) -> Path:
        """A peer with its profile, which leads to the public address."""
        ran = self.hooper("peer", "add", key, "--tunnel", self.tunnel, "--device", "laptop", *words)
        assert ran.code == 0, ran.err
        return self.hand(key)

    def hand(self, key: str) -> Path:
        path = self.folder / f"{key}.conf"
        ran = self.hooper("peer", "hand", key, "--public", PUBLIC, "--out", str(path))
        assert ran.code == 0, ran.err
        return path

    def load(self, *, reload: bool = False) -> None:
        """The server's files, as the steps that were printed say."""
        folder = str(self.folder / "server")
        ran = self.hooper("tunnel", "make", self.tunnel, "--out", folder, "--server-folder", folder)
        assert ran.code == 0, ran.err
        conf = self.folder / "server" / f"{self.tunnel}.conf"
        if reload:
            step = next(line for line in ran.out.splitlines() if "syncconf" in line).partition(": ")[2]
            self.run(self.server, "bash", "-c", step)
        else:
            self.up(self.server, conf)

    def up(self, name: str, conf: Path) -> None:
        """wg-quick over wireguard-go, as this kernel has no WireGuard of its own or not in namespaces."""
        environment = {**os.environ, "WG_QUICK_USERSPACE_IMPLEMENTATION": "wireguard-go", "LOG_LEVEL": "error"}
        log = self.folder / f"{name}-up.log"  # the daemon keeps what it was given open: a pipe would never end
        with log.open("wb") as out:
            done = subprocess.run(
                [*self.wrap(name), "wg-quick", "up", str(conf)],
                env=environment, stdin=subprocess.DEVNULL, stdout=out, stderr=out, timeout=30, check=False,
            )  # fmt: skip
        assert done.returncode == 0, log.read_text()

    def down(self, name: str, conf: Path) -> None:
        with contextlib.suppress(AssertionError):
            self.run(name, "wg-quick", "down", str(conf))

    def enter_sheets(self, *, routes: bool = True, only: str | None = None) -> list[dict[str, Any]]:
        """Forwards and routes, as a person enters them."""
        sheets = list(self.hooper("worksheet", "--json").document["sheets"])
        wanted = [sheet for sheet in sheets if only in (None, sheet["gateway"])]
        self.enter(wanted)
        for sheet in wanted:
            for route in sheet["routes"] if routes else ():
                self.run(sheet["gateway"], "ip", "route", "replace", route["prefix"], "via", route["via"])
        return sheets

    def verdict(self, origin: str) -> str:
        """What a check of the server comes to."""
        where = ("--from", "here") if origin == "here" else ("--from", f"interface:{origin}", "--public", PUBLIC)
        ran = self.hooper("check", "gate", *where, "--json", "--deadline", "2", place="here")
        return str(ran.document["results"][0]["verdict"])

    def verdict_fast(self) -> str:
        """The same in this process: the handshake alone, with the probe's own key."""
        keys = KeyRing(next((self.folder / "state").glob("*/tunnels")))
        private = keys.private(self.site_value("probe_key"))
        assert private is not None
        self.label = tai64n(datetime.now(UTC), self.label)
        initiator = Initiator(base64.b64decode(private.reveal()), base64.b64decode(self.server_key()))
        with inside(self.ns("rented")):
            made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        made.settimeout(2)
        with made:
            time.sleep(0.021)  # a server takes an initiation of one peer every 20 ms
            made.sendto(initiator.initiation(self.label), (PUBLIC, 51820))
            return "answered" if isinstance(initiator.read(made.recv(2048)), SessionKeys) else "cookie"

    def site_value(self, key: str) -> str:
        return str(tomllib.loads((self.folder / "site.toml").read_text())["tunnels"][self.tunnel][key])

    def server_key(self) -> str:
        return self.site_value("public_key")

    def wg_pubkey(self, private: str) -> str:
        return sh("wg", "pubkey", stdin=private + "\n").strip()

    def peers_seen(self) -> dict[str, list[str]]:
        """By public key: endpoint, and when the last handshake was, for all but the probe."""
        rows = [line.split("\t") for line in self.run(self.server, "wg", "show", self.tunnel, "dump").splitlines()[1:]]
        return {row[0]: [row[2], row[3], row[4]] for row in rows if row[0] != self.site_value("probe_key")}

    def start_interface(self, name: str, interface: str) -> None:
        """An interface without a configuration."""
        with (self.folder / "interface.log").open("wb") as out:
            command = [*self.wrap(name), "wireguard-go", interface]
            subprocess.run(command, stdin=subprocess.DEVNULL, stdout=out, stderr=out, timeout=30, check=True)

    def six_for(self, name: str) -> None:
        """IPv6 of the mobile network, routed and not translated."""
        link = f"p-{name}"
        for where, interface, address in (
            ("rented", "eth0", "2001:db8:55::7"), ("inet", "torented", "2001:db8:55::1"),
            ("inet", "tocarrier", "2001:db8:44::1"), ("carrier", "wan", "2001:db8:44::130"),
            ("carrier", link, "2001:db8:72::9"), (name, "eth0", "2001:db8:72::20"),
        ):  # fmt: skip
            self.run(where, "ip", "address", "add", f"{address}/64", "dev", interface, "nodad")
            self.run(where, "sysctl", "-qw", "net.ipv6.conf.all.forwarding=1")
        for where, to, via in (
            (name, "default", "2001:db8:72::9"), ("carrier", "default", "2001:db8:44::1"),
            ("inet", "2001:db8:72::/64", "2001:db8:44::130"), ("rented", "default", "2001:db8:55::1"),
        ):  # fmt: skip
            self.run(where, "ip", "-6", "route", "add", to, "via", via)

    def shown_as(self, name: str) -> str:
        """The address that the rented machine sees a connection come from."""
        with inside(self.ns("rented")):
            listener = socket.create_server(("0.0.0.0", 9999))
        listener.settimeout(5)
        with listener, inside(self.ns(name)):
            made = socket.create_connection((RENTED, 9999), 5)
            with made:
                came, (address, _) = listener.accept()
                came.close()
        return str(address)

    def reaches(self, name: str, address: str, port: int, *, deadline: float = 2.0) -> str:
        """What a TCP connection comes to: open, refused, prohibited, silent."""
        with inside(self.ns(name)):
            made = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET)
        made.settimeout(deadline)
        with made:
            try:
                made.connect((address, port))
            except TimeoutError:
                return "silent"
            except OSError as exc:
                words = {errno.ECONNREFUSED: "refused", errno.EHOSTUNREACH: "prohibited", errno.EACCES: "prohibited"}
                return words.get(exc.errno or 0, errno.errorcode.get(exc.errno or 0, "?"))
        return "open"

    def wait_for(self, name: str, address: str, port: int, wanted: str = "open") -> None:
        until = time.monotonic() + 15
        while (came := self.reaches(name, address, port)) != wanted:
            assert time.monotonic() < until, f"{name} to {address}:{port}: {came}"
            time.sleep(0.1)

    def close(self) -> None:
        for conf in (self.folder / "server" / f"{self.tunnel}.conf", *self.folder.glob("*.conf")):
            for name in ("gate", "club-router", "phone", "laptop"):
                if conf.is_file() and self._has(name, conf.stem):
                    self.down(name, conf)
        super().close()

    def _has(self, name: str, interface: str) -> bool:
        return interface in self.run(name, "ip", "-br", "link")


@contextmanager
def tunnel_town(folder: Path, mark: str = "t", kind: type[TunnelTown] = TunnelTown) -> Iterator[TunnelTown]:
    with kernel_town(folder, kind, mark=mark) as town:
        assert isinstance(town, TunnelTown)
        yield town
