"""The typed model of the site file (pydantic). One class a table; the guide to the keys is the JSON schema."""

from datetime import date
from functools import cached_property
from ipaddress import IPv4Address
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, StrictBool, StrictInt

from hooper.ports import Ports, single
from hooper.site.account_tables import Account
from hooper.site.certificate_tables import Authority, Certificate
from hooper.site.fields import (
    UPDATER_KINDS,
    Address4,
    Address6,
    AddressFrom,
    AnyAddress,
    BlockedField,
    Control,
    DnsName,
    Duration,
    EndpointField,
    FormWords,
    Key,
    Keys,
    Lan,
    LineAddress,
    Mac,
    Options,
    Pattern,
    PlaceField,
    PoolField,
    PortsField,
    Prefix6,
    QuietHours,
    Reach,
    SecretField,
    ServerField,
    Situation,
    SourceNetwork,
    Speaks,
    Statuses,
    TransportField,
    WanAddresses,
    word_of,
)
from hooper.site.meeting_tables import Meeting
from hooper.site.protocols import SPEECHES, Speech
from hooper.site.table import Table
from hooper.site.tunnel_tables import Peer, Tunnel
from hooper.site.updating import FORMS, FormOfUpdate, TsigAlgorithm
from hooper.site.witness_tables import Witness

VERSION = 1


class SiteHead(Table):
    """[site]: what it is called. title: for people. id: tells sites apart that share a router."""

    id: Key | None = None
    title: str | None = None
    here: Key | None = Field(None, description="The host that Hooper runs on.")


class Echo(Table):
    """One of [measure] echo: a page that answers with the address that it was asked from. url: of the page."""

    url: Annotated[str, Field(pattern=r"^https?://[^\s/]+(/[^\s]*)?$")]
    pattern: Pattern | None = Field(None, description="What finds the address in the answer; else the first one there.")


def _echoes(given: Any) -> Any:
    """URLs by themselves, or tables."""
    return [{"url": one} if isinstance(one, str) else one for one in given] if isinstance(given, list) else given


class Measure(Table):
    """[measure]: the servers outside that may be asked; only what stands here is asked.

    stun: the STUN servers to ask, in their order. resolvers: the DNS servers to compare. echo: pages that answer with
    the address that they were asked from: URLs, or tables with `url` and `pattern`.
    """

    stun: tuple[EndpointField, ...] = ()
    echo: Annotated[tuple[Echo, ...], BeforeValidator(_echoes, json_schema_input_type=tuple[Echo | str, ...])] = ()
    resolvers: tuple[ServerField, ...] = ()
    ntp: tuple[AnyAddress, ...] = Field((), description="Servers of time; left out: the router of this network.")


SourceOfAddress = Literal["router", "stun", "echo", "interface", "name"]
SOURCES: tuple[SourceOfAddress, ...] = ("router", "stun", "echo", "interface", "name")


class Line(Table):
    """[lines.KEY]: a connection to the internet.

    blocked: the ports that the provider blocks. prefix6: the IPv6 prefix that the provider delegates. sources: who is
    believed first about its public address, of those that answer.
    """

    address: LineAddress = ()
    sources: Annotated[tuple[SourceOfAddress, ...], Field(min_length=1)] = SOURCES
    interface: Annotated[str, Field(min_length=1, max_length=63)] | None = Field(
        None, description="The interface of this computer that has the line's address itself."
    )
    prefix6: Prefix6 | None = None
    mtu: Annotated[StrictInt, Field(ge=1280, le=9000)] = Field(
        1500, description="The largest packet that it carries, in bytes: 1492 with PPPoE, 1460 with DS-Lite."
    )
    blocked: tuple[BlockedField, ...] = ()
    situation: Situation = Field("unclear", description="What a survey or the provider says of the line.")


class Form(Table):
    """[gateways.KEY.form]: what the gateway's own pages can do. Left out: the most common page.

    label_length: the most characters that a rule's label may have.
    """

    translate: StrictBool = Field(True, description="The inside port may differ from the outside port.")
    both: StrictBool = Field(True, description="One rule can be for TCP and UDP.")
    ranges: StrictBool = Field(True, description="A rule can be for a range of ports.")
    sources: StrictBool = Field(False, description="A rule can be limited to allowed sources.")
    protocols: StrictBool = Field(False, description="A rule can be for another IP protocol by its number.")
    pinholes: StrictBool = Field(True, description="Its IPv6 firewall can be opened for one host and port.")
    everything: StrictBool = Field(False, description="It can hand all that is not otherwise sent on to one address.")
    reservations: StrictBool = Field(True, description="Its DHCP server can give one device always the same address.")
    hairpin: StrictBool | None = Field(None, description="Devices inside reach the public address.")
    blank_inside_port: StrictBool = Field(False, description="A blank inside port means: the same as outside.")
    rules: Annotated[StrictInt, Field(ge=1)] | None = Field(None, description="How many rules its table holds.")
    own_ports: tuple[BlockedField, ...] = Field((), description="What it keeps for itself on its outer side.")
    outside_interface: FormWords | None = Field(None, description="What its form calls the way to the line.")
    source_zone: FormWords | None = Field(None, description="What its form calls the zone that packets come from.")
    label_length: Annotated[StrictInt, Field(ge=1, le=255)] = 15
    label_letters: Literal["any", "letters-digits"] = Field("any", description="What a label may be made of.")


