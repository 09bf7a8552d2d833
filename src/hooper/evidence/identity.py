"""Whether what answered is the very device that the plan means. Pure.

The rules, in the order in which they count:
- What answered with a secret that it alone can have (a tunnel's handshake, the secret of a stand-in, a line of one's
  own on its page), or with a certificate of an authority for the name that people type, is proven.
- Two observations that contradict each other never pass. Against it speak: a router's table that names another target,
  an inside that refuses or speaks otherwise while the outside answers, a planned MAC that is not at the planned
  address, another key or page than the one that was kept of this device before.
- A key of its own proves a device where it was kept of it before, or where what has the planned address and MAC shows
  it in the same moment, and no other device does: devices of one make may come with one key for all.
- A greeting or a page tells the kind alone: it looks like it, and nothing tells it from another of its make.
- What was not looked at speaks neither for nor against.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.words.said import NOTHING, Said, say

IDENTITY = ("address-taken", "identity-changed")  # the codes of what is wrong, where it is of the device itself
Identity = Literal["proven", "kind", "none", "other"]


@dataclass(frozen=True, slots=True)
class LedTo:
    """Where a router's rule for the service leads, by its table or by what a person read there. at: address and port,
    as ADDRESS:PORT. right: it is as planned. whose: the host of the site that has this address; None: none has. port:
    the address is right, and the port is not. ago: how long ago that was read, of a router that says nothing now; None:
    it was read now.
    """

    gateway: str
    at: str
    right: bool
    whose: str | None = None
    port: bool = False
    ago: Said | None = None


@dataclass(frozen=True, slots=True)
class Signs:
    """What there is to tell one device by another, each None where it was not looked at.

    reached: something answered. other: what answered is not what answers inside. told: it spoke as the service does.
    secret: it has a secret of its own. vouched: an authority vouches for the name that was asked for. key: what
    answered has a key. otherwise: it speaks otherwise than inside in the same moment, such as without encryption.
    same: it is the key that is seen inside, in the same moment. kept: it is the one that was kept of this device.
    page_kept: the title of its page is, where it has no key. shared: the service of another host that shows the
    same key. inside: what the inside says in the same moment. mac: whose MAC has the planned address. mac_at: the
    address at which the planned MAC is instead. rules: where the routers' rules lead.
    """

    reached: bool
    other: bool = False
    told: bool = False
    secret: bool = False
    vouched: bool = False
    key: bool = False
    otherwise: bool = False
    same: bool | None = None
    kept: bool | None = None
    page_kept: bool | None = None
    shared: str | None = None
    inside: Literal["there", "refused", "silent", "nobody"] | None = None
    mac: Literal["planned", "other"] | None = None
    mac_at: str | None = None
    rules: tuple[LedTo, ...] = ()


@dataclass(frozen=True, slots=True)
class Identified:
    """identity: what it comes to. against: what speaks against it, each in its words; empty: nothing does. Where that
    is not enough to say that it is another device, identity is none. code: of what is wrong, where that is of the
    device itself; None: it is not.
    """

    identity: Identity
    against: tuple[Said, ...] = ()
    code: str | None = None


def target_of(told: str) -> tuple[str, str]:
    """The address and the port that a rule is told to name, ADDRESS[:PORT]; an empty port: none is told."""
    address, _, port = told.partition(":")
    return address, port


def identified(signs: Signs) -> Identified:
    """Whose answer it was."""
    if not signs.reached:
        return Identified("none")
    if signs.other:
        return Identified("other")
    if signs.secret or signs.vouched:
        return Identified("proven")
    if signs.otherwise:
        return Identified("other", (say("against-speech"),))
    if signs.mac_at is not None:
        return Identified("other", (say("against-mac-at", at=signs.mac_at),), "address-taken")
    if signs.mac == "other":
        return Identified("other", (say("against-mac"),), "address-taken")
    if signs.inside in ("refused", "nobody"):
        return Identified("other", (say(f"against-inside.{signs.inside}"),))
    led = next((one for one in signs.rules if not one.right), None)
    if led is not None and led.ago is not None:
        return Identified("none", (say("against-rule-before", gateway=led.gateway, at=led.at, ago=led.ago),))
    if led is not None:
        if led.port:
            return Identified("other", (say("against-rule.port", gateway=led.gateway, at=led.at),))
        whose = say("against-rule-of", whose=led.whose) if led.whose is not None else NOTHING
        return Identified("other", (say("against-rule", gateway=led.gateway, at=led.at, whose=whose),))
    own = signs.key and signs.shared is None
    if signs.key and signs.kept is False:  # a device that was set up anew keeps its MAC, and nothing else
        return Identified("none" if signs.mac == "planned" else "other", (say("against-kept"),), "identity-changed")
    if signs.page_kept is False and signs.mac != "planned":
        return Identified("none", (say("against-page"),))
    if own and (signs.kept is True or (signs.same is True and signs.mac == "planned")):
        return Identified("proven")
    if signs.inside == "silent":  # it need not be another one: some networks keep their own devices apart
        return Identified("none", (say("against-inside.silent"),))
    return Identified("kind" if signs.told else "none")
