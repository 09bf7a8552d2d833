"""Profiles that some device exported: what is wrong in them, and the bytes that mend it. Pure.

A file is held against the site file: which tunnel it is of is told by the server's key, which peer by its own.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.planning.topology import Topology
from hooper.tunnels.look import BaseLook, Flaw, Look, key_of, line_of, network_of
from hooper.tunnels.profile_values import further, interface, leaks, names_asked, peer_section, server, twins
from hooper.tunnels.wireguard_files import carrying
from hooper.wire.wgfile import HOOKS, KEYS, SEVERAL, Entry, Section, parse

ROUNDS = 12  # of mending; each is a whole look
STEERS = re.compile(r"(pre|post)(up|down)|saveconfig", re.IGNORECASE)


def look_at(topology: Topology, text: str, public: Mapping[str, IPAddress]) -> Look:
    """All that is wrong in one file, the gravest first."""
    look = Look(topology, public, file=parse(text))
    _form(look)
    _keys(look)
    if look.is_server:
        server(look)
    elif look.interface is not None:
        interface(look)
        if (section := look.server_section) is not None:
            peer_section(look, section)
            leaks(look, section)
            names_asked(look, section)
            further(look, section)
    twins(look)
    ranks = {"error": 0, "warning": 1, "note": 2}
    look.faults.sort(key=lambda fault: (ranks[fault.severity], fault.line))
    return look


def mended(look: Callable[[str], BaseLook], text: str, keep: Sequence[int] = ()) -> tuple[str, list[Flaw]]:
    """A file with all that can be mended mended, and what was done. Only the bytes that mean something else change.

    Args: look: at a text of its kind. keep: the lines, from 1, that stay as they are, whatever is wrong in them.
    """
    done: list[Flaw] = []
    kept = {lines[number - 1].strip() for lines in [text.split("\n")] for number in keep}
    for _ in range(ROUNDS):  # what is mended may show what stood behind it
        lines = text.split("\n")
        found = [
            fault
            for fault in look(text).faults
            if fault.edits and not (fault.line and lines[fault.line - 1].strip() in kept)
        ]
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
    if look.file.text.startswith("\ufeff"):
        message = "it begins with a byte order mark, and the software refuses the file"
        words, edits = "the byte order mark is left out", ((0, 1, ""),)
        look.faults.append(Flaw("profile-unreadable", 0, message, "Save it as UTF-8 without one.", words, edits))
    for stray in look.file.strays:
        message = f"{stray.text[:40]!r} is neither a section nor a value"
        if STEERS.search(stray.text):  # the software may read it as one all the same
            look.drop("profile-runs-commands", stray, message, f"the line {stray.line} is left out")
        else:
            look.tell("profile-unreadable", stray.line, message, "Take the line away, or put # before it.")
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
    if not look.proven_server and _steers(look, entry):
        return
    if entry.key not in names:
        if (kind := everywhere.get(entry.key)) is not None:
            message = f"{entry.name} stands in [{section.kind.title()}], and belongs into [{kind.title()}]"
            look.tell("profile-unreadable", entry.line, message, "Move the line.")
            return
        wanted = entry.key.rstrip("s").replace("_", "")
        near = [name for low, name in names.items() if low.rstrip("s") == wanted and not STEERS.search(low)]
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
    elif entry.key == "fwmark" and not re.fullmatch(r"off|\d{1,10}|0x[0-9a-f]{1,8}", entry.value.lower()):
        look.drop("profile-unreadable", entry, f"{entry.value[:40]!r} is no {entry.name}", f"{entry.name} is left out")
    elif entry.key == "table" and entry.value.lower() == "off" and not look.is_server:
        look.drop("profile-table-off", entry, "it sets no routes (Table = off)", "the line Table = off is left out")


def _steers(look: Look, entry: Entry) -> bool:
    """Told where a line runs commands or writes files, in whatever section: the software does that before it refuses.

    What this site's end of a tunnel to a rented machine has by our own making is left.
    """
    what = f"the line {entry.name!r} is left out"
    if entry.key == "saveconfig" and entry.value.lower() != "false":
        look.drop("profile-writes-files", entry, "it has the software write over the file itself (SaveConfig)", what)
    elif entry.key in HOOKS:
        ours = carrying(look.site, look.peer_key, look.tunnel_key) if look.peer_key and look.tunnel_key else ()
        if f"{entry.name} = {entry.value}" in ours:
            return False
        message = f"it runs a command when the tunnel goes up or down: {entry.value[:60]}"
        look.drop("profile-runs-commands", entry, message, what)
    else:
        return False
    return True


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
            right = look.tunnel.public_key if look.tunnel is not None else None
            if wanted == "PublicKey" and right and section is look.server_section and not look.is_server:
                look.put("profile-incomplete", section, wanted, right, "the server's key is missing")
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
            if server and section is look.server_section:
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
    if entry.key == "publickey" and server is not None and section is look.server_section and not look.is_server:
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
