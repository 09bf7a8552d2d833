"""A visit by a browser: where it came from, and what the page in it could tell of the services. Pure."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import ip_network
from typing import TYPE_CHECKING, Any, Literal

from hooper.addresses import IPAddress, classify
from hooper.check.results import Evidence, Result, Verdict
from hooper.planning.access import into_for
from hooper.planning.topology import Topology
from hooper.planning.typed import WEB, Typed, typed
from hooper.site.model import Gateway, Site
from hooper.words.said import NOTHING, Said, say

if TYPE_CHECKING:
    from hooper.check.comparing import InsideMemory
    from hooper.evidence.identity import Identity
    from hooper.store.kept import PageKnown

PATIENCE_MS = 8_000  # that the page waits for each service
# What no browser opens, whoever asks (WHATWG Fetch, "port blocking").
UNOPENED = frozenset({
    1, 7, 9, 11, 13, 15, 17, 19, 20, 21, 22, 23, 25, 37, 42, 43, 53, 69, 77, 79, 87, 95, 101, 102, 103, 104, 109, 110,
    111, 113, 115, 117, 119, 123, 135, 137, 139, 143, 161, 179, 389, 427, 465, 512, 513, 514, 515, 526, 530, 531, 532,
    540, 548, 554, 556, 563, 587, 601, 636, 989, 990, 993, 995, 1719, 1720, 1723, 2049, 3659, 4045, 4190, 5060, 5061,
    6000, 6566, 6665, 6666, 6667, 6668, 6669, 6679, 6697, 10080,
})  # fmt: skip
Came = Literal["outside", "home", "tunnel", "unclear"]


@dataclass(frozen=True, slots=True)
class Visit:
    """A browser that opened the page.

    at: when. address: where it came from. came: from outside, from home, through a tunnel into it, or that cannot be
    told. meaning: in words. browser: what it calls itself. traffic: what that says of a tunnel that is on there; empty:
    the site has none, or it says nothing.
    """

    at: str
    address: str
    came: Came
    meaning: str
    browser: str
    traffic: str = ""


@dataclass(frozen=True, slots=True)
class Try:
    """A service that the page tries.

    link: what a person opens; null: no browser can. urls: what the page loads, by what it is for: tls, plain, picture.
    unopened: why no browser tries it; empty: it does. print: the first and the last signs of its certificate's print,
    for a person to compare; null: none is kept. size: of the picture, in pixels; null: none is kept. title: of its
    page, as it is at home; null: none is kept. vouched: an authority vouches for the certificate that its device is to
    have: any other, its person may have let be, and the browser then loads it too.
    """

    service: str
    transport: str
    port: int
    link: str | None
    urls: Mapping[str, str]
    unopened: str = ""
    print: tuple[str, str] | None = None
    size: tuple[int, int] | None = None
    title: str | None = None
    vouched: bool = False


@dataclass(frozen=True)
class VisitGround:
    """What visits are judged by.

    public: the addresses of the line. looped: where this computer's own visit to the public address came from; None:
    it did not arrive, so that nobody at home arrives either.
    """

    site: Site
    public: Collection[IPAddress]
    looped: IPAddress | None


def judge_visit(ground: VisitGround, source: IPAddress) -> tuple[Came, str]:
    """Where a visit from this address came from, and what that means for the person."""
    site = ground.site
    routers = {address for gateway in site.gateways.values() for address in (gateway.lan.ip, gateway.wan) if address}
    at = next((key for key, one in site.gateways.items() if _on_lan(one, source)), None)
    if any(net is not None and source in net for t in site.tunnels.values() for net in (t.subnet, t.subnet6)):
        return "tunnel", "This device came through the tunnel into the site: that is not the way from outside."
    if source in ground.public:
        return "home", "It came from the line's own public address: this device is still at home, and was led back in."
    if source in routers:
        if ground.looped == source:
            return "unclear", (
                f"It came by the router's own address {source}, as this computer's own visit did: most likely this"
                " device is still at home. If its Wi-Fi is off, that router hides where visitors come from."
            )
        if ground.looped is None:
            return "outside", (
                f"It came by the router's own address {source}: that router hides where visitors come from. Nobody at"
                " home gets here by the public address, so it came from outside."
            )
        return "outside", f"It came by {source}, which is not how visits from home look: that router hides visitors."
    if at is not None:
        return "home", f"It came from {source}, on the network of {at}: this device is still at home."
    if source.version == 6 and not any(gateway.prefix6 for gateway in site.gateways.values()):
        return "unclear", f"It came from {source}; the site file has no prefix6 to tell by whether that is at home."
    kind = classify(source)
    if kind.reachable:
        return "outside", "This device came over the internet."
    if kind.key == "carrier":
        return "outside", (
            "It came from inside the provider's own network, so it is a customer of the same provider. From other"
            " places it may look different."
        )
    return "unclear", f"It came from {source}, which is {kind.meaning}, and is on none of the site's networks."


def _on_lan(gateway: Gateway, source: IPAddress) -> bool:
    if source.version == 6:
        return gateway.prefix6 is not None and source in ip_network(str(gateway.prefix6))
    return source in gateway.lan.network


def traffic_words(ground: VisitGround, came: Came, source: IPAddress) -> str:
    """What the visit says of a tunnel that is on on that device: whether all of its traffic goes by the site."""
    site = ground.site
    ways: dict[bool, list[str]] = {True: [], False: []}
    for key, peer in site.peers.items():
        if peer.revoked is None and peer.device in ("phone", "laptop"):
            ways[into_for(site, peer) == ("everything",)].append(key)
    hosts = {site.services[one.service].host for one in site.tunnels.values() if one.service in site.services}
    servers = {site.devices[host].address for host in hosts if host in site.devices}  # with NAT, peers come by these
    through = came == "tunnel" or (came == "home" and (source in ground.public or source in servers))
    if not any(ways.values()) or not (through or came == "outside"):
        return ""
    planned, others = ways[through], ways[not through]
    text = say("traffic-by-the-site") if through else say("traffic-by-itself", address=str(source))
    text += say("traffic-planned", peers=", ".join(planned)) if planned else NOTHING
    text += say("traffic-not-so" if through else "traffic-all-wanted", peers=", ".join(others)) if others else NOTHING
    return str(text)


def tries(
    topology: Topology, public: Mapping[str, IPAddress], services: Sequence[str], memory: InsideMemory | None = None
) -> list[Try]:
    """What the page tries: the public services that are reached over TCP, at what people type.

    memory: what was seen of them inside, to tell them by.
    """
    out: list[Try] = []
    certificates, authorities = topology.site.certificates, topology.site.authorities
    # of one's own authority a browser that was told to go on shows the same as one that was given the root
    known = {key for key, one in authorities.items() if one.kind == "acme"}
    for key in services:
        entry = topology.site.services[key]
        what = typed(topology, key, public)
        if entry.reach != "public" or what is None:
            continue
        if entry.used_transport not in ("tcp", "both"):
            out.append(Try(key, "udp", what.port, None, {}, "no browser can try UDP"))
        elif what.port in UNOPENED:
            out.append(Try(key, "tcp", what.port, None, {}, f"browsers refuse to open port {what.port}"))
        else:
            inner = key, "tcp", entry.used_ports.first
            inside, page = (memory.inside(*inner), memory.page(*inner)) if memory is not None else (None, None)
            vouched = any(key in one.services and one.authority in known for one in certificates.values())
            made = _try(key, entry.speaks, what, inside.fingerprint if inside is not None else None, page)
            out.append(replace(made, vouched=vouched))
    return out


def _try(key: str, speaks: str, what: Typed, fingerprint: str | None, page: PageKnown | None) -> Try:
    at = f"[{what.host}]:{what.port}" if ":" in what.host else f"{what.host}:{what.port}"
    urls = {"plain": f"http://{at}/"}
    if speaks == "https":
        urls = {"tls": f"https://{at}/", **urls}
    size = None
    if speaks in ("http", "https") and page is not None and page.pictures:
        path, *size = max(page.pictures, key=lambda one: one[1] * one[2])
        urls["picture"] = f"{speaks}://{at}{path}"  # by https it comes once the person has let the certificate be
    link = what.text if speaks in WEB else None
    signs = print_signs(fingerprint) if speaks == "https" and fingerprint is not None else None
    title = page.title if page is not None else None
    return Try(key, "tcp", what.port, link, urls, "", signs, (size[0], size[1]) if size else None, title)


def print_signs(fingerprint: str) -> tuple[str, str]:
    """The first and the last bytes of a print, as browsers write them."""
    digits = fingerprint.removeprefix("sha256:").upper()
    pairs = [digits[at : at + 2] for at in range(0, len(digits), 2)]
    return ":".join(pairs[:4]), ":".join(pairs[-4:])


@dataclass(frozen=True, slots=True)
class PageTold:
    """What the page tells of one URL. loaded: something came that the browser accepts. took_ms: until it knew. size: of
    a picture, in pixels.
    """

    loaded: bool
    took_ms: int
    size: tuple[int, int] | None = None


KINDS = ("tls", "plain", "picture")
SEEN = {  # what a person at the phone is asked, with the words of the buttons: of its certificate, its page, its login
    "print": ("same", "other", "unfound"),
    "page": ("yes", "other", "nothing"),
    "login": ("yes", "no", "untold"),
}


@dataclass(frozen=True)
class PhoneWord:
    """What a phone tells of one service. loads: by what a URL was for. saw: what the person saw, by what was asked, as
    `SEEN`.
    """

    loads: Mapping[str, PageTold] = field(default_factory=dict)
    saw: Mapping[str, str] = field(default_factory=dict)

    def after(self, before: PhoneWord | None) -> PhoneWord:
        """Both words as one; this one is newer."""
        if before is None:
            return self
        return PhoneWord({**before.loads, **self.loads}, {**before.saw, **self.saw})


def read_told(body: Any) -> tuple[str, PhoneWord]:
    """The page's word on one service: its key, and what it tells. Raises: ValueError: it makes no sense."""
    match body:
        case {"service": str(service), **more} if len(service) < 200:
            match more.get("told", {}), more.get("saw", {}):
                case dict(told), dict(saw) if {*told} <= {*KINDS} and all(
                    isinstance(said, str) and said in SEEN.get(asked, ()) for asked, said in saw.items()
                ):
                    return service, PhoneWord({kind: _page_told(one) for kind, one in told.items()}, saw)
    raise ValueError("no such word")


