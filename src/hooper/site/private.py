"""What of a site tells whose it is. Pure."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from hooper.site.model import Site


def private_words(site: Site) -> set[str]:
    """The names of a site that tell whose it is: its title, its DNS names and their domains, the persons of peers."""
    names = {*site.names, *(service.name for service in site.services.values() if service.name)}
    names.update(name for certificate in site.certificates.values() for name in certificate.names)
    domains = {name.split(".", 1)[1] for name in names if name.count(".") >= 2}
    title = {site.site.title} if site.site.title else set()
    persons = {peer.person for peer in site.peers.values() if peer.person}
    persons |= {account.person for account in site.accounts.values() if account.person}
    return {*names, *domains, *title, *persons}
