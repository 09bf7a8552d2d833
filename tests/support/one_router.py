"""A home behind one router, on kernel NAT, with a name server that has a second beside it."""

from __future__ import annotations

import contextlib
import shutil
import time

from support.namespaces import NAMES_CONFIG, NAMES_ZONE, PUBLIC, RENTED, ROUTER, KernelTown, asked_there, sh

SECOND = "11.22.55.8"
SECOND_CONFIG = """\
options {{
  directory "{folder}"; listen-on {{ {second}; 127.0.0.2; }}; listen-on-v6 {{ none; }}; recursion no;
  dnssec-validation no; pid-file "{folder}/pid"; session-keyfile "{folder}/session";
  managed-keys-directory "{folder}"; notify no; allow-notify {{ none; }};
}};
controls {{ }};
zone "heronquay.example" {{ type secondary; primaries {{ {address}; }}; file "second.db"; }};
"""


class OneRouterTown(KernelTown):
    """One router between the home and the internet."""

    def build(self) -> None:
        for name in ("inet", "club-router", "rented", "here"):
            sh("ip", "netns", "add", self.ns(name))
            self.run(name, "ip", "link", "set", "lo", "up")
        self._link("inet", "tofibre", "11.22.33.1", "club-router", "wan", PUBLIC)
        self._link("inet", "torented", "11.22.55.1", "rented", "eth0", RENTED)
        self._link("club-router", "lan", "10.44.7.1", "here", "lan0", "10.44.7.105")
        for name, via in (("club-router", "11.22.33.1"), ("rented", "11.22.55.1"), ("here", "10.44.7.1")):
            self.run(name, "ip", "route", "add", "default", "via", via)
        for name in ("inet", "club-router"):
            self.run(name, "sysctl", "-qw", "net.ipv4.ip_forward=1")
        self.run("club-router", "nft", "-f", "-", stdin=ROUTER.format(lan="10.44.7.1"))

    def readdress(self, old: str, new: str) -> None:
        """The provider gives the line another address."""
        self.run("club-router", "sysctl", "-qw", "net.ipv4.conf.wan.promote_secondaries=1")
        self.run("club-router", "ip", "address", "add", f"{new}/24", "dev", "wan")
        self.run("club-router", "ip", "address", "del", f"{old}/24", "dev", "wan")
        with contextlib.suppress(AssertionError):
            self.run("club-router", "ip", "route", "add", "default", "via", "11.22.33.1")

    def serve_pair(self, secret: str) -> None:
        """A primary, and a secondary that nobody tells of changes: it lags until it looks by itself."""
        if SECOND not in self.run("rented", "ip", "address"):
            self.run("rented", "ip", "address", "add", f"{SECOND}/24", "dev", "eth0")
        for key in ("names", "second"):
            self.stop(key)
            shutil.rmtree(self.folder / key, ignore_errors=True)
            (self.folder / key).mkdir()
        zone = NAMES_ZONE.format(address=RENTED) + f"@ IN NS second.heronquay.example.\nsecond IN A {SECOND}\n"
        (self.folder / "names" / "zone.db").write_text(zone)
        text = NAMES_CONFIG.format(folder=self.folder / "names", secret=secret, algorithm="hmac-sha256")
        text = text.replace("listen-on { any; }", f"listen-on {{ {RENTED}; 127.0.0.1; }}")
        text = text.replace("recursion no;", "recursion no; notify no;")  # a secondary listens to its primary always
        (self.folder / "names" / "named.conf").write_text(text)
        second = SECOND_CONFIG.format(folder=self.folder / "second", second=SECOND, address=RENTED)
        (self.folder / "second" / "named.conf").write_text(second)
        self.serve("names", "rented", 53, "named", "-f", "-c", str(self.folder / "names" / "named.conf"))
        self._wait_for_zone("rented")
        self.start_second()

    def start_second(self) -> None:
        """The secondary, or the same anew: then it has what the primary has."""
        self.stop("second")
        (self.folder / "second" / "second.db").unlink(missing_ok=True)
        self.serve("second", "rented", 53, "named", "-f", "-c", str(self.folder / "second" / "named.conf"))
        until = time.monotonic() + 10
        while not asked_there(self, SECOND):
            assert time.monotonic() < until
            time.sleep(0.05)