class Ready(Table):
    """[hosts.KEY.ready]: what a person has ticked off.

    default_password_changed: it no longer has the maker's password. second_factor: it asks for a second factor.
    """

    default_password_changed: StrictBool | None = None
    second_factor: StrictBool | None = None
    tls: StrictBool | None = Field(None, description="Its page and apps use the encrypted kind.")
    updates: StrictBool | None = Field(None, description="Its firmware is current, and it keeps it so.")
    autostart: StrictBool | None = Field(None, description="It comes up by itself after a power cut.")
    clock: StrictBool | None = Field(None, description="Its clock is right, and set from the network.")
    dns: StrictBool | None = Field(None, description="Its gateway and DNS servers are set.")
    base_url: StrictBool | None = Field(None, description="It knows the address by which it is reached from outside.")
    relay_off: StrictBool | None = Field(None, description="Its maker's relay, by which others reach it, is off.")


READY_ITEMS = tuple(Ready.model_fields)


class Host(Table):
    """[hosts.KEY]: a device on a network.

    address6: its IPv6 address. address_from: who gives it its address. mac: its hardware address. ready: what was
    ticked off.
    """

    address: Address4
    address6: Address6 | None = None
    mac: Mac | None = None
    address_from: AddressFrom = "device"
    behind: Key | None = Field(
        None, description="The gateway whose LAN it is on, where the address alone fits several."
    )
    ready: Ready = Field(default_factory=Ready.model_construct)


class Gateway(Table):
    """[gateways.KEY]: a box that does NAT.

    address6: its inner IPv6 address. control: how its rules get there. form: what its page for rules can take.
    managed_by: who may change it. pool: what its DHCP server hands out. prefix6: its inner IPv6 prefix.
    """

    line: Keys = Field((), description="The line it is on, for the outermost gateway; or several.")
    behind: Keys = Field((), description="The gateway it is behind, for an inner one; or several.")
    wan: WanAddresses = Field((), description="Its address on the outer side.")
    wan_from: AddressFrom = Field("device", description="Who gives it that address.")
    mac: Mac | None = Field(None, description="The MAC of its outer side, for a reservation.")
    lan: Lan
    pool: PoolField | None = None
    dns: tuple[AnyAddress, ...] = Field((), description="The DNS servers for its LAN; left out: the gateway itself.")
    address6: Address6 | None = None
    prefix6: Prefix6 | None = None
    control: Control = "auto"
    options: Options = Field({}, description="Of a driver that another package adds: what that asks for.")
    managed_by: Literal["self", "provider"] = "self"
    everything_to: Key | None = Field(None, description="The inner gateway that all else is handed to.")
    tunnel: Key | None = Field(
        None, description="A rented machine: its LAN is this tunnel, by which the site reaches out to it."
    )
    opens_for_others: StrictBool | None = Field(
        None, description="By protocol, one device may open ports for another; left out: not known."
    )
    form: Form = Field(default_factory=Form.model_construct)
    ready: Ready = Field(
        default_factory=Ready.model_construct, description="What was ticked off, where it offers services itself."
    )

    def as_host(self, key: str) -> Host:
        """Itself as a device on its own LAN, where it offers its own services. key: its own."""
        return Host.model_construct(
            address=self.lan.ip, address6=self.address6, address_from="device", behind=key, ready=self.ready
        )

    def wan_behind(self, outer: str) -> IPv4Address | None:
        """Its address on the outer side, seen from the gateway or line `outer`."""
        for key, address in zip(self.behind or self.line, self.wan, strict=False):
            if key == outer:
                return address
        return None


class Accepted(Table):
    """[services.KEY.accepted]: a risk that a person takes knowingly, and until when.

    finding: the code of the finding. reason: why it is taken. until: the day it ends.
    """

    finding: str
    reason: Annotated[str, Field(min_length=1)]
    until: date


