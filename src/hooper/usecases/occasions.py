"""What makes things be as a keeper finds them, beside the causes of a diagnosis: the words for each code. Pure."""

from __future__ import annotations

from hooper.why.catalogue import CauseEntry

OCCASIONS: dict[str, CauseEntry] = {
    "peer-still-in": CauseEntry(
        "a peer was revoked, and nobody has said or seen that its server knows",
        "Whoever has its device, or its file, still comes in.",
        "Load the server's new files, or take the peer away on the device's pages; then say that it is done.",
    ),
    "rules-lost": CauseEntry(
        "the router has lost what was entered",
        "From then until it was entered again nothing arrived by these rules. Routers lose them at a restart.",
        "Nothing: a keeper enters them again at once. Rules that are typed on its page survive a restart.",
    ),
    "rule-refused": CauseEntry(
        "a rule is not entered, since something speaks against it",
        "The service cannot be reached from outside by this router.",
        "See what the plan says of the service; correct it, or accept the risk.",
    ),
    "rule-failed": CauseEntry(
        "the router does not take a rule",
        "The service cannot be reached from outside by this router.",
        "Look at the router's table; enter the rule by hand where the router takes it from no program.",
    ),
    "name-lags": CauseEntry(
        "an update was taken, and not every server of the name shows it yet",
        "Some people are led to the old address.",
        "Wait; if it lasts, ask the provider why its servers differ.",
    ),
    "updater-waits": CauseEntry(
        "the name's provider is left alone for now",
        "The name leads elsewhere until it may be asked again.",
        "Wait: it asked for that, or failed several times. It is asked again by itself.",
    ),
    "updater-said-no": CauseEntry(
        "the name's provider refuses for good",
        "The name leads elsewhere until something is corrected.",
        "Correct the user, the secret or the name in the site file; then it is asked again by itself.",
    ),
    "updater-failed": CauseEntry(
        "the update of a name failed",
        "The name leads elsewhere until it succeeds.",
        "Look what it says; it is tried again, later each time.",
    ),
    "certificate-not-shown": CauseEntry(
        "a device shows another certificate than the one that was ordered for it",
        "Browsers warn, or soon will: the one that it shows is not renewed.",
        "Give it to the device; `give_to` or `give_command` in the site file does that from then on.",
    ),
    "certificate-not-given": CauseEntry(
        "a certificate could not be given to the device",
        "The device goes on with the one that it has, which ends.",
        "Correct the folder or the command in the site file.",
    ),
    "device-clock-off": CauseEntry(
        "a device's clock is wrong",
        "Certificates seem to be over or not to have begun, second factors fail, and what it records is misdated.",
        "Set its clock from the network.",
    ),
    "tunnel-files-old": CauseEntry(
        "a tunnel's server does not have the files that were made for it as it is now",
        "Who was added does not come in, and who was taken away still does.",
        "Make its files, and load them there.",
    ),
    "peer-ends-soon": CauseEntry(
        "a peer's time is over within two weeks",
        "It then stands before a closed door, perhaps on a journey.",
        "Give it a later last day, or let it end.",
    ),
    "risk-over": CauseEntry(
        "a risk was accepted until a day that has passed",
        "What it was accepted for is exposed all the same, and nobody has decided so.",
        "Take it away, or decide anew and write a later day.",
    ),
}
OF_NAMES = {  # by what became of the update
    "needed": "name-stale", "pending": "name-lags", "waiting": "updater-waits", "refused": "updater-said-no",
    "failed": "updater-failed", "watched": "name-stale", "updated": "name-lags", "unknown": None, "current": None,
}  # fmt: skip
OF_RULES = {"refused": "rule-refused", "failed": "rule-failed"}
