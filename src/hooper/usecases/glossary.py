"""What the fields of documents mean: words that mean the same everywhere, and what a class says of its own fields."""

from __future__ import annotations

import re
from collections.abc import Iterable

SHARED = {
    "address": "An IP address.",
    "certainty": "How sure this is: certain, likely or possible.",
    "changes": "What is different, or was made different.",
    "code": "The finding's code, as `hooper` uses it everywhere.",
    "comparisons": "Numbers that should be the same, side by side.",
    "detail": "What else is known, in words; may be empty.",
    "devices": "The devices, one row each.",
    "dry_run": "Nothing was changed: this is what would be done.",
    "findings": "What is wrong or worth knowing.",
    "fingerprint": 'Of the certificate: "sha256:" and 64 hexadecimal digits; null where there is none.',
    "gateway": "The gateway, by its key in the site file.",
    "gateways": "The gateways, one row each, from the line inward.",
    "host": "The host, by its key in the site file.",
    "hosts": "The hosts, one row each.",
    "issuer": "Who issued the certificate.",
    "label": "The rule's text in the router's table.",
    "line": "The internet line, by its key in the site file.",
    "mac": "The device's hardware address (MAC); null where it is not known.",
    "meaning": "What it means, in words.",
    "message": "What is the case, in words.",
    "network": "The network, as an address and prefix length.",
    "notes": "What else has to be heeded, in words.",
    "ok": "Whether it came out as it should.",
    "outside_ports": "The ports on the gateway's outer side.",
    "port": "The port number, 1 to 65535.",
    "ports": "The ports on the host itself; null where the protocol has none.",
    "reach": "Who may use it: as written for the service in the site file.",
    "reason": "Why, in words.",
    "remedy": "What to do about it, in words.",
    "reservations": "The addresses that the router's DHCP server always gives to the same device.",
    "resolver": "The DNS server that was asked.",
    "rule": "The rule that this is about.",
    "rules": "The port forwards and pinholes, one row each.",
    "service": "The service, by its key in the site file.",
    "services": "The services, by their keys in the site file.",
    "sources": "Who may use the rule: addresses or networks; empty means anyone.",
    "speaks": "The protocol it speaks, such as https.",
    "subject": "What it is about.",
    "summary": "What it is, in a few words.",
    "target_address": "The address on the gateway's inner side to which the rule leads.",
    "target_ports": "The ports to which the rule leads.",
    "tunnel": "The tunnel, by its key in the site file.",
    "peer": "The peer, by its key in the site file.",
    "peers": "The peers, one row each.",
    "kind": "What it is made with.",
    "endpoint": "Where the server is found, as host:port.",
    "routes": "The static routes.",
    "field": "What a page calls it.",
    "file": "Its path.",
    "files": "What was written.",
    "steps": "What to do, in words.",
    "public_key": "The public key, in Base64.",
    "took_ms": "How long it took, in milliseconds.",
    "transport": '"tcp" or "udp"; in a rule also "both", or an IP protocol\'s number, which has no ports.',
    "until": "When it ends.",
    "verdict": "What was seen, as one word.",
    "wan_address": "The address of the gateway's outer side; null where it is not known.",
}


def field_texts(documentation: str, fields: Iterable[str]) -> tuple[str, dict[str, str]]:
    """A class's summary and the text of each field that its docstring explains.

    documentation: sentences, then `field: text.` for one field or `field, field: text.` for several.
    """
    names = sorted(fields, key=len, reverse=True)
    texts: dict[str, str] = {}
    whole = " ".join(documentation.split())
    if not names:
        return whole, texts
    either = "|".join(map(re.escape, names))
    marks = list(re.finditer(rf"(?:^|(?<=[.;:?!] ))((?:{either})(?:, (?:{either}))*): ", whole))
    ends = [*(mark.start() for mark in marks[1:]), len(whole)]
    for mark, end in zip(marks, ends, strict=False):
        text = whole[mark.end() : end].rstrip(" ;.")
        texts |= {name: f"{text[:1].upper()}{text[1:]}." for name in mark[1].split(", ")}
    return whole[: marks[0].start() if marks else None].rstrip(), texts
