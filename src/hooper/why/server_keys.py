"""Whether the server of a tunnel has the keys of the site file. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.site.model import Site
from hooper.why.case import Case, Certainty


def server_keys(case: Case, untold: Certainty) -> None:
    """A tunnel's server that is silent to the probe: it has another key, or does not know the probe.

    untold: how sure that is where the server told nothing of itself.
    """
    seen, host = case.facts.tunnel, case.site.services[case.facts.service].host
    if seen is None:
        return
    dump = f"On {host}, as root: wg show all dump > FILE; then `{deeds.SEEN(seen.tunnel)} FILE`."
    told: dict[bool | None, Certainty] = {True: "possible", False: "certain", None: untold}
    files = f"`{deeds.MAKE_TUNNEL(seen.tunnel)}` writes its files; load them on {host}."
    if seen.key is not True:
        message = f"the server on {host} has another key than {seen.tunnel} in the site file"
        case.cause("tunnel-key-other", told[seen.key], message, files, dump)
    if seen.probe is not True and seen.key is not False:
        message = f"the server on {host} does not know the probe of {seen.tunnel}"
        case.cause("tunnel-peer-missing", told[seen.probe], message, files, dump)


def tunnel_by(site: Site, service: str) -> str | None:
    """The tunnel whose server is found by a service; None: it is of none."""
    return next((key for key, tunnel in site.tunnels.items() if service in (tunnel.service, tunnel.also)), None)


def other_server(case: Case, key: str, detail: str) -> None:
    """What answers at the server's own address is not the server that the site file has: another authority or key."""
    tunnel, host = case.site.tunnels[key], case.site.services[case.facts.service].host
    remedy = f"`{deeds.MAKE_TUNNEL(key)}` writes its files; load them on {host}."
    if tunnel.kind == "ssh":
        remedy = f"If {host} was set up anew, `{deeds.RENEW_TUNNEL(key)}` pins its new key; then hand all files anew."
    elif tunnel.made_by == "device":
        remedy = f"If {host} was set up anew, export its files anew, and write its new `public_key`."
    case.cause("tunnel-key-other", "certain", f"{host} does not have the key that {key} has here: {detail}", remedy)
