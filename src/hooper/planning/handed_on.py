"""https, the whole of it: what is typed, what the device has to know, and a web server that hands names on. Pure.

The files are those of general-purpose web servers, in their own published formats.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

from hooper import deeds
from hooper.dnsnames import any_stands_for
from hooper.errors import UsageError
from hooper.planning.guide_values import given_as
from hooper.planning.topology import Topology
from hooper.planning.typed import name_for, outside_port, typed
from hooper.site.references import planned_for
from hooper.words.said import Said, say

WebServer = Literal["nginx", "apache", "lighttpd"]
WEB_SERVERS: tuple[WebServer, ...] = ("nginx", "apache", "lighttpd")
HTTPS = 443


@dataclass(frozen=True, slots=True)
class SecureStep:
    """One thing that https needs. code: which. done: it is so; null: nobody has said. text: what to do."""

    code: str
    done: bool | None
    text: Said


class HandedOn(NamedTuple):
    """A service that a web server hands on. name: by which it is asked for. port: at which, outside. url: its own.

    host, inner_port: the same apart. chain, key: the files of its certificate.
    """

    service: str
    name: str
    port: int
    url: str
    host: str
    inner_port: int
    chain: str
    key: str


def url_of(topology: Topology, service: str, listen: int | None) -> tuple[str, str, int]:
    """What is typed for a service; its host and port. listen: of the web server that hands it on; None: none does."""
    name, port = name_for(topology, service) or "NAME", listen or outside_port(topology, service)
    text = typed(topology, service) if listen is None else None
    if text is not None:
        return text.text, text.host, port
    return f"https://{name}{'' if port == HTTPS else f':{port}'}/", name, port


def steps_for(
    topology: Topology, service: str, *, kept: bool, behind: str | None, listen: int | None
) -> Iterator[SecureStep]:
    """What https needs of one service, in the order in which it is done.

    kept: its certificate is there. behind: the address of a web server that is to hand it on; None: the one by which
    the site file has it handed on, or none. listen: its port.
    """
    site = topology.site
    entry = site.services[service]
    if entry.hands_to is not None:
        behind = str(site.devices[entry.host].address)
    device = site.services[entry.hands_to or service].host
    ready = site.devices[device].ready
    url, host, port = url_of(topology, service, listen)
    name, planned = name_for(topology, service), planned_for(site, service)
    if name is None:
        yield SecureStep("name", False, say("secure-name", command=str(deeds.ADD_NAME)))
    if planned is None:
        yield SecureStep("certificate", False, say("secure-certificate", command=str(deeds.ADD_CERTIFICATE)))
    else:
        fits = name is None or any_stands_for(site.certificates[planned].names, name)
        by_device = site.certificates[planned].authority == "device"
        done = None if by_device else kept and fits
        yield SecureStep("certificate", done, say("secure-ordered", certificate=planned, order=deeds.ORDER(planned)))
    if entry.hands_to is None:
        yield SecureStep("tls", ready.tls, say("secure-tls", host=device))
    yield SecureStep("base-url", ready.base_url, say("secure-base-url", host=device, url=url))
    if behind is not None:
        yield SecureStep("trusted-proxy", None, say("secure-trusted-proxy", host=device, address=behind))
        yield SecureStep("websockets", None, say("secure-websockets"))
    yield SecureStep("cookies", None, say("secure-cookies"))
    clear = [key for key in topology.outside_ports if site.services[key].host in (entry.host, device)
             and site.services[key].speaks == "http" and site.services[key].reach == "public"]  # fmt: skip
    said = say("secure-redirect", service=clear[0]) if clear else say("secure-no-redirect")
    yield SecureStep("redirect", not clear, said)
    yield SecureStep("hsts", None, say("secure-hsts"))
    yield SecureStep("app", None, say("secure-app", host=host, port=port, url=url))


def handed_on(
    topology: Topology, services: Sequence[str], files: dict[str, tuple[str, str]], listen: int
) -> list[HandedOn]:
    """The services that one web server tells apart by name. files: chain and key of each. listen: its port, of what the
    site file does not have handed on.

    Raises: UsageError: one has no name, or two have the same.
    """
    found: list[HandedOn] = []
    for key in services:
        entry, name = topology.site.services[key], name_for(topology, key)
        if entry.speaks not in ("http", "https"):
            raise UsageError(
                f"{key} speaks {entry.speaks}, which no web server hands on by name", remedy="Leave it out."
            )
        if name is None:
            raise UsageError(
                f"{key} has no name, by which it could be told from others",
                remedy=f"Have it handed on by the site file, which gives it one: `{deeds.HANDED_ON(key)}`.",
            )
        if (other := next((one for one in found if one.name == name), None)) is not None:
            raise UsageError(
                f"{key} and {other.service} have the same name {name}: a web server tells them apart by name alone",
                remedy=f"Give one of them its own: `{deeds.CHANGE_SERVICE(key)}{given_as(name='NAME')}`.",
            )
        outside = listen if entry.hands_to is None else outside_port(topology, key)
        entry = topology.site.services[entry.hands_to or key]
        address, port = topology.site.devices[entry.host].address, entry.used_ports.first
        found.append(HandedOn(key, name, outside, f"{entry.speaks}://{address}:{port}",
                              str(address), port, *files.get(key, ("CHAIN", "KEY"))))  # fmt: skip
    return found


def config_for(server: WebServer, services: Sequence[HandedOn], listen: int) -> str:
    """The file for one web server. listen: its port. Raises: UsageError: it cannot hand one of them on."""
    parts = {"nginx": _nginx, "apache": _apache, "lighttpd": _lighttpd}[server](services, listen)
    names = ", ".join(f"{one.name} to {one.service}" for one in services)
    return "\n".join([f"# Made by Hooper: hands on by name: {names}", *parts, ""])


def _nginx(services: Sequence[HandedOn], listen: int) -> Iterator[str]:
    yield "map $http_upgrade $hooper_connection { default upgrade; '' close; }  # websockets"
    yield f"server {{ listen {listen} ssl default_server; ssl_reject_handshake on; }}  # other names get nothing"
    for one in services:
        yield "server {"
        yield f"    listen {listen} ssl;"
        yield f"    server_name {one.name};"
        yield f'    ssl_certificate "{one.chain}";'
        yield f'    ssl_certificate_key "{one.key}";'
        yield "    ssl_protocols TLSv1.2 TLSv1.3;"
        yield "    client_max_body_size 0;  # films and backups are large"
        yield "    location / {"
        yield f"        proxy_pass {one.url};"
        yield "        proxy_http_version 1.1;"
        yield "        proxy_set_header Host $http_host;"
        yield "        proxy_set_header X-Forwarded-For $remote_addr;"
        yield "        proxy_set_header X-Forwarded-Proto https;"
        yield "        proxy_set_header X-Forwarded-Host $http_host;"
        yield f"        proxy_set_header X-Forwarded-Port {one.port};"
        yield "        proxy_set_header Upgrade $http_upgrade;"
        yield "        proxy_set_header Connection $hooper_connection;"
        yield f"        proxy_redirect http://{one.name} https://$http_host;"
        yield "        proxy_cookie_flags ~ secure;"
        yield "        proxy_read_timeout 300s;"
        yield "    }"
        yield "}"


def _apache(services: Sequence[HandedOn], listen: int) -> Iterator[str]:
    yield "# needs the modules ssl, proxy, proxy_http, headers"
    yield f"<VirtualHost *:{listen}>  # the first one is for all other names, which get nothing"
    yield "    ServerName none.invalid"
    yield "    SSLEngine on"
    yield f'    SSLCertificateFile "{services[0].chain}"'
    yield f'    SSLCertificateKeyFile "{services[0].key}"'
    yield "    <Location />"
    yield "        Require all denied"
    yield "    </Location>"
    yield "</VirtualHost>"
    for one in services:
        yield f"<VirtualHost *:{listen}>"
        yield f"    ServerName {one.name}"
        yield "    SSLEngine on"
        yield f'    SSLCertificateFile "{one.chain}"'
        yield f'    SSLCertificateKeyFile "{one.key}"'
        yield "    SSLProtocol -all +TLSv1.2 +TLSv1.3"
        if one.url.startswith("https:"):
            yield "    SSLProxyEngine on"
            yield "    SSLProxyVerify none"
            yield "    SSLProxyCheckPeerName off"
        yield "    ProxyPreserveHost On"
        yield "    ProxyAddHeaders Off"
        yield '    RequestHeader set X-Forwarded-For "expr=%{REMOTE_ADDR}"'
        yield '    RequestHeader set X-Forwarded-Proto "https"'
        yield f'    RequestHeader set X-Forwarded-Port "{one.port}"'
        yield f'    ProxyPass "/" "{one.url}/" upgrade=websocket'
        yield f'    ProxyPassReverse "/" "{one.url}/"'
        yield f'    ProxyPassReverse "/" "http://{one.name}/"'
        yield '    Header edit Set-Cookie "(?i)^((?!.*;\\s*secure).*)$" "$1; Secure"'
        yield "</VirtualHost>"


def _lighttpd(services: Sequence[HandedOn], listen: int) -> Iterator[str]:
    if (tls := next((one for one in services if one.url.startswith("https:")), None)) is not None:
        raise UsageError(
            f"lighttpd hands nothing on by TLS, as {tls.service} needs",
            remedy="Take nginx or apache; or name the port where the device speaks http.",
        )
    yield 'server.modules += ("mod_openssl", "mod_proxy", "mod_setenv", "mod_access")'
    yield f'$SERVER["socket"] == ":{listen}" {{'
    yield '    ssl.engine = "enable"'
    yield f'    ssl.pemfile = "{services[0].chain}"'
    yield f'    ssl.privkey = "{services[0].key}"'
    for one in services:
        yield f'    $HTTP["host"] =~ "^{one.name.replace(".", "[.]")}(:[0-9]+)?$" {{'
        yield f'        ssl.pemfile = "{one.chain}"'
        yield f'        ssl.privkey = "{one.key}"'
        yield f'        proxy.server = ("" => (("host" => "{one.host}", "port" => {one.inner_port})))'
        yield '        proxy.header = ("upgrade" => "enable")'
        forwarded = f'"X-Forwarded-Proto" => "https", "X-Forwarded-Port" => "{one.port}"'
        yield f"        setenv.add-request-header = ({forwarded})"
        yield "    }"
    names = "|".join(one.name.replace(".", "[.]") for one in services)
    yield f'    else $HTTP["host"] !~ "^({names})(:[0-9]+)?$" {{ url.access-deny = ("") }}'
    yield "}"


def distinct(services: Iterable[str]) -> tuple[str, ...]:
    """Each once, in their order."""
    return tuple(dict.fromkeys(services))
