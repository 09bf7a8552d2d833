"""What a message tells a person to do, named as a deed: the interface puts its own command or option in its place.

f"Enter it by hand, as `{deeds.SHEET(gateway)}` says."
"""

from __future__ import annotations

import re
from collections.abc import Callable
from urllib.parse import quote, unquote

_MARK = re.compile(r"⟦([a-z-]+)((?:\|[^⟧|]*)*)⟧")


class Deed(str):
    """A deed as it stands in a message; called with what it is done to, such as the key of a gateway."""

    __slots__ = ()

    def __new__(cls, name: str) -> Deed:
        return super().__new__(cls, f"⟦{name}⟧")

    def __call__(self, *objects: str) -> str:
        return f"{self[:-1]}{''.join(f'|{quote(word)}' for word in objects)}⟧"


def spelled_out(text: str, spell: Callable[..., str]) -> str:
    """`text` with every deed in it replaced by `spell(deed, *objects)`; what only looks like one is left.

    spell: raises KeyError: there is no such deed.
    """
    if "⟦" not in text:
        return text

    def spelled(match: re.Match[str]) -> str:
        try:
            return spell(Deed(match[1]), *map(unquote, match[2].split("|")[1:]))
        except (KeyError, IndexError):
            return match[0]

    return _MARK.sub(spelled, text)


# What is done with a site.
EXAMPLE = Deed("leave-an-example")
GUIDE = Deed("be-guided")
START = Deed("start-a-site-file")
EDIT = Deed("edit-the-site-file")
UNDO = Deed("take-the-last-edit-back")
SURVEY = Deed("survey-the-line")
PLAN = Deed("see-the-plan")
PIN = Deed("write-down-chosen-ports")
SHEET = Deed("see-the-sheets")
SHEET_DOCUMENT = Deed("write-the-sheets-for-programs")
DEVICE_SHEETS = Deed("see-the-device-sheets")
LETTER = Deed("write-the-letter")
HOSTS_FILE = Deed("write-the-hosts-file")
STAND_IN = Deed("stand-in-for")
COMPARE = Deed("compare-certificates")
KNOW = Deed("know-the-device")
TICK = Deed("tick-off")
SUGGEST = Deed("suggest-addresses")
TICKED = Deed("say-that-a-sheet-is-entered")
FIND = Deed("find-devices")
ADD_SERVICE = Deed("add-a-service")
ADD_FIRST_TUNNEL = Deed("add-the-first-tunnel")
ADD_FIRST_PEER = Deed("add-the-first-peer")
REACH = Deed("let-it-be-reached")
EXPLAIN = Deed("explain-a-code")
KEEP = Deed("keep-it-so")
OPEN = Deed("open-rules")
CLOSE = Deed("close-rules")
CLOSE_LABELLED = Deed("close-labelled-rules")
GIVE_UP = Deed("give-up-a-router")
TABLES = Deed("see-the-routers-tables")
NAMES = Deed("see-the-names")
PUBLISH = Deed("publish-the-names")
CERTIFICATES = Deed("see-the-certificates")
GENERATIONS = Deed("see-earlier-certificates")
ORDER = Deed("order-certificates")
MAKE_CODE = Deed("make-a-login-code")
HANDED_ON = Deed("have-it-handed-on")
JOIN_WITNESS = Deed("join-a-witness")
INVITE = Deed("invite-to-a-witness")
LIST_WITNESSES = Deed("see-the-witnesses")
MEET = Deed("meet-now")
GIVE_CERTIFICATE = Deed("give-a-certificate")
BUNDLE = Deed("bundle-a-certificate")
SECURE = Deed("hand-names-on")
LOOK_AT = Deed("look-at-a-certificate")
MAKE_AUTHORITY = Deed("make-an-own-authority")
TRUST = Deed("see-how-to-trust")
ORDER_ANEW = Deed("order-certificates-anew")
LOOK_FROM_HERE = Deed("look-from-here")
LOOK_FROM_PHONE = Deed("look-from-a-phone")
LOOK_BY_ARRIVAL = Deed("look-by-an-arrival")
LOOK_BY_HOTSPOT = Deed("look-by-a-hotspot")
PACK = Deed("pack-for-a-visit")
VISIT = Deed("look-by-a-pack")
BROUGHT = Deed("take-in-a-result")
CARD = Deed("see-the-card")
WHY = Deed("ask-why")
WHY_PEER = Deed("ask-why-for-a-peer")

