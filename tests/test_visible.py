"""What others wrote is data: no sign of it moves a cursor, turns the direction, ends a row or a string."""

from __future__ import annotations

import json
import re
import tomllib
from datetime import UTC, datetime, timedelta
from pathlib import Path
from xml.etree import ElementTree

import anyio
import pytest
from anyio.abc import ByteStream
from hypothesis import example, given, settings
from hypothesis import strategies as st

from hooper.cli.parts.spelling import spelled
from hooper.cli.watch.history import as_cell
from hooper.errors import HooperError
from hooper.jsonform import dump, dump_line, each_text
from hooper.lab import devices
from hooper.lab.things import Rule
from hooper.net.types import Endpoint
from hooper.planning.nftables import ruleset
from hooper.report.chain import _text
from hooper.report.figures import Drawn, Strip, available, figures, rendered
from hooper.report.sheets import _marked, as_markdown, templates
from hooper.site.load import parse_site
from hooper.visible import in_markdown, is_plain, shown, shown_lines
from support.program import BOATHOUSE, LabHere, hooper, town_here
from support.sites import ONE_BOX, plan, site

EVIL = "\x1b[1A\x1b[2K✓  film-page  all is well\x9b31m\u202e\r\n✓  forged\x07\u2066<script>|**x**[y](z)"
SEEN_BY_A_TERMINAL = re.compile(r"[\x00-\x09\x0b-\x1f\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2066-\u2069]")


@given(st.text())
def test_what_is_shown_is_plain(text: str) -> None:
    assert is_plain(shown(text))
    assert shown(shown(text)) == shown(text)
    assert shown_lines(text).count("\n") == text.count("\n")
    assert is_plain(shown_lines(text).replace("\n", ""))


@given(st.text(alphabet=st.characters(blacklist_categories=["Cs"])))
def test_json_keeps_every_value_and_shows_none_of_their_controls(text: str) -> None:
    for written in (dump({"x": text}), dump_line({"x": text})):
        assert json.loads(written) == {"x": text}
        assert not SEEN_BY_A_TERMINAL.search(written)
    assert dump_line({"x": text}).count("\n") == 1


@given(st.text())
def test_a_cell_of_markdown_stays_a_cell(text: str) -> None:
    cell = in_markdown(text)
    assert "\n" not in cell
    assert not re.search(r"(?<!\\)[|]", cell)
    assert not set("<>") & set(cell)


@pytest.mark.parametrize("sign", ["\\u001b", "\\n", "\\u009b", "\\u202e", "\\t"])
def test_a_site_file_has_nothing_that_cannot_be_seen(sign: str) -> None:
    text = ONE_BOX.replace("version = 1", f'version = 1\n[site]\ntitle = "a{sign}b"')
    assert tomllib.loads(text)["site"]["title"] not in ("ab", "")
    with pytest.raises(HooperError) as caught:
        parse_site(text.encode(), "site.toml")
    assert caught.value.where is not None
    assert (caught.value.where.line, "cannot be seen" in caught.value.message) == (3, True)


@pytest.mark.parametrize("name", ['wan0\\"\\nflush ruleset', 'wan0\\"; flush ruleset #', "wan0{", "wan$x", "wan0\\\\"])
def test_what_a_form_calls_an_interface_ends_no_string(name: str) -> None:
    with pytest.raises(HooperError):
        parse_site(
            ONE_BOX.replace("[gateways.box]", f'[gateways.box]\nform.outside_interface = "{name}"').encode(), "s"
        )


def test_words_of_a_form_that_are_no_interface_stand_in_no_ruleset() -> None:
    text = ONE_BOX.replace("[gateways.box]", '[gateways.box]\nform.outside_interface = "WAN (fibre)"')
    made = ruleset(site(text).site, plan(text), "box")
    assert "fibre)" not in made
    assert 'define outside = "wan0"' in made


async def _greeting(stream: ByteStream, peer: Endpoint) -> None:
    await stream.send(f"SSH-2.0-{EVIL}\r\n".encode())
    await anyio.sleep(1)


def hostile_town(lab: LabHere) -> None:
    """Every device says it in its title, greeting and name; so does a label in the router's table."""
    board = lab.board
    for node in board.town.nodes.values():
        for port in list(node.tcp):
            if node.key in ("film-box", "hub", "recorder"):
                node.tcp[port] = _greeting if port in (22, 9480) else devices.web(EVIL, EVIL)
    label = EVIL.encode("ascii", "replace").decode()
    board.town.boxes["club-router"].rules.append(
        Rule(label, "tcp", (7777, 7777), board.town.nodes["hub"].address, (80, 80), owner="10.44.7.50")
    )


