"""The boathouse on kernel NAT: network namespaces of our own, two routers in a chain, real servers (Linux, root)."""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

import dns.exception
import dns.message
import dns.query
import pytest

from hooper.net.surroundings import read_surroundings
from hooper.net.system import SystemDoor
from hooper.net.types import Surroundings

CLONE_NEWNET = 0x40000000  # linux/sched.h
# Routers' software refuses documentation addresses as its public one, so these stand for the internet in here.
PUBLIC, CARRIER, RENTED = "11.22.33.44", "11.22.44.130", "11.22.55.7"

SITE = """\
version = 1
[site]
title = "Boathouse on kernel NAT"
[lines.fibre]
address = "dynamic"
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
control = "hand"
[gateways.club-router]
behind = "fibre-box"
wan = "192.168.90.2"
lan = "10.44.7.1/24"
form.sources = true
[hosts.film-box]
address = "10.44.7.30"
ready.default_password_changed = true
[hosts.hub]
address = "10.44.7.50"
ready.default_password_changed = true
[services.film-page]
host = "film-box"
speaks = "https"
reach = "public"
[services.film-shell]
host = "film-box"
speaks = "ssh"
reach = "public"
outside_port = 2222
[services.hub-page]
host = "hub"
speaks = "https"
port = 8443
reach = "lan"
"""

NGINX_FOLDERS = ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
ROUTER = """\
table ip town {{
  chain pre {{ type nat hook prerouting priority dstnat; }}
  chain post {{ type nat hook postrouting priority srcnat; oifname "wan" masquerade; }}
  chain through {{
    type filter hook forward priority filter; policy drop;
    ct state established,related accept
    iifname "lan" accept
    ct status dnat accept
  }}
  chain inward {{
    type filter hook input priority filter; policy drop;
    ct state established,related accept
    iifname "lan" ip daddr {{ {lan}, 239.255.255.250 }} accept
  }}
}}
"""


# What router software enters its rules into; the table "town" then lets through what was translated.
UPNP_TABLE = """\
table inet filter {
  chain miniupnpd { }
  chain prerouting_miniupnpd { }
  chain postrouting_miniupnpd { }
  chain forward { type filter hook forward priority 0; policy accept; jump miniupnpd; }
  chain prerouting { type nat hook prerouting priority -100; policy accept; jump prerouting_miniupnpd; }
  chain postrouting { type nat hook postrouting priority 100; policy accept; jump postrouting_miniupnpd; }
}
"""
UPNP_CONFIG = """\
ext_ifname=wan
listening_ip=lan
enable_natpmp={natpmp}
enable_upnp=yes
secure_mode={secure}
system_uptime=yes
upnp_table_name=filter
upnp_nat_table_name=filter
upnp_forward_chain=miniupnpd
upnp_nat_chain=prerouting_miniupnpd
upnp_nat_postrouting_chain=postrouting_miniupnpd
uuid=73a9cb68-2d0c-4f0e-9c7b-{node}
lease_file={folder}/{key}.leases
{more}
allow 0-65535 0.0.0.0/0 0-65535
"""
NAMES_ZONE = """\
$TTL 60
@ IN SOA ns.heronquay.example. net.heronquay.example. 1 3600 600 86400 60
@ IN NS ns.heronquay.example.
ns IN A {address}
boathouse IN A 203.0.113.40
"""
NAMES_CONFIG = """\
options {{
  directory "{folder}"; listen-on {{ any; }}; listen-on-v6 {{ none; }}; recursion no; dnssec-validation no;
  pid-file "{folder}/pid"; session-keyfile "{folder}/session"; managed-keys-directory "{folder}";
}};
controls {{ }};
key "boathouse-key" {{ algorithm {algorithm}; secret "{secret}"; }};
zone "heronquay.example" {{
  type primary; file "zone.db"; update-policy {{ grant boathouse-key zonesub A TXT; }};
}};
"""
BLOCK = """\
table ip block {{
  chain through {{
    type filter hook forward priority filter; policy accept;
    tcp dport {port} drop
  }}
}}
"""
SHARED = """\
table ip shared {{
  chain post {{
    type nat hook postrouting priority srcnat;
    ip saddr 100.64.44.0/24 snat to {public}
  }}
  chain inward {{
    type filter hook input priority filter; policy accept;
    ip daddr {public} ct state new drop
  }}
}}
"""


