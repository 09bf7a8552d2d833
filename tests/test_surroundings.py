"""What the systems tell of their networks, read: Linux's files and messages, macOS's commands, Windows' objects."""

from __future__ import annotations

import json
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, ip_address, ip_network
from pathlib import Path
from typing import Any

import anyio
import pytest

from hooper.net import macos, surroundings, windows
from hooper.net.system import SystemDoor
from hooper.net.types import Interface, Neighbour, Route, Surroundings
from hooper.net.whereabouts import standing
from support.program import BOATHOUSE
from support.sites import site

# the layout of `netstat -rn -f inet`, with a VPN that took half the internet twice
ROUTES = """\
Routing tables

Internet:
Destination        Gateway            Flags               Netif Expire
0/1                10.8.0.5           UGScg               utun4
default            10.44.7.1          UGScg                 en0
default            link#18            UCSIg               utun4
10.8.0.5           10.8.0.6           UH                  utun4
10.44.7            link#6             UCS                   en0      !
10.44.7.1/32       link#6             UCS                   en0      !
10.44.7.1          2:0:5e:44:7:1      UHLWIir               en0   1187
127                127.0.0.1          UCS                   lo0
127.0.0.1          127.0.0.1          UH                    lo0
128.0/1            10.8.0.5           UGSc                utun4
169.254            link#6             UCS                   en0      !
224.0.0/4          link#6             UmCS                  en0      !
"""
ROUTES6 = """\
Internet6:
Destination                             Gateway                                 Flags               Netif Expire
default                                 fe80::200:5eff:fe44:701%en0             UGcg                  en0
::1                                     ::1                                     UHL                   lo0
2001:db8:44:7::/64                      link#6                                  UC                    en0
2001:db8:44:7::105                      2:0:5e:44:7:5                           UHL                   lo0
fe80::%en0/64                           link#6                                  UCI                   en0
"""
RESOLVERS = """\
DNS configuration

resolver #1
  search domain[0] : home.arpa
  nameserver[0] : 10.44.7.1
  nameserver[1] : 2001:db8:44:7::1
  if_index : 6 (en0)
  flags    : Request A records

resolver #2
  domain   : local
  nameserver[0] : 192.0.2.1
  options  : mdns

DNS configuration (for scoped queries)

resolver #1
  nameserver[0] : 100.72.5.9
  if_index : 12 (en5)
"""
NEIGHBOURS = """\
? (10.44.7.1) at 2:0:5e:44:7:1 on en0 ifscope [ethernet]
hub.home.arpa (10.44.7.50) at 2:0:5e:44:7:50 on en0 ifscope [ethernet]
? (10.44.7.99) at (incomplete) on en0 ifscope [ethernet]
? (224.0.0.251) at 1:0:5e:0:0:fb on en0 ifscope permanent [ethernet]
"""
NEIGHBOURS6 = """\
Neighbor                                Linklayer Address  Netif Expire    St Flgs Prbs
2001:db8:44:7::1                        2:0:5e:44:7:1        en0 23s       R  R
fe80::1%lo0                             (incomplete)         lo0 permanent R
"""
WINDOWS: dict[str, list[dict[str, Any]]] = {
    "adapters": [
        {"Name": "Ethernet", "InterfaceType": 6},
        {"Name": "Work VPN", "InterfaceType": 53},
        {"Name": "Loopback Pseudo-Interface 1", "InterfaceType": 24},
    ],
    "routes": [
        {"DestinationPrefix": "0.0.0.0/0", "NextHop": "10.44.7.1", "InterfaceAlias": "Ethernet", "RouteMetric": 0,
         "InterfaceMetric": 25},
        {"DestinationPrefix": "0.0.0.0/0", "NextHop": "0.0.0.0", "InterfaceAlias": "Work VPN", "RouteMetric": 0,
         "InterfaceMetric": 5},
        {"DestinationPrefix": "10.44.7.0/24", "NextHop": "0.0.0.0", "InterfaceAlias": "Ethernet", "RouteMetric": 256,
         "InterfaceMetric": 25},
        {"DestinationPrefix": "::/0", "NextHop": "fe80::1", "InterfaceAlias": "Ethernet", "RouteMetric": 256,
         "InterfaceMetric": 25},
    ],
    "neighbours": [
        {"IPAddress": "10.44.7.1", "LinkLayerAddress": "02-00-5E-44-07-01", "InterfaceAlias": "Ethernet", "State": 5},
        {"IPAddress": "10.44.7.50", "LinkLayerAddress": "02-00-5E-44-07-50", "InterfaceAlias": "Ethernet",
         "State": "Stale"},
        {"IPAddress": "10.44.7.99", "LinkLayerAddress": "00-00-00-00-00-00", "InterfaceAlias": "Ethernet", "State": 0},
        {"IPAddress": "224.0.0.22", "LinkLayerAddress": "01-00-5E-00-00-16", "InterfaceAlias": "Ethernet", "State": 6},
        {"IPAddress": "10.44.7.255", "LinkLayerAddress": "FF-FF-FF-FF-FF-FF", "InterfaceAlias": "Ethernet",
         "State": 6},
    ],
    "resolvers": [
        {"InterfaceAlias": "Ethernet", "ServerAddresses": ["10.44.7.1", "192.0.2.53"]},
        {"InterfaceAlias": "Work VPN", "ServerAddresses": []},
        {"InterfaceAlias": "Other", "ServerAddresses": ["fec0:0:0:ffff::1"]},
    ],
}  # fmt: skip


