"""Subscribing to what a device tells by itself, and reading it (UPnP Device Architecture 2.0 section 4)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from hooper.errors import WireError
from hooper.wire import head
from hooper.wire.body import read_body
from hooper.wire.upnp import local, loose_texts, parse_xml

WANTED_S = 1800  # section 4.1.1: seconds, as devices are recommended to grant
GRANTED = (60, 86_400)  # what is granted is held to be between these


@dataclass(frozen=True, slots=True)
class Subscription:
    """What a device granted. name: how it calls it (SID). lasts_s: seconds."""

    name: str
    lasts_s: int


@dataclass(frozen=True, slots=True)
class Told:
    """What a device tells. number: 0 for the first, which has all variables. variables: what they are now.

    path: of the URL at which it tells.
    """

    subscription: str
    number: int
    variables: Mapping[str, str]
    path: str = "/"


def subscribe_fields(callback: str, wanted_s: int = WANTED_S) -> tuple[tuple[str, str], ...]:
    """Section 4.1.2. callback: the URL at which it is to tell."""
    return (("CALLBACK", f"<{callback}>"), ("NT", "upnp:event"), ("TIMEOUT", f"Second-{wanted_s}"))


def renew_fields(name: str, wanted_s: int = WANTED_S) -> tuple[tuple[str, str], ...]:
    """Section 4.1.3."""
    return (("SID", name), ("TIMEOUT", f"Second-{wanted_s}"))


def parse_granted(got: head.Head) -> Subscription:
    """The answer to a subscription or to its renewal. Raises: WireError: it was not granted."""
    name = got.get("sid") or ""
    if got.status != 200 or not name or not name.isprintable() or len(name) > 200:
        raise WireError("subscription", 0, f"not granted: {got.status} {got.reason[:40]}")
    match = re.fullmatch(r"second-(\d{1,9})", (got.get("timeout") or "").strip().lower())
    lasts = int(match[1]) if match is not None else WANTED_S
    return Subscription(name, min(max(lasts, GRANTED[0]), GRANTED[1]))


def serialize_told(told: Told, host: str) -> bytes:
    """A message of a device (section 4.3.2)."""
    from html import escape

    inside = "".join(
        f"<e:property><{key}>{escape(value, quote=False)}</{key}></e:property>" for key, value in told.variables.items()
    )
    body = f'<?xml version="1.0"?><e:propertyset xmlns:e="urn:schemas-upnp-org:event-1-0">{inside}</e:propertyset>'
    fields = (
        ("HOST", host), ("CONTENT-TYPE", 'text/xml; charset="utf-8"'), ("NT", "upnp:event"),
        ("NTS", "upnp:propchange"), ("SID", told.subscription), ("SEQ", str(told.number)),
        ("CONTENT-LENGTH", str(len(body.encode()))),
    )  # fmt: skip
    return head.serialize_request("NOTIFY", told.path, "HTTP/1.1", fields) + body.encode()


def is_whole(data: bytes) -> bool:
    """Whether a message is there to its end. Raises: WireError: it is none, or longer than any is."""
    split = head.split_head(data)
    return split is not None and (read_body(split[0], split[1], ended=not _has_length(split[0])) is not None)


def _has_length(got: head.Head) -> bool:
    return got.get("content-length") is not None or got.get("transfer-encoding") is not None


def parse_told(data: bytes) -> Told:
    """Raises: WireError: this is no such message."""
    split = head.split_head(data)
    if split is None:
        raise WireError("message", len(data), "cut short")
    got, rest = split
    if got.method != "NOTIFY" or not got.get("sid"):
        raise WireError("message", 0, "no notice of a subscription")
    body = read_body(got, rest, ended=True) or b""
    number = got.get("seq") or "0"
    try:
        root = parse_xml(body)
        found = {
            local(child.tag): (child.text or "").strip()
            for element in root.iter()
            if local(element.tag) == "property"
            for child in element
        }
    except WireError:
        found = dict(loose_texts(body))
    return Told(got.get("sid") or "", int(number) if number.isascii() and number.isdigit() else 0, found, got.target)


def serialize_taken() -> bytes:
    """That a message has come (section 4.3.3)."""
    return head.serialize_response(200, "OK", "HTTP/1.1", ())
