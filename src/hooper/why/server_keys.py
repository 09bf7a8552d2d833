"""Whether the server of a tunnel has the keys of the site file. Pure."""

from __future__ import annotations

from hooper import deeds
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
