"""A server of a tunnel that is not the one of the site file. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.site.model import Site
from hooper.why.case import Case
from hooper.words.said import Said, say


def tunnel_by(site: Site, service: str) -> str | None:
    """The tunnel whose server is found by a service; None: it is of none."""
    return next((key for key, tunnel in site.tunnels.items() if service in (tunnel.service, tunnel.also)), None)


def other_server(case: Case, key: str, detail: Said) -> None:
    """What answers at the server's own address is not the server that the site file has: another authority or key."""
    tunnel, host = case.site.tunnels[key], case.site.services[case.facts.service].host
    remedy = say("writes-its-files-load", make_tunnel=deeds.MAKE_TUNNEL(key), host=host)
    if tunnel.of.seen_key:
        remedy = say("if-was-set-up", host=host, renew_tunnel=deeds.RENEW_TUNNEL(key))
    elif tunnel.made_by == "device":
        remedy = say("if-was-set-up-anew", host=host)
    case.cause("tunnel-key-other", "certain", say("tunnel-key-other.says", host=host, key=key, detail=detail), remedy)
