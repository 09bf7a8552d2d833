"""The page of sheets: boxes that can be ticked, links, whole values, words for screen readers."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path

import pytest

from support.program import BOATHOUSE, Lab, hooper


class Page(HTMLParser):
    """What stands in a page: the texts of its elements, its boxes, its links."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.texts: list[tuple[str, str]] = []
        self.boxes: list[dict[str, str | None]] = []
        self.links: list[str] = []
        self.labelled = 0
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in ("meta", "input", "circle", "rect", "path"):
            if tag == "input":
                self.boxes.append(dict(attrs))
                self.labelled += "label" in self.open or "aria-label" in dict(attrs)
            return
        self.open.append(tag)
        if tag == "a":
            self.links.append(str(dict(attrs)["href"]))

    def handle_endtag(self, tag: str) -> None:
        if tag not in ("circle", "rect", "path"):
            assert self.open.pop() == tag, f"</{tag}> ends what is not open"

    def handle_data(self, data: str) -> None:
        if data.strip() and self.open:
            self.texts.append((self.open[-1], data.strip()))


@pytest.fixture
def place(tmp_path: Path) -> Path:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    return tmp_path


def test_a_page_that_can_be_ticked_read_and_followed(place: Path) -> None:
    text = hooper("worksheet", "--html", cwd=place).out
    page = Page(text)
    document = hooper("worksheet", "--json", cwd=place).document
    devices = hooper("worksheet", "--devices", "--json", cwd=place).document["devices"]
    rules = [rule for sheet in document["sheets"] for rule in sheet["rules"]]
    ticks = [tick for device in devices for tick in device["ticks"]]
    assert len(page.boxes) >= len(rules) + len(ticks)
    assert page.labelled == len(page.boxes), "each box has words"
    assert sum("checked" in box for box in page.boxes) == sum(tick["said"] is True for tick in ticks)
    assert "localStorage" in text
    assert {"http://192.168.90.1/", "http://10.44.7.1/", "https://boathouse.heronquay.example/"} <= set(page.links)
    seen = [words for tag, words in page.texts if tag not in ("style", "script")]
    assert not any("`" in words for words in seen)
    assert any(tag == "code" and words == "hooper worksheet --letter fibre-box" for tag, words in page.texts)
    cells = [words for tag, words in page.texts if tag == "td"]
    for rule in rules:
        assert rule["target_address"] in cells
    assert "prefers-color-scheme: dark" in text
    assert "@media print" in text
    assert not re.search(r"(src|href)=\"(?!http://\d|https://boathouse)", text), "it needs nothing beside it"


def test_documents_are_utf_8_whatever_the_terminal_has(place: Path) -> None:
    for form in ("--html", "--markdown"):
        written = hooper("worksheet", form, "--out", "sheets", "--force", cwd=place, encoding="ascii")
        assert written.code == 0, written
        data = (place / "sheets").read_bytes()
        assert data.decode("utf-8") == hooper("worksheet", form, cwd=place).out
        assert (place / "sheets").stat().st_mode & 0o077 == 0
    assert "☐" in (place / "sheets").read_text(encoding="utf-8")
    assert hooper("worksheet", "--html", "--out", "sheets", cwd=place).code == 0, "what we wrote we may write again"
    assert hooper("worksheet", "--html", "--out", "site.toml", "--force", cwd=place).code == 5
    assert hooper("worksheet", "--out", "x", cwd=place).code == 2
    assert sorted(path.name for path in place.iterdir()) == ["sheets", "site.toml"]


def test_a_page_of_the_lab_says_so(lab: Lab) -> None:
    assert "[lab] the simulated town" in hooper("worksheet", "--html", env=lab.env).out


def test_device_sheets_say_what_the_plan_has(place: Path) -> None:
    text = BOATHOUSE.replace('address_from = "device"', 'address_from = "pool"', 1)
    text = text.replace('dns = ["10.44.7.1", "192.0.2.53"]', 'dns = ["172.31.9.9", "10.44.7.1"]')
    hub = "[services.hub-page]"
    text = text.replace(hub, f'{hub}\npath = "/login/start"')
    (place / "site.toml").write_text(text)
    by = {one["device"]: one for one in hooper("worksheet", "--devices", "--json", cwd=place).document["devices"]}
    sheets = {one["gateway"]: one for one in hooper("worksheet", "--json", cwd=place).document["sheets"]}
    reserved = {one["host"] for sheet in sheets.values() for one in sheet["reservations"]}
    for name, device in by.items():
        said = " ".join(device["notes"])
        assert ("by its reservation" in said) == (name in reserved), name
        assert "172.31.9.9" not in device["dns"]
        web = any(service["speaks"] in ("http", "https") for service in device["services"])
        assert any(tick["item"] in ("tls", "base_url") for tick in device["ticks"]) == web, name
        for service in device["services"]:
            assert service["base_url"] is None or service["base_url"].count("/") == 3
