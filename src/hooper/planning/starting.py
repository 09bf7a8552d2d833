"""The first site file, written from what a person says or what was found. Pure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from hooper.site.edit import Value, key_text, literal


@dataclass(frozen=True, slots=True)
class StartBox:
    """One gateway. wan, pool, prefix6: "" where it is not known. doubt: what is a guess, for a comment."""

    key: str
    lan: str
    wan: str = ""
    pool: str = ""
    control: str = "auto"
    managed_by: str = "self"
    doubt: str = ""
    prefix6: str = ""


@dataclass(frozen=True, slots=True)
class Start:
    """What a site file starts with. boxes: outermost first. hosts: (key, address). id: by which its state is found
    wherever the file stands; empty: by where it stands. seen: the router next to this computer, as its own settings
    show it: what is proposed where somebody is asked.
    """

    title: str
    boxes: tuple[StartBox, ...]
    line: str = "line"
    address: str = "dynamic"
    blocked: tuple[str, ...] = ()
    stun: tuple[str, ...] = ()
    resolvers: tuple[str, ...] = ()
    name: str = ""
    hosts: tuple[tuple[str, str], ...] = ()
    id: str = ""
    seen: StartBox | None = None


def site_text(start: Start) -> str:
    """The site file: short, with a comment where a person will want to add something."""
    out = [f"# {start.title or 'A site'}: its line, its routers, its devices.".replace("\n", " "), "version = 1", ""]
    if start.title or start.id:
        rows = [_row(key, value) for key, value in (("title", start.title), ("id", start.id)) if value]
        out += ["[site]", *rows, ""]
    if start.stun or start.resolvers:
        out += ["[measure]                # only what stands here is asked, after the routers"]
        out += [
            _row(key, list(values)) for key, values in (("stun", start.stun), ("resolvers", start.resolvers)) if values
        ]
        out.append("")
    if not start.stun:
        out += [
            "# The routers are asked for the public address. A STUN server is a second opinion: your provider's page",
            "# on internet telephony names one.",
            '# [measure]\n# stun = ["ADDRESS:PORT"]',
            "",
        ]
    out += [f"[lines.{key_text(start.line)}]", _row("address", start.address)]
    out += (
        [_row("blocked", list(start.blocked))]
        if start.blocked
        else ['# blocked = ["tcp 25"]   # what the provider drops']
    )
    for number, box in enumerate(start.boxes):
        out += ["", f"[gateways.{key_text(box.key)}]" + (f"   # {box.doubt}" if box.doubt else "")]
        outer = start.boxes[number - 1].key if number else ""
        out.append(_row("behind", outer) if outer else _row("line", start.line))
        if box.wan:
            out.append(_row("wan", box.wan))
        out.append(_row("lan", box.lan))
        out.append(_row("pool", box.pool) if box.pool else '# pool = "FIRST-LAST"     # what its DHCP hands out')
        if box.prefix6:
            out.append(f"{_row('prefix6', box.prefix6)}   # as this computer has it now")
        out.append(_row("control", box.control))
        if box.managed_by != "self":
            out.append(_row("managed_by", box.managed_by))
    for key, address in start.hosts:
        out += ["", f"[hosts.{key_text(key)}]", _row("address", address)]
    if start.name:
        out += ["", f"[names.{key_text(start.name)}]", _row("line", start.line)]
    return "\n".join(out) + "\n"


def _row(key: str, value: Value | Sequence[str]) -> str:
    return f"{key} = {literal(value)}"
