"""A way in by SSH against OpenSSH's own software through two kernel NATs, in namespaces."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import time
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from hooper.planning.access import grants_in
from hooper.site.load import parse_site
from support.namespaces import PUBLIC, sh
from support.tunnels import TunnelTown, tunnel_town

pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not shutil.which("ssh") or not Path("/usr/sbin/sshd").exists(), reason="no OpenSSH here"),
]
USER = f"hooper{os.getpid()}"  # sshd logs in real users only; the tests may run in two processes
SITE = """\
[hosts.gate]
address = "10.44.7.60"
ready.default_password_changed = true
[services.gate]
host = "gate"
speaks = "ssh"
reach = "public"
outside_port = 22022
[services.film-files]
host = "film-box"
speaks = "https"
port = 8443
reach = "tunnel"
"""


@dataclass
class SshTown(TunnelTown):
    """The gate runs OpenSSH, with the settings and keys that were made. keys: a folder that its user may look into."""

    keys: Path = field(default_factory=lambda: Path(tempfile.mkdtemp(prefix="hooper-keys-")))

    def build(self) -> None:
        super().build()
        self.keys.chmod(0o755)

    def close(self) -> None:
        super().close()
        shutil.rmtree(self.keys)

    def load(self, *, reload: bool = False) -> None:
        folder = self.keys
        ran = self.hooper("tunnel", "make", self.tunnel, "--out", str(folder), "--server-folder", str(folder))
        assert ran.code == 0, ran.err
        (folder / f"{self.tunnel}.keys").chmod(0o644)
        if reload:
            return  # the keys are read at each login
        Path("/run/sshd").mkdir(exist_ok=True)
        options = ("-f", str(folder / f"{self.tunnel}.conf"), "-h", str(self.folder / "host"), "-p", "22",
                   "-o", "PidFile=none", "-o", "StrictModes=no", "-o", "UsePAM=no")  # fmt: skip
        sh("/usr/sbin/sshd", "-t", *options)
        self.serve("sshd", "gate", 22, "/usr/sbin/sshd", "-D", *options)

    def hand(self, key: str) -> Path:
        path = self.folder / f"{key}.zip"
        ran = self.hooper("peer", "hand", key, "--public", PUBLIC, "--out", str(path), "--force")
        assert ran.code == 0, ran.err
        assert path.stat().st_mode & 0o777 == 0o600
        home = self.folder / key / ".ssh"
        home.mkdir(parents=True, mode=0o700, exist_ok=True)
        with zipfile.ZipFile(path) as archive:
            archive.extractall(home)
        for one in home.iterdir():
            one.chmod(0o600)
            one.write_text(one.read_text().replace("~/.ssh", str(home)))  # this user's home is another
        return home

    def start(self, key: str, name: str, home: Path, *more: str) -> subprocess.Popen[bytes]:
        self.stop(key)
        command = [*self.wrap(name), "ssh", "-F", str(home / f"{self.tunnel}.config"), *more, self.tunnel]
        with (self.folder / f"{key}.log").open("wb") as log:
            self.servers[key] = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=log, stderr=log)
        return self.servers[key]


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SshTown]:
    sh("useradd", "--system", "--no-create-home", "--shell", "/bin/false", "--password", "*", USER)
    try:
        with tunnel_town(tmp_path_factory.mktemp("ssh"), mark="s", kind=SshTown) as built:
            assert isinstance(built, SshTown)
            sh("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(built.folder / "host"))
            public = " ".join((built.folder / "host.pub").read_text().split()[:2])
            built.site_more(SITE, "--kind", "ssh", "--service", "gate", "--login", USER, "--public-key",
                            public)  # fmt: skip
            built.serve_page("film-files", "film-box", 8443, "Films")
            built.serve_page("film-page", "film-box", 443, "Race films")
            built.enter_sheets()
            yield built
    finally:
        sh("userdel", USER)


def cox(town: SshTown) -> Path | None:
    """The peer is there, and the server knows it: another test need not have run before, nor in this process.

    Its files, where it was added just now.
    """
    if town.name("cox") in (town.folder / "site.toml").read_text():
        return None
    home = town.add_peer(town.name("cox"), "--into", "film-files")
    town.load()
    return home


def test_the_planned_target_is_reached_and_no_other(town: SshTown) -> None:
    home = cox(town)
    if home is None:
        assert town.hooper("peer", "renew", town.name("cox")).code == 0
        home = town.hand(town.name("cox"))
        town.load(reload=True)
    town.start("cox", "phone", home, "-N")
    town.wait_for("phone", "127.0.0.1", 18444)
    asked = town.run("phone", "curl", "-sk", "--max-time", "5", "https://127.0.0.1:18444/")
    assert "Films" in asked
    why = ("why", "film-files", "--peer", town.name("cox"), "--public", PUBLIC, "--json")
    assert town.hooper(*why, place="phone").document["ok"] is True
    town.stop("cox")
    down = town.hooper(*why, place="phone").document
    assert down["ok"] is False
    assert "tunnel-not-started" in [cause["code"] for cause in down["causes"]]
    town.start("cox", "phone", home, "-N")
    town.wait_for("phone", "127.0.0.1", 18444)
    proven = town.hooper("tunnel", "prove", town.name("cox"), "--json", place="phone")
    proofs = {proof["what"]: proof for proof in proven.document["proofs"]}
    assert proofs["service film-files"]["after"] == "answered", proven.out
    # what else it might ask for: another port, another host, the server itself, a port there, a shell, a command
    for number, target in enumerate(("10.44.7.30:443", "10.44.7.50:22", "127.0.0.1:22", "10.44.7.1:80")):
        town.start("more", "phone", home, "-N", "-o", "ClearAllForwardings=no", "-L", f"{20443 + number}:{target}")
        town.stop("cox")
        town.wait_for("phone", "127.0.0.1", 20443 + number)
        asking = [*town.wrap("phone"), "curl", "-sk", "--max-time", "3", f"http://127.0.0.1:{20443 + number}/"]
        assert not subprocess.run(asking, capture_output=True, check=False).stdout
        assert "administratively prohibited" in said(town, "more")
        town.stop("more")
    for words in (("-N", "-R", "9999:127.0.0.1:22"), ("-o", "ClearAllForwardings=yes", "-W", "10.44.7.30:443")):
        ran = town.start("other", "phone", home, *words)
        assert ran.wait(10) != 0, words
    shell = subprocess.run(
        [*town.wrap("phone"), "ssh", "-F", str(home / f"{town.tunnel}.config"), "-o", "ClearAllForwardings=yes",
         town.tunnel, "id"], capture_output=True, text=True, check=False, timeout=20,
    )  # fmt: skip
    assert "uid=" not in shell.stdout


def said(town: SshTown, key: str) -> str:
    until = time.monotonic() + 5
    while not (text := (town.folder / f"{key}.log").read_text()) and time.monotonic() < until:
        time.sleep(0.05)
    return text


def test_the_server_is_told_by_its_host_key_and_another_is_not_taken(town: SshTown) -> None:
    cox(town)
    ran = town.hooper("check", "gate", "--from", "interface:usb0", "--public", PUBLIC, "--json", place="here")
    (result,) = ran.document["results"]
    assert result["verdict"] == "answered"
    assert "the one that the site file has" in result["detail"]
    town.stop("sshd")
    sh("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(town.folder / "stranger"))
    conf = town.keys / f"{town.tunnel}.conf"
    options = ("-f", str(conf), "-h", str(town.folder / "stranger"), "-p", "22", "-o", "PidFile=none")
    town.serve("sshd", "gate", 22, "/usr/sbin/sshd", "-D", *options)
    ran = town.hooper("check", "gate", "--from", "interface:usb0", "--public", PUBLIC, "--json", place="here")
    assert ran.document["results"][0]["verdict"] == "mismatched"
    assert town.start("cox", "phone", town.folder / town.name("cox") / ".ssh", "-N").wait(10) != 0
    assert "HOST IDENTIFICATION HAS CHANGED" in said(town, "cox")
    town.stop("sshd")
    town.load()


def test_everything_goes_by_a_proxy_and_who_is_revoked_does_not_come_in(town: SshTown) -> None:
    home = town.add_peer(town.name("all"), "--into", "everything")
    town.stop("sshd")
    town.load()
    town.start("all", "laptop", home, "-N")
    town.wait_for("laptop", "127.0.0.1", 11080)
    asked = town.run(
        "laptop", "curl", "-sk", "--max-time", "5", "-x", "socks5://127.0.0.1:11080", "https://10.44.7.30/"
    )
    assert "Race films" in asked
    town.stop("all")
    assert town.hooper("peer", "revoke", town.name("all")).code == 0
    town.load(reload=True)
    assert town.start("all", "laptop", home, "-N").wait(10) != 0
    assert "Permission denied" in said(town, "all")


def test_the_one_line_command_does_the_same(town: SshTown) -> None:
    cox(town)
    ran = town.hooper("peer", "renew", town.name("cox"))
    assert ran.code == 0, ran.err
    home = town.hand(town.name("cox"))
    town.load(reload=True)
    site = parse_site((town.folder / "site.toml").read_bytes(), "site.toml").site
    (target,) = grants_in(site, site.tunnels[town.tunnel], ("film-files",))
    assert str(target.network) == "10.44.7.30/32"
    town.start("cox", "phone", home, "-N")
    town.wait_for("phone", "127.0.0.1", 18444)
