"""The typed model of the site file (pydantic). One class a table; the guide to the keys is the JSON schema.

Every field that people write is read by a function below, so that the message names what is allowed.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, IPv6Network, ip_interface
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, PlainValidator, StrictBool, StrictInt, WithJsonSchema
from pydantic_core import PydanticCustomError

from hooper.addresses import parse_address, parse_network, plain_digits
from hooper.secret import SecretRef
from hooper.site.protocols import SPEECHES, Speech
from hooper.site.words import nearest

VERSION = 1
RESERVED = ("router", "device", "hand", "provider")

Transport = Literal["tcp", "udp", "both"]
Reach = Literal["public", "tunnel", "lan"]
Control = Literal["auto", "igd", "pcp", "natpmp", "hand"]


def _wrong(message: str) -> PydanticCustomError:
    return PydanticCustomError("hooper", "{message}", {"message": message})


def _text(value: Any, what: str) -> str:
    if not isinstance(value, str):
        raise _wrong(f"{what} is written as text, in quotes")
    return value


def _reader(read: Callable[[str], Any], what: str, example: str) -> PlainValidator:
    """A validator that reads text by `read` and turns its ValueError into a sentence with an example."""

    def validate(value: Any) -> Any:
        try:
            return read(_text(value, what))
        except ValueError as exc:
            if isinstance(exc, PydanticCustomError):
                raise
            raise _wrong(f"{value!r} is not {what}; write it like {example!r}") from None

    return PlainValidator(validate)


def _address4(text: str) -> IPv4Address:
    address = parse_address(text)
    if not isinstance(address, IPv4Address):
        raise _wrong(f"{text!r} is an IPv6 address; this key takes an IPv4 address")
    return address


def _address6(text: str) -> IPv6Address:
    address = parse_address(text)
    if not isinstance(address, IPv6Address):
        raise _wrong(f"{text!r} is an IPv4 address; this key takes an IPv6 address")
    return address


def _lan(text: str) -> IPv4Interface:
    if "/" not in text:
        raise _wrong(
            f"{text!r} lacks the length of the prefix; write the gateway's address with it, like '10.0.0.1/24'"
        )
    lan = IPv4Interface(plain_digits(text.strip()))
    if not 8 <= lan.network.prefixlen <= 30:
        raise _wrong(f"{text!r}: a LAN has a prefix of /8 to /30")
    if lan.ip in (lan.network.network_address, lan.network.broadcast_address):
        raise _wrong(f"{text!r} is the network's own or its broadcast address; the gateway needs a host's address")
    return lan


def _mac(text: str) -> str:
    digits = re.sub(r"[:.\-\s]", "", text).lower()
    if not re.fullmatch(r"[0-9a-f]{12}", digits):
        raise ValueError(text)
    return ":".join(digits[i : i + 2] for i in range(0, 12, 2))


def _endpoint(text: str) -> tuple[IPv4Address | IPv6Address, int]:
    host, _, port = text.rpartition(":")
    if not port.isascii() or not port.isdigit() or not 1 <= int(port) <= 65535:
        raise ValueError(text)
    return parse_address(host.strip("[]")), int(port)


_LABEL = re.compile(r"(?!-)[a-z0-9_-]{1,63}(?<!-)")


def dns_name(text: str) -> str:
    """A DNS name in lower case without the final dot (RFC 1035 section 2.3.4). Raises: ValueError: it is none."""
    name = text.strip().rstrip(".").lower()
    labels = name.removeprefix("*.").split(".")
    if len(name) > 253 or len(labels) < 2 or not all(_LABEL.fullmatch(label) for label in labels):
        raise ValueError(text)
    return name


@dataclass(frozen=True, slots=True)
class Ports:
    """An inclusive range of ports; a single port has first == last."""

    first: int
    last: int

    def __len__(self) -> int:
        return self.last - self.first + 1

    def __str__(self) -> str:
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"

    def overlaps(self, other: "Ports") -> bool:
        return self.first <= other.last and other.first <= self.last


def _port_range(text: str) -> Ports:
    match = re.fullmatch(r"\s*([0-9]{1,5})\s*-\s*([0-9]{1,5})\s*", text)
    if not match:
        raise ValueError(text)
    first, last = int(match[1]), int(match[2])
    if not 1 <= first <= 65535 or not 1 <= last <= 65535:
        raise _wrong(f"{text!r}: ports go from 1 to 65535")
    if first > last:
        raise _wrong(f"{text!r}: the range goes backwards; write '{last}-{first}'")
    return Ports(first, last)


def _ports(value: Any) -> Ports:
    if isinstance(value, Ports):
        return value
    if isinstance(value, bool) or not isinstance(value, int | str):
        raise _wrong("a port is a number such as 8443, or a range in quotes such as '5000-5010'")
    if isinstance(value, int):
        if not 1 <= value <= 65535:
            raise _wrong(f"{value} is not a port: ports go from 1 to 65535")
        return Ports(value, value)
    if value.strip().isdigit():
        raise _wrong(f"a single port is a number; write {value.strip()} without the quotes")
    try:
        return _port_range(value)
    except ValueError as exc:
        if isinstance(exc, PydanticCustomError):
            raise
        raise _wrong(f"{value!r} is not a port; write a number such as 8443, or a range such as '5000-5010'") from None


@dataclass(frozen=True, slots=True)
class Blocked:
    """Ports that a provider drops inbound."""

    transport: str
    ports: Ports


def _blocked(text: str) -> Blocked:
    transport, _, ports = text.strip().partition(" ")
    if transport not in ("tcp", "udp", "both") or not ports:
        raise ValueError(text)
    ports = ports.strip()
    return Blocked(transport, _ports(int(ports)) if ports.isascii() and ports.isdigit() else _port_range(ports))


@dataclass(frozen=True, slots=True)
class Pool:
    """The addresses that a gateway's DHCP server gives away, both ends included."""

    first: IPv4Address
    last: IPv4Address

    def __contains__(self, address: object) -> bool:
        return isinstance(address, IPv4Address) and self.first <= address <= self.last

    def __str__(self) -> str:
        return f"{self.first}-{self.last}"