def interface(name: str, address: str = "10.44.7.105/24") -> Interface:
    return Interface(name, (IPv4Interface(address),))


def test_macos() -> None:
    said = {
        "routes4": ROUTES, "routes6": ROUTES6, "resolvers": RESOLVERS, "neighbours4": NEIGHBOURS,
        "neighbours6": NEIGHBOURS6,
    }  # fmt: skip
    got = surroundings.of_macos(said, (interface("en0"), interface("utun4", "10.8.0.6/32")))
    assert [one.tunnel for one in got.interfaces] == [False, True]
    assert got.resolvers == (ip_address("10.44.7.1"), ip_address("2001:db8:44:7::1"))
    assert got.neighbours == (
        Neighbour(IPv4Address("10.44.7.1"), "02:00:5e:44:07:01", "en0"),
        Neighbour(IPv4Address("10.44.7.50"), "02:00:5e:44:07:50", "en0"),
        Neighbour(IPv6Address("2001:db8:44:7::1"), "02:00:5e:44:07:01", "en0"),
    )
    assert got.default_gateway() == IPv4Address("10.44.7.1")
    assert got.has_default_route("en0")
    routes = {(str(one.destination), one.interface) for one in got.routes or ()}
    assert {
        ("0.0.0.0/1", "utun4"),
        ("128.0.0.0/1", "utun4"),
        ("10.44.7.0/24", "en0"),
        ("169.254.0.0/16", "en0"),
    } <= routes
    assert {("::/0", "en0"), ("2001:db8:44:7::/64", "en0"), ("fe80::/64", "en0")} <= routes
    assert ("10.44.7.1/32", "en0") in routes
    assert surroundings.of_macos(dict.fromkeys(macos.COMMANDS, ""), ()).routes is None


def test_windows() -> None:
    got = surroundings.of_windows(
        "\ufeff" + json.dumps(WINDOWS), (interface("Ethernet"), interface("Work VPN", "10.8.0.6/32"))
    )
    assert [one.tunnel for one in got.interfaces] == [False, True]
    assert got.resolvers == (ip_address("10.44.7.1"), ip_address("192.0.2.53"))
    assert [str(one.address) for one in got.neighbours] == ["10.44.7.1", "10.44.7.50"]
    assert got.neighbours[0].mac == "02:00:5e:44:07:01"
    assert got.default_gateway("Ethernet") == IPv4Address("10.44.7.1")
    assert got.default_gateway() is None  # the VPN's is preferred, and has no gateway
    assert Route(ip_network("::/0"), ip_address("fe80::1"), "Ethernet", 281) in (got.routes or ())


