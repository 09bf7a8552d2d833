"""How the deeds that messages name are done here: by which command, by which option."""

from __future__ import annotations

import shlex

from hooper import deeds
from hooper.deeds import Deed

# What it is done to is added to a command, or stands where an option has {}.
COMMANDS: dict[Deed, str] = {
    deeds.EXAMPLE: "demo --out DIR",
    deeds.START: "new",
    deeds.SURVEY: "survey",
    deeds.PLAN: "plan",
    deeds.PIN: "plan --pin",
    deeds.SHEET: "worksheet",
    deeds.SHEET_DOCUMENT: "worksheet --json",
    deeds.DEVICE_SHEETS: "worksheet --devices",
    deeds.LETTER: "worksheet --letter",
    deeds.HOSTS_FILE: "worksheet --clients",
    deeds.TICK: "host tick",
    deeds.OPEN: "router open",
    deeds.CLOSE: "router close",
    deeds.CLOSE_LABELLED: "router close --labelled",
    deeds.GIVE_UP: "router close --given-up",
    deeds.TABLES: "router list",
    deeds.NAMES: "name list",
    deeds.PUBLISH: "name update",
    deeds.CERTIFICATES: "cert list",
    deeds.GENERATIONS: "cert list --all",
    deeds.ORDER: "cert order",
    deeds.ORDER_ANEW: "cert order --again",
    deeds.LOOK_FROM_HERE: "check --from here",
    deeds.LOOK_FROM_PHONE: "check --from interface",
    deeds.LOOK_BY_ARRIVAL: "check --arrival",
    deeds.LOOK_BY_HOTSPOT: "check --from hotspot",
    deeds.PACK: "check --pack FILE",
    deeds.VISIT: "check --visit FILE",
    deeds.BROUGHT: "check --brought FILE",
    deeds.CARD: "card",
    deeds.WHY: "why",
    deeds.WHY_PEER: "why film-shell --peer PEER",
    deeds.TUNNELS: "tunnel list",
    deeds.SHOW_TUNNEL: "tunnel show",
    deeds.MAKE_TUNNEL: "tunnel make",
    deeds.RENEW_TUNNEL: "tunnel renew",
    deeds.CHANGE_TUNNEL_KEY: "tunnel change {0} --public-key KEY",
    deeds.ADD_TUNNEL: "tunnel add",
    deeds.ADD_RENTED: "tunnel rent detour --address ADDRESS --host HOST",
    deeds.SEEN: "tunnel seen",
    deeds.PEERS: "peer list",
    deeds.ADD_PEER: "peer add",
    deeds.HAND: "peer hand",
    deeds.MAKE_PUBLIC: "service change {0} --reach public",
    deeds.HAND_FILE: "peer hand {0} --out {1}",
    deeds.RENEW_PEER: "peer renew",
    deeds.WRITE_KEY: "peer renew {0} --public-key KEY",
    deeds.WITHOUT_SIX: "peer change {} --clear address6",
    deeds.MOVE_FROM: "move --from",
    deeds.MOVE_ANEW: "move --anew",
    deeds.SHUT_OUT: "peer revoke {} --done",
    deeds.REVOKE: "peer revoke",
    deeds.CHECK_PROFILE: "profile check",
    deeds.MEND_PROFILE: "profile mend",
    deeds.REMOVE_SERVICE: "service remove",
    deeds.RUN_LAB: "lab run",
    deeds.LOAD_TUNNEL: "lab load",
    deeds.TYPE_SHEETS: "worksheet --json | hooper lab type -",
    deeds.SET_LINE: "lab line",
    deeds.FAULTS: "lab faults",
    deeds.BREAK: "lab break",
    deeds.MEND: "lab mend",
}
OPTIONS: dict[Deed, str] = {
    deeds.TUNNEL_SERVICE: "--service SERVICE",
    deeds.TUNNEL_HOST: "--host HOST",
    deeds.PUBLIC_KEY: "--public-key",
    deeds.SEE_HELP: "--help",
    deeds.SITE_FILE: "--site FILE",
    deeds.THIS_SITE_FILE: "--site {}",
    deeds.STATE_FOLDER: "--state DIR",
    deeds.OUTPUT_FOLDER: "--out",
    deeds.SHARED_FILES: "--insecure-files",
    deeds.WAIT_LONGER: "--deadline",
    deeds.WAIT_FOR_NAMES: "--patience",
    deeds.PROXY_PASSWORD: "--proxy-password env:NAME or file:PATH",
    deeds.ACCEPT: "--accept REASON",
    deeds.FORCE: "--force",
    deeds.TAKE_IN: "--take-in {}",
    deeds.KEEP_LINE: "--keep {}",
    deeds.TAKE_OVER: "--take-over",
    deeds.ASK_AGAIN: "--again",
    deeds.WITH_SERVICES: "--with-services",
    deeds.COMPARE_WITH: "--against GATEWAY={}",
    deeds.PUBLIC_ADDRESS: "--public ADDRESS",
    deeds.WAN_ADDRESS: "--wan {}=ADDRESS",
    deeds.WAN_TAKEN_BACK: "--wan {}=",
    deeds.RULE_THERE: "--rule {}=there",
    deeds.RULE_MISSING: "--rule {}=missing",
    deeds.RULE_TARGET: "--rule {}=ADDRESS",
    deeds.HOST_ADDRESS: "--at ADDRESS",
    deeds.FROM_ELSEWHERE: "--from",
    deeds.ENTERED: "--entered",
    deeds.FROM_PHONE: "--from interface",
    deeds.SWEEP: "--sweep",
    deeds.BETWEEN: "--between",
}


def _spell(deed: Deed, *objects: str) -> str:
    objects = tuple(map(shlex.quote, objects))  # a name or a path may hold what a shell takes for its own
    if deed in COMMANDS:
        command = COMMANDS[deed]
        return f"hooper {command.format(*objects)}" if "{" in command else " ".join(("hooper", command, *objects))
    return OPTIONS[deed].format(*objects)


def spelled(text: str) -> str:
    """`text` with every deed as the command or the option that does it."""
    return deeds.spelled_out(text, _spell)


def commands_in(text: str) -> list[str]:
    """The commands that a text names between backticks, each once and without the program's name."""
    named = (part.removeprefix("hooper ") for part in spelled(text).split("`")[1::2] if part.startswith("hooper "))
    return list(dict.fromkeys(named))
