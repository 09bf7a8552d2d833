"""What may be wished for once something is reached: a name, a certificate, people, a card, a keeper. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.guide_values import Asking, Choice, Doing, Move, SoFar, given_as, yes_or_no
from hooper.words.said import say

if TYPE_CHECKING:
    from hooper.site.model import Site

WISHES = ("name", "certificate", "person", "card", "keeper", "nothing")
FORMS = ("words", "token", "record", "zone", "watch")  # how a name is kept
UPDATER = "name-provider"  # as the site file calls it
SYSTEMS = {"darwin": "launchd", "win32": "windows"}  # what a keeper runs by


def wishes(known: SoFar, site: Site) -> Iterator[Move]:
    """One wish after another, until there is none."""
    reached = [key for key, one in site.services.items() if one.reach == "public" and not one.speech.tunnel]
    pages = [key for key in reached if site.services[key].speaks == "https"]
    certificate = bool(site.names and pages and not site.certificates)
    can = {"name": bool(reached) and not site.names, "certificate": certificate, "person": bool(site.tunnels),
           "card": bool(reached), "keeper": True, "nothing": True}  # fmt: skip
    count = 1
    while (wish := known.answers.get(f"wish {count}")) not in (None, "nothing", "skip", ""):
        yield from _granted(known, site, str(wish), count, reached, pages)
        count += 1
    choices = tuple(Choice(word, say(f"guide.wish.{word}")) for word in WISHES if can[word])
    if wish is None:
        yield Asking(f"wish {count}", say("guide.wish"), say("guide.wish.why"), "nothing", choices)


def _granted(
    known: SoFar, site: Site, wish: str, count: int, reached: Sequence[str], pages: Sequence[str]
) -> Iterator[Move]:
    if wish == "name":
        yield from _name(known, site, reached)
    elif wish == "certificate":
        yield from _certificate(known, site, pages)
    elif wish == "person":
        asked = Asking(f"person {count}", say("guide.peer"), say("guide.peer.why"), reads="key")
        yield from known.ask(asked)
        name = known.said(asked.key)
        if name is not None:
            adding = deeds.ADD_PEER(name) + given_as(tunnel=next(iter(site.tunnels)))
            yield from known.once(Doing(f"add {name}", adding, "edit", say("guide.do.peer", peer=name)))
    elif wish == "card" and reached:
        yield from known.once(Doing(f"card {count}", deeds.CARD(reached[0]), "look", say("guide.do.card")))
    elif wish == "keeper":
        unit = deeds.KEEPER_UNIT(known.system)
        yield from known.once(Doing(f"keeper {count}", unit, "look", say("guide.do.keeper")))


def _name(known: SoFar, site: Site, reached: Sequence[str]) -> Iterator[Move]:
    yield from known.ask(Asking("name", say("guide.name"), say("guide.name.why"), reads="name"))
    name = known.said("name")
    if name is None:
        return
    choices = tuple(Choice(word, say(f"guide.updater.{word}")) for word in FORMS)
    yield from known.ask(Asking("updater", say("guide.updater"), say("guide.updater.why"), "watch", choices))
    form = known.said("updater")
    by = None
    if form is not None and form != "watch":
        yield from _updater(known, form)
        if known.done.get("updater") != 0:
            return  # why was said
        by = UPDATER
    alone = next((one for key in reached if (one := site.services[key]).family == "ipv6"), None)
    if alone is not None and all(site.services[key].family == "ipv6" for key in reached):
        six = given_as(type="AAAA", host=alone.host)  # no IPv4 comes in: the name leads to the device itself
    else:
        six = ""
    adding = deeds.ADD_NAME(name) + given_as(by=by) + six
    yield from known.once(Doing("name", adding, "edit", say("guide.do.add-name")))


def _updater(known: SoFar, form: str) -> Iterator[Move]:
    """Who is told of new addresses; its secret is asked for by the command itself, and not shown."""
    fields = {"words": ("url", "user"), "zone": ("key", "server")}.get(form, ("url",))
    adding = deeds.ADD_UPDATER(UPDATER) + given_as(form=form if form != "zone" else None)
    for field in fields:
        asked = Asking(f"updater {field}", say(f"guide.updater.{field}"), say(f"guide.updater.{field}.why"))
        yield from known.ask(asked)
        adding += given_as(**{field: known.said(asked.key)})
    secret = Asking("updater secret", say("guide.updater.secret"), say("guide.updater.secret.why"))
    yield from known.ask(secret)
    adding += given_as(token=known.said(secret.key))
    yield from known.once(Doing("updater", adding, "edit", say("guide.do.updater")))


def _certificate(known: SoFar, site: Site, pages: Sequence[str]) -> Iterator[Move]:
    yield from known.ask(Asking("authority", say("guide.authority"), say("guide.authority.why")))
    directory = known.said("authority")
    if directory is None:
        return
    for field in ("contact", "trust"):
        yield from known.ask(Asking(field, say(f"guide.{field}"), say(f"guide.{field}.why")))
    agreed = Asking("agreed", say("guide.agreed"), say("guide.agreed.why"), "",
                    yes_or_no("guide.agreed.yes", "guide.skip.means"))  # fmt: skip
    yield from known.ask(agreed)
    if known.said(agreed.key) != "yes":
        return
    contact = known.said("contact")
    own = given_as(directory=directory, agreed="yes", contact=f"mailto:{contact}" if contact else None,
                   trust=known.said("trust"))  # fmt: skip
    adding = deeds.ADD_AUTHORITY("authority") + own
    yield from known.once(Doing("authority", adding, "edit", say("guide.do.authority")))
    if known.done.get("authority") == 0:
        named = "".join(given_as(services=key) for key in pages)
        wanted = deeds.ADD_CERTIFICATE("own") + given_as(names=next(iter(site.names)), authority="authority")
        yield from known.once(Doing("certificate", wanted + named, "edit", say("guide.do.add-certificate")))