def _pool(text: str) -> Pool:
    first, dash, last = text.partition("-")
    if not dash:
        raise ValueError(text)
    pool = Pool(_address4(first), _address4(last))
    if pool.first > pool.last:
        raise _wrong(f"{text!r}: the pool goes backwards; write '{pool.last}-{pool.first}'")
    return pool


def _line_address(value: Any) -> Any:
    if value == "dynamic":
        return ()
    given = value if isinstance(value, list) else [value]
    if not given:
        raise _wrong('an address is "dynamic", a fixed address, or a list of them')
    try:
        return tuple(_address4(_text(item, "an address")) for item in given)
    except ValueError as exc:
        if isinstance(exc, PydanticCustomError):
            raise
        raise _wrong(f'{value!r} is neither "dynamic" nor an IPv4 address') from None


def _speaks(value: Any) -> str:
    if not isinstance(value, str) or value not in SPEECHES:
        near = nearest(str(value), SPEECHES)
        hint = f"did you mean {near[0]!r}? " if near else ""
        raise _wrong(f"{value!r} is not known; {hint}allowed: {', '.join(SPEECHES)}")
    return value


def _key(value: Any) -> str:
    text = _text(value, "a key")
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9_-]{0,62}", text):
        raise _wrong(f"{text!r} cannot be a key: letters, digits, - and _, at most 63, starting with a letter or digit")
    if text in RESERVED:
        raise _wrong(f"{text!r} is a reserved word; choose another key")
    return text


def _string_schema(description: str, **more: Any) -> WithJsonSchema:
    return WithJsonSchema({"type": "string", "description": description, **more})


