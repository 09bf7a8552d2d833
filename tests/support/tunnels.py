"""The boathouse on kernel NAT with a tunnel: a gate that runs real WireGuard software, peers behind a carrier's NAT."""

from __future__ import annotations

import contextlib
import os
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from support.namespaces import PUBLIC, SITE, KernelTown, inside, kernel_town, sh
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
        self.tunnel = f"oars{os.getpid() % 100_000}"  # interfaces of other runs on this machine have other names

    def hooper(self, *words: str, place: str | None = None) -> Ran:
        site, state = str(self.folder / "site.toml"), str(self.folder / "state")
        return hooper(
            *words, "--site", site, *(("--state", state) if words[0] in ("tunnel", "peer", "check", "why") else ()),
            place=self.ns(place) if place is not None else None,
        )  # fmt: skip

    def write_site(self, more: str = GATE, *, way_back: str = "route") -> None:
        (self.folder / "site.toml").write_text(SITE + more)
        ran = self.hooper("tunnel", "add", self.tunnel, "--subnet", "10.88.44.0/24", "--way-back", way_back)
        assert ran.code == 0, ran.err

    def add_peer(self, key: str, *words: str) -> Path:
        """A peer with its profile, which leads to the public address."""
        ran = self.hooper("peer", "add", key, "--device", "laptop", *words)
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
        ran = self.hooper("tunnel", "make", self.tunnel, "--out", folder, "--at", folder)
        assert ran.code == 0, ran.err
        conf = self.folder / "server" / f"{self.tunnel}.conf"
        if reload:
            step = next(line for line in ran.out.splitlines() if "syncconf" in line).partition(": ")[2]
            self.run("gate", "bash", "-c", step)
        else:
            self.up("gate", conf)

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

    def reaches(self, name: str, address: str, port: int, *, deadline: float = 2.0) -> str:
        """What a TCP connection comes to: open, refused, prohibited, silent."""
        import errno
        import socket

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
            for name in ("gate", "phone", "laptop"):
                if conf.is_file() and self._has(name, conf.stem):
                    self.down(name, conf)
        super().close()

    def _has(self, name: str, interface: str) -> bool:
        return interface in self.run(name, "ip", "-br", "link")


@contextmanager
def tunnel_town(folder: Path) -> Iterator[TunnelTown]:
    with kernel_town(folder, TunnelTown, mark="t") as town:
        assert isinstance(town, TunnelTown)
        yield town
