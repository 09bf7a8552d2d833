"""Profiles that some device exported: what is wrong in them, and the bytes that mend it. Pure.

A file is held against the site file: which tunnel it is of is told by the server's key, which peer by its own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.planning.topology import Topology
from hooper.tunnels.look import BaseLook, Flaw, Look, key_of, line_of, network_of
from hooper.tunnels.profile_values import interface, leaks, peer_section, server, twins
from hooper.wire.wgfile import KEYS, SEVERAL, Entry, Section, parse


def look_at(topology: Topology, text: str, public: Mapping[str, IPAddress]) -> Look:
    """All that is wrong in one file, the gravest first."""
    look = Look(topology, public, file=parse(text))
    _form(look)
    _keys(look)
    if look.is_server:
        server(look)
    elif look.interface is not None:
        interface(look)
        if look.file.peers:
            peer_section(look, look.file.peers[0])
            leaks(look, look.file.peers[0])
    twins(look)
    ranks = {"error": 0, "warning": 1, "note": 2}
    look.faults.sort(key=lambda fault: (ranks[fault.severity], fault.line))
    return look


def mended(look: Callable[[str], BaseLook], text: str) -> tuple[str, list[Flaw]]:
    """A file with all that can be mended mended, and what was done. Only the bytes that mean something else change.

    look: at a text of its kind.
    """
    done: list[Flaw] = []
    for _ in range(4):  # what is mended may show what stood behind it
        found = [fault for fault in look(text).faults if fault.edits]
        if not found:
            break
        before, applied = len(text) + 1, []
        edits = [(*edit, fault) for fault in found for edit in fault.edits]
        for start, end, new, fault in sorted(edits, key=lambda edit: edit[:2], reverse=True):
            if end <= before:  # what would overlap comes in the next round
                text = text[:start] + new + text[end:]
                before = start
                applied.append(fault)
        done += [fault for fault in dict.fromkeys(reversed(applied)) if fault not in done]
    return text, done


# --- its form


def _form(look: Look) -> None:
    """Lines that real software refuses: it then refuses the whole file."""
    for stray in look.file.strays:
        look.tell(
            "profile-unreadable",
            stray.line,
            f"{stray.text[:40]!r} is neither a section nor a value",
            "Take the line away, or put # before it.",
        )
    if look.interface is None:
        look.tell("profile-incomplete", 0, "there is no section [Interface]", "Export it again; this is a part of one.")
    if not look.file.peers:
        look.tell(
            "profile-incomplete", 0, "there is no section [Peer]: it does not name its server", "Export it again."
        )
    if sum(section.kind == "interface" for section in look.file.sections) > 1:
        line = [section.line for section in look.file.sections if section.kind == "interface"][1]
        look.tell(
            "profile-unreadable", line, "there are two sections [Interface]", "One device has one: take one away."
        )
    for section in look.file.sections:
        known = KEYS.get(section.kind)
        if known is None:
            look.tell("profile-unreadable", section.line, f"there is no section [{section.kind}]", "Take it away.")
            continue
        names = {name.lower(): name for name in known}
        everywhere = {name.lower(): kind for kind, all_names in KEYS.items() for name in all_names}
        for entry in section.entries:
            _entry_form(look, section, entry, names, everywhere)


def _entry_form(
    look: Look, section: Section, entry: Entry, names: Mapping[str, str], everywhere: Mapping[str, str]
) -> None:
    if entry.key not in names:
        if (kind := everywhere.get(entry.key)) is not None:
            message = f"{entry.name} stands in [{section.kind.title()}], and belongs into [{kind.title()}]"
            look.tell("profile-unreadable", entry.line, message, "Move the line.")
            return
        near = [name for low, name in names.items() if low.rstrip("s") == entry.key.rstrip("s").replace("_", "")]
        if near:
            edits = ((entry.line_start, entry.start, f"{near[0]} = "),)
            message = f"there is no {entry.name!r}; it is called {near[0]}"
            words = f"{entry.name} becomes {near[0]}"
            look.faults.append(Flaw("profile-unreadable", entry.line, message, f"Write {near[0]}.", words, edits))
        else:
            message = f"there is no {entry.name!r} in [{section.kind.title()}]"
            look.drop("profile-unreadable", entry, message, f"the line {entry.name!r} is left out")
    elif not entry.value and entry.key not in SEVERAL:
        look.drop("profile-unreadable", entry, f"{entry.name} has no value", f"the empty {entry.name} is left out")
    elif entry.key in ("mtu", "listenport", "persistentkeepalive") and not _number(entry):
        look.drop("profile-unreadable", entry, f"{entry.value!r} is no {entry.name}", f"{entry.name} is left out")
    elif entry.key in ("address", "allowedips"):
        wrong = next((item for item in entry.items if network_of(item) is None), None)
        if wrong is not None:
            message = f"{wrong!r} in {entry.name} is no network"
            look.tell("profile-unreadable", entry.line, message, "Correct it, such as 10.44.7.0/24.")
    elif entry.key in ("preup", "postup", "predown", "postdown") and not look.is_server:
        message = f"it runs a command when the tunnel goes up or down: {entry.value[:60]}"
        look.tell("profile-runs-commands", entry.line, message, "Take the line away, unless you know what it does.")
    elif entry.key == "table" and entry.value.lower() == "off" and not look.is_server:
        look.drop("profile-table-off", entry, "it sets no routes (Table = off)", "the line Table = off is left out")


def _number(entry: Entry) -> bool:
    word = entry.value.lower()
    if entry.key == "persistentkeepalive" and word == "off":
        return True
    return word.isascii() and word.isdigit() and int(word) <= 65535


# --- keys


def _keys(look: Look) -> None:
    for section in look.file.sections:
        wanted = {"interface": "PrivateKey", "peer": "PublicKey"}.get(section.kind)
        if wanted is not None and section.get(wanted) is None:
            if wanted == "PublicKey" and look.tunnel is not None and look.tunnel.public_key and not look.is_server:
                look.put("profile-incomplete", section, wanted, look.tunnel.public_key, "the server's key is missing")
            else:
                message = f"there is no {wanted} in [{section.kind.title()}]"
                look.tell("profile-incomplete", section.line, message, "Copy it from the page that made the file.")
        for name in ("PrivateKey", "PublicKey", "PresharedKey"):
            entry = section.get(name)
            if entry is not None and entry.value and key_of(entry.value) is None:
                _malformed(look, section, entry)
    if look.own is None or look.is_server:
        return
    for section in look.file.peers:
        entry = section.get("PublicKey")
        if entry is not None and entry.value == look.own:
            server = look.tunnel.public_key if look.tunnel is not None else None
            message = "the server's key is the device's own"
            if server:
                look.put("keys-mixed-up", section, "PublicKey", server, message)
            else:
                look.tell("keys-mixed-up", entry.line, message, "Put the server's public key.")
    if look.tunnel is not None and look.tunnel.public_key == look.own and not look.is_server:
        look.tell("keys-mixed-up", 0, "its private key is the server's", "Make a key of its own for the device.")
    elif look.peer is not None and look.peer.public_key is not None and look.peer.public_key != look.own:
        assert look.peer_key is not None
        look.tell(
            "key-unknown",
            line_of(look.interface, "PrivateKey"),
            f"its key is not the one that the site file has for {look.peer_key}: {look.own} is what fits it",
            f"`{deeds.RENEW_PEER(look.peer_key)}`, and load what it makes; or write that key into the site file.",
        )
    elif look.tunnel is not None and look.peer is None:
        look.tell(
            "key-unknown",
            line_of(look.interface, "PrivateKey"),
            f"no peer of {look.tunnel_key} has the key that fits it: {look.own}",
            f"Add it with that public key: `{deeds.ADD_PEER}`.",
        )


def _malformed(look: Look, section: Section, entry: Entry) -> None:
    message = f"its {entry.name} is no key: 44 letters and digits are one, this has {len(entry.value)}"
    server = look.tunnel.public_key if look.tunnel is not None else None
    if section.kind == "peer" and entry.key == "publickey" and server is not None and not look.is_server:
        look.put("key-malformed", section, "PublicKey", server, message)
    else:
        look.tell("key-malformed", entry.line, message, "Copy it anew from the page that made it.")


def twins_among(looks: Mapping[str, BaseLook]) -> Iterator[tuple[str, Flaw]]:
    """Files of several devices that have one key or one address."""
    seen: dict[tuple[str, object], str] = {}
    for name, look in looks.items():
        for what, value in look.marks.items():
            if value is None:
                continue
            other = seen.setdefault((what, value), name)
            if other != name:
                message = f"{other} has the same {what}: they throw each other out"
                yield name, Flaw("profile-twin", look.line_of_mark(what), message, f"Make a {what} for each device.")