Key = Annotated[
    str, PlainValidator(_key), _string_schema("A key of your own.", pattern="^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$")
]
Address4 = Annotated[
    IPv4Address,
    _reader(_address4, "an IPv4 address", "10.0.0.20"),
    _string_schema("An IPv4 address; leading zeros are read as decimal."),
]
Address6 = Annotated[
    IPv6Address, _reader(_address6, "an IPv6 address", "2001:db8::20"), _string_schema("An IPv6 address.")
]
Lan = Annotated[
    IPv4Interface,
    _reader(_lan, "a gateway's LAN address", "10.0.0.1/24"),
    _string_schema("The gateway's own LAN address with the length of the prefix, such as 10.0.0.1/24."),
]
Prefix6 = Annotated[
    IPv6Network | IPv6Interface,
    _reader(lambda text: ip_interface(text).network, "an IPv6 prefix", "2001:db8:44::/56"),
    _string_schema("An IPv6 prefix."),
]
SourceNetwork = Annotated[
    IPv4Network | IPv6Network,
    _reader(parse_network, "a network", "198.51.100.0/24"),
    _string_schema("A network, or a single address."),
]
Mac = Annotated[
    str,
    _reader(_mac, "a MAC address", "02:00:5e:44:07:41"),
    _string_schema("A MAC address in any common spelling."),
]
EndpointField = Annotated[
    tuple[IPv4Address | IPv6Address, int],
    _reader(_endpoint, "an address with a port", "192.0.2.10:3478"),
    _string_schema("An address with a port, such as 192.0.2.10:3478."),
]
ServerField = Annotated[
    tuple[IPv4Address | IPv6Address, int],
    _reader(lambda text: _server(text), "a DNS server's address", "192.0.2.53"),
    _string_schema("A DNS server's address, with its port where that is not 53."),
]
Statuses = Annotated[
    tuple[int, ...],
    PlainValidator(lambda value: _statuses(value)),
    WithJsonSchema(
        {
            "anyOf": [
                {"type": "integer", "minimum": 100, "maximum": 599},
                {"type": "array", "items": {"type": "integer", "minimum": 100, "maximum": 599}, "minItems": 1},
            ]
        }
    ),
]
Pattern = Annotated[
    re.Pattern[str],
    PlainValidator(lambda value: _pattern(value)),
    _string_schema("A regular expression.", format="regex"),
]
DnsName = Annotated[str, _reader(dns_name, "a DNS name", "home.example.net"), _string_schema("A DNS name.")]
PortsField = Annotated[
    Ports,
    PlainValidator(_ports),
    WithJsonSchema(
        {
            "anyOf": [
                {"type": "integer", "minimum": 1, "maximum": 65535},
                {"type": "string", "pattern": "^[0-9]{1,5}-[0-9]{1,5}$"},
            ],
            "description": 'A port, or a range such as "5000-5010".',
        }
    ),
]
BlockedField = Annotated[
    Blocked,
    _reader(_blocked, "a transport with ports", "tcp 25"),
    _string_schema('A transport with a port or range: "tcp 25", "udp 5000-5010", "both 53".'),
]
PoolField = Annotated[
    Pool,
    _reader(_pool, "a DHCP pool", "10.0.0.100-10.0.0.199"),
    _string_schema("First and last address that DHCP gives away, joined by a dash."),
]
LineAddress = Annotated[
    tuple[IPv4Address, ...],
    PlainValidator(_line_address),
    WithJsonSchema(
        {
            "anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}, "minItems": 1}],
            "description": '"dynamic", a fixed public address, or a list of them.',
        }
    ),
]
SecretField = Annotated[
    SecretRef,
    PlainValidator(lambda value: _secret(value)),
    _string_schema("Where the secret stands: env:NAME or file:PATH.", pattern="^(env|file):.+$"),
]
Speaks = Annotated[
    str,
    PlainValidator(_speaks),
    WithJsonSchema({"enum": list(SPEECHES), "description": "The protocol the service speaks."}),
]


def _server(text: str) -> tuple[IPv4Address | IPv6Address, int]:
    try:
        return parse_address(text), 53
    except ValueError:
        return _endpoint(text)


def _statuses(value: Any) -> tuple[int, ...]:
    given = value if isinstance(value, list) else [value]
    if not given or not all(type(one) is int and 100 <= one <= 599 for one in given):
        raise _wrong("a status is a number from 100 to 599, or a list of them")
    return tuple(given)


def _pattern(value: Any) -> re.Pattern[str]:
    try:
        return re.compile(_text(value, "a regular expression"), re.MULTILINE)
    except (re.error, RecursionError, OverflowError) as exc:
        raise _wrong(f"{value!r} is not a regular expression: {exc}") from None


def _secret(value: Any) -> SecretRef:
    try:
        return SecretRef.parse(_text(value, "a secret"))
    except ValueError as exc:
        raise exc if isinstance(exc, PydanticCustomError) else _wrong(str(exc)) from None