def _one_or_more(given: Any) -> Any:
    """A table by itself is a list of one."""
    return [given] if isinstance(given, dict) else given


class Service(Table):
    """[services.KEY]: what a host, or a gateway itself, offers.

    accepted: the risks that were taken. line: the line it is reached over. name: its DNS name. outside_port: the port
    on the public address. path: of the page, for what speaks HTTP. port: on the host. reach: who may use it. sources:
    who may use it from outside; empty means anyone.
    """

    host: Key
    speaks: Speaks = "unknown"
    transport: TransportField | None = None
    port: PortsField | None = None
    reach: Reach = "lan"
    outside_port: PortsField | None = None
    outside_address: Address4 | None = Field(None, description="Which of the line's fixed addresses; else the first.")
    family: Literal["both", "ipv4", "ipv6"] = Field("both", description="IPv6 needs the host's address6.")
    sources: tuple[SourceNetwork, ...] = ()
    line: Key | None = None
    name: DnsName | None = None
    path: Annotated[str, Field(pattern=r"^/[^\s]*$")] | None = None
    expect: str | None = Field(None, description="A text that the first page must contain.")
    hands_to: Key | None = Field(None, description="Of a web server: the service that it hands this name on to.")
    accepted: Annotated[
        tuple[Accepted, ...], BeforeValidator(_one_or_more, json_schema_input_type=Accepted | tuple[Accepted, ...])
    ] = ()

    @cached_property
    def speech(self) -> Speech:
        return SPEECHES[self.speaks]

    @cached_property
    def used_transport(self) -> str:
        """tcp, udp, both, or an IP protocol's number: as written, else what it speaks."""
        return self.transport or self.speech.transport

    @cached_property
    def has_ports(self) -> bool:
        """Whether its transport has ports: TCP and UDP have."""
        return self.used_transport in ("tcp", "udp", "both")

    @cached_property
    def used_ports(self) -> Ports:
        """The ports on the host: as written, else the usual one. References have been checked, so there is one."""
        if self.port is not None:
            return self.port
        assert self.speech.port is not None
        return single(self.speech.port)


class Name(Table):
    """[names."NAME"]: a DNS name for a line."""

    line: Key
    updated_by: str = Field("router", description='One of [updaters], or "router" or "device": then only watched.')
    types: Annotated[tuple[Literal["A", "AAAA"], ...], Field(min_length=1)] = Field(
        ("A",), description="The records that it has; AAAA needs a `host`, or is this computer's."
    )
    host: Key | None = Field(None, description="Whose IPv6 address it has; IPv4 leads to the line.")


class UpdaterRequest(Table):
    """[updaters.KEY.set] and its like: one HTTP request, with {words} in braces that are filled in.

    body: what is sent. headers: further ones. method: of the request. url: where to.
    """

    method: Annotated[str, Field(pattern=r"^[A-Z]{3,10}$")] = "GET"
    url: Annotated[str, Field(pattern=r"^https?://[^\s]+$")]
    headers: dict[str, str] = {}
    body: str | None = None


class Meaning(Table):
    """One of an updater's `answers`: what a status, a text or both mean. The first that fits counts.

    means: what such an answer says.
    """

    status: Statuses | None = Field(None, description="One status, or a list; left out: any.")
    says: Pattern | None = Field(None, description="A regular expression found in the body; left out: any.")
    means: Literal["done", "unchanged", "wait", "never"]