TUNNELS = Deed("see-the-tunnels")
SHOW_TUNNEL = Deed("see-a-tunnel")
MAKE_TUNNEL = Deed("make-the-server-files")
RENEW_TUNNEL = Deed("renew-the-server-key")
CHANGE_TUNNEL_KEY = Deed("write-the-server-key-down")
ADD_TUNNEL = Deed("add-a-tunnel")
ADD_TUNNEL_TO = Deed("add-a-tunnel-to")
ADD_RENTED = Deed("add-a-rented-machine")
SEEN = Deed("see-what-the-server-saw")
PROVE = Deed("prove-a-tunnel-there")
SEEN_IN = Deed("see-what-the-server-saw-in-a-file")
PEERS = Deed("see-the-peers")
ADD_PEER = Deed("add-a-peer")
HAND = Deed("hand-a-profile")
MAKE_PUBLIC = Deed("make-a-service-public")
HAND_FILE = Deed("hand-a-profile-as-a-file")
RENEW_PEER = Deed("renew-a-peer")
WRITE_KEY = Deed("write-a-peers-key-down")
WITHOUT_SIX = Deed("take-a-peers-second-address")
MOVE_FROM = Deed("take-over-a-state")
MOVE_ANEW = Deed("be-another-site")
SHUT_OUT = Deed("say-that-a-peer-is-out")
REVOKE = Deed("revoke-a-peer")
CHECK_PROFILE = Deed("check-a-profile")
MEND_PROFILE = Deed("mend-a-profile")
REMOVE_SERVICE = Deed("remove-a-service")

START_FOUND = Deed("start-from-what-is-found")
ADD_GATEWAY = Deed("add-a-gateway")
ADD_HOST = Deed("add-a-host")
ADD_A_SERVICE = Deed("add-a-service-named")
ADD_NAME = Deed("add-a-name")
ADD_UPDATER = Deed("add-an-updater")
ADD_AUTHORITY = Deed("add-an-authority")
ADD_CERTIFICATE = Deed("add-a-certificate")
CHANGE_GATEWAY = Deed("change-a-gateway")
CHANGE_HOST = Deed("change-a-host")
CHANGE_SERVICE = Deed("change-a-service")
TAKE_RISK = Deed("take-a-risk")
OPEN_ON = Deed("open-rules-on")
RENT = Deed("rent-a-machine")
DRILL = Deed("rehearse-a-journey")
CHANGE_PEER = Deed("change-a-peer")
ADD_NOTICE = Deed("add-a-notice")
TELL_SEEN = Deed("tell-what-was-seen")
KEEPER_UNIT = Deed("have-the-keeper-run")

# What is told, or allowed, along with the command that ran.
HTTPS = Deed("by-https")
AT_HOME = Deed("say-who-is-at-home")
ACCOUNTS = Deed("say-until-when-accounts-last")
SECOND_WAY = Deed("say-another-way-in")
GIVE = Deed("give-a-value")
LEAVE_OUT = Deed("leave-a-key-out")
ADOPT = Deed("take-devices-in")
LASTING = Deed("for-so-long")
THE_REST = Deed("only-the-rest")
WITH_QUESTIONS = Deed("with-questions")
TOLD_WAN = Deed("tell-this-wan-address")
SEE_HELP = Deed("see-the-help")
THIS_SITE_FILE = Deed("name-this-site-file")
SITE_FILE = Deed("name-the-site-file")
STATE_FOLDER = Deed("name-the-state-folder")
OUTPUT_FOLDER = Deed("name-the-output-folder")
SHARED_FILES = Deed("allow-shared-secret-files")
WAIT_LONGER = Deed("wait-longer")
WAIT_FOR_NAMES = Deed("wait-longer-for-names")
PROXY_PASSWORD = Deed("give-the-proxy-password")
ACCEPT = Deed("accept-the-risk")
TUNNEL_SERVICE = Deed("name-the-tunnels-service")
TUNNEL_HOST = Deed("name-the-tunnels-host")
PUBLIC_KEY = Deed("give-a-public-key")
FORCE = Deed("replace-a-file")
TAKE_IN = Deed("take-a-file-in")
KEEP_LINE = Deed("keep-a-line")
TAKE_OVER = Deed("take-over")
ASK_AGAIN = Deed("ask-again")
WITH_SERVICES = Deed("with-its-services")
COMPARE_WITH = Deed("compare-with")
PUBLIC_ADDRESS = Deed("tell-the-public-address")
WAN_ADDRESS = Deed("tell-a-wan-address")
WAN_TAKEN_BACK = Deed("take-back-a-wan-address")
RULE_THERE = Deed("tell-that-a-rule-is-there")
RULE_MISSING = Deed("tell-that-a-rule-is-missing")
RULE_TARGET = Deed("tell-where-a-rule-leads")
HOST_ADDRESS = Deed("tell-the-host-address")
FROM_ELSEWHERE = Deed("from-elsewhere")
ENTERED = Deed("say-that-it-is-entered")
FROM_PHONE = Deed("from-a-phone")
PASSPHRASE = Deed("give-the-passphrase")
SWEEP = Deed("sweep")
BETWEEN = Deed("look-between")

# What is done with the lab.
LOAD_TUNNEL = Deed("load-a-tunnel")
RUN_LAB = Deed("run-the-lab")
TYPE_SHEETS = Deed("type-the-sheets")
SET_LINE = Deed("set-the-line")
FAULTS = Deed("see-the-faults")
BREAK = Deed("break")
MEND = Deed("mend")
