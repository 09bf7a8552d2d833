"""Where a profile of any kind leads, against the plan: names, addresses, what a page left to be filled in. Pure."""

from __future__ import annotations

import re

from hooper.addresses import classify, parse_address
from hooper.planning.typed import typed
from hooper.tunnels.look import BaseLook

PLACEHOLDER = re.compile(
    r"[<>{}%$\[\]]|your|example\.(com|org|net)$|^example$|endpoint|placeholder|hostname|change.?me|server.?(name|ip|addr)"
    r"|insert|todo|xxx|^vpn$|^localhost$|my.?(server|vpn|router|domain|ip)|public.?ip|ddns.?name",
    re.IGNORECASE,
)


def endpoint_fault(look: BaseLook, host: str) -> tuple[str, str]:
    """What is wrong with where an endpoint leads; two empty texts: nothing."""
    site = look.site
    try:
        address = parse_address(host)
    except ValueError:
        name = host.lower().rstrip(".")
        known = {*site.names, *(service.name for service in site.services.values() if service.name)}
        if name in known:
            return "", ""
        if not name or PLACEHOLDER.search(name) or "." not in name:
            return "endpoint-placeholder", f"the endpoint {host!r} is what a page puts there until somebody fills it in"
        if known:
            return "endpoint-other", f"the endpoint {host} is no name of this site: it has {', '.join(sorted(known))}"
        return "", ""
    if address.is_unspecified or address.is_loopback:
        return "endpoint-placeholder", f"the endpoint {host} is no address that anybody can go to"
    if not classify(address).reachable and classify(address).key != "documentation":
        return "endpoint-private", f"the endpoint {host} is an address of the inside ({classify(address).meaning})"
    right = typed(look.topology, look.tunnel.service, look.public) if look.tunnel is not None else None
    lines = {one for line in site.lines.values() for one in line.address} | set(look.public.values())
    if right is not None and right.name is not None:
        stale = f", and the line has {', '.join(map(str, lines))} now" if lines and address not in lines else ""
        return "endpoint-by-number", f"the endpoint is the address {host}{stale}; the name follows the line"
    if lines and address not in lines:
        return "endpoint-other", f"the endpoint {host} is not an address of this line"
    return "", ""