def sh(*command: str, stdin: str = "") -> str:
    done = subprocess.run(command, input=stdin, capture_output=True, text=True, timeout=30, check=False)
    assert done.returncode == 0, f"{' '.join(command)}: {done.stderr}"
    return done.stdout


@contextmanager
def inside(name: str) -> Iterator[None]:
    """This thread in another network namespace: sockets made meanwhile belong there for good."""
    libc = ctypes.CDLL(None, use_errno=True)
    with open("/proc/thread-self/ns/net") as old, open(f"/run/netns/{name}") as new:
        if libc.setns(new.fileno(), CLONE_NEWNET):
            raise OSError(ctypes.get_errno(), "setns")
        try:
            yield
        finally:
            libc.setns(old.fileno(), CLONE_NEWNET)


@dataclass(frozen=True)
class NamespaceDoor(SystemDoor):
    """The operating system's door, with its sockets in a namespace."""

    namespace: str = ""

    def through(self, interface: str) -> NamespaceDoor:
        return NamespaceDoor(interface, self.clock, self.namespace)

    def _socket(self, version: int, kind: socket.SocketKind, interface: str | None) -> socket.socket:
        with inside(self.namespace):
            return super()._socket(version, kind, interface)

    async def surroundings(self) -> Surroundings:
        with inside(self.namespace):
            return read_surroundings()


