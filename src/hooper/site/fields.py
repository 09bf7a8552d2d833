"""The values that stand in a site file: how people write them, and what they mean (pydantic).

Every field that people write is read by a function below, so that the message names what is allowed.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import time
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, IPv6Network, ip_interface
from typing import Annotated, Any, Literal

from pydantic import WithJsonSchema
from pydantic_core import PydanticCustomError, core_schema

from hooper.added import Group, added_names
from hooper.addresses import parse_address, parse_network, plain_digits
from hooper.chosen import nearest, not_known
from hooper.clock import parse_duration
from hooper.places import Place, PlaceWrong, parse_place
from hooper.ports import Blocked, Ports
from hooper.secret import SecretRef
from hooper.site.protocols import SPEECHES

CONTROLS = ("auto", "igd", "pcp", "natpmp", "hand")
UPDATER_KINDS = ("http", "dns-update", "command")
RESERVED = ("router", "device", "hand", "provider")

Reach = Literal["public", "tunnel", "lan"]
AddressFrom = Literal["device", "reservation", "pool"]
Situation = Literal["public", "one-nat", "several-nats", "carrier-nat", "shared-ports", "no-ipv4", "unclear"]


@dataclass(frozen=True)
class Read:
    """How a field is read, whatever its type says: `function` gives its value or raises ValueError.

    pydantic's own marker for this looks at the function and at the type too, for each of some fifty fields: a tenth
    of what it takes to begin.
    """

    function: Callable[[Any], Any]

    def __get_pydantic_core_schema__(self, _source: Any, _handler: Any) -> core_schema.CoreSchema:
        return core_schema.no_info_plain_validator_function(self.function)


def wrong(message: str) -> PydanticCustomError:
    """A mistake, in words of ours."""
    return PydanticCustomError("hooper", "{message}", {"message": message})


@dataclass(frozen=True)
class Word(Read):
    """One of our own words, or the name of a part that another package adds."""

    own: tuple[str, ...]
    group: Group

    def __get_pydantic_json_schema__(self, _core: Any, _handler: Any) -> dict[str, Any]:
        return {"enum": [*self.own, *added_names(self.group)], "type": "string"}


def word_of(group: Group, *own: str) -> Word:
    """A field that names a part."""

    def validate(value: Any) -> Any:
        if value not in own and value not in (there := (*own, *added_names(group))):
            raise wrong(not_known(value, there))
        return value

    return Word(validate, own, group)


Control = Annotated[str, word_of("hooper.drivers", *CONTROLS)]


def text_in(value: Any, what: str) -> str:
    """A value that has to be text. Raises: PydanticCustomError."""
    if not isinstance(value, str):
        raise wrong(f"{what} is written as text, in quotes")
    return value


def reader(read: Callable[[str], Any], what: str, example: str) -> Read:
    """A validator that reads text by `read` and turns its ValueError into a sentence with an example."""

    def validate(value: Any) -> Any:
        try:
            return read(text_in(value, what))
        except ValueError as exc:
            if isinstance(exc, PydanticCustomError):
                raise
            raise wrong(f"{value!r} is not {what}; write it like {example!r}") from None

    return Read(validate)


def _signable(text: str) -> str:
    try:
        return str(parse_network(text))
    except ValueError:
        return dns_name(text)


def _form_words(text: str) -> str:
    """What a form calls an interface or a zone: nothing that ends a string or a line wherever it is written."""
    if not 1 <= len(text) <= 63 or not all(sign.isalnum() or sign in " ._:@+-()/," for sign in text):
        raise ValueError
    return text


def _address4(text: str) -> IPv4Address:
    address = parse_address(text)
    if not isinstance(address, IPv4Address):
        raise wrong(f"{text!r} is an IPv6 address; this key takes an IPv4 address")
    return address


def _address6(text: str) -> IPv6Address:
    address = parse_address(text)
    if not isinstance(address, IPv6Address):
        raise wrong(f"{text!r} is an IPv4 address; this key takes an IPv6 address")
    return address


def _lan(text: str) -> IPv4Interface:
    if "/" not in text:
        raise wrong(f"{text!r} lacks the length of the prefix; write the gateway's address with it, like '10.0.0.1/24'")
    lan = IPv4Interface(plain_digits(text.strip()))
    if not 8 <= lan.network.prefixlen <= 30:
        raise wrong(f"{text!r}: a LAN has a prefix of /8 to /30")
    if lan.ip in (lan.network.network_address, lan.network.broadcast_address):
        raise wrong(f"{text!r} is the network's own or its broadcast address; the gateway needs a host's address")
    return lan


def _mac(text: str) -> str:
    parts = re.split(r"[:\-]", text.strip().lower())
    if len(parts) == 6 and all(0 < len(part) <= 2 for part in parts):  # some systems leave the zero out: 2:0:5e:44:7:41
        digits = "".join(part.zfill(2) for part in parts)
    else:
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


def _port_range(text: str) -> Ports:
    match = re.fullmatch(r"\s*([0-9]{1,5})\s*-\s*([0-9]{1,5})\s*", text)
    if not match:
        raise ValueError(text)
    first, last = int(match[1]), int(match[2])
    if not 1 <= first <= 65535 or not 1 <= last <= 65535:
        raise wrong(f"{text!r}: ports go from 1 to 65535")
    if first > last:
        raise wrong(f"{text!r}: the range goes backwards; write '{last}-{first}'")
    return Ports(first, last)


def _ports(value: Any) -> Ports:
    if isinstance(value, Ports):
        return value
    if isinstance(value, bool) or not isinstance(value, int | str):
        raise wrong("a port is a number such as 8443, or a range in quotes such as '5000-5010'")
    if isinstance(value, int):
        if not 1 <= value <= 65535:
            raise wrong(f"{value} is not a port: ports go from 1 to 65535")
        return Ports(value, value)
    if value.strip().isdigit():
        raise wrong(f"a single port is a number; write {value.strip()} without the quotes")
    try:
        return _port_range(value)
    except ValueError as exc:
        if isinstance(exc, PydanticCustomError):
            raise
        raise wrong(f"{value!r} is not a port; write a number such as 8443, or a range such as '5000-5010'") from None


def _blocked(text: str) -> Blocked:
    transport, _, ports = text.strip().partition(" ")
    if transport not in ("tcp", "udp", "both") or not ports:
        raise ValueError(text)
    ports = ports.strip()
    return Blocked(transport, _ports(int(ports)) if ports.isascii() and ports.isdigit() else _port_range(ports))


@dataclass(frozen=True)
class Pool:
    """The addresses that a gateway's DHCP server hands out, both ends included."""

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
        raise wrong(f"{text!r}: the pool goes backwards; write '{pool.last}-{pool.first}'")
    return pool


