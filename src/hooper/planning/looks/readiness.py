"""Findings on devices that are exposed before they are ready: what a person has ticked off, or said is not so."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hooper import deeds
from hooper.planning.facts import Facts
from hooper.planning.findings import CatalogueEntry, finding, group, register
from hooper.planning.values import Finding

ENTRIES = register(
    CatalogueEntry(
        "default-password",
        "readiness",
        "warning",
        "nobody has said that the device's default password is changed",
        "Default passwords are public, and are tried within minutes.",
        f"Change it, then tick it off: `{deeds.TICK}`.",
        acceptable=True,
        gate=True,
    ),
    *group(
        "readiness",
        (
            "no-second-factor",
            "note",
            "a login from anywhere without a second factor",
            "One lost password is then enough.",
            "Switch it on, if the device can.",
        ),
        (
            "no-tls",
            "warning",
            "the device's encryption is known to be off",
            "Passwords travel in clear text.",
            "Switch TLS on in the device's settings.",
        ),
        (
            "no-updates",
            "warning",
            "the device's firmware is known to be old",
            "Known holes are tried on every address of the internet.",
            "Update it, and have it look for updates by itself.",
        ),
        (
            "no-autostart",
            "note",
            "the device does not come up by itself after a power cut",
            "It is gone just when nobody is there.",
            "Switch it on in the device's power settings.",
        ),
        (
            "clock-wrong",
            "warning",
            "the device's clock is known to be wrong",
            "Certificates and second factors fail, and films carry the wrong time.",
            "Set its time zone and a time server.",
        ),
        (
            "dns-wrong",
            "warning",
            "the device's DNS or gateway setting is known to be wrong",
            "It answers inside, but not to the world, and cannot update itself.",
            "Enter the gateway and DNS servers of its sheet.",
        ),
        (
            "base-url-wrong",
            "note",
            "the device does not know its address outside",
            "Links that it makes lead to its inner address.",
            "Enter the base URL of its sheet.",
        ),
    ),
)


class Item(NamedTuple):
    """One line of a device's list. question: as a person ticks it off. code: of the finding, where it is not so."""

    key: str
    question: str
    code: str
    message: str
    remedy: str


ITEMS: tuple[Item, ...] = (
    Item(
        "default_password_changed",
        "The default password is changed, for every account.",
        "default-password",
        "nobody has said that its default password is changed",
        "Change it",
    ),
    Item(
        "second_factor",
        "A second factor is asked for at login, where the device can.",
        "no-second-factor",
        "its login asks for no second factor",
        "Switch it on in the device's account settings",
    ),
    Item("tls", "The encrypted kind is switched on (HTTPS, TLS).", "no-tls", "its encryption is off", "Switch TLS on"),
    Item(
        "updates",
        "The firmware is current, and updates are looked for.",
        "no-updates",
        "its firmware is old",
        "Update it, and have it look for updates",
    ),
    Item(
        "autostart",
        "It comes up by itself after a power cut.",
        "no-autostart",
        "it does not come up by itself after a power cut",
        "Switch that on in its power settings",
    ),
    Item(
        "clock",
        "Its clock and time zone are right, and set from the network.",
        "clock-wrong",
        "its clock is wrong",
        "Set its time zone and a time server",
    ),
    Item(
        "dns",
        "Its gateway and both DNS servers are those of its sheet.",
        "dns-wrong",
        "its gateway or DNS setting is wrong",
        f"Enter those of its sheet (`{deeds.DEVICE_SHEETS}`)",
    ),
    Item(
        "base_url",
        "Its base or external URL is that of its sheet, with the port.",
        "base-url-wrong",
        "it does not know its address outside",
        f"Enter the base URL of its sheet (`{deeds.DEVICE_SHEETS}`)",
    ),
)
SILENT_IS_FINE = ("wireguard", "openvpn", "ike", "ipsec-nat", "esp")  # no login with a password


def find(facts: Facts) -> Iterator[Finding]:
    """What stands against exposing each public service. What nobody has said is only asked of the password."""
    for key in facts.public:
        service = facts.site.services[key]
        ready = facts.site.devices[service.host].ready
        for item in ITEMS:
            said = getattr(ready, item.key)
            asked = item.key == "default_password_changed" and service.speaks not in SILENT_IS_FINE
            if said is False or (said is None and asked):
                yield finding(
                    item.code,
                    f"services.{key}",
                    f"{service.host}: {item.message}",
                    f"{item.remedy}, then tick it off: `{deeds.TICK(service.host, item.key)}`.",
                )
