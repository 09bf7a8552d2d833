"""Searching for devices on a network: SSDP (UPnP Device Architecture 2.0 section 1.3)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal, cast

from hooper.errors import WireError
from hooper.wire import head

GROUP, PORT = "239.255.255.250", 1900  # section 1.1
# A gateway of version 2 answers searches for version 1 too; old ones answer only for the service itself.
TARGETS = (
    "urn:schemas-upnp-org:device:InternetGatewayDevice:1",
    "urn:schemas-upnp-org:device:InternetGatewayDevice:2",
    "urn:schemas-upnp-org:service:WANIPConnection:1",
    "urn:schemas-upnp-org:service:WANPPPConnection:1",
)


Kind = Literal["alive", "update", "byebye"]


@dataclass(frozen=True, slots=True)
class SearchAnswer:
    """What a device says to a search. location: the address of its description. target: what it answers for."""

    location: str
    target: str
    name: str


@dataclass(frozen=True, slots=True)
class Notice:
    """What a device tells everyone unasked (section 1.2). location: empty where it goes."""

    kind: Kind
    location: str
    target: str
    name: str


def serialize_search(target: str, host: str, *, wait_s: int | None) -> bytes:
    """A search (section 1.3.2). host: the group, or one device. wait_s: seconds an answer may take, to a group only."""
    fields = [("HOST", f"{host}:{PORT}"), ("MAN", '"ssdp:discover"'), ("ST", target)]
    if wait_s is not None:
        fields.insert(2, ("MX", str(wait_s)))
    return head.serialize_request("M-SEARCH", "*", "HTTP/1.1", tuple(fields))


def parse_search(data: bytes) -> str | None:
    """What a search is for; None: this is another kind of message. Raises: WireError."""
    asked = _head(data)
    wanted = (asked.get("man") or "").strip('"').lower() == "ssdp:discover"
    return asked.get("st") if asked.method == "M-SEARCH" and wanted else None


def serialize_answer(location: str, target: str, name: str, software: str) -> bytes:
    """An answer to a search (section 1.3.3)."""
    fields = (("CACHE-CONTROL", "max-age=120"), ("ST", target), ("USN", f"{name}::{target}"), ("EXT", ""))
    return head.serialize_response(200, "OK", "HTTP/1.1", (*fields, ("SERVER", software), ("LOCATION", location)))


def parse_answer(data: bytes) -> SearchAnswer:
    """Read an answer to a search. Raises: WireError: it is none, or says nothing about where."""
    got = _head(data)
    location = got.get("location")
    if got.protocol != "HTTP" or got.status != 200 or not location:
        raise WireError("answer", 0, "no success with a location")
    return SearchAnswer(location, got.get("st") or "", got.get("usn") or "")


def serialize_notice(told: Notice) -> bytes:
    """A notice for the group (section 1.2.2)."""
    fields = [("HOST", f"{GROUP}:{PORT}"), ("NT", told.target), ("NTS", f"ssdp:{told.kind}"), ("USN", told.name)]
    if told.location:
        fields[1:1] = [("CACHE-CONTROL", "max-age=1800"), ("LOCATION", told.location)]
    return head.serialize_request("NOTIFY", "*", "HTTP/1.1", tuple(fields))


def parse_notice(data: bytes) -> Notice:
    """Raises: WireError: it is none."""
    got = _head(data)
    said = (got.get("nts") or "").lower().removeprefix("ssdp:")
    if got.method != "NOTIFY" or said not in ("alive", "update", "byebye"):
        raise WireError("notice", 0, "no notice of coming or going")
    return Notice(cast("Kind", said), got.get("location") or "", got.get("nt") or "", got.get("usn") or "")


def _head(data: bytes) -> head.Head:
    return head.parse_head(re.split(rb"\r?\n\r?\n", data, maxsplit=1)[0])  # some end without the empty line