def _transport(value: Any) -> str:
    """tcp, udp, both, or the number of another IP protocol (as text): 47, 50."""
    if value in ("tcp", "udp", "both"):
        return str(value)
    if isinstance(value, str) and re.fullmatch(r"[0-9]{1,3}", value):
        value = int(value)
    if type(value) is not int or not 0 <= value <= 255:
        raise wrong(f"{value!r} is not known; allowed: tcp, udp, both, or an IP protocol's number from 0 to 255")
    if value in (6, 17):
        raise wrong(
            f"{value} is the number of {'TCP' if value == 6 else 'UDP'}; write {'tcp' if value == 6 else 'udp'!r}"
        )
    return str(value)


def _keys(value: Any) -> tuple[str, ...]:
    given = value if isinstance(value, list) else [value]
    keys = tuple(own_key(item) for item in given)
    if not keys or len(set(keys)) < len(keys):
        raise wrong("this is a key, or a list of different ones")
    return keys


def _wan(value: Any) -> tuple[IPv4Address, ...]:
    given = value if isinstance(value, list) else [value]
    try:
        return tuple(_address4(text_in(item, "an address")) for item in given)
    except ValueError as exc:
        if isinstance(exc, PydanticCustomError):
            raise
        raise wrong(f"{value!r} is not an IPv4 address; write it like '192.168.90.2'") from None


def _line_address(value: Any) -> Any:
    if value == "dynamic":
        return ()
    given = value if isinstance(value, list) else [value]
    if not given:
        raise wrong('an address is "dynamic", a fixed address, or a list of them')
    try:
        return tuple(_address4(text_in(item, "an address")) for item in given)
    except ValueError as exc:
        if isinstance(exc, PydanticCustomError):
            raise
        raise wrong(f'{value!r} is neither "dynamic" nor an IPv4 address') from None