def _page_told(one: Any) -> PageTold:
    match one:
        case {"loaded": bool(loaded), "ms": int(took), **more} if 0 <= took < 600_000:
            match more:
                case {"size": [int(width), int(height)]} if 0 <= width < 100_000 and 0 <= height < 100_000:
                    return PageTold(loaded, took, (width, height))
            return PageTold(loaded, took)
    raise ValueError("no such word")


def judge_told(topology: Topology, one: Try, word: PhoneWord, *, named: bool) -> Result:
    """What a phone could tell of a service, as a result. named: it went by a name, which the certificate is for.

    What a person compared counts for more than what a browser loads, which does not know one device from another.
    """
    found = _of_loads(topology, one, word.loads, named=named)
    match word.saw.get("print"), word.saw.get("page"):
        case "same", _:
            found = replace(browser_result(one, "answered", say("print-same")), identity="proven")
        case "other", _:
            found = replace(browser_result(one, "mismatched", say("print-other")), identity="other")
        case _, "other":
            found = replace(browser_result(one, "mismatched", say("seen-other")), identity="other")
        case _, "yes" if not found.ok:
            found = replace(browser_result(one, "answered", say("seen-page")), identity="kind")
        case _, "nothing" if found.ok:  # its browser loaded something, and its person sees nothing of it
            found = browser_result(one, "unproven", say("seen-nothing-loaded"))
        case _, "nothing":
            found = browser_result(one, "silent", say("seen-nothing"))
    return replace(found, problems=(*found.problems, "no-login")) if word.saw.get("login") == "no" else found


