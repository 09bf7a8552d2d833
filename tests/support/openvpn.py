"""The boathouse on kernel NAT with OpenVPN's own software at both ends, from the files that were made."""

from __future__ import annotations

import subprocess
import time
from dataclasses import dataclass
from pathlib import Path

from support.namespaces import PUBLIC
from support.tunnels import GATE, TunnelTown

SITE = GATE.replace('"wireguard"', '"openvpn"')


@dataclass
class OpenVpnTown(TunnelTown):
    """The gate runs OpenVPN's server: over UDP, and with a second port over TCP too."""

    def load(self, *, reload: bool = False) -> None:
        """The server's files, as the steps that were printed say."""
        folder = self.folder / "server"
        ran = self.hooper("tunnel", "make", self.tunnel, "--out", str(folder), "--server-folder", str(folder))
        assert ran.code == 0, ran.err
        if reload:
            step = next(line for line in ran.out.splitlines() if "without interrupting" in line)
            self.run(self.server, "bash", "-c", step.partition(": ")[2].partition(". Who")[0])
            return
        for conf in sorted(folder.glob("*.conf")):
            self.start(f"server-{conf.stem}", self.server, conf)

    def start(self, key: str, name: str, conf: Path, *more: str) -> None:
        """OpenVPN with a file, up to where it says that it is ready."""
        self.launch(key, name, conf, *more)
        self.wait_said(key, "Initialization Sequence Completed")

    def launch(self, key: str, name: str, conf: Path, *more: str) -> None:
        """OpenVPN with a file, whatever comes of it. One of that key is ended before."""
        self.stop(key)
        log = self.folder / f"{key}.log"
        with log.open("wb") as out:
            command = [*self.wrap(name), "openvpn", "--config", str(conf), *more]
            self.servers[key] = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=out, stderr=out)

    def wait_said(self, key: str, text: str, deadline: float = 20.0) -> None:
        """Until its log has a text."""
        log, until = self.folder / f"{key}.log", time.monotonic() + deadline
        while text not in log.read_text():
            assert time.monotonic() < until, log.read_text()
            assert self.servers[key].poll() is None, log.read_text()
            time.sleep(0.05)

    def hand(self, key: str) -> Path:
        path = self.folder / f"{key}.ovpn"
        ran = self.hooper("peer", "hand", key, "--public", PUBLIC, "--out", str(path), "--force")
        assert ran.code == 0, ran.err
        return path