class Updater(Table):
    """[updaters.KEY]: how a name is changed: by a provider's HTTP requests, by dynamic update (RFC 2136), by a command.

    algorithm: of the key that signs updates. answers: what the provider's answers mean. kind: the way in which it
    is told. ttl: of the record, in seconds. user: whom to log in as.
    """

    kind: Annotated[str, word_of("hooper.publishers", *UPDATER_KINDS)]
    token: SecretField | None = Field(None, description="The password or token; of dns-update the key, in base64.")
    user: str | None = None
    zone: DnsName | None = Field(None, description="The zone; dns-update finds it by itself.")
    ttl: Annotated[StrictInt, Field(ge=1, le=604_800)] = 60
    spacing: Duration | None = Field(None, description="The provider wants so long between two updates of a name.")
    refresh: Duration | None = Field(None, description="The provider drops names that were not updated for so long.")
    trust: SecretField | None = Field(None, description="file:PATH of a root certificate for the provider's server.")
    form: FormOfUpdate | None = Field(None, description="http: a form of request that many providers share.")
    url: Annotated[str, Field(pattern=r"^https?://[^\s]+$")] | None = Field(
        None, description="http with `form`: the address in the provider's guide, {words} and all."
    )
    set: UpdaterRequest | None = Field(None, description="http: publishes an address.")
    set_text: UpdaterRequest | None = Field(None, description="http: adds a TXT record, for certificates.")
    clear_text: UpdaterRequest | None = Field(None, description="http: takes that TXT record away.")
    answers: tuple[Meaning, ...] = ()
    server: ServerField | None = Field(None, description="dns-update: the server; else the zone's primary.")
    key: str | None = Field(None, description="dns-update: the name of the TSIG key.")
    algorithm: TsigAlgorithm = "hmac-sha256"
    command: tuple[Annotated[str, Field(min_length=1)], ...] = Field(
        (), description="command: the program and its arguments; it gets the values in its environment."
    )
    time_limit: Duration = Field(30.0, description="command: how long it may take.")
    texts: StrictBool = Field(False, description="command: it sets TXT records too, for certificates.")
    options: Options = Field({}, description="Of a kind that another package adds: what that asks for.")

    @property
    def sets_text(self) -> bool:
        """Whether it can publish TXT records, as dns-01 needs."""
        return self.kind == "dns-update" or self.set_text is not None or (self.kind != "http" and self.texts)

    @property
    def used_set(self) -> UpdaterRequest | None:
        """The request that publishes an address: as written, else of its form."""
        if self.set is not None or self.form is None:
            return self.set
        form = FORMS[self.form]
        return UpdaterRequest(method=form.method, url=f"{self.url}{form.more}", headers=form.headers, body=form.body)

    @property
    def used_answers(self) -> tuple[Meaning, ...]:
        """What answers mean: what is written, then what its form says."""
        if self.form is None:
            return self.answers
        rows = FORMS[self.form].answers
        return (*self.answers, *(Meaning(says=f"(?i){says}", means=means) for says, means in rows))


class Keep(Table):
    """[keep]: what `hooper keep` looks at how often, and from where.

    addresses: how often the public address and the names are looked at. rules: how often the routers' tables are.
    checks: how often the services are. certificates: how often the certificates are. places: where the services are
    looked at from; none: from here.
    """

    addresses: Duration = 60.0
    rules: Duration = 600.0
    checks: Duration = 300.0
    certificates: Duration = 21_600.0
    places: tuple[PlaceField, ...] = ()
    proxy_password: SecretField | None = Field(None, description="The password of the proxies' users.")
    metrics: Annotated[str, Field(min_length=1)] | None = Field(
        None, description="file:PATH for a node collector, or a loopback address such as 127.0.0.1:9475."
    )


NOTICES = ("broken", "mended", "address", "ends-soon")
DEFAULT_NOTICES: tuple[Literal["broken", "mended", "address", "ends-soon"], ...] = NOTICES  # type: ignore[assignment]


class NoticeTo(Table):
    """[notices.KEY]: whom a keeper tells, and of what.

    to: where the address stands that a notice goes to, such as one of mail or of a webhook. about: what is told of.
    quiet: when nothing is sent; it is told of afterwards.
    """

    to: SecretField
    about: tuple[Literal["broken", "mended", "address", "ends-soon"], ...] = DEFAULT_NOTICES
    quiet: QuietHours | None = None
    digest: Duration | None = Field(None, description="Collect for so long, and tell of it at once.")
    masked: StrictBool = Field(False, description="Public addresses, names and MACs are replaced in it.")


class Site(Table):
    """The whole site file.

    authorities: who issues certificates. certificates: what is to be had from them. gateways: the routers. hosts: the
    devices. lines: the internet lines. measure: whom to ask. names: the DNS names. services: what the hosts offer.
    site: what the site is. tunnels: private access. peers: the devices that use it. updaters: who is told of new
    addresses. version: of this format.
    keep: what a keeper does. notices: whom it tells. accounts: who has which login. witnesses: who looks from outside.
    meetings: tunnels of other sites that end here.
    """

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
    tunnels: dict[Key, Tunnel] = {}
    peers: dict[Key, Peer] = {}
    keep: Keep = Field(default_factory=Keep.model_construct)
    notices: dict[Key, NoticeTo] = {}
    accounts: dict[Key, Account] = {}
    witnesses: dict[Key, Witness] = {}
    meetings: dict[Key, Meeting] = {}

    @cached_property
    def devices(self) -> dict[str, Host]:
        """What may offer services: the hosts, and the gateways as their own LAN sees them. A host comes first."""
        return {key: gateway.as_host(key) for key, gateway in self.gateways.items()} | self.hosts

    def entry_of(self, device: str) -> str:
        """The entry of one that offers services: `hosts.film-box`, `gateways.club-router`."""
        return f"{'hosts' if device in self.hosts else 'gateways'}.{device}"


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
