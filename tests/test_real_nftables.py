"""The nftables output in namespaces, for one to three routers: traffic arrives where the plan says and only there."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from hooper.planning.nftables import ruleset
from support.program import hooper
from support.sites import plan, site

pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(os.name != "posix" or os.geteuid() != 0, reason="namespaces need root"),
    pytest.mark.skipif(not (shutil.which("ip") and shutil.which("nft")), reason="needs iproute2 and nftables"),
]

PUBLIC, FRIEND, STRANGER = "11.22.33.44", "11.22.33.7", "11.22.33.8"
LANS = ("192.168.90", "10.44.7", "10.88.3")
LISTENER = """
import select, socket, sys
name, tcp, udp = sys.argv[1], eval(sys.argv[2]), eval(sys.argv[3])
socks = {}
for kind, ports in ((socket.SOCK_STREAM, tcp), (socket.SOCK_DGRAM, udp)):
    for port in ports:
        s = socket.socket(socket.AF_INET6, kind)
        s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        s.bind(("::", port))
        if kind == socket.SOCK_STREAM:
            s.listen(16)
        socks[s] = (kind, port)
print("ready", flush=True)
while True:
    for s in select.select(list(socks), [], [])[0]:
        kind, port = socks[s]
        said = f"{name}:{port}".encode()
        if kind == socket.SOCK_STREAM:
            c, _ = s.accept()
            c.sendall(said)
            c.close()
        else:
            _, peer = s.recvfrom(100)
            s.sendto(said, peer)
"""
PROBER = """
import json, socket, sys
from concurrent.futures import ThreadPoolExecutor
def ask(row):
    kind, source, address, port = row
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with socket.socket(family, socket.SOCK_STREAM if kind == "tcp" else socket.SOCK_DGRAM) as s:
        s.settimeout(3.5)
        try:
            if source:
                s.bind((source, 0))
            s.connect((address, port))
            if kind == "udp":
                s.send(b"?")
            return s.recv(100).decode() or None
        except OSError:
            return None
rows = json.load(sys.stdin)
with ThreadPoolExecutor(64) as pool:
    print(json.dumps(list(pool.map(ask, rows))))
