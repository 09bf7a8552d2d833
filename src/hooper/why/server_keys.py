"""Whether the server of a tunnel has the keys of the site file. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.site.model import Site
from hooper.why.case import Case, Certainty
from hooper.words.said import Said, say


def server_keys(case: Case, untold: Certainty) -> None:
    """A tunnel's server that is silent to the probe: it has another key, or does not know the probe.

    untold: how sure that is where the server told nothing of itself.
    """
    seen, host = case.facts.tunnel, case.site.services[case.facts.service].host
    if seen is None:
        return
    dump = say("on-as-root-wg", host=host, seen=deeds.SEEN(seen.tunnel))
    told: dict[bool | None, Certainty] = {True: "possible", False: "certain", None: untold}
    files = say("writes-its-files-load", make_tunnel=deeds.MAKE_TUNNEL(seen.tunnel), host=host)
    if seen.key is not True:
        message = say("the-server-on-has", host=host, tunnel=seen.tunnel)
        case.cause("tunnel-key-other", told[seen.key], message, files, dump)
    if seen.probe is not True and seen.key is not False:
        message = say("the-server-on-does", host=host, tunnel=seen.tunnel)
        case.cause("tunnel-peer-missing", told[seen.probe], message, files, dump)


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
