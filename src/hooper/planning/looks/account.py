"""Findings on logins: more rights than are needed, an end that has come, a tunnel's login that may not come in."""

from __future__ import annotations

from collections.abc import Iterator

from hooper import deeds
from hooper.planning.facts import Facts
from hooper.planning.findings import finds
from hooper.planning.values import Finding


def find(facts: Facts) -> Iterator[Finding]:
    """What stands against each login, and against peers that log in by none of them."""
    site = facts.site
    exposed = {site.services[key].host for key in facts.public}
    for key, account in sorted(site.accounts.items()):
        subject = f"accounts.{key}"
        if account.until is not None and account.until < facts.today:
            yield finds("account-ended", subject, user=account.user, host=account.host, day=account.until)
        if account.needs and "administer" in account.rights and "administer" not in account.needs:
            yield finds("account-too-much", subject, user=account.user, host=account.host, needs=account.needs)
        if account.host in exposed and account.second_factor is False:
            make = deeds.MAKE_CODE(account.host)
            yield finds("account-one-factor", subject, user=account.user, host=account.host, make=make)
    known = {(one.host, one.user): one for one in site.accounts.values()}
    hosts = {one.host for one in site.accounts.values()}
    for key, peer in sorted(site.peers.items()):
        host = site.services[site.tunnels[peer.tunnel].service].host
        if peer.user is None or peer.revoked is not None or host not in hosts:
            continue
        login = known.get((host, peer.user))
        if login is None or "tunnel" not in login.rights:
            yield finds("peer-without-right", f"peers.{key}", peer=key, user=peer.user, host=host)