"""


def text(count: int) -> str:
    """A site with so many routers, a device on the first LAN and two on the last."""
    out = ["version = 1", "[lines.l]", f'address = "{PUBLIC}"', 'prefix6 = "2001:db8:44::/56"']
    for at in range(count):
        out += [f"[gateways.r{at}]", f'lan = "{LANS[at]}.1/24"', f'prefix6 = "2001:db8:44:{at}::/64"']
        out += ['line = "l"'] if not at else [f'behind = "r{at - 1}"', f'wan = "{LANS[at - 1]}.2"']
        out += ["form.sources = true", 'form.outside_interface = "wan"']
    last = count - 1
    for key, number in (("a", 50), ("b", 51)):
        out += [f"[hosts.{key}]", f'address = "{LANS[last]}.{number}"', f'address6 = "2001:db8:44:{last}::{number}"']
    out += ["[hosts.c]", f'address = "{LANS[0]}.60"']
    for key, rows in {
        "page": 'host = "a"\nport = 8080\noutside_port = 10080',
        "range": 'host = "a"\nport = "5000-5003"\noutside_port = "6000-6003"',
        "same": 'host = "b"\nport = "7000-7001"\ntransport = "both"',
        "few": f'host = "b"\nport = 9100\nsources = ["{FRIEND}", "11.22.33.7/32", "2001:db8:1::7"]',
        "first": 'host = "c"\nport = 22\noutside_port = 2222',
    }.items():
        out += [f"[services.{key}]", rows, 'reach = "public"']
    out += ["[services.inner]", 'host = "a"', "port = 9999"]
    return "\n".join(out)


@contextmanager
def town(count: int, rules: dict[str, str]) -> Iterator[str]:
    """Namespaces: the world, the routers in a row, the hosts. Yields the name of the world's."""
    tag = f"hn{os.getpid()}"
    names = ["world", *(f"r{at}" for at in range(count)), "a", "b", "c"]
    servers: list[subprocess.Popen[str]] = []

    def run(*words: str, given: str | None = None) -> None:
        subprocess.run(words, check=True, capture_output=True, text=True, input=given)

    def inside(name: str, *words: str, given: str | None = None) -> None:
        run("ip", "netns", "exec", f"{tag}{name}", *words, given=given)

    def cable(one: str, port: str, other: str, far: str) -> None:
        run("ip", "link", "add", port, "netns", f"{tag}{one}", "type", "veth", "peer", far, "netns", f"{tag}{other}")
        inside(one, "ip", "link", "set", port, "up")
        inside(other, "ip", "link", "set", far, "up")

    def address(name: str, port: str, *given: str) -> None:
        for one in given:
            inside(name, "ip", "addr", "add", one, "dev", port, *(["nodad"] if ":" in one else []))

    try:
        for name in names:
            run("ip", "netns", "add", f"{tag}{name}")
            inside(name, "sysctl", "-qw", "net.ipv6.conf.all.accept_dad=0", "net.ipv6.conf.default.accept_dad=0")
            inside(name, "ip", "link", "set", "lo", "up")
        for at in range(count):
            inside(f"r{at}", "ip", "link", "add", "lan", "type", "bridge")
            inside(f"r{at}", "ip", "link", "set", "lan", "up")
            inside(f"r{at}", "sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1")
            address(f"r{at}", "lan", f"{LANS[at]}.1/24", f"2001:db8:44:{at}::1/64")
        cable("world", "out", "r0", "wan")
        address("world", "out", "11.22.33.1/24", f"{FRIEND}/24", f"{STRANGER}/24")
        address("world", "out", "2001:db8:1::1/64", "2001:db8:1::7/64", "2001:db8:1::8/64")
        address("r0", "wan", f"{PUBLIC}/24", "2001:db8:1::2/64")
        inside("world", "ip", "-6", "route", "add", "2001:db8:44::/56", "via", "2001:db8:1::2")
        inside("r0", "ip", "route", "add", "default", "via", "11.22.33.1")
        inside("r0", "ip", "-6", "route", "add", "default", "via", "2001:db8:1::1")
        for at in range(1, count):
            cable(f"r{at - 1}", f"to{at}", f"r{at}", "wan")
            inside(f"r{at - 1}", "ip", "link", "set", f"to{at}", "master", "lan")
            address(f"r{at}", "wan", f"{LANS[at - 1]}.2/24", f"2001:db8:44:{at - 1}::2/64")
            inside(f"r{at}", "ip", "route", "add", "default", "via", f"{LANS[at - 1]}.1")
            inside(f"r{at}", "ip", "-6", "route", "add", "default", "via", f"2001:db8:44:{at - 1}::1")
            for further in range(at, count):
                via = f"2001:db8:44:{at - 1}::2"
                inside(f"r{at - 1}", "ip", "-6", "route", "add", f"2001:db8:44:{further}::/64", "via", via)
        for key, number, lan in (("a", 50, count - 1), ("b", 51, count - 1), ("c", 60, 0)):
            cable(f"r{lan}", f"h{key}", key, "eth")
            inside(f"r{lan}", "ip", "link", "set", f"h{key}", "master", "lan")
            address(key, "eth", f"{LANS[lan]}.{number}/24", f"2001:db8:44:{lan}::{number}/64")
            inside(key, "ip", "route", "add", "default", "via", f"{LANS[lan]}.1")
            inside(key, "ip", "-6", "route", "add", "default", "via", f"2001:db8:44:{lan}::1")
        for key, file in rules.items():
            inside(key, "nft", "-f", "-", given=file)
            inside(key, "nft", "-f", "-", given=file)  # entered again, it replaces itself
        ports = "[22, 5000, 5001, 5002, 5003, 6000, 7000, 7001, 8080, 9100, 9999, 10080]"
        for key in "abc":
            words = ["ip", "netns", "exec", f"{tag}{key}", sys.executable, "-c", LISTENER, key, ports, ports]
            servers.append(subprocess.Popen(words, stdout=subprocess.PIPE, text=True))
        for server in servers:
            assert server.stdout is not None
            assert server.stdout.readline() == "ready\n"
        yield f"{tag}world"
    finally:
        for server in servers:
            server.kill()
            server.communicate()
        for name in names:
            subprocess.run(["ip", "netns", "del", f"{tag}{name}"], capture_output=True)


