"""The questions by which a site file is started: what is asked, why, and what the answers come to. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from ipaddress import ip_interface

from hooper.chosen import nearest
from hooper.errors import HooperError, SiteFileError, flatten
from hooper.planning.edits import add_host, add_service
from hooper.planning.starting import Start, StartBox, site_text
from hooper.site.load import parse_site
from hooper.site.protocols import SPEECHES

REACHES = ("lan", "tunnel", "public")
YES_NO = ("yes", "no")
MOST = 5  # boxes in a row that are asked for


@dataclass(frozen=True)
class Question:
    """key: of its answer. label: in the review. choices: what may be answered; empty: see whether it makes a site."""

    key: str
    text: str
    label: str
    default: str
    why: str
    choices: tuple[str, ...] = ()


def questions(answers: Mapping[str, str], start: Start) -> Iterator[Question]:
    """What is asked, in a sensible order; later ones depend on earlier answers. start: what options said already."""
    if not start.title:
        yield Question(
            "title", "What is the place called", "the place", "Home", "It stands on sheets and pages, for you alone."
        )
    yield Question(
        "boxes", f"How many routers are between the line and your devices (1 to {MOST})", "routers", "1",
        "The provider's router is one. A router of your own behind it is a second, and then both need rules.",
        tuple(map(str, range(1, MOST + 1))),
    )  # fmt: skip
    for number in range(int(answers.get("boxes", "1"))):
        yield from _of_box(answers, number, start)
    yield from _of_line(start)
    yield from _of_device(answers)


def _of_box(answers: Mapping[str, str], number: int, start: Start) -> Iterator[Question]:
    count, before = int(answers.get("boxes", "1")), answers.get(f"key {number - 1}", "")
    usual = "provider-box" if not number and count > 1 else f"own-router{number if number > 1 else ''}"
    where = "on the line" if not number else f"behind {before}"
    yield Question(
        f"key {number}", f"A short name for the router {where}", f"router {number + 1}", usual,
        "Letters, digits and dashes; everything else speaks of it by this name.",
    )  # fmt: skip
    key = answers.get(f"key {number}", usual)
    usual_lan = "192.168.1.1/24" if not number else f"10.44.{6 + number}.1/24"
    yield Question(
        f"lan {number}", f"The LAN address of {key} with the prefix length", f"{key}, LAN",
        start.seen.lan if start.seen is not None and number == count - 1 else usual_lan,
        "The address at which its own page opens. 255.255.255.0 on that page is /24.",
    )  # fmt: skip
    if number:
        yield Question(
            f"wan {number}", f"The outside address of {key}, as its status page shows it", f"{key}, outside",
            "", f"Its status page calls it WAN or internet address; it is in the LAN of {before}.",
        )  # fmt: skip
    yield Question(
        f"pool {number}", f"What the DHCP of {key} hands out, FIRST-LAST (Enter: not known)", f"{key}, DHCP", "",
        "Devices that are reached from outside need addresses outside it, or reservations.",
    )  # fmt: skip
    yield Question(
        f"programs {number}", f"Does {key} take rules from programs: yes, no, or unsure", f"{key}, programs", "unsure",
        "UPnP on its page. Where it does, Hooper can enter the rules itself; else there is a sheet to enter by hand.",
        ("yes", "no", "unsure"),
    )  # fmt: skip
    yield Question(
        f"theirs {number}", f"Is {key} the provider's router: yes or no", f"{key}, provider's",
        "yes" if not number and count > 1 else "no",
        "What only the provider can change there is written into a letter to them.", YES_NO,
    )  # fmt: skip


def _of_line(start: Start) -> Iterator[Question]:
    if start.address == "dynamic":
        yield Question(
            "address", "The line's fixed public address (Enter: it changes)", "public address", "dynamic",
            "Only if the provider has promised one. Else a dynamic name follows it.",
        )  # fmt: skip
    if not start.blocked:
        yield Question(
            "blocked", 'Ports that the provider drops, such as "tcp 25, tcp 80" (Enter: none known)', "dropped ports",
            "", "Nothing can be reached from outside at those; many drop tcp 25, some tcp 80.",
        )  # fmt: skip
    if not start.stun:
        yield Question(
            "stun", "A STUN server, ADDRESS:PORT (Enter: none; the routers are asked)", "STUN server", "",
            "Not needed: the routers tell the public address. A STUN server is a second opinion, from outside. Your"
            " provider's page on internet telephony names one; nobody is asked that is not named.",
        )  # fmt: skip
    if not start.name:
        yield Question(
            "name", "A DNS name that leads to the line (Enter: none yet)", "name", "",
            "What is typed outside in place of the number, such as boathouse.heronquay.example.",
        )  # fmt: skip


def _of_device(answers: Mapping[str, str]) -> Iterator[Question]:
    yield Question(
        "host", "A short name for a first device (Enter: none yet)", "device", "",
        "A camera, a storage box, a desktop: what is to be reached.",
    )  # fmt: skip
    host = answers.get("host", "")
    if not host:
        return
    yield Question(
        "host address", f"The address of {host} (Enter: the first free one)", f"{host}, address", "",
        "Its own page or the router's list of devices shows it.",
    )  # fmt: skip
    yield Question(
        "speaks", f"What {host} offers, such as https, ssh, rtsp, rdp (Enter: nothing yet)", f"{host}, offers", "",
        f"One of: {', '.join(SPEECHES)}. unknown stands for a maker's own protocol.", ("", *SPEECHES),
    )  # fmt: skip
    if answers.get("speaks"):
        yield Question(
            "reach", "Who is to reach it: lan, tunnel or public", "who reaches it", "lan",
            "lan: nobody outside. tunnel: those who are let into a tunnel. public: the whole internet, by a rule.",
            REACHES,
        )  # fmt: skip


def wrong_answer(question: Question, answer: str, answers: Mapping[str, str], start: Start) -> str | None:
    """Why an answer cannot be; None: it can."""
    if question.choices:
        if answer in question.choices:
            return None
        near = nearest(answer, question.choices)
        hint = f"did you mean {near[0]}? " if near else ""
        return f"{answer!r}: {hint}one of {', '.join(filter(None, question.choices))}"
    return problem({**answers, question.key: answer}, start)


def problem(answers: Mapping[str, str], start: Start) -> str | None:
    """Why the answers so far make no site; None: they do."""
    try:
        text_of(answers, start)
    except HooperError as exc:
        return "; ".join(error.bare if isinstance(error, SiteFileError) else error.message for error in flatten(exc))
    return None


def text_of(answers: Mapping[str, str], start: Start) -> str:
    """The site file that the answers so far make. Raises: SiteFileError, SeveralErrors, UsageError."""
    boxes: list[StartBox] = []
    for number in range(MOST):
        if f"key {number}" not in answers:
            break
        said = {word: answers.get(f"{word} {number}", "") for word in ("wan", "pool", "programs", "theirs")}
        if number and f"wan {number}" not in answers:  # until it is asked
            said["wan"] = _somewhere_in(boxes[-1].lan)
        lan = answers.get(f"lan {number}", f"10.254.{number}.1/24")
        boxes.append(
            StartBox(
                answers[f"key {number}"],
                lan,
                said["wan"],
                said["pool"],
                "hand" if said["programs"] == "no" else "auto",
                "provider" if said["theirs"] == "yes" else "self",
                prefix6=start.seen.prefix6 if start.seen is not None and lan == start.seen.lan else "",
            )
        )
    made = replace(
        start,
        title=start.title or answers.get("title", ""),
        boxes=(*start.boxes, *boxes),
        address=answers.get("address", start.address),
        blocked=start.blocked or listed(answers.get("blocked", "")),
        stun=start.stun or listed(answers.get("stun", "")),
        name=start.name or answers.get("name", ""),
    )
    text = site_text(made)
    file = parse_site(text.encode(), "new")
    host = answers.get("host")
    if host:
        address = answers.get("host address")
        text = add_host(file, host, {"address": address} if address else {}).text
        file = parse_site(text.encode(), "new")
    if host and answers.get("speaks"):
        rows = {"host": host, "speaks": answers["speaks"], "reach": answers.get("reach", "lan")}
        text = add_service(file, f"{host}-{answers['speaks']}", rows).text
        parse_site(text.encode(), "new")
    return text


def _somewhere_in(lan: str) -> str:
    own = ip_interface(lan)
    return str(next(address for address in own.network.hosts() if address != own.ip))


def listed(text: str) -> tuple[str, ...]:
    """What stands between commas."""
    return tuple(part.strip() for part in text.split(",") if part.strip())
