# ruff: noqa: E501 - pages are as wide as they are
"""Twenty routers' pages with the same four rules, each written down in another way; none is any maker's."""

from __future__ import annotations

import json

# transport, outside port, inner address, inner port, name, switched on
RULES = (
    ("tcp", 443, "10.44.7.30", 443, "films", True),
    ("tcp", 10554, "10.44.7.21", 554, "slipway", True),
    ("udp", 51820, "10.44.7.60", 51820, "gate", True),
    ("tcp", 13389, "10.44.7.41", 3389, "timing", False),
)
KNOWN = {(transport, outside, target, inside) for transport, outside, target, inside, _, _ in RULES}


def _table(head: str, rows: str, more: str = "") -> str:
    return f"<html><body><h1>Access from outside</h1><table {more}>{head}{rows}</table></body></html>"


def _rows(cells: str) -> str:
    """One row a rule; {t}, {o}, {a}, {i}, {n}, {s} stand for its parts."""
    out = []
    for transport, outside, address, inside, name, on in RULES:
        out.append(
            cells.replace("{t}", transport.upper()).replace("{o}", str(outside)).replace("{a}", address)
            .replace("{i}", str(inside)).replace("{n}", name).replace("{s}", "On" if on else "Off")
            .replace("{checked}", "checked" if on else "")
        )  # fmt: skip
    return "".join(out)


def _numbered(cells: str) -> str:
    return "".join(
        cells.replace("{k}", str(number)).replace("{t}", transport.upper()).replace("{o}", str(outside))
        .replace("{a}", address).replace("{i}", str(inside)).replace("{n}", name)
        .replace("{checked}", "checked" if on else "")
        for number, (transport, outside, address, inside, name, on) in enumerate(RULES, 1)
    )  # fmt: skip


_CELLS = "<tr><td>{n}</td><td>{t}</td><td>{o}</td><td>{a}</td><td>{i}</td><td>{s}</td></tr>"
_NAMES = ("Name", "Protocol", "External port", "Internal IP", "Internal port", "Status")
_HEAD = "<tr>" + "".join(f"<th>{name}</th>" for name in _NAMES) + "</tr>"
_OBJECTS = [
    {"name": n, "proto": t.upper(), "extPort": o, "intIp": a, "intPort": i, "enable": int(s)}
    for t, o, a, i, n, s in RULES
]
_LISTS = [[n, t.upper(), o, a, i] for t, o, a, i, n, s in RULES]

