"""Who has which login on which device, and what is to be taken away when they go. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from typing import TYPE_CHECKING

from hooper import deeds

if TYPE_CHECKING:
    from hooper.site.account_tables import Account
    from hooper.site.model import Site

NOBODY = "(nobody named)"


@dataclass(frozen=True, slots=True)
class AccountRow:
    """One login. account: its key in the site file. person: who has it. host, user: where, and as whom. rights: as the
    site file has them.

    second_factor: its login asks for one; null: nobody has said. since, until: days; null: not said. leave: what to
    take away when the person goes, one thing each.
    """

    account: str
    person: str
    host: str
    user: str
    rights: tuple[str, ...]
    second_factor: bool | None
    since: str | None
    until: str | None
    leave: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class AccountsDocument:
    """`hooper report --accounts`. accounts: by person, then by device."""

    accounts: tuple[AccountRow, ...]


def account_rows(site: Site) -> tuple[AccountRow, ...]:
    """Every login, by person."""
    rows = [
        AccountRow(key, one.person or NOBODY, one.host, one.user, one.rights, one.second_factor, _day(one.since),
                   _day(one.until), tuple(taken_away(site, key)))
        for key, one in site.accounts.items()
    ]  # fmt: skip
    return tuple(sorted(rows, key=lambda row: (row.person == NOBODY, row.person.lower(), row.host, row.user)))


def _day(day: date | None) -> str | None:
    return str(day) if day is not None else None


def taken_away(site: Site, key: str) -> Iterator[str]:
    """What to do where the login is, and with what else the same person has; it is not asked whether they have more."""
    account = site.accounts[key]
    yield f"on {account.host}: delete the login {account.user}, or give it another password"
    if "administer" in account.rights:
        yield f"on {account.host}: look for keys and other logins that it has made as administrator"
    for peer in peers_of_account(site, account):
        yield f"the tunnel: `{deeds.REVOKE(peer)}`"


def peers_of_account(site: Site, account: Account) -> list[str]:
    """The devices of the same person that come in by a tunnel which ends on that device, or by its login."""
    found = []
    for key, peer in site.peers.items():
        ends_there = site.services[site.tunnels[peer.tunnel].service].host == account.host
        same = peer.person is not None and peer.person == account.person
        if peer.revoked is None and ((ends_there and peer.user == account.user) or (same and ends_there)):
            found.append(key)
    return found
