"""The causes that a diagnosis can name, and the faults that a check can see in what answers: what they mean."""

from __future__ import annotations

from typing import NamedTuple


class CauseEntry(NamedTuple):
    """what: in one clause. why: what it does to who wants to get in. do: the remedy in general."""

    what: str
    why: str
    do: str


CAUSES: dict[str, CauseEntry] = {
    "host-off": CauseEntry(
        "the device is switched off, unplugged or asleep",
        "Nobody answers at its address, from inside either.",
        "Switch it on; keep it from sleeping; look at its cable or radio.",
    ),
    "host-moved": CauseEntry(
        "the device has another address than the plan says",
        "The rules lead to an address at which it is not any more, often after DHCP gave it a new one.",
        "Give it its planned address again: a fixed one on the device, or a reservation on the router.",
    ),
    "host-isolated": CauseEntry(
        "the device is kept apart from the network, as on a guest Wi-Fi",
        "It reaches the internet, and nobody reaches it: neither the others at home nor a rule of the router.",
        "Join it to the main network, and give it its planned address there.",
    ),
    "host-filters-strangers": CauseEntry(
        "the device's own firewall lets in its own network only",
        "It answers from inside, and drops what comes from the internet.",
        "Allow the port in its firewall for every source, or for those that the plan names.",
    ),
    "host-filters-all": CauseEntry(
        "the device's own firewall lets nobody in at this port",
        "The device is there, and its port is silent even from inside.",
        "Allow the port in its firewall.",
    ),
    "host-without-way-out": CauseEntry(
        "the device has no gateway, or a wrong one",
        "It answers its own network, but its answers to the internet go nowhere.",
        "Set its gateway to the LAN address of its router.",
    ),
    "service-stopped": CauseEntry(
        "the service does not run, or listens at another port",
        "The device is there and refuses the connection.",
        "Start it, let it start by itself, and compare its port with the plan.",
    ),
    "service-loopback": CauseEntry(
        "the service listens for its own machine alone",
        "On the device itself it works, at localhost; everybody else is refused.",
        "Let it listen at the device's address, or at all addresses, in its settings.",
    ),
    "service-other": CauseEntry(
        "something else answers at the service's port",
        "Another program or device has the port, or the service speaks another protocol than planned.",
        "Find out what listens there; correct the port or what it speaks.",
    ),
    "service-faulty": CauseEntry(
        "the service answers, with a fault",
        "It can be reached, but what it says is not as it should be.",
        "Set it right on the device.",
    ),
    "rule-missing-outer": CauseEntry(
        "the outer router has no rule",
        "What arrives from the internet ends at the provider's box.",
        "Enter the rule there; it leads to the inner router's outside address.",
    ),
    "rule-missing-inner": CauseEntry(
        "the inner router has no rule",
        "The outer router passes it on, and the inner one drops it.",
        "Enter the rule there; it leads to the device.",
    ),
    "rule-off": CauseEntry(
        "a rule is there and switched off",
        "It looks entered, and lets nothing in.",
        "Switch it on in the router's list.",
    ),
    "rule-limited": CauseEntry(
        "a rule is kept to some sources, and the plan names none",
        "A few get in, and all others wait in vain.",
        "Take the sources out of the rule, or write them into the site file.",
    ),
    "rule-wrong-transport": CauseEntry(
        "a rule is for TCP where the service needs UDP, or the other way round",
        "It looks entered, and what the service sends by is dropped.",
        "Correct the rule's transport (protocol).",
    ),
    "rule-ended": CauseEntry(
        "a rule was entered for a time, and that is over",
        "Routers forget such rules by themselves, and when they start anew.",
        "Enter it anew without an end, or let the keeper renew it.",
    ),
    "rule-wrong-interface": CauseEntry(
        "a rule is at another outside interface of the router than the line in use",
        "A router with two lines, or with television beside the internet, has a list for each.",
        "Enter the rule at the interface (WAN, line, connection) by which the internet comes.",
    ),
    "gateway-answers": CauseEntry(
        "a router answers itself at the port, before any rule",
        "Strangers see its own page in place of the service.",
        "Switch remote access off on the router, or give its page another port.",
    ),
    "rule-wrong-port": CauseEntry(
        "a rule leads to another port of the right device",
        "The device refuses, or another of its programs answers.",
        "Correct the rule's inside port.",
    ),
    "rule-wrong-host": CauseEntry(
        "a rule leads to another device",
        "Strangers reach a device that was not meant, and the one that was meant is not reached.",
        "Correct the rule's inside address and port.",
    ),
    "inner-wan-moved": CauseEntry(
        "the inner router has another outside address than the plan says",
        "The outer router's rules lead to an address at which the inner one is not any more.",
        "Fix its outside address, or reserve it on the outer router; then correct the rules.",
    ),
    "transport-unused": CauseEntry(
        "the service answers over one of its two transports only",
        "A rule for the other one leads to nobody.",
        "Write the one that is used for it, or switch the other on in the device.",
    ),
    "open-unplanned": CauseEntry(
        "something answers from outside at the port of a service that is not to be reachable",
        "A rule of another hand, or of an older plan, lets strangers in.",
        "Find the rule with that outside port on each router, and take it away.",
    ),
    "sources-open": CauseEntry(
        "a place answers that is not among the allowed sources",
        "More people get in than the plan says.",
        "Look at the allowed sources of the rule on the router that is to keep them.",
    ),
    "line-down": CauseEntry(
        "the line is down", "Nothing goes out, so nothing comes in.", "Restart the provider's box; ask the provider."
    ),
    "line-not-reached": CauseEntry(
        "nothing arrives at the line's address",
        "Neither this service nor any other of the site answers from outside.",
        "Compare the public address; then ask the provider what it drops.",
    ),
    "port-blocked": CauseEntry(
        "the provider drops this port",
        "Everything is right at home, and the packets do not get there; other ports do.",
        "Use another outside port, and write the blocked one down for the line.",
    ),
    "carrier-nat": CauseEntry(
        "the provider keeps the public address for itself",
        "Many customers share one address, so no rule of yours can be reached.",
        "Ask the provider for a public address, use IPv6, or a tunnel by a machine outside.",
    ),
    "shared-ports": CauseEntry(
        "the provider shares the address among customers, by ports",
        "Only a few outside ports are yours, if any.",
        "Ask for a public address, use IPv6, or a tunnel by a machine outside.",
    ),
    "public-address-wrong": CauseEntry(
        "another address was tried than the line has",
        "Who uses the old number reaches somebody else, or nobody.",
        "Use the line's address of now, or a name that follows it.",
    ),
    "unexplained": CauseEntry(
        "nothing that was looked at explains it",
        "Each link that could be seen is sound, and still it does not answer.",
        "Look from another place, or tell what is marked unknown: each thing that is known leaves fewer causes.",
    ),
    "plan-error": CauseEntry(
        "no rule is planned, since the plan has an error", "Nothing can be entered for it.", "Put the error right."
    ),
    "name-missing": CauseEntry(
        "the name has no address", "Who types it gets nowhere.", "Publish the address under the name."
    ),
    "name-stale": CauseEntry(
        "the name leads to an address that the line had before",
        "Who types the name reaches somebody else, or nobody; the number still works.",
        "Publish the address; look why it was not kept up.",
    ),
    "name-contested": CauseEntry(
        "somebody else writes the name too",
        "The right address is published, and a while later an old one is back.",
        "Find the other updater, on the router, a storage box or an old machine, and switch it off.",
    ),
    "name-other-family": CauseEntry(
        "the name leads over IPv6 to where the service is not",
        "Whoever has IPv6 tries that first, and waits, or meets another device.",
        "Take the AAAA records away, or plan the service over IPv6 at that address.",
    ),
    "resolver-broken": CauseEntry(
        "a resolver says something else than the name's own servers",
        "Who asks that resolver gets nowhere, and who asks another one arrives.",
        "Use another resolver; where it is only late, wait.",
    ),
    "name-has-others": CauseEntry(
        "the name leads to further addresses",
        "Some who type it get to another place, by chance.",
        "Take the other addresses away where the name is kept.",
    ),
    "clear-text": CauseEntry(
        "it speaks in clear text where encryption was meant",
        "Passwords can be read on the way.",
        "Switch encryption on at the device, or correct what it speaks.",
    ),
    "https-needed": CauseEntry(
        "the page wants https at this port", "A browser that is sent there by http sees an error.", "Plan it as https."
    ),
    "https-lost": CauseEntry(
        "the page sends people on to one without encryption",
        "The first page is safe, and the next one is not.",
        "Correct the base URL on the device.",
    ),
    "port-lost": CauseEntry(
        "the page sends people on to its address without the port",
        "The first page opens, and the next one is not found.",
        "Enter the base URL with its port on the device.",
    ),
    "redirect-circle": CauseEntry(
        "the pages send people round in a circle",
        "Browsers give up and say that the page redirects too often.",
        "Look at the device's settings for its address, its base URL and for encryption: two of them disagree.",
    ),
    "inner-address": CauseEntry(
        "the page sends people on to its inner address",
        "It works at home, and from outside the next page does not open.",
        "Enter the name or the public address as base URL on the device.",
    ),
    "service-four-only": CauseEntry(
        "the service listens over IPv4 alone",
        "Whoever has IPv6 tries that first, and is refused.",
        "Let it listen over IPv6 too, or plan it over IPv4 alone and take the AAAA record away.",
    ),
    "host-six-moved": CauseEntry(
        "the device has another IPv6 address than the plan says",
        "The opening leads to nobody; often the provider has changed the prefix.",
        "Give it an address that stays, write it down, and enter the opening anew.",
    ),
    "opening-missing": CauseEntry(
        "the router's firewall for IPv6 has no opening for it",
        "Whoever has IPv6 tries that first, and waits in vain.",
        "Enter the opening of the sheet on the innermost router; look that the device still has that address.",
    ),
    "passive-private": CauseEntry(
        "the file server sends people to its inner address for the files",
        "The greeting comes, and every list and every file hangs.",
        "Enter the public address, or the name, as its address for passive mode.",
    ),
    "no-login": CauseEntry(
        "it lets anybody in without a login",
        "Whoever finds the port has what is behind it.",
        "Set a password on the device, or do not expose it.",
    ),
    "smb-1": CauseEntry(
        "the file server speaks the first version of its protocol alone",
        "That version is full of holes, and newer systems refuse it.",
        "Switch SMB 2 or 3 on in its settings; do not expose it.",
    ),
    "open-resolver": CauseEntry(
        "the name server looks up any name for strangers",
        "It is used to flood others with traffic.",
        "Let it answer its own network only, or its own zone only.",
    ),
    "tls-failed": CauseEntry(
        "the encryption could not be agreed on",
        "Newer browsers and apps refuse what the device offers.",
        "Update the device's software; give it a usual certificate.",
    ),
    "tunnel-key-other": CauseEntry(
        "the tunnel's server has another key than the site file",
        "It answers nobody who takes it for another, and every profile that was handed out is worth nothing.",
        "Load the files that were made from the site file, or write the server's own public key down.",
    ),
    "tunnel-peer-missing": CauseEntry(
        "the tunnel's server does not know the peer",
        "It is silent to everybody whose key is not in its file.",
        "Make its files anew, and load them there.",
    ),
    "peer-ended": CauseEntry(
        "the peer's time is over", "The server's files are made without it.", "Give it a new last day, or let it be."
    ),
    "peer-without-key": CauseEntry(
        "the peer has no key, or it was revoked", "Nobody can come in by it.", "Renew it, and hand it over."
    ),
    "peer-not-granted": CauseEntry(
        "the peer is not to reach this service", "The server refuses it, as it should.", "Add it to what it reaches."
    ),
    "profile-outdated": CauseEntry(
        "the device has another file than the site file would give it",
        "What has changed since, it does not know.",
        "Renew it, and hand it over.",
    ),
    "endpoint-stale": CauseEntry(
        "the device's file leads to where the server is not any more",
        "It knocks at somebody else's door.",
        "Renew it and hand it over; a name that follows the line spares that.",
    ),
    "network-overlap": CauseEntry(
        "the network that the device is in has the same addresses as the one at home",
        "What is meant for home goes to its neighbours there.",
        "Use another network, such as mobile data; later give the LAN a rarer network.",
    ),
    "server-not-forwarding": CauseEntry(
        "the tunnel's server hands nothing on",
        "The tunnel is up, and ends at the server.",
        "Switch forwarding on there, for good.",
    ),
    "no-way-back": CauseEntry(
        "the devices' router does not know where the tunnel's network is",
        "Answers to the peers go out to the internet instead.",
        "Enter the route of the router's sheet, or let the server use its own address for theirs.",
    ),
    "server-rules-old": CauseEntry(
        "the rules on the tunnel's server do not let the peer go there yet",
        "The site file allows it, the server refuses it.",
        "Make its files anew, and load the rules there.",
    ),
    "peer-certificate-ended": CauseEntry(
        "the certificate of the peer has ended",
        "The server refuses one that has ended.",
        "Make it another one, and hand it over.",
    ),
    "tunnel-not-started": CauseEntry(
        "the tunnel is not started on the device",
        "A port of the device leads home only while the program that carries it runs.",
        "Start it, and leave its window open.",
    ),
    "peer-clock": CauseEntry(
        "the device's clock has gone back",
        "The server answers no handshake that is older than the last one.",
        "Set its clock right, from the network.",
    ),
    "asker-inside": CauseEntry(
        "it was tested from the inside",
        "What is at home cannot show how it looks from outside: routers lead it round, or not at all.",
        "Look from the phone's mobile data, a hotspot, or a friend's network.",
    ),
    "asker-no-way": CauseEntry(
        "the place that was to be looked from has no way out",
        "Nothing was sent, so nothing is known.",
        "Connect it, or look from another place.",
    ),
    "asker-tunnel": CauseEntry(
        "it was tested through a VPN",
        "VPNs drop ports of their own, and show another address than the network has.",
        "Switch the VPN off for the test.",
    ),
    "certificate-key-other": CauseEntry(
        "the device's certificate and its key do not belong together",
        "No encryption can be agreed on: browsers show an error and no page.",
        "Give the device both files of the same generation anew.",
    ),
    "certificate-absent": CauseEntry(
        "the device shows a certificate of its own instead of the planned one",
        "Browsers warn, and people learn to click warnings away.",
        "Give the device the certificate that was ordered.",
    ),
    "certificate-expired": CauseEntry("the certificate has ended", "Browsers and apps refuse it.", "Renew it."),
    "certificate-not-yet-valid": CauseEntry(
        "the certificate begins later", "Often the device's clock is wrong.", "Set its clock; look at the certificate."
    ),
    "certificate-other-name": CauseEntry(
        "the certificate is for another name",
        "Browsers warn: it may be another server.",
        "Order one for the name that people type, and give it to the device.",
    ),
    "certificate-untrusted": CauseEntry(
        "nobody whom this site trusts has issued the certificate",
        "Browsers warn; a stranger in between would look the same.",
        "Use one of an authority that devices know, or compare its fingerprint.",
    ),
}