@pytest.mark.parametrize(
    "command",
    [
        ("check",), ("check", "--from", "interface:usb0"), ("why", "film-shell", "--from", "interface:usb0"),
        ("router", "list"), ("router", "close"), ("host", "find"), ("survey",), ("card", "film-page"),
        ("worksheet", "--markdown"), ("worksheet", "--html"), ("plan", "--chain"),
    ],
)  # fmt: skip
def test_no_counterpart_writes_on_the_terminal(tmp_path: Path, command: tuple[str, ...]) -> None:
    with town_here(tmp_path / "lab") as lab:
        lab.enter_sheets()
        hostile_town(lab)
        for form in ((), ("--verbose",), ("--json",)):
            if "--json" in form and {"--markdown", "--html", "--chain"} & set(command):
                continue
            waits = ("--deadline", "1") if command[0] in ("check", "why", "router", "survey") else ()
            ran = lab.run(*command, *form, *waits)
            assert ran.code != 70, ran.err
            for out in (ran.out, ran.err):
                assert not SEEN_BY_A_TERMINAL.search(out), (command, form)
                assert not re.search(r"^✓  forged", out, re.MULTILINE)


def test_an_argument_is_data_too(tmp_path: Path) -> None:
    ran = hooper("why", f"x{EVIL}", cwd=tmp_path)
    assert not SEEN_BY_A_TERMINAL.search(ran.err)


def test_markdown_of_the_boathouse_reads_as_before() -> None:
    from hooper.planning.documents import WorksheetDocument
    from hooper.planning.topology import Topology
    from hooper.planning.worksheet import make_sheets

    file = site(BOATHOUSE)
    made = make_sheets(Topology(file.site), plan(BOATHOUSE))
    document = each_text(WorksheetDocument(made), spelled)
    assert "\\" not in as_markdown(document, file.site, "Boathouse", "2026-05-01")


# each writer escapes for its own place


@given(st.text())
def test_a_cell_of_csv_is_one_line_and_no_formula(text: str) -> None:
    cell = as_cell(text)
    assert is_plain(cell)
    assert cell[:1] not in ("=", "+", "-", "@")


@given(st.text(max_size=60))
def test_a_page_holds_no_sign_that_acts_and_no_tag_of_others(text: str) -> None:
    page = templates().from_string("<p>{{ text }}</p><a title='{{ text }}'>{{ marked(text) }}</a>")
    drawn = page.render(text=text, marked=_marked)
    assert not SEEN_BY_A_TERMINAL.search(drawn)
    ours = re.sub(r"</?(p|code)>|<a (title='[^'<>]*'|href=\"[^\"<>]*\")>|</a>", "", drawn)
    assert not set("<>") & set(ours)


@pytest.mark.skipif(not available(), reason="figures are an extra")
@settings(max_examples=8, deadline=None)
@given(st.text(max_size=20), st.text(max_size=20))
@example("_acme-challenge", "_")
def test_a_picture_holds_no_sign_that_acts(one: str, other: str) -> None:
    at = datetime(2026, 5, 1, tzinfo=UTC)
    end = at + timedelta(days=2)
    drawn = Drawn(
        at, end, (Strip(one, ((at, end, True),)),), ((at, other, one),), ((at, one, 2.0), (at, other, 1.0)), ()
    )
    for figure in figures(drawn).values():
        svg = rendered(figure, "svg").decode()
        assert not SEEN_BY_A_TERMINAL.search(svg)
        ElementTree.fromstring(svg)  # it is one document, whatever the labels
    chain = _text(1, 1, one + other)
    assert not SEEN_BY_A_TERMINAL.search(chain)
    ElementTree.fromstring(chain)


@pytest.mark.parametrize("word", ["a\nExecStart=/bin/sh", "x\r", "\x1b[2J", "\u202e"])
def test_no_path_becomes_a_directive_of_a_unit(tmp_path: Path, word: str) -> None:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    for system in ("systemd", "timer", "launchd", "windows", "cron"):
        ran = hooper("keep", "unit", system, "--user", word, cwd=tmp_path)
        assert ran.code == 2, ran.out