PAGES: dict[str, str] = {
    "headings": _table(_HEAD, _rows(_CELLS)),
    "headings as plain cells": _table(_HEAD.replace("th>", "td>"), _rows(_CELLS)),
    "tables in tables": "<table><tr><td>Menu</td><td><table><tr><td>"
    + _table(_HEAD, _rows(_CELLS))
    + "</td></tr></table></td></tr></table>",
    "grouped headings": _table(
        '<tr><th rowspan="2">Name</th><th rowspan="2">Protocol</th><th colspan="1">External</th>'
        '<th colspan="2">Internal</th></tr><tr><th>Port</th><th>IP</th><th>Port</th></tr>',
        _rows("<tr><td>{n}</td><td>{t}</td><td>{o}</td><td>{a}</td><td>{i}</td></tr>"),
    ),
    "a cell for several rows": _table(
        "<tr><th>Group</th><th>Proto</th><th>WAN port</th><th>LAN IP</th><th>LAN port</th></tr>",
        '<tr><td rowspan="4">all</td><td>TCP</td><td>443</td><td>10.44.7.30</td><td>443</td></tr>'
        "<tr><td>TCP</td><td>10554</td><td>10.44.7.21</td><td>554</td></tr>"
        "<tr><td>UDP</td><td>51820</td><td>10.44.7.60</td><td>51820</td></tr>"
        "<tr><td>TCP</td><td>13389</td><td>10.44.7.41</td><td>3389</td></tr>",
    ),
    "fields in a table": _table(
        "<tr><th>On</th><th>Service</th><th>Type</th><th>Public port</th><th>Server IP</th><th>Private port</th></tr>",
        _rows(
            '<tr><td><input type=checkbox {checked}></td><td><input value="{n}"></td><td><select>'
            '<option value="6">TCP</option><option value="17">UDP</option></select></td>'
            '<td><input value="{o}"></td><td><input value="{a}"></td><td><input value="{i}"></td></tr>'
        ).replace(
            '<option value="17">UDP</option></select></td><td><input value="51820">',
            '<option value="17" selected>UDP</option></select></td><td><input value="51820">',
        ),
    ),
    "numbered fields": "<form>"
    + _numbered(
        '<input name="proto_{k}" value="{t}"><input name="ext_port_{k}" value="{o}"><input name="int_ip_{k}" value="{a}">'
        '<input name="int_port_{k}" value="{i}"><input type="checkbox" name="enable_{k}" {checked}>'
    )
    + "</form>",
    "fields of an array": "<form>"
    + _numbered(
        '<input name="rule[{k}][protocol]" value="{t}"><input name="rule[{k}][externalPort]" value="{o}">'
        '<input name="rule[{k}][internalIp]" value="{a}"><input name="rule[{k}][internalPort]" value="{i}">'
    )
    + "</form>",
    "lists of definitions": "".join(
        _rows(
            "<dl><dt>Application<dd>{n}<dt>Protocol<dd>{t}<dt>External port<dd>{o}<dt>Server IP address<dd>{a}"
            "<dt>Internal port<dd>{i}</dl>"
        )
    ),
    "cards": "<main>"
    + _rows(
        '<div class="card"><h3>{n}</h3><div><span>Protocol</span><span>{t}</span></div><div><span>External port</span>'
        "<span>{o}</span></div><div><span>Internal IP</span><span>{a}</span></div><div><span>Internal port</span>"
        "<span>{i}</span></div></div>"
    )
    + "</main>",
    "lines of a list": "<ul>" + _rows("<li>{n}: {t} {o} → {a}:{i}</li>") + "</ul>",
    "text as it was typed": "<pre>\n" + _rows("{n} {t} {o} {a} {i}\n") + "</pre>",
    "data in a script": f"<script>var forwardRules = {json.dumps(_OBJECTS)};</script><div id=app></div>",
    "data as scripts write it": "<script>app.start({rules: ["
    + ", ".join(
        f"{{name: '{n}', protocol: '{t}', publicPort: {o}, privateIp: '{a}', privatePort: {i},}}"
        for t, o, a, i, n, _ in RULES
    )
    + "],});</script>",
    "lists in a script": f"<script>\n  var list = {json.dumps(_LISTS)};\n</script>",
    "texts in a script": "<script>"
    + "".join(f"add('{n}>{o}>{a}>{i}>{t.upper()}');\n" for t, o, a, i, n, _ in RULES)
    + "</script>",
    "no headings": _table("", _rows("<tr><td>{n}</td><td>{t}</td><td>{o}</td><td>{a}</td><td>{i}</td></tr>")),
    "two values in a cell": _table(
        "<tr><th>Rule</th><th>Incoming port</th><th>Destination</th></tr>",
        _rows("<tr><td>{n}</td><td>{o}/{t}</td><td>{a}:{i}</td></tr>"),
    ),
    "first and last port": _table(
        "<tr><th>Description</th><th>Start port</th><th>End port</th><th>Protocol</th><th>Local IP</th><th>Local port</th></tr>",
        _rows("<tr><td>{n}</td><td>{o}</td><td>{o}</td><td>{t}</td><td>{a}</td><td>{i}</td></tr>"),
    ),
    "tags that nobody ends": "<TABLE BORDER=1><TR><TH>Name<TH>Protocol<TH>External&nbsp;Port<TH>Local&nbsp;Address<TH>Local&nbsp;Port"
    + _rows("<TR><TD>&nbsp;{n}<TD>{t}<TD><B>{o}</B><TD>{a}<TD>{i}")
    + "</TABLE>",
}
STATUS = """\
<html><body><table><tr><td>Connection</td><td>up</td></tr><tr><td>WAN IP address</td><td>203.0.113.44</td></tr></table>
<form><label for=a>DHCP start IP</label><input id=a value="192.168.90.20"><label for=b>DHCP end IP</label>
<input id=b value="192.168.90.199"></form>
<table><tr><th>Device</th><th>MAC address</th><th>IP address</th></tr>
<tr><td>club-router</td><td>02-00-5E-90-00-02</td><td>192.168.90.2</td></tr></table>
<table><tr><th>Name</th><th>Protocol</th><th>External port</th><th>Internal IP</th><th>Internal port</th></tr>
<tr><td>films</td><td>TCP</td><td>443</td><td>192.168.90.2</td><td>443</td></tr>
<tr><td>odd</td><td>TCP</td><td>http</td><td>192.168.90.2</td><td>80</td></tr></table></body></html>
"""
