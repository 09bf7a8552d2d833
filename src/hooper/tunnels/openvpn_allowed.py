"""What a device's profile in OpenVPN's format may hold, by openvpn(8) of version 2.6; all else is told. Pure.

The list is of what is harmless, never of what is dangerous: an option that nobody thought of is told, not passed.
"""

from __future__ import annotations

from hooper.tunnels.openvpn_look import OpenVpnLook
from hooper.wire.ovpnfile import FILES, Directive


def _names(text: str) -> frozenset[str]:
    return frozenset(text.split())


# neither runs, loads nor writes anything, nor lets anybody steer the software; files are looked at by themselves
HARMLESS = _names("""
    allow-compression allow-pull-fqdn allow-recursive-routing auth auth-nocache auth-retry auth-token
    auth-token-user bind block-ipv6 block-outside-dns cipher client client-nat comp-lzo comp-noadapt compat-mode
    compress connect-retry connect-retry-max connect-timeout data-ciphers data-ciphers-fallback dev dev-type
    dhcp-option dhcp-release dhcp-renew dhcp-pre-release disable-dco dns ecdh-curve explicit-exit-notify fast-io
    float group hand-window http-proxy http-proxy-option http-proxy-retry ifconfig ifconfig-ipv6 ifconfig-noexec
    ifconfig-nowarn ignore-unknown-option inactive ip-win32 keepalive key-direction link-mtu local lport mark
    max-packet-size mlock mssfix mtu-disc mtu-test multihome mute mute-replay-warnings ncp-ciphers nobind passtos
    peer-fingerprint persist-key persist-local-ip persist-remote-ip persist-tun ping ping-exit ping-restart
    ping-timer-rem port proto proto-force pull pull-filter push-peer-info rcvbuf redirect-gateway redirect-private
    register-dns remote remote-cert-eku remote-cert-ku remote-cert-tls remote-random remote-random-hostname
    reneg-bytes reneg-pkts reneg-sec replay-window resolv-retry route route-delay route-gateway route-ipv6
    route-ipv6-gateway route-metric route-method route-noexec route-nopull rport server-poll-timeout session-timeout
    setenv shaper show-net-up sndbuf socket-flags socks-proxy socks-proxy-retry static-challenge tap-sleep
    tls-cert-profile tls-cipher tls-ciphersuites tls-client tls-exit tls-groups tls-timeout tls-version-max
    tls-version-min topology tran-window tun-ipv6 tun-mtu tun-mtu-extra tun-mtu-max txqueuelen up-delay user verb
    verify-hash verify-x509-name windows-driver x509-username-field
""")
# what is told of these elsewhere
TOLD = _names("""
    client-cert-not-required fragment ifconfig-pool-linear key-method keysize ncp-disable no-iv no-replay
    ns-cert-type secret tls-remote
""")
# of a server beside these; one that cannot be proven to be this site's own is held to this list too
SERVER = HARMLESS | _names("""
    auth-gen-token auth-user-pass-optional bcast-buffers ccd-exclusive client-config-dir client-to-client
    connect-freq connect-freq-initial crl-verify dh disable duplicate-cn force-tls-crypt-v2-cookie hash-size
    ifconfig-ipv6-pool ifconfig-ipv6-push ifconfig-pool ifconfig-push iroute iroute-ipv6 max-clients
    max-routes-per-client mode opt-verify port-share push push-remove push-reset server server-bridge server-ipv6
    stale-routes-check tcp-nodelay tcp-queue-limit tls-server username-as-common-name verify-client-cert vlan-accept
    vlan-pvid vlan-tagging
""")
RUNS = _names("""
    auth-user-pass-verify client-connect client-crresponse client-disconnect dns-updown down down-pre iproute
    ipchange learn-address route-pre-down route-up script-security tls-crypt-v2-verify tls-verify up up-restart
""")
LOADS = _names("""
    engine pkcs11-providers plugin providers win-sys
""")
WRITES = _names("""
    ifconfig-pool-persist log log-append replay-persist status status-version syslog tls-export-cert tmp-dir
    writepid
""")
ELSEWHERE = _names("""
    capath cd chroot config dev-node
""")
# what the software itself reads from its environment; anything else may steer programs that it starts
VARIABLES = frozenset(("CLIENT_CERT", "FORWARD_COMPATIBLE", "FRIENDLY_NAME", "USERNAME"))
PROXY_AUTH = ("auto", "auto-nct", "none", "basic", "ntlm", "ntlm2")  # words in the place of a file


