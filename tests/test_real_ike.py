"""IKE probes against an IPsec daemon from Debian through two kernel NATs, in namespaces."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from support.namespaces import PUBLIC, KernelTown, inside
from support.tunnels import TunnelTown, tunnel_town

CHARON = Path("/usr/lib/ipsec/charon")
pytestmark = [pytest.mark.real, pytest.mark.skipif(not CHARON.exists(), reason="no IPsec daemon here")]
SITE = """\
[hosts.gate]
address = "10.44.7.60"
[services.club]
host = "gate"
speaks = "ike"
reach = "public"
[services.club-nat]
host = "gate"
speaks = "ipsec-nat"
reach = "public"
"""
CONFIG = """\
charon {{
  load_modular = no
  load = random nonce aes sha1 sha2 hmac kdf pem pkcs1 x509 pubkey gmp curve25519 openssl kernel-netlink socket-default
  filelog {{
    log {{
      path = {log}
      default = 1
      ike = 2
      flush_line = yes
    }}
  }}
}}
"""


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[TunnelTown]:
    with tunnel_town(tmp_path_factory.mktemp("ike"), mark="i") as built:
        built.site_more(SITE, "--kind", "ipsec", "--service", "club")
        built.hooper("host", "tick", "gate", "default_password_changed", place="here")  # else it is held back
        built.enter_sheets()
        yield built


def start(town: KernelTown) -> None:
    log = town.folder / "charon.log"
    (town.folder / "charon.conf").write_text(CONFIG.format(log=log))
    inner = f"mount -t tmpfs tmpfs /run; STRONGSWAN_CONF={town.folder}/charon.conf exec {CHARON}"
    town.servers["charon"] = subprocess.Popen(
        [*town.wrap("gate"), "unshare", "-m", "sh", "-c", inner],
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    until = time.monotonic() + 10
    while not log.exists() or "spawning" not in log.read_text():
        assert time.monotonic() < until
        time.sleep(0.05)


def seen(town: TunnelTown) -> dict[str, tuple[str, str]]:
    ran = town.hooper("check", "club", "club-nat", "--from", "interface:usb0", "--public", PUBLIC, "--json",
                      "--deadline", "2", place="here")  # fmt: skip
    return {row["service"]: (row["verdict"], row["detail"]) for row in ran.document["results"]}


def test_a_daemon_is_told_at_both_ports_and_nothing_of_it_stays(town: TunnelTown) -> None:
    assert {verdict for verdict, _ in seen(town).values()} <= {"refused", "silent"}  # nothing listens yet
    start(town)
    came = seen(town)
    assert {verdict for verdict, _ in came.values()} == {"answered"}
    assert all("IKEv" in detail and "no proposal chosen" in detail for _, detail in came.values())
    until = time.monotonic() + 5
    while (log := (town.folder / "charon.log").read_text()).count("CREATED => DESTROYING") < log.count("] parsed "):
        assert time.monotonic() < until, log
        time.sleep(0.05)
    assert "parsed IKE_SA_INIT request" in log
    assert "parsed ID_PROT request" in log


def test_silence_proves_nothing(town: TunnelTown) -> None:
    town.filter("gate", "nobody")
    try:
        for verdict, detail in seen(town).values():
            assert verdict == "unproven"
            assert "may answer nobody" in detail
    finally:
        town.filter("gate", "all")


def test_something_else_at_that_port_is_not_taken_for_it(town: TunnelTown) -> None:
    town.stop("charon")
    with inside(town.ns("gate")):
        other = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    other.bind(("", 500))
    other.settimeout(0.2)
    ended = threading.Event()

    def answer() -> None:
        while not ended.is_set():
            with contextlib.suppress(TimeoutError):
                other.sendto(b"no", other.recvfrom(2048)[1])

    thread = threading.Thread(target=answer)
    thread.start()
    try:
        verdict, detail = seen(town)["club"]
        assert verdict == "connected"
        assert "not IKE" in detail
    finally:
        ended.set()
        thread.join()
        other.close()