def _speaks(value: Any) -> str:
    if not isinstance(value, str) or value not in SPEECHES:
        near = nearest(str(value), SPEECHES)
        hint = f"did you mean {near[0]!r}? " if near else ""
        raise wrong(f"{value!r} is not known; {hint}allowed: {', '.join(SPEECHES)}")
    return value


def own_key(value: Any) -> str:
    """The name of an entry. Raises: PydanticCustomError, which is a ValueError: it cannot be one."""
    text = text_in(value, "a key")
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9_-]{0,62}", text):
        raise wrong(f"{text!r} cannot be a name: letters, digits, - and _, at most 63, starting with a letter or digit")
    if text in RESERVED:
        raise wrong(f"{text!r} is a reserved word; choose another name")
    return text


OWN_KEY = "A key of your own."


def string_schema(description: str, **more: Any) -> WithJsonSchema:
    """The JSON schema of a text."""
    return WithJsonSchema({"type": "string", "description": description, **more})


def text_or_list(description: str) -> WithJsonSchema:
    """The JSON schema of a text, or a list of them."""
    several = {"type": "array", "items": {"type": "string"}, "minItems": 1}
    return WithJsonSchema({"anyOf": [{"type": "string"}, several], "description": description})


Options = dict[str, str]
Key = Annotated[str, Read(own_key), string_schema(OWN_KEY, pattern="^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$")]
Address4 = Annotated[
    IPv4Address,
    reader(_address4, "an IPv4 address", "10.0.0.20"),
    string_schema("An IPv4 address; leading zeros are read as decimal."),
]
Address6 = Annotated[
    IPv6Address, reader(_address6, "an IPv6 address", "2001:db8::20"), string_schema("An IPv6 address.")
]
Lan = Annotated[
    IPv4Interface,
    reader(_lan, "a gateway's LAN address", "10.0.0.1/24"),
    string_schema("The gateway's own LAN address with the length of the prefix, such as 10.0.0.1/24."),
]
Prefix6 = Annotated[
    IPv6Network | IPv6Interface,
    reader(lambda text: ip_interface(text).network, "an IPv6 prefix", "2001:db8:44::/56"),
    string_schema("An IPv6 prefix."),
]
SourceNetwork = Annotated[
    IPv4Network | IPv6Network,
    reader(parse_network, "a network", "198.51.100.0/24"),
    string_schema("A network, or a single address."),
]
Signable = Annotated[
    str,
    reader(lambda text: _signable(text), "a DNS name or a network", "home.arpa"),
    string_schema("A DNS name, with all below it, or a network."),
]
FormWords = Annotated[
    str,
    reader(_form_words, "what a router's form calls it", "wan0"),
    string_schema("Letters, digits, spaces and ._:@+-()/, as a form shows them.", max_length=63),
]
Mac = Annotated[
    str, reader(_mac, "a MAC address", "02:00:5e:44:07:41"), string_schema("A MAC address in any common spelling.")
]
EndpointField = Annotated[
    tuple[IPv4Address | IPv6Address, int],
    reader(_endpoint, "an address with a port", "192.0.2.10:3478"),
    string_schema("An address with a port, such as 192.0.2.10:3478."),
]
ServerField = Annotated[
    tuple[IPv4Address | IPv6Address, int],
    reader(lambda text: _server(text), "a DNS server's address", "192.0.2.53"),
    string_schema("A DNS server's address, with its port where that is not 53."),
]
Statuses = Annotated[
    tuple[int, ...],
    Read(lambda value: _statuses(value)),
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
    re.Pattern[str], Read(lambda value: _pattern(value)), string_schema("A regular expression.", format="regex")
]
DnsName = Annotated[str, reader(dns_name, "a DNS name", "home.example.net"), string_schema("A DNS name.")]
PortsField = Annotated[
    Ports,
    Read(_ports),
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
    reader(_blocked, "a transport with ports", "tcp 25"),
    string_schema('A transport with a port or range: "tcp 25", "udp 5000-5010", "both 53".'),
]
PoolField = Annotated[
    Pool,
    reader(_pool, "a DHCP pool", "10.0.0.100-10.0.0.199"),
    string_schema("First and last address that DHCP hands out, joined by a dash."),
]
LineAddress = Annotated[
    tuple[IPv4Address, ...], Read(_line_address), text_or_list('"dynamic", a fixed public address, or a list of them.')
]
SecretField = Annotated[
    SecretRef,
    Read(lambda value: _secret(value)),
    string_schema("Where the secret stands: env:NAME or file:PATH.", pattern="^(env|file):.+$"),
]
Speaks = Annotated[
    str, Read(_speaks), WithJsonSchema({"enum": list(SPEECHES), "description": "The protocol the service speaks."})
]