@pytest.mark.parametrize("said", ["", "no JSON", "[]", "{}", '{"routes": 7, "neighbours": "x", "adapters": [1]}'])
def test_windows_that_says_something_else(said: str) -> None:
    assert surroundings.of_windows(said, ()).routes is None


def test_what_powershell_makes_of_one_entry() -> None:
    """A list of one comes as that one."""
    one: dict[str, Any] = {**WINDOWS, "neighbours": WINDOWS["neighbours"][0]}
    assert [str(n.address) for n in windows.parse(json.dumps(one).encode()).neighbours] == ["10.44.7.1"]


def test_linux_routes() -> None:
    four = [
        "Iface\tDestination",
        "lan0 00000000 01072C0A 0003 0 0 100 00000000 0 0 0",
        "tun0 00000000 00000000 0001 0 0 5 00000080 0 0 0",
    ]
    got = list(surroundings.parse_routes(four))
    assert got[0] == Route(IPv4Network("0.0.0.0/0"), IPv4Address("10.44.7.1"), "lan0", 100)
    assert got[1] == Route(IPv4Network("0.0.0.0/1"), None, "tun0", 5)
    zero, own = "0" * 32, "20010db8004400070000000000000105"
    six = [
        f"{zero} 00 {zero} 00 20010db8004400070000000000000001 00000400 1 0 00000003 lan0",
        f"{own} 80 {zero} 00 {zero} 00000000 2 0 80200001 lan0",
        f"{zero} 00 {zero} 00 {zero} ffffffff 1 0 00200200 lo",
    ]
    assert list(surroundings.parse_routes6(six)) == [
        Route(ip_network("::/0"), IPv6Address("2001:db8:44:7::1"), "lan0", 1024)
    ]


def test_resolv_conf(tmp_path: Path) -> None:
    path = tmp_path / "resolv.conf"
    path.write_text(
        "# x\nnameserver 0.0.0.0\nnameserver fe80::1%lan0\nnameserver nonsense\nsearch home.arpa\nnameserver\n"
    )
    assert surroundings.read_resolvers(path) == (ip_address("0.0.0.0"), ip_address("fe80::1"))
    assert surroundings.read_resolvers(tmp_path / "absent") == ()


def test_a_tunnel_into_the_site_is_not_standing_in_it() -> None:
    """Its address is of the LAN, but packets for the routers go round by the tunnel."""
    there = interface("tun0")
    around = Surroundings((Interface("tun0", there.addresses, tunnel=True),), None, ())
    where = site(BOATHOUSE).site
    assert standing(where, around) == (None, None, None)
    assert standing(where, Surroundings((there,), None, ()))[1] == "club-router"


def test_this_machine_itself() -> None:
    """Whatever it has: the loopback is there, the way to it is known, and asking sends nothing."""

    async def work() -> None:
        around = await SystemDoor().surroundings()
        loopback = next(one for one in around.interfaces if one.loopback)
        assert not loopback.tunnel
        assert await SystemDoor().source_towards(IPv4Address("127.0.0.1")) == IPv4Address("127.0.0.1")

    anyio.run(work)


def test_changes_by_looking_again() -> None:
    looks = [
        Surroundings((interface("en0"),), (), ()),
        Surroundings((interface("en0"),), (), (), (Neighbour(IPv4Address("10.44.7.1"), "02:00:5e:44:07:01", "en0"),)),
        Surroundings((interface("en0", "10.44.7.106/24"),), (), ()),
        Surroundings((interface("en0", "10.44.7.106/24"), interface("utun4")), (), ()),
        Surroundings((interface("en0", "10.44.7.106/24"), interface("utun4")), None, ()),
    ]
    seen: list[str] = []

    async def work() -> None:
        source = iter(looks)

        async def read() -> Surroundings:
            return next(source)

        async for change in surroundings.compared(read, 0):
            seen.append(change.kind)
            if len(seen) == 3:
                return

    anyio.run(work)
    assert seen == ["address", "link", "route"]