class Table(BaseModel):
    """Base of all tables: unknown keys are mistakes, values do not change.

    Building is deferred, so that the whole is built once and not each table for itself: that halves the start.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, arbitrary_types_allowed=True, defer_build=True)


class SiteHead(Table):
    """[site]: what it is called."""

    id: Key | None = None
    title: str | None = None


class Measure(Table):
    """[measure]: the servers outside that may be asked; only what stands here is asked."""

    stun: tuple[EndpointField, ...] = ()
    resolvers: tuple[ServerField, ...] = ()


class Line(Table):
    """[lines.KEY]: a connection to the internet."""

    address: LineAddress = ()
    prefix6: Prefix6 | None = None
    blocked: tuple[BlockedField, ...] = ()


class Form(Table):
    """[gateways.KEY.form]: what the gateway's own pages can do. Left out: the most common page."""

    translate: StrictBool = Field(True, description="The inside port may differ from the outside port.")
    both: StrictBool = Field(True, description="One rule can be for TCP and UDP.")
    ranges: StrictBool = Field(True, description="A rule can be for a range of ports.")
    sources: StrictBool = Field(False, description="A rule can be limited to allowed sources.")
    label_length: Annotated[StrictInt, Field(ge=1, le=255)] = 15


class Gateway(Table):
    """[gateways.KEY]: a box that does NAT."""

    line: Key | None = Field(None, description="The line it is on, for the outermost gateway.")
    behind: Key | None = Field(None, description="The gateway it is behind, for an inner one.")
    wan: Address4 | None = Field(None, description="Its address on the outer side.")
    lan: Lan
    pool: PoolField | None = None
    address6: Address6 | None = None
    prefix6: Prefix6 | None = None
    control: Control = "auto"
    managed_by: Literal["self", "provider"] = "self"
    form: Form = Field(default_factory=Form.model_construct)


class Ready(Table):
    """[hosts.KEY.ready]: what a person has ticked off."""

    default_password_changed: StrictBool | None = None
    second_factor: StrictBool | None = None


class Host(Table):
    """[hosts.KEY]: a device on a network."""

    address: Address4
    address6: Address6 | None = None
    mac: Mac | None = None
    address_from: Literal["device", "reservation", "pool"] = "device"
    behind: Key | None = Field(
        None, description="The gateway whose LAN it is on, where the address alone fits several."
    )
    ready: Ready = Field(default_factory=Ready.model_construct)


class Accepted(Table):
    """[services.KEY.accepted]: a risk that a person takes knowingly, and until when."""

    finding: str
    reason: Annotated[str, Field(min_length=1)]
    until: date


class Service(Table):
    """[services.KEY]: what a host offers."""

    host: Key
    speaks: Speaks = "unknown"
    transport: Transport | None = None
    port: PortsField | None = None
    reach: Reach = "lan"
    outside_port: PortsField | None = None
    sources: tuple[SourceNetwork, ...] = ()
    line: Key | None = None
    name: DnsName | None = None
    path: Annotated[str, Field(pattern=r"^/[^\s]*$")] | None = None
    expect: str | None = Field(None, description="A text that the first page must contain.")
    accepted: Accepted | None = None

    @property
    def speech(self) -> Speech:
        return SPEECHES[self.speaks]

    @property
    def used_transport(self) -> str:
        """tcp, udp or both: as written, else what it speaks."""
        return self.transport or self.speech.transport

    @property
    def used_ports(self) -> Ports:
        """The ports on the host: as written, else the usual one. References have been checked, so there is one."""
        if self.port is not None:
            return self.port
        assert self.speech.port is not None
        return Ports(self.speech.port, self.speech.port)

    @property
    def outside_ports(self) -> Ports:
        """The ports on the public address: as written, else those of the host."""
        return self.outside_port or self.used_ports


class Name(Table):
    """[names."NAME"]: a DNS name for a line."""

    line: Key
    updated_by: str = Field("router", description='One of [updaters], or "router" or "device": then only watched.')


class Request(Table):
    """[updaters.KEY.set] and its like: one HTTP request, with {words} in braces that are filled in."""

    method: Annotated[str, Field(pattern=r"^[A-Z]{3,10}$")] = "GET"
    url: Annotated[str, Field(pattern=r"^https?://[^\s]+$")]
    headers: dict[str, str] = {}
    body: str | None = None