Duration = Annotated[
    float,
    Read(lambda value: _duration(value)),
    string_schema("A duration, such as 30s, 5m, 12h or 7d.", pattern="^[0-9]+(ms|s|m|h|d|w)?$"),
]
PlaceField = Annotated[
    Place,
    Read(lambda value: _place(value)),
    string_schema("here, interface, interface:NAME, witness:KEY, or socks5://[USER@]HOST:PORT."),
]
QuietHours = Annotated[
    tuple[time, time],
    reader(lambda text: hours(text), "two times of day", "22:00-07:00"),
    string_schema("Two times of day, in this computer's zone: 22:00-07:00."),
]


def _duration(value: Any) -> float:
    try:
        return parse_duration(text_in(value, "a duration"))
    except ValueError as exc:
        raise exc if isinstance(exc, PydanticCustomError) else wrong(f"{exc}; write 30s, 5m, 12h or 7d") from None


def _place(value: Any) -> Place:
    try:
        return parse_place(text_in(value, "a place"))
    except PlaceWrong as exc:
        raise wrong(f"{exc}. {exc.remedy.format('proxy_password')}") from None


def hours(text: str) -> tuple[time, time]:
    match = re.fullmatch(r"([0-2]?[0-9]:[0-5][0-9])\s*-\s*([0-2]?[0-9]:[0-5][0-9])", text)
    if match is None:
        raise ValueError
    first, last = (time.fromisoformat(part.zfill(5)) for part in match.groups())
    return first, last


def _server(text: str) -> tuple[IPv4Address | IPv6Address, int]:
    try:
        return parse_address(text), 53
    except ValueError:
        return _endpoint(text)


def _statuses(value: Any) -> tuple[int, ...]:
    given = value if isinstance(value, list) else [value]
    if not given or not all(type(status) is int and 100 <= status <= 599 for status in given):
        raise wrong("a status is a number from 100 to 599, or a list of them")
    return tuple(given)


def _pattern(value: Any) -> re.Pattern[str]:
    try:
        return re.compile(text_in(value, "a regular expression"), re.MULTILINE)
    except (re.error, RecursionError, OverflowError) as exc:
        raise wrong(f"{value!r} is not a regular expression: {exc}") from None


def _secret(value: Any) -> SecretRef:
    try:
        return SecretRef.parse(text_in(value, "a secret"))
    except ValueError as exc:
        raise exc if isinstance(exc, PydanticCustomError) else wrong(str(exc)) from None


Keys = Annotated[tuple[str, ...], Read(_keys), text_or_list("A key, or a list of them: the first is tried first.")]
WanAddresses = Annotated[
    tuple[IPv4Address, ...],
    Read(_wan),
    text_or_list("An IPv4 address; with several lines or outer gateways one for each, in their order."),
]
AnyAddress = Annotated[
    IPv4Address | IPv6Address, reader(parse_address, "an address", "192.0.2.53"), string_schema("An IP address.")
]
TransportField = Annotated[
    str,
    Read(_transport),
    WithJsonSchema(
        {
            "anyOf": [{"enum": ["tcp", "udp", "both"]}, {"type": "integer", "minimum": 0, "maximum": 255}],
            "description": "tcp, udp, both, or the number of another IP protocol, such as 47 or 50.",
        }
    ),
]
SourceNetwork4 = Annotated[
    IPv4Network,
    reader(lambda text: IPv4Network(plain_digits(text)), "a network", "10.88.7.0/24"),
    string_schema("An IPv4 network."),
]
