"""What a device's profile in OpenVPN's format may hold, by openvpn(8) of version 2.6; all else is told. Pure.

The list is of what is harmless, never of what is dangerous: an option that nobody thought of is told, not passed.
"""

from __future__ import annotations

from hooper.tunnels.openvpn_look import OpenVpnLook
from hooper.wire.ovpnfile import FILES, Directive
from hooper.words.data import data


def _names(kind: str) -> frozenset[str]:
    return frozenset(name for line in data("openvpn-options")[kind] for name in line.split())


# neither runs, loads nor writes anything, nor lets anybody steer the software; files are looked at by themselves
HARMLESS, TOLD = _names("harmless"), _names("told")  # what is told of the latter stands elsewhere
# of a server beside these; one that cannot be proven to be this site's own is held to this list too
SERVER = HARMLESS | _names("server")
RUNS, LOADS, WRITES, ELSEWHERE = map(_names, ("runs", "loads", "writes", "elsewhere"))
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
