"""Descriptions and actions: the XML of UPnP (UPnP Device Architecture 2.0 sections 2 and 3), read with patience."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from html import escape, unescape
from typing import TYPE_CHECKING
from urllib.parse import urljoin

from hooper.errors import WireError

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

_ENVELOPE = "http://schemas.xmlsoap.org/soap/envelope/"
_ENCODING = "http://schemas.xmlsoap.org/soap/encoding/"
_NOT_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f￾￿]")


@dataclass(frozen=True, slots=True)
class OfferedService:
    """One service of a device. kind: its type, such as urn:schemas-upnp-org:service:WANIPConnection:1.

    control, events: where actions go, and where its events are subscribed to, as whole URLs; events: empty: nowhere.
    """

    kind: str
    control: str
    events: str = ""


@dataclass(frozen=True, slots=True)
class Description:
    """What a device says of itself. name: maker and model, for people. title: what it is called here. kinds: the types
    of all devices in it.
    """

    name: str
    services: tuple[OfferedService, ...]
    title: str = ""
    kinds: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SoapFault:
    """An action that was refused (section 3.2.6)."""

    code: int
    text: str


def parse_xml(data: bytes) -> Element:
    """The root of a document, however its text is damaged. Never loads anything from elsewhere.

    Raises: WireError: it is not XML.
    """
    from xml.etree.ElementTree import ParseError

    from defusedxml.common import DefusedXmlException
    from defusedxml.ElementTree import fromstring

    start = max(data.find(b"<"), 0)
    try:
        return fromstring(data[start:].rstrip(b"\0 \r\n\t"))
    except DefusedXmlException as exc:
        raise WireError("document type", start, f"what a router has no need of: {type(exc).__name__}") from None
    except (ParseError, ValueError, LookupError):
        pass  # names that are not UTF-8 stand in many tables: once more, with what cannot be read replaced
    text = _NOT_XML.sub("?", re.sub(r"^\s*<\?xml[^>]*\?>", "", _decoded(data[start:])))
    text = re.sub(r"&(?!(?:amp|lt|gt|quot|apos|#[0-9]+|#x[0-9A-Fa-f]+);)", "&amp;", text)
    try:
        return fromstring(text.rstrip())
    except (ParseError, ValueError, LookupError, DefusedXmlException) as exc:
        raise WireError("XML", start, str(exc)) from None


def _decoded(data: bytes) -> str:
    """As text, by the encoding that it names, where that is one; else as UTF-8."""
    named = re.match(rb"""\s*<\?xml[^>]{0,80}encoding=["']([A-Za-z0-9._-]{1,40})["']""", data)
    try:
        return data.decode(named[1].decode() if named is not None else "utf-8", "replace")
    except (LookupError, ValueError):  # no text encoding, or none that there is
        return data.decode("utf-8", "replace")


def loose_texts(data: bytes) -> list[tuple[str, str]]:
    """Each element without others inside it, by its local name: for text that is no XML, since a router forgot to
    escape what a person wrote. What is damaged itself is left out.
    """
    text = data.decode("utf-8", "replace")
    found = re.findall(r"<(?:[\w.-]+:)?([\w.-]+)(?:\s[^<>]*)?>([^<>]*)</(?:[\w.-]+:)?\1\s*>", text)
    return [(name, re.sub(r"&#?\w{1,10};", lambda one: unescape(one[0]), inside).strip()) for name, inside in found]


def local(tag: object) -> str:
    """A tag without its namespace; routers get those wrong."""
    return str(tag).rpartition("}")[2]


def _child(element: Element, name: str) -> str:
    return next(((child.text or "").strip() for child in element if local(child.tag) == name), "")


def parse_description(data: bytes, location: str) -> Description:
    """Read a device's description, with the services of all devices inside it. location: where it was found.

    Raises: WireError.
    """
    try:
        root = parse_xml(data)
    except WireError as exc:
        if exc.field != "XML":
            raise
        return _loose_description(data, location)
    base = _child(root, "URLBase") or location
    devices = [element for element in root.iter() if local(element.tag) == "device"]
    if not devices:
        raise WireError("description", 0, "names no device")
    name = " ".join(filter(None, (_child(devices[0], "manufacturer"), _child(devices[0], "modelName"))))
    kinds = tuple(_child(device, "deviceType") for device in devices)
    title = " ".join(_child(devices[0], "friendlyName").split())[:80]
    return Description(" ".join(name.split())[:80], tuple(_services(root, base)), title, kinds)


def _loose_description(data: bytes, location: str) -> Description:
    """Raises: WireError: nothing in it looks like a service."""
    texts = loose_texts(data)
    base = next((text for name, text in texts if name == "URLBase" and text), location)
    services, kind = [], ""
    for name, text in texts:
        if name == "serviceType":
            kind = text
        elif name == "controlURL" and kind and text:
            with suppress(ValueError):
                services.append(OfferedService(kind, urljoin(base, text)))
            kind = ""
    if not services:
        raise WireError("description", 0, "is no XML, and names no service")
    return Description("", tuple(services))


def _services(root: Element, base: str) -> Iterator[OfferedService]:
    for element in root.iter():
        if local(element.tag) == "service":
            kind, control = _child(element, "serviceType"), _child(element, "controlURL")
            if kind and control:
                events = _child(element, "eventSubURL")
                try:
                    yield OfferedService(kind, urljoin(base, control), urljoin(base, events) if events else "")
                except ValueError:
                    continue


def serialize_action(service: str, name: str, arguments: Sequence[tuple[str, str]]) -> bytes:
    """The body of a request for an action (section 3.2.1). The arguments' order is the one of the service."""
    inside = "".join(f"<{key}>{escape(value, quote=False)}</{key}>" for key, value in arguments)
    return _envelope(f'<u:{name} xmlns:u="{service}">{inside}</u:{name}>')


def serialize_response(service: str, name: str, arguments: Sequence[tuple[str, str]]) -> bytes:
    """The body of an answer to an action (section 3.2.5)."""
    return serialize_action(service, f"{name}Response", arguments)


def serialize_fault(code: int, text: str) -> bytes:
    """The body of a refusal (section 3.2.6)."""
    error = f'<UPnPError xmlns="urn:schemas-upnp-org:control-1-0"><errorCode>{code}</errorCode>'
    error += f"<errorDescription>{escape(text, quote=False)}</errorDescription></UPnPError>"
    inside = f"<faultcode>s:Client</faultcode><faultstring>UPnPError</faultstring><detail>{error}</detail>"
    return _envelope(f"<s:SoapFault>{inside}</s:SoapFault>")


def _envelope(inside: str) -> bytes:
    start = '<?xml version="1.0"?>\r\n'
    start += f'<s:Envelope xmlns:s="{_ENVELOPE}" s:encodingStyle="{_ENCODING}">'
    return f"{start}<s:Body>{inside}</s:Body></s:Envelope>\r\n".encode()


def parse_action(data: bytes) -> tuple[str, dict[str, str]]:
    """The name and the arguments of an action, or of the answer to one. Raises: WireError."""
    body = next((element for element in parse_xml(data).iter() if local(element.tag) == "Body"), None)
    if body is None or not len(body):
        raise WireError("envelope", 0, "has no body")
    return local(body[0].tag), {local(child.tag): (child.text or "").strip() for child in body[0]}


def parse_response(data: bytes, name: str) -> dict[str, str] | SoapFault:
    """What an action gave, by argument, or the refusal. Raises: WireError."""
    try:
        root = parse_xml(data)
    except WireError as exc:
        if exc.field != "XML" or f"{name}Response>".encode() not in data:
            raise
        return dict(loose_texts(data))
    error = next((element for element in root.iter() if local(element.tag) == "UPnPError"), None)
    if error is not None:
        code = _child(error, "errorCode")
        number = int(code) if code.isascii() and code.isdigit() and len(code) < 6 else 0
        return SoapFault(number, " ".join(_child(error, "errorDescription").split())[:120])
    if any(local(element.tag) == "Fault" for element in root.iter()):
        return SoapFault(0, "refused without a code")
    got = next((element for element in root.iter() if local(element.tag) == f"{name}Response"), None)
    if got is None:
        raise WireError("envelope", 0, f"answers something else than {name}")
    return {local(child.tag): (child.text or "").strip() for child in got}