def _of_loads(topology: Topology, one: Try, told: Mapping[str, PageTold], *, named: bool) -> Result:
    service = topology.site.services[one.service]
    picture, tls = told.get("picture"), told.get("tls")
    taken = named and tls is not None and tls.loaded  # its browser takes the certificate for the name
    if picture is not None and picture.loaded and one.size is not None and not taken:
        same = picture.size == one.size
        verdict: Verdict = "answered" if same else "mismatched"
        detail = say("browser-picture-same" if same else "browser-picture-other")
    else:
        verdict, detail = _verdict(service.speaks, told, named=named)
    took = max((word.took_ms for word in told.values()), default=0)
    found = browser_result(one, verdict, detail, took, provable=service.speaks in WEB)
    whose: dict[Verdict, Identity] = {"answered": "kind", "mismatched": "other"}
    return replace(found, identity="proven" if taken and one.vouched else whose.get(verdict, "none"))


def browser_result(one: Try, verdict: Verdict, detail: Said, took_ms: int = 0, *, provable: bool = True) -> Result:
    """A result that a browser gave. It cannot tell one device from another, unless it knows the certificate."""
    return Result(
        service=one.service,
        expected="reachable",
        ok=verdict == "answered",
        verdict=verdict,
        problems=(),
        family="ipv4",
        target_address=None,
        transport=one.transport,
        port=one.port,
        took_ms=took_ms,
        fingerprint=None,
        evidence=Evidence(),
        detail=detail,
        name=None,
        provable=provable,
    )


def _verdict(speaks: str, told: Mapping[str, PageTold], *, named: bool) -> tuple[Verdict, Said]:
    tls, plain = told.get("tls"), told.get("plain")
    slow = all(word.took_ms >= PATIENCE_MS - 500 for word in told.values() if not word.loaded)
    if tls is not None and tls.loaded:
        return "answered", say("browser-loaded-by-name" if named else "browser-loaded-by-address")
    if speaks == "https" and plain is not None and plain.loaded:
        words = say("browser-warned")
        return "connected", words
    if plain is not None and plain.loaded:
        return "connected", say("browser-loaded-something")
    if not told:
        return "unproven", say("browser-told-nothing")
    if slow and speaks in WEB:
        return "silent", say("browser-silent", seconds=PATIENCE_MS // 1000)
    if slow:
        words = say("browser-waited")
        return "unproven", words
    words = say("browser-ended")
    if speaks == "https":
        words = say("browser-ended-warned")
    return "unproven", words