def allowed(look: OpenVpnLook) -> None:
    """All that a profile holds beyond what one needs, by what it would do.

    The site's own server is left alone: that file is by its private key no stranger's.
    """
    if look.proven_server:
        return
    known = SERVER if look.is_server else HARMLESS
    for option in look.file.options:
        name, words = unwrapped(option)
        if name == "setenv":
            variable = words[0] if words else ""
            if variable not in VARIABLES and not variable.startswith("UV_"):
                look.drop("profile-runs-commands", option, f"it sets {_said(option)} for all that the software starts")
        elif name in FILES:
            _file(look, option, name, words)
        elif name in ("http-proxy", "socks-proxy"):
            _proxy(look, option, name, words)
        elif name not in known and name not in TOLD:
            code, does = _deed(name)
            look.drop(code, option, f"it {does}: {_said(option)}")
    for inside in look.file.inlines:
        if inside.name not in (*FILES, "peer-fingerprint", "verify-hash"):
            message = f"it has a part <{inside.name[:40]}>, which no device's profile has"
            look.drop("profile-unexpected", inside, message)


def unwrapped(option: Directive) -> tuple[str, tuple[str, ...]]:
    """What an option is behind `setenv opt`, which only says that it may be unknown."""
    name, words = option.name, option.words
    while name == "setenv" and len(words) > 1 and words[0] == "opt":
        name, words = words[1].removeprefix("--"), words[2:]
    return name, words


def _said(option: Directive) -> str:
    return " ".join((option.name, *option.words))[:60]


def _deed(name: str) -> tuple[str, str]:
    if name in RUNS or name.endswith("-verify"):
        return "profile-runs-commands", "runs a command, or lets one be run"
    if name in LOADS or name.startswith("pkcs11-"):
        return "profile-runs-commands", "has the software load a program of others"
    if name.startswith("management"):
        return "profile-runs-commands", "lets other programs steer the software"
    if name in WRITES:
        return "profile-writes-files", "has the software write a file"
    if name in ELSEWHERE:
        return "profile-unexpected", "leads to something else on the device"
    return "profile-unexpected", "has an option that no device's profile needs"


def _file(look: OpenVpnLook, option: Directive, name: str, words: tuple[str, ...]) -> None:
    """A path that leads out of its folder: what stands there would be taken for a key, or sent to whom it names."""
    path = words[0] if words else ""
    if not path or path in ("[inline]", "none") or look.is_server or is_plain(path):
        return
    message = f"it names {path[:60]!r} for `{name}`, outside its own folder: that is not followed"
    if name in ("auth-user-pass", "askpass"):
        look.put("file-elsewhere", option, name, message)
    elif name == "http-proxy-user-pass":
        look.drop("file-elsewhere", option, message)
    else:
        remedy = "Lay that file beside the profile and write its name alone; or export it with all inside."
        look.tell("file-elsewhere", option.line, message, remedy)


def _proxy(look: OpenVpnLook, option: Directive, name: str, words: tuple[str, ...]) -> None:
    if name == "http-proxy" and not any(one.transport == "tcp" for one in look.remotes):
        look.drop("option-refused", option, "`http-proxy` carries TCP alone, and the file goes by UDP: it is refused")
    elif len(words) > 2 and words[2] not in PROXY_AUTH:
        ask = " auto" if name == "http-proxy" else ""
        message = f"it sends what stands in {words[2][:60]!r} to a proxy"
        look.put("file-elsewhere", option, f"{name} {words[0]} {words[1]}{ask}", message)


def is_plain(name: str) -> bool:
    """Whether a file's name is a name alone: no path, no folder, no stream or share of Windows."""
    return name not in ("", ".", "..") and not any(sign in name for sign in "/\\:\0")
