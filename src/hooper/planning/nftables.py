"""A gateway's rules as an nftables ruleset, for a router that runs Linux. Pure.

One table of its own, which `nft -f` puts in the place of its predecessor in one stroke. It translates what the plan
forwards, opens what it opens for IPv6, and lets nothing else in from outside.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from ipaddress import ip_network
from typing import TYPE_CHECKING

from hooper.planning.access import interface_name
from hooper.planning.values import EVERYTHING, Forward, Plan
from hooper.ports import ports_text
from hooper.site.references import detours, far_ends
from hooper.visible import Lines, shown

if TYPE_CHECKING:
    from hooper.site.model import Gateway, Site

TABLE = "inet hooper"
_INTERFACE = re.compile(r"[A-Za-z0-9_.:@+-]{1,15}")  # what Linux calls one, and nothing that ends a string
# What IPv6 cannot do without (RFC 4890 section 4.3.1)
ICMP6 = "destination-unreachable, packet-too-big, time-exceeded, parameter-problem, echo-request"


def ruleset(site: Site, plan: Plan, key: str, *, without: set[str] | None = None) -> str:
    """The file for one gateway. without: services that are left out."""
    gateway = site.gateways[key]
    rules = [rule for rule in plan.forwards if rule.gateway == key and rule.service not in (without or set())]
    outer = gateway.behind or gateway.line
    made = _tunnel_sides(site, key)
    if made is not None:
        return Lines("\n".join(_by_tunnel(gateway, key, rules, *made)) + "\n")
    names = {one: "outside" if len(outer) == 1 else f"outside_{n}" for n, one in enumerate(outer, 1)}
    given = [part.strip() for part in (gateway.form.outside_interface or "").split(",") if part.strip()]
    lines = [
        f"# {key}: what the plan forwards, for nft -f FILE. It replaces its own table and touches no other.",
        "# Forwarding must be on: sysctl net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1",
        "# Where another table drops forwarded packets, that one has to let them through too.",
    ]
    for number, (one, name) in enumerate(names.items()):
        known = number < len(given) and _INTERFACE.fullmatch(given[number]) is not None
        interface = given[number] if known else "wan0"
        hint = "" if known else "  # put the interface's name here"
        lines.append(f'define {name} = "{interface}"  # towards {one}' + hint.replace("  #", ";"))
    if len(outer) > 1:
        lines.append("# Several lines: answers must leave by the line that was asked; that takes routes of their own.")
    sides = "{ " + ", ".join(f"${name}" for name in names.values()) + " }"
    lines += ["", f"table {TABLE}", f"delete table {TABLE}", "", f"table {TABLE} {{", "    chain arriving {"]
    lines += ["        type nat hook prerouting priority dstnat; policy accept;"]
    if any(rule.service == EVERYTHING for rule in rules):
        lines += [f"        {line}" for line in _kept(gateway, sides)]
    ordered = sorted(rules, key=lambda rule: rule.service == EVERYTHING)
    for rule in ordered:
        if rule.kind == "forward":
            lines += [f"        {line}" for line in _translation(gateway, rule, _arriving(gateway, rule, names))]
    lines += ["    }", "", "    chain inward {", "        type filter hook forward priority filter; policy accept;"]
    lines += ["        ct state established,related accept", "        ct status dnat accept"]
    for rule in ordered:
        if rule.kind == "pinhole":
            lines.append(f"        iifname {sides} {_opening(rule)} accept comment {_quoted(rule.service)}")
    lines.append(f"        iifname {sides} icmpv6 type {{ {ICMP6} }} accept")
    lines += [f"        iifname {sides} drop", "    }", "", "    chain leaving {"]
    lines += ["        type nat hook postrouting priority srcnat; policy accept;"]
    lines += [f"        oifname {sides} meta nfproto ipv4 masquerade"]
    if gateway.form.hairpin:
        lan = gateway.lan.network
        lines.append(f"        ip saddr {lan} ip daddr {lan} ct status dnat masquerade")

    lines += ["    }", "}"]
    return Lines("\n".join(lines) + "\n")


def _tunnel_sides(site: Site, key: str) -> tuple[str, str] | None:
    """Where one side of a gateway is the tunnel to a rented machine: what matches packets that arrive from outside,
    and those that leave inward; None: it is no such gateway.
    """
    gateway = site.gateways[key]
    if gateway.tunnel is not None:
        name = interface_name(gateway.tunnel)
        return f'iifname != "{name}"', f'oifname "{name}"'
    for tunnel in detours(site):
        peer = next((peer for peer, one in far_ends(site, tunnel).items() if one == key), None)
        if peer is not None:
            name = interface_name(peer)
            return f'iifname "{name}"', f'oifname != "{name}"'
    return None


def _by_tunnel(gateway: Gateway, key: str, rules: list[Forward], arriving: str, inward: str) -> Iterator[str]:
    """The rules of a rented machine, or of the site's end of the tunnel to it. Who comes is shown inward with the
    gateway's own address, so that answers come back this way, whatever route is there.
    """
    table = f"hooper_{key.replace('-', '_')[:24]}"
    yield f"# {key}: what the plan forwards through the tunnel. Made by Hooper. It replaces its own table alone."
    yield from ("", f"table inet {table}", f"delete table inet {table}", "", f"table inet {table} {{")
    yield from ("    chain arriving {", "        type nat hook prerouting priority dstnat; policy accept;")
    for rule in rules:
        if rule.kind == "forward":
            yield from (f"        {line}" for line in _translation(gateway, rule, arriving))
    yield from (
        "    }",
        "",
        "    chain onward {",
        "        type filter hook forward priority filter - 5; policy accept;",
    )
    yield "        ct state established,related accept"
    yield "        ct status dnat accept"
    # from the internet into the tunnel, and from the tunnel into the LAN, only what was translated
    yield f"        {inward if gateway.tunnel is not None else arriving} drop"
    yield from ("    }", "", "    chain leaving {")
    yield "        type nat hook postrouting priority srcnat; policy accept;"
    yield from (f"        {inward} ct status dnat masquerade", "    }", "}")


def _kept(gateway: Gateway, sides: str) -> Iterator[str]:
    """What the gateway answers itself is not handed on."""
    for block in gateway.form.own_ports:
        transports = "{ tcp, udp }" if block.transport == "both" else block.transport
        yield f"iifname {sides} meta l4proto {transports} th dport {block.ports} accept"


def _arriving(gateway: Gateway, rule: Forward, names: dict[str, str]) -> str:
    """What matches the interface by which packets for a rule come."""
    outer = next((key for key in gateway.behind if str(gateway.wan_behind(key)) == rule.outside_address), rule.line)
    return f"iifname ${names[outer]}"


def _translation(gateway: Gateway, rule: Forward, arriving: str) -> Iterator[str]:
    """The lines for one forward: one, or where a range moves to other ports one with a map."""
    if rule.outside_address is None:
        arriving += " fib daddr type local"
    elif gateway.form.hairpin:
        arriving = f"ip daddr {rule.outside_address}"  # from inside too
    else:
        arriving += f" ip daddr {rule.outside_address}"
    if rule.sources:
        arriving += f" ip saddr {_set(rule.sources)}"
    comment = _quoted("everything else" if rule.service == EVERYTHING else rule.service)
    end = f"comment {comment}"
    if rule.outside_ports is None or rule.target_ports is None:
        yield f"{arriving} meta l4proto {rule.transport} dnat ip to {rule.target_address} {end}"
        return
    for transport in ("tcp", "udp") if rule.transport == "both" else (rule.transport,):
        if rule.service == EVERYTHING:
            yield f"{arriving} meta l4proto {transport} dnat ip to {rule.target_address} {end}"
            continue
        first, last = rule.outside_ports
        match = f"{arriving} {transport} dport {ports_text(rule.outside_ports)}"
        if rule.outside_ports == rule.target_ports:
            yield f"{match} dnat ip to {rule.target_address} {end}"
        elif first == last:
            yield f"{match} dnat ip to {rule.target_address}:{rule.target_ports[0]} {end}"
        else:
            shift = rule.target_ports[0] - first
            moved = ", ".join(f"{port} : {rule.target_address} . {port + shift}" for port in range(first, last + 1))
            yield f"{match} dnat ip to {transport} dport map {{ {moved} }} {end}"


def _opening(rule: Forward) -> str:
    words = []
    if rule.sources:
        words.append(f"ip6 saddr {_set(rule.sources)}")
    words.append(f"ip6 daddr {rule.target_address}")
    if rule.outside_ports is None:
        words.append(f"meta l4proto {rule.transport}")
    elif rule.transport == "both":
        words.append(f"meta l4proto {{ tcp, udp }} th dport {ports_text(rule.outside_ports)}")
    else:
        words.append(f"{rule.transport} dport {ports_text(rule.outside_ports)}")
    return " ".join(words)


def _set(sources: tuple[str, ...]) -> str:
    """Sources as a set without overlaps, which nftables refuses."""
    networks = sorted({ip_network(source) for source in sources}, key=lambda net: (net.prefixlen, str(net)))
    kept: list[object] = []
    for net in networks:
        if not any(net.subnet_of(other) for other in kept):  # type: ignore[arg-type]
            kept.append(net)
    return "{ " + ", ".join(map(str, kept)) + " }"


def _quoted(text: str) -> str:
    """A comment: nftables knows no escape inside of quotes, so what could end them is left out."""
    return '"' + re.sub(r'["\\]', "'", shown(text))[:100] + '"'