def asked(world: str, rows: list[tuple[str, str, str, int]]) -> list[str | None]:
    words = ["ip", "netns", "exec", world, sys.executable, "-c", PROBER]
    done = subprocess.run(words, input=json.dumps(rows), capture_output=True, text=True, check=True)
    return list(json.loads(done.stdout))


@pytest.mark.parametrize("count", [1, 2, 3])
def test_traffic_arrives_where_the_plan_says_and_only_there(count: int) -> None:
    file, made = site(text(count)), plan(text(count))
    assert made.feasible, made.findings
    rules = {key: ruleset(file.site, made, key) for key in file.site.gateways}
    last = f"2001:db8:44:{count - 1}"
    wanted: dict[tuple[str, str, str, int], str] = {
        ("tcp", STRANGER, PUBLIC, 10080): "a:8080",
        ("tcp", STRANGER, PUBLIC, 2222): "c:22",
        ("tcp", FRIEND, PUBLIC, 9100): "b:9100",
        ("tcp", "2001:db8:1::8", f"{last}::50", 8080): "a:8080",
        ("tcp", "2001:db8:1::7", f"{last}::51", 9100): "b:9100",
    }
    for step in range(4):
        wanted["tcp", STRANGER, PUBLIC, 6000 + step] = f"a:{5000 + step}"
        wanted["tcp", "2001:db8:1::8", f"{last}::50", 5000 + step] = f"a:{5000 + step}"
    for kind in ("tcp", "udp"):
        for port in (7000, 7001):
            wanted[kind, STRANGER, PUBLIC, port] = f"b:{port}"
            wanted[kind, "2001:db8:1::8", f"{last}::51", port] = f"b:{port}"
    ports = (22, 80, 2222, 5000, 5001, 5003, 6000, 6003, 6004, 7000, 7001, 7002, 8080, 9100, 9999, 10080)
    asks = list(wanted)
    for kind in ("tcp", "udp"):
        for port in ports:
            asks += [(kind, STRANGER, PUBLIC, port)]
            asks += [(kind, "2001:db8:1::8", f"{last}::{host}", port) for host in (50, 51)]
            asks += [(kind, "2001:db8:1::8", "2001:db8:44:0::60", port)]
    asks = list(dict.fromkeys(asks))
    with town(count, rules) as world:
        found = dict(zip(asks, asked(world, asks), strict=True))
    assert {ask: said for ask, said in found.items() if said is not None} == wanted


def test_the_program_prints_the_same_file(tmp_path: Path) -> None:
    ready = text(1).replace("[hosts.c]", "ready.default_password_changed = true\n[hosts.c]")
    ready = ready.replace("[hosts.b]", "ready.default_password_changed = true\n[hosts.b]")
    ready = ready.replace("[services.page]", "ready.default_password_changed = true\n[services.page]")
    (tmp_path / "site.toml").write_text(ready)
    ran = hooper("worksheet", "--nftables", cwd=tmp_path)
    assert (ran.code, ran.out) == (0, ruleset(site(ready).site, plan(ready), "r0"))
    checked = subprocess.run(["nft", "-c", "-f", "-"], input=ran.out, text=True, capture_output=True)
    assert checked.returncode == 0, checked.stderr
