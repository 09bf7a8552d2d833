"""Profiles in OpenVPN's format: what is wrong in them, and the bytes that mend it. Pure.

What current software refuses is by openvpn(8) of versions 2.6 and 2.7, and by its list of deprecated options.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime
from ipaddress import IPv4Network

from hooper.addresses import IPAddress
from hooper.planning.access import allowed_in, grants_in, into_for, mtu_of
from hooper.planning.free_addresses import is_common
from hooper.planning.topology import Topology
from hooper.tunnels.common import NO_IPV6
from hooper.tunnels.endpoint_look import endpoint_fault
from hooper.tunnels.openvpn_allowed import allowed
from hooper.tunnels.openvpn_certificates import certificates, files
from hooper.tunnels.openvpn_look import OpenVpnLook, Remote
from hooper.wire.ovpnfile import Directive, parse

MODERN = "AES-256-GCM:AES-128-GCM"
# options that the software does not know any more: it refuses the whole file
GONE = ("key-method", "no-iv", "keysize", "ncp-disable", "client-cert-not-required", "ifconfig-pool-linear")
ON_WINDOWS = ("block-outside-dns", "register-dns", "ip-win32")  # elsewhere refused, but behind `setenv opt`
# what a library of today has for the data channel (`openvpn --show-ciphers`); all else is refused, or broken
CIPHERS = re.compile(
    r"(AES|ARIA)-(128|192|256)-(GCM|CBC|CFB[18]?|OFB)|CAMELLIA-(128|192|256)-(CBC|CFB[18]?|OFB)|CHACHA20-POLY1305"
    r"|SM4-(CBC|CFB|OFB)"
)
BROKEN = ("BF-", "DES", "RC2", "CAST5", "RC5", "IDEA", "SEED", "NONE")  # 64-bit blocks, or nothing at all
DIGESTS = re.compile(r"(RSA-)?SHA-?(1|224|256|384|512)|SHA512-(224|256)|SHA3-(224|256|384|512)|BLAKE2[BS](256|512)|SM3")
SUITES = re.compile(  # of TLS 1.2, by the names of the standards or of the library
    r"(TLS-)?(ECDHE|DHE)-(RSA|ECDSA)-(WITH-)?(AES-?(128|256)|ARIA-?(128|256)|CAMELLIA-?(128|256)|CHACHA20)-[A-Z0-9-]+"
)
VERIFIES = (
    "remote-cert-tls", "remote-cert-ku", "remote-cert-eku", "verify-x509-name", "peer-fingerprint", "verify-hash",
)  # fmt: skip


def look_at_openvpn(
    topology: Topology,
    text: str,
    public: Mapping[str, IPAddress],
    beside: Mapping[str, str | None],
    now: datetime,
    take_in: frozenset[str] = frozenset(),
) -> OpenVpnLook:
    """All that is wrong in one file, the gravest first.

    Args: public: the lines' addresses. beside: the text of each file beside it that it names. now: in UTC.
    take_in: the names of files that are to be put inside.
    """
    look = OpenVpnLook(topology, public, file=parse(text), beside=beside, now=now, take_in=take_in)
    for line, why in look.file.strays:
        look.tell("profile-unreadable", line, why, "Close it, or export the file again.")
    allowed(look)
    _options(look)
    _ciphers(look)
    _compression(look)
    files(look)
    certificates(look)
    if look.is_server:
        _server(look)
    else:
        _client(look)
        _remotes(look)
        traffic(look)
    ranks = {"error": 0, "warning": 1, "note": 2}
    look.faults.sort(key=lambda fault: (ranks[fault.severity], fault.line))
    return look


# --- options


def _options(look: OpenVpnLook) -> None:
    """Options that are gone, that run something, that the other end does not know."""
    for option in look.file.options:
        if option.name == "ns-cert-type":
            message = "`ns-cert-type` is outdated: phones do not know it, and it makes sure of no server of today"
            if look.file.has("remote-cert-tls"):
                look.drop("option-refused", option, message)
            else:
                new = "remote-cert-tls " + ("client" if option.word(0) == "client" else "server")
                look.put("option-refused", option, new, message)
        elif option.name == "tls-remote":
            message = "there is no `tls-remote` any more: the software refuses the file"
            look.put("option-refused", option, f"verify-x509-name {_quoted(option.word(0))} name", message)
        elif option.name in GONE:
            message = f"there is no `{option.name}` any more: the software refuses the file"
            look.drop("option-refused", option, message)
        elif option.name == "no-replay":
            look.drop(
                "option-refused", option, "`no-replay` lets packets be sent again by others; version 2.7 refuses it"
            )
        elif option.name in ON_WINDOWS:
            message = f"only Windows knows `{option.name}`: other systems refuse the file"
            look.put("option-refused", option, " ".join(("setenv opt", option.name, *option.words)), message)
        elif option.name == "fragment" and not look.is_server:
            message = "`fragment` has to stand on both sides, and phones do not know it"
            look.tell("option-refused", option.line, message, "Take it away on both sides; `mssfix` does the same.")
    static = look.file.get("secret") or look.file.inline("secret")
    if static is not None:
        message = "one static key for both sides, without certificates: version 2.7 refuses that"
        look.tell("option-refused", static.line, message, "Make certificates on the server's page, and export again.")


def _quoted(text: str) -> str:
    return f'"{text}"' if " " in text else text


def _ciphers(look: OpenVpnLook) -> None:
    """Ciphers that are broken, and those that are not agreed upon by themselves any more."""
    listed = look.file.get("data-ciphers") or look.file.get("ncp-ciphers")
    option = look.file.get("cipher")
    named = (option.word(0) if option is not None else "").upper()
    if option is not None and not CIPHERS.fullmatch(named):
        message = f"the cipher {named or '(none)'} is {_why_not(named)}, and current software does not take it"
        if listed is None:
            look.put("cipher-old", option, f"data-ciphers {MODERN}", f"{message}; the server has to have another too")
        else:
            look.drop("cipher-old", option, message)
    elif option is not None and listed is None and "GCM" not in named and "POLY1305" not in named:
        message = f"`cipher {named}` alone is not agreed upon any more, since version 2.6"
        new = f"data-ciphers {MODERN}:{named}{look.file.newline}data-ciphers-fallback {named}"
        look.put("cipher-alone", option, new, message)
    if listed is not None:
        names = listed.word(0).upper().split(":")
        good = [name for name in names if CIPHERS.fullmatch(name.lstrip("?"))]
        if good != names:
            bad = [name for name in names if name not in good]
            message = f"the cipher {', '.join(bad)} is {_why_not(bad[0])}"
            look.put("cipher-old", listed, f"data-ciphers {':'.join(good) or MODERN}", message)
    after = look.file.get("data-ciphers-fallback")
    if after is not None and not CIPHERS.fullmatch(after.word(0).upper()):
        look.drop("cipher-old", after, f"the cipher {after.word(0)} is {_why_not(after.word(0).upper())}")
    auth = look.file.get("auth")
    if auth is not None and not DIGESTS.fullmatch(auth.word(0).upper()):
        message = f"`auth {auth.word(0)}` proves nothing, or is not known any more; the server has to agree"
        look.put("cipher-old", auth, "auth SHA256", message)
    least = look.file.get("tls-version-min")
    if least is not None and least.word(0) in ("1.0", "1.1"):
        look.put("cipher-old", least, "tls-version-min 1.2", f"TLS {least.word(0)} is broken")
    tls = look.file.get("tls-cipher")
    if tls is not None and not any(map(SUITES.fullmatch, tls.word(0).upper().replace("_", "-").split(":"))):
        look.drop("cipher-old", tls, f"`tls-cipher {tls.word(0)[:40]}` asks for what is broken or not there any more")


def _why_not(cipher: str) -> str:
    return "broken" if cipher.lstrip("?").startswith(BROKEN) else "not in today's libraries"


def _compression(look: OpenVpnLook) -> None:
    for option in look.file.options:
        if option.name not in ("comp-lzo", "compress", "allow-compression") or option.word(0) in ("no", "stub-v2"):
            continue
        words = " ".join((option.name, *option.words))
        message = f"`{words}`: compression betrays what is sent, and current software warns or refuses"
        ours = look.tunnel is not None and look.tunnel.made_by == "hooper"
        if option.name == "allow-compression" or ours or look.tunnel is None:
            look.drop("compression-on", option, message)
        else:  # the server still frames its packets so
            look.put("compression-on", option, "comp-lzo no", f"{message}; switch it off on the server's page too")


# --- where it leads


def _client(look: OpenVpnLook) -> None:
    """What makes it a client, and makes sure of its server."""
    says = look.file.has("client") or (look.file.has("tls-client") and look.file.has("pull"))
    if not says and not look.file.has("secret"):
        look.add("profile-incomplete", ("client",), "it does not say that it is a client")
    device = look.file.get("dev-type") or look.file.get("dev")
    if device is None:
        look.add("profile-incomplete", ("dev tun",), "it does not say what device it makes")
    elif device.word(0).startswith("tap"):
        ours = look.tunnel is not None and look.tunnel.made_by == "hooper"
        message = "it bridges (`dev tap`), which phones cannot do, and carries all noise of the LAN"
        if ours:
            look.put("profile-bridges", device, "dev tun", message)
        else:
            look.tell("profile-bridges", device.line, message, "Change the server to `tun` on its page, export again.")
    if not any(look.file.has(name) for name in VERIFIES):
        message = "nothing makes sure that it is the server that answers: any device with a certificate could"
        look.add("server-unverified", ("remote-cert-tls server",), message)


def _remotes(look: OpenVpnLook) -> None:
    right = look.right()
    best = next(iter(right.items()), None)
    if not look.remotes:
        message = "it does not say where the server is"
        if best is not None:
            transport, where = best
            look.add("endpoint-missing", (f"remote {where.host} {where.port} {transport}",), message)
        else:
            look.tell("endpoint-missing", 0, message, "Add: remote NAME PORT udp, with the name of the line.")
    for remote in look.remotes:
        _remote(look, remote)


def _remote(look: OpenVpnLook, remote: Remote) -> None:
    right = look.right()
    where = right.get(remote.transport) or next(iter(right.values()), None)
    transport = remote.transport if remote.transport in right else next(iter(right), remote.transport)

    def wrong(code: str, message: str, host: str | None = None) -> None:
        if where is not None:
            look.put(code, remote.option, f"remote {host or where.host} {where.port} {transport}", message)
        else:
            remedy = "Put the name of the line, and the outside port."
            look.tell(code, remote.option.line, message, remedy)

    code, message = endpoint_fault(look, remote.host)
    if code:
        wrong(code, message)
        return
    if not right or where is None or look.tunnel is None:
        return
    if remote.transport not in right:
        lets = " and ".join(f"{name} {one.port}" for name, one in right.items())
        wrong("transport-other", f"it goes by {remote.transport}, and the plan lets in {lets}", remote.host)
    elif remote.port != where.port:
        service = look.site.services[look.tunnel.service]
        inner = service.has_ports and service.used_ports.first == remote.port
        what = f"{remote.port} is the inside port" if inner else f"the plan lets in {where.port}, not {remote.port}"
        wrong("endpoint-port", f"{what}; outside it is {where.port}", remote.host)


# --- a server's file


def _server(look: OpenVpnLook) -> None:
    """Where the server listens, against the plan."""
    if look.tunnel is None:
        return
    option = look.file.get("proto")
    transport = (option.word(0) if option is not None else "udp").removesuffix("-server").rstrip("46")
    wanted = {
        look.site.services[key].used_transport: look.site.services[key].used_ports.first
        for key in (look.tunnel.service, look.tunnel.also)
        if key is not None
    }
    line = option.line if option is not None else 0
    if transport not in wanted:
        message = f"it listens by {transport}, and the site file has {' and '.join(wanted)} for it"
        look.tell("transport-other", line, message, "Change it here, or the service in the site file.")
        return
    port = _port(look.file.get("port") or look.file.get("lport"))
    if port != wanted[transport]:
        message = f"it listens at {port}, and the site file has {wanted[transport]}"
        look.tell("endpoint-port", look.line_of("port"), message, "Change it here, or the service in the site file.")
    if look.file.has("duplicate-cn"):
        message = "all devices may share one certificate: who loses one takes it from all"
        look.tell("profile-twin", look.line_of("duplicate-cn"), message, "Make a certificate for each device.")


def _port(option: Directive | None) -> int:
    text = option.word(0) if option is not None else "1194"
    return int(text) if text.isascii() and text.isdigit() else 0


LARGEST_MTU = 1500  # openvpn(8), --tun-mtu: what it is where nothing is said


def traffic(look: OpenVpnLook) -> None:
    """What it sends into the tunnel, and how large its packets are."""
    given = _routes(look)
    for network, line in given.items():
        if network.prefixlen >= 8 and is_common(network):
            message = f"{network} is what hotels and routers out of the box use: from such a place it leads nowhere"
            look.tell("profile-overlap", line, message, "Give the LAN a rarer network while that is easy.")
    size = look.file.get("tun-mtu")
    best = mtu_of(look.topology, look.tunnel) if look.tunnel is not None else LARGEST_MTU
    if size is not None and size.word(0).isdigit() and int(size.word(0)) > LARGEST_MTU:
        look.put("mtu-wrong", size, f"tun-mtu {best}", f"its packets are {size.word(0)} bytes: no line carries them")
    if look.tunnel is None:
        return
    into = into_for(look.site, look.peer) if look.peer is not None else look.tunnel.into
    redirect = look.file.get("redirect-gateway")
    if into == ("everything",):
        _everything(look)
    else:
        if redirect is not None:
            message = f"everything goes into the tunnel, which leads to {', '.join(into)} alone"
            look.drop("allowed-too-much", redirect, message)
        right = (*allowed_in(look.site, look.tunnel, into), *look.tunnel.subnets)
        for option in look.file.every("route"):
            leads = _network(option)
            if leads is not None and not any(isinstance(one, IPv4Network) and leads.subnet_of(one) for one in right):
                message = f"{leads} goes into the tunnel, which leads to {', '.join(into)} alone"
                look.drop("allowed-too-much", option, message)
    alone = look.file.get("route-nopull") or look.file.get("route-noexec")
    if alone is not None and into != ("everything",):
        wanted = [one.network for one in grants_in(look.site, look.tunnel, into)]
        missing = [
            net for net in wanted if isinstance(net, IPv4Network) and not any(net.subnet_of(one) for one in given)
        ]
        if missing:
            words = ", ".join(map(str, dict.fromkeys(missing)))
            message = f"it takes no routes from the server, and has none of its own to {words}"
            look.drop("allowed-nothing", alone, message)


def _routes(look: OpenVpnLook) -> dict[IPv4Network, int]:
    """The networks that it sends into the tunnel by itself, with the line of each."""
    found = ((_network(option), option.line) for option in look.file.every("route"))
    return {network: line for network, line in found if network is not None}


def _network(option: Directive) -> IPv4Network | None:
    """Where a route leads; None: a name, or one of the words that stand for an address."""
    try:
        return IPv4Network(f"{option.word(0)}/{option.word(1) or '255.255.255.255'}", strict=False)
    except ValueError:
        return None


def _everything(look: OpenVpnLook) -> None:
    """All of it is to go into the tunnel, and the server of a device may not say so."""
    assert look.tunnel is not None
    ours = look.tunnel.made_by == "hooper"  # whose server pushes it
    redirect = look.file.get("redirect-gateway")
    ended = (f"ifconfig-ipv6 {NO_IPV6[2]}/64 {NO_IPV6[1]}", "block-ipv6")
    if redirect is None and not ours:
        message = "everything is to go through the tunnel, and it does not say so"
        look.add("allowed-nothing", ("redirect-gateway def1 ipv6", *ended), message)
    elif redirect is not None and not ours and "ipv6" not in redirect.words and not look.file.has("block-ipv6"):
        message = "all of IPv4 goes into the tunnel, and IPv6 past it"
        new = look.file.newline.join((" ".join(("redirect-gateway", *redirect.words, "ipv6")), *ended))
        look.put("leaks-ipv6", redirect, new, message)
    asked = any(option.word(0).upper() == "DNS" for option in look.file.every("dhcp-option"))
    if not ours and not asked and look.tunnel.dns:
        lines = tuple(f"dhcp-option DNS {server}" for server in look.tunnel.dns if server.version == 4)
        message = "it names no DNS server, so names may be asked wherever the device is"
        look.add("leaks-dns", lines, message)