class Meaning(Table):
    """One of an updater's `answers`: what a status, a text or both mean. The first that fits counts."""

    status: Statuses | None = Field(None, description="One status, or a list; left out: any.")
    says: Pattern | None = Field(None, description="A regular expression found in the body; left out: any.")
    means: Literal["done", "unchanged", "wait", "never"]


class Updater(Table):
    """[updaters.KEY]: how a name is changed: by a provider's HTTP requests, or by dynamic update (RFC 2136)."""

    kind: Literal["http", "dns-update"]
    token: SecretField | None = Field(None, description="The password or token; of dns-update the key, in base64.")
    user: str | None = None
    zone: DnsName | None = Field(None, description="The zone; dns-update finds it by itself.")
    ttl: Annotated[StrictInt, Field(ge=1, le=604_800)] = 60
    trust: SecretField | None = Field(None, description="file:PATH of a root certificate for the provider's server.")
    set: Request | None = Field(None, description="http: publishes an address.")
    set_text: Request | None = Field(None, description="http: adds a TXT record, for certificates.")
    clear_text: Request | None = Field(None, description="http: takes that TXT record away.")
    answers: tuple[Meaning, ...] = ()
    server: ServerField | None = Field(None, description="dns-update: the server; else the zone's primary.")
    key: str | None = Field(None, description="dns-update: the name of the TSIG key.")
    algorithm: Literal["hmac-sha256", "hmac-sha384", "hmac-sha512", "hmac-sha224", "hmac-sha1", "hmac-md5"] = (
        "hmac-sha256"
    )

    @property
    def sets_text(self) -> bool:
        """Whether it can publish TXT records, as dns-01 needs."""
        return self.kind == "dns-update" or self.set_text is not None


class Certificate(Table):
    """[certificates.KEY]: a certificate for one or more names."""

    names: Annotated[tuple[DnsName, ...], Field(min_length=1)]
    authority: str = Field("device", description='One of [authorities], or "device": then only watched.')
    services: tuple[Key, ...] = ()
    challenge: Literal["auto", "dns-01", "http-01"] = "auto"
    page_folder: Annotated[str, Field(min_length=1)] | None = Field(
        None, description="http-01: the folder of the web server on this machine that answers at port 80."
    )


class Authority(Table):
    """[authorities.KEY]: a certificate authority that speaks ACME."""

    directory: Annotated[str, Field(pattern=r"^https://[^\s]+$")]
    contact: tuple[str, ...] = ()
    agreed: StrictBool = Field(False, description="You have read and accept its terms of service.")
    binding_id: str | None = Field(None, description="External account binding (RFC 8555 section 7.3.4): the key's id.")
    binding_key: SecretField | None = Field(None, description="The binding's HMAC key, in base64url.")
    trust: SecretField | None = Field(None, description="file:PATH of the authority's own root certificate.")


class Site(Table):
    """The whole site file."""

    version: Literal[1]
    site: SiteHead = Field(default_factory=SiteHead.model_construct)
    measure: Measure = Field(default_factory=Measure.model_construct)
    lines: dict[Key, Line] = {}
    gateways: dict[Key, Gateway] = {}
    hosts: dict[Key, Host] = {}
    services: dict[Key, Service] = {}
    names: dict[DnsName, Name] = {}
    updaters: dict[Key, Updater] = {}
    certificates: dict[Key, Certificate] = {}
    authorities: dict[Key, Authority] = {}


def fields_of(path: tuple[str | int, ...]) -> tuple[str, ...]:
    """The keys that the table at `path` may have; empty where `path` leads to no table."""
    table: Any = Site
    skip_key = False
    for part in path:
        if skip_key:
            skip_key = False
            continue
        if not (isinstance(table, type) and issubclass(table, Table)) or part not in table.model_fields:
            return ()
        annotation = table.model_fields[str(part)].annotation
        options = [annotation, *getattr(annotation, "__args__", ())]
        found = [item for item in options if isinstance(item, type) and issubclass(item, Table)]
        skip_key = getattr(annotation, "__origin__", None) is dict
        table = found[0] if found else None
    return tuple(table.model_fields) if isinstance(table, type) and issubclass(table, Table) else ()