@dataclass
class KernelTown:
    """The namespaces, and the servers that run in them."""

    prefix: str
    folder: Path
    servers: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    def ns(self, name: str) -> str:
        return f"{self.prefix}-{name}"

    def run(self, name: str, *command: str, stdin: str = "") -> str:
        return sh("ip", "netns", "exec", self.ns(name), *command, stdin=stdin)

    def wrap(self, name: str) -> tuple[str, ...]:
        return ("ip", "netns", "exec", self.ns(name))

    def door(self, name: str) -> NamespaceDoor:
        return NamespaceDoor(namespace=self.ns(name))

    def _link(self, one: str, one_if: str, one_ip: str | None, other: str, other_if: str, other_ip: str | None) -> None:
        sh(
            "ip",
            "link",
            "add",
            one_if,
            "netns",
            self.ns(one),
            "type",
            "veth",
            "peer",
            other_if,
            "netns",
            self.ns(other),
        )
        for name, interface, address in ((one, one_if, one_ip), (other, other_if, other_ip)):
            if address:
                self.run(name, "ip", "address", "add", f"{address}/24", "dev", interface)
            self.run(name, "ip", "link", "set", interface, "up")

    def build(self) -> None:
        names = ("inet", "fibre-box", "club-router", "carrier", "rented", "here", "film-box", "hub")
        for name in names:
            sh("ip", "netns", "add", self.ns(name))
            self.run(name, "ip", "link", "set", "lo", "up")
        self._link("inet", "tofibre", "11.22.33.1", "fibre-box", "wan", PUBLIC)
        self._link("inet", "tocarrier", "11.22.44.1", "carrier", "wan", CARRIER)
        self._link("inet", "torented", "11.22.55.1", "rented", "eth0", RENTED)
        self._link("fibre-box", "lan", "192.168.90.1", "club-router", "wan", "192.168.90.2")
        self._link("carrier", "lan", "100.72.5.9", "here", "usb0", "100.72.5.20")
        self.run("club-router", "ip", "link", "add", "lan", "type", "bridge")
        self.run("club-router", "ip", "address", "add", "10.44.7.1/24", "dev", "lan")
        self.run("club-router", "ip", "link", "set", "lan", "up")
        for name, interface, address in (
            ("here", "lan0", "10.44.7.105"),
            ("film-box", "eth0", "10.44.7.30"),
            ("hub", "eth0", "10.44.7.50"),
        ):
            port = f"p-{name}"
            self._link("club-router", port, None, name, interface, address)
            self.run("club-router", "ip", "link", "set", port, "master", "lan")
            self.run(name, "ip", "route", "add", "default", "via", "10.44.7.1", "dev", interface, "metric", "100")
        self.run("here", "ip", "route", "add", "default", "via", "100.72.5.9", "dev", "usb0", "metric", "700")
        for name, via in (("fibre-box", "11.22.33.1"), ("club-router", "192.168.90.1"), ("carrier", "11.22.44.1")):
            self.run(name, "ip", "route", "add", "default", "via", via)
        self.run("rented", "ip", "route", "add", "default", "via", "11.22.55.1")
        for name in ("inet", "fibre-box", "club-router", "carrier"):
            self.run(name, "sysctl", "-qw", "net.ipv4.ip_forward=1")
        for name, lan in (("fibre-box", "192.168.90.1"), ("club-router", "10.44.7.1"), ("carrier", "100.72.5.9")):
            self.run(name, "nft", "-f", "-", stdin=ROUTER.format(lan=lan))

    @contextmanager
    def another(self, name: str, address: str) -> Iterator[None]:
        """One more device on the club's LAN."""
        sh("ip", "netns", "add", self.ns(name))
        try:
            self.run(name, "ip", "link", "set", "lo", "up")
            self._link("club-router", f"p-{name}", None, name, "eth0", address)
            self.run("club-router", "ip", "link", "set", f"p-{name}", "master", "lan")
            yield
        finally:
            sh("ip", "netns", "del", self.ns(name))

    def enter(self, sheets: list[dict[str, Any]]) -> None:
        """Enter a worksheet's rules with nft, as a person would into a page."""
        for sheet in sheets:
            for rule in sheet["rules"]:
                (first, last), (inner, _) = rule["outside_ports"], rule["target_ports"]
                assert first == last
                sources = f"ip saddr {{ {', '.join(rule['sources'])} }} " if rule["sources"] else ""
                line = (
                    f'add rule ip town pre iifname "wan" {sources}{rule["transport"]} dport {first}'
                    f' dnat to {rule["target_address"]}:{inner} comment "{rule["service"]}"'
                )
                self.run(sheet["gateway"], "nft", "-f", "-", stdin=line + "\n")

    def remove(self, gateway: str, service: str) -> None:
        """Take the rule for a service out again."""
        listed = json.loads(self.run(gateway, "nft", "-j", "-a", "list", "chain", "ip", "town", "pre"))
        for entry in listed["nftables"]:
            if entry.get("rule", {}).get("comment") == service:
                self.run(gateway, "nft", "delete", "rule", "ip", "town", "pre", "handle", str(entry["rule"]["handle"]))

    def clear(self) -> None:
        for name in ("fibre-box", "club-router"):
            self.run(name, "nft", "flush", "chain", "ip", "town", "pre")
            self.run(name, "ip", "neigh", "flush", "all")

    def plug(self, name: str, *, on: bool) -> None:
        """Pull a host's cable, or put it back. Its neighbours go on remembering it."""
        self.run(name, "ip", "link", "set", "eth0", "up" if on else "down")
        if on:
            self.run(name, "ip", "route", "replace", "default", "via", "10.44.7.1", "dev", "eth0", "metric", "100")

    def filter(self, name: str, hears: str) -> None:
        """A host's own firewall: hears "all", "lan" or "nobody"."""
        with contextlib.suppress(AssertionError):
            self.run(name, "nft", "delete", "table", "ip", "own")
        if hears != "all":
            match = "ip saddr != 10.44.7.0/24 drop" if hears == "lan" else "meta l4proto { tcp, udp, icmp } drop"
            hook = "type filter hook input priority filter;"
            rules = f"table ip own {{\n chain inward {{\n {hook}\n {match}\n }}\n}}\n"
            self.run(name, "nft", "-f", "-", stdin=rules)

    def gateway(self, name: str, address: str | None) -> None:
        """The gateway that a host uses; None: it has none."""
        with contextlib.suppress(AssertionError):
            self.run(name, "ip", "route", "del", "default")
        if address is not None:
            self.run(name, "ip", "route", "add", "default", "via", address, "dev", "eth0", "metric", "100")

    def move(self, name: str, new: str, *, forgotten: bool = True) -> None:
        """Give a host another address. forgotten: its neighbours do not remember where the old one was."""
        self.run(name, "ip", "address", "flush", "dev", "eth0")
        self.run(name, "ip", "address", "add", f"{new}/24", "dev", "eth0")
        self.run(name, "ip", "route", "replace", "default", "via", "10.44.7.1", "dev", "eth0", "metric", "100")
        for neighbour in ("club-router", "here") if forgotten else ():
            self.run(neighbour, "ip", "neigh", "flush", "all")

    def serve(self, key: str, name: str, port: int, *command: str) -> None:
        """Start a server and wait until its port answers in its own namespace. One of that key is ended before."""
        self.stop(key)
        self.servers[key] = subprocess.Popen(
            [*self.wrap(name), *command], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        until = time.monotonic() + 10
        while time.monotonic() < until:
            with inside(self.ns(name)), contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                return
            assert self.servers[key].poll() is None, f"{key} ended: {command}"
            time.sleep(0.02)
        raise AssertionError(f"{key} does not answer")

    def serve_page(
        self, key: str, name: str, port: int, title: str, *, pair: str | None = None, anew: bool = False,
        six: bool = False, tls: bool = True,
    ) -> None:  # fmt: skip
        """nginx with its own certificate, or with a given chain and key. anew: it makes another. six: over IPv6 too.

        tls: encrypted.
        """
        speaks = " ssl" if tls else ""
        folder = self.folder / key
        folder.mkdir(exist_ok=True)
        (folder / "index.html").write_text(f"<title>{title}</title>")
        if pair is None and (anew or not (folder / "pair.pem").exists()):
            make_certificate(folder / "pair.pem", f"{name}.local")
        elif pair is not None:
            (folder / "pair.pem").write_text(pair)
        (folder / "nginx.conf").write_text(
            f"daemon off; master_process off; user root; error_log {folder}/error.log; pid {folder}/pid;\n"
            "events {}\nhttp {\n access_log off;\n"
            + "".join(
                f" {kind}_temp_path {folder}/{kind};\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
            )
            + f" server {{ listen {port}{speaks};{f' listen [::]:{port}{speaks};' if six else ''} root {folder};\n"
            f"  ssl_certificate {folder}/pair.pem; ssl_certificate_key {folder}/pair.pem; }}\n}}\n"
        )
        self.serve(key, name, port, "nginx", "-c", str(folder / "nginx.conf"), "-p", str(folder))

    def serve_shell(self, key: str, name: str, port: int) -> None:
        """OpenSSH."""
        folder = self.folder / key
        folder.mkdir(exist_ok=True)
        Path("/run/sshd").mkdir(exist_ok=True)
        if not (folder / "host").exists():
            sh("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / "host"))
        options = ("-f", "/dev/null", "-h", str(folder / "host"), "-p", str(port), "-o", "PidFile=none")
        self.serve(key, name, port, "/usr/sbin/sshd", "-D", *options)

    def add_ipv6(self) -> None:
        """IPv6 from the laptop to the rented machine, routed and not translated."""
        addresses = {
            "rented": {"eth0": "2001:db8:55::7"},
            "inet": {"torented": "2001:db8:55::1", "tofibre": "2001:db8:33::1"},
            "fibre-box": {"wan": "2001:db8:33::44", "lan": "2001:db8:44:90::1"},
            "club-router": {"wan": "2001:db8:44:90::2", "lan": "2001:db8:44:7::1"},
            "here": {"lan0": "2001:db8:44:7::105"},
        }
        for name, interfaces in addresses.items():
            for interface, address in interfaces.items():
                self.run(name, "ip", "address", "add", f"{address}/64", "dev", interface, "nodad")
            self.run(name, "sysctl", "-qw", "net.ipv6.conf.all.forwarding=1")
        for name, to, via in (
            ("rented", "default", "2001:db8:55::1"),
            ("inet", "2001:db8:44::/48", "2001:db8:33::44"),
            ("fibre-box", "2001:db8:44:7::/64", "2001:db8:44:90::2"),
            ("fibre-box", "default", "2001:db8:33::1"),
            ("club-router", "default", "2001:db8:44:90::1"),
            ("here", "default", "2001:db8:44:7::1"),
        ):
            self.run(name, "ip", "-6", "route", "add", to, "via", via)
        until = time.monotonic() + 10
        while any(self.run(name, "ip", "-6", "address", "show", "tentative") for name in addresses):
            assert time.monotonic() < until  # their own addresses on the links are being tried out
            time.sleep(0.1)

    def serve_stun(self, key: str, name: str, *more: str) -> None:
        """coturn as a STUN server. more: further addresses of its, by which it does RFC 5780."""
        options = (
            "-n",
            "--stun-only",
            "--no-cli",
            "--no-tls",
            "--no-dtls",
            "--log-file",
            str(self.folder / "stun.log"),
        )
        files = ("--pidfile", str(self.folder / "stun.pid"), "--db", str(self.folder / "stun.db"))
        listening = [word for address in (RENTED, *more, "127.0.0.1") for word in ("-L", address)]
        self.serve(key, name, 3478, "turnserver", *options, *files, *listening)

    def serve_names(self, name: str, secret: str, *, algorithm: str = "hmac-sha256") -> None:
        """BIND with the zone heronquay.example, which one key may change."""
        self.stop("names")
        folder = self.folder / "names"
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir()
        (folder / "zone.db").write_text(NAMES_ZONE.format(address=RENTED))
        text = NAMES_CONFIG.format(folder=folder, secret=secret, algorithm=algorithm)
        (folder / "named.conf").write_text(text)
        self.serve("names", name, 53, "named", "-f", "-c", str(folder / "named.conf"))
        self._wait_for_zone(name)

    def _wait_for_zone(self, name: str) -> None:
        """A server listens before it has read its zones."""
        asked = dns.message.make_query("boathouse.heronquay.example", "A")
        until = time.monotonic() + 10
        while time.monotonic() < until:
            with inside(self.ns(name)), contextlib.suppress(OSError, dns.exception.DNSException):
                if dns.query.udp(asked, "127.0.0.1", timeout=1).answer:
                    return
            time.sleep(0.02)
        raise AssertionError("the zone is not served")

    def serve_router(self, name: str, *, secure: bool, natpmp: bool = False, more: str = "") -> None:
        """Router software that speaks IGD, on the kernel's NAT. secure: it maps for the asking device only.

        natpmp: it speaks NAT-PMP and PCP too.
        """
        self.stop(f"igd-{name}")
        with contextlib.suppress(AssertionError):
            self.run(name, "nft", "delete", "table", "inet", "filter")
        self.run(name, "nft", "-f", "-", stdin=UPNP_TABLE)
        key = f"igd-{name}"
        for leftover in self.folder.glob(f"{key}.*"):
            leftover.unlink()
        node = "0242c0a85a01" if name == "fibre-box" else "02420a2c0701"
        yes = {True: "yes", False: "no"}
        options = {"secure": yes[secure], "natpmp": yes[natpmp], "more": more}
        text = UPNP_CONFIG.format(node=node, folder=self.folder, key=key, **options)
        (self.folder / f"{key}.conf").write_text(text)
        command = ("miniupnpd", "-d", "-f", str(self.folder / f"{key}.conf"), "-P", str(self.folder / f"{key}.pid"))
        with (self.folder / f"{key}.log").open("wb") as log:
            self.servers[key] = subprocess.Popen(
                [*self.wrap(name), *command], stdin=subprocess.DEVNULL, stdout=log, stderr=log
            )
        until = time.monotonic() + 10
        while time.monotonic() < until:
            if b"listening on port" in (self.folder / f"{key}.log").read_bytes().lower():
                return
            assert self.servers[key].poll() is None, (self.folder / f"{key}.log").read_text()
            time.sleep(0.02)
        raise AssertionError((self.folder / f"{key}.log").read_text())

    def mac(self, name: str) -> str:
        """The MAC of a host's interface."""
        with inside(self.ns(name)):
            found = read_surroundings().interface("eth0")
        assert found is not None
        assert found.mac is not None
        return found.mac

    def block(self, port: int) -> None:
        """The provider drops what comes in at a port."""
        self.run("inet", "nft", "-f", "-", stdin=BLOCK.format(port=port))

    def unblock(self) -> None:
        with contextlib.suppress(AssertionError):
            self.run("inet", "nft", "delete", "table", "ip", "block")

    def carrier_nat(self, *, on: bool) -> None:
        """The provider's own NAT before the line: its box holds the public address, the fibre box gets another."""
        with contextlib.suppress(AssertionError):
            self.run("inet", "nft", "delete", "table", "ip", "shared")
        self.run("fibre-box", "ip", "-4", "address", "flush", "dev", "wan")
        self.run("inet", "ip", "-4", "address", "flush", "dev", "tofibre")
        inner, outer = ("100.64.44.9", "100.64.44.1") if on else (PUBLIC, "11.22.33.1")
        self.run("fibre-box", "ip", "address", "add", f"{inner}/24", "dev", "wan")
        self.run("inet", "ip", "address", "add", f"{outer}/24", "dev", "tofibre")
        self.run("fibre-box", "ip", "route", "replace", "default", "via", outer)
        if on:
            self.run("inet", "ip", "address", "add", f"{PUBLIC}/32", "dev", "lo")
            self.run("inet", "nft", "-f", "-", stdin=SHARED.format(public=PUBLIC))
        else:
            with contextlib.suppress(AssertionError):
                self.run("inet", "ip", "address", "del", f"{PUBLIC}/32", "dev", "lo")

    def stop(self, key: str) -> None:
        server = self.servers.pop(key, None)
        if server is not None:
            server.terminate()
            try:
                server.wait(10)
            except subprocess.TimeoutExpired:  # some miss the signal while they begin
                server.kill()
                server.wait(10)

    def close(self) -> None:
        for key in list(self.servers):
            self.stop(key)
        listed = sh("ip", "netns", "list")
        for name in [word for word in listed.split() if word.startswith(self.prefix + "-")]:
            for left in sh("ip", "netns", "pids", name).split():
                with contextlib.suppress(ProcessLookupError):
                    os.kill(int(left), signal.SIGTERM)  # a daemon that a test left there
            with contextlib.suppress(AssertionError):
                sh("ip", "netns", "del", name)


def asked_there(town: KernelTown, server: str, kind: str = "A", name: str = "boathouse.heronquay.example") -> list[str]:
    """What a name server has, asked from the rented machine; empty: nothing, or it does not answer."""
    with inside(town.ns("rented")), contextlib.suppress(OSError, dns.exception.DNSException):
        answer = dns.query.udp(dns.message.make_query(name, kind), server, timeout=2).answer
        return [str(record) for rrset in answer for record in rrset]
    return []


def needs(*tools: str) -> None:
    """Skip a test where one of these is not installed; where CI asks for all of them, fail it."""
    if absent := [tool for tool in tools if shutil.which(tool) is None]:
        (pytest.fail if os.environ.get("CI") == "true" else pytest.skip)(f"needs {', '.join(absent)}")


def make_certificate(path: Path, name: str) -> None:
    """A self-signed pair, as devices make them."""
    openssl = shutil.which("openssl")
    assert openssl, "openssl comes with openssh-server"
    key, certificate = path.with_suffix(".key"), path.with_suffix(".crt")
    sh(openssl, "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days", "30",
       "-subj", f"/CN={name}", "-keyout", str(key), "-out", str(certificate))  # fmt: skip
    path.write_text(certificate.read_text() + key.read_text())


@contextmanager
def kernel_town(folder: Path, kind: type[KernelTown] | None = None, mark: str = "") -> Iterator[KernelTown]:
    """mark: tells the towns of one process apart."""
    assert sys.platform.startswith("linux")
    town = (kind or KernelTown)(f"hoop{mark}{os.getpid()}", folder)
    try:
        town.build()
        yield town
    finally:
        town.close()


PUBLIC_ADDRESS, CARRIER_ADDRESS = IPv4Address(PUBLIC), IPv4Address(CARRIER)
