"""Name providers: what their answers mean, what is filled into requests, mistakes in the site file."""

from __future__ import annotations

import base64
import json
from datetime import UTC, datetime
from urllib.parse import parse_qs

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import HooperError, SeveralErrors
from hooper.names.publish import (
    UpdaterBusy,
    UpdaterRefuses,
    UpdaterSaid,
    UpdaterUnclear,
    _body,
    _words,
    understand,
)
from hooper.net.http import WAIT_AT_MOST_S, WAIT_S, HttpAnswer, retry_after
from hooper.secret import Secret
from hooper.site import updating as placeholders
from hooper.site.model import Updater
from support.sites import ONE_BOX, site

UPDATER = """
[updaters.u]
kind = "http"
token = "env:WORD"
user = "club"
zone = "heronquay.example"
answers = [
    { status = 200, says = "^kept", means = "done" },
    { says = "^same", means = "unchanged" },
    { says = "^who are you|^go away", means = "never" },
    { status = [429, 503], means = "wait" },
]
[updaters.u.set]
method = "POST"
url = "https://names.example/{name}"
body = '{"a": "{value}", "k": "{token}"}'
"""

NOW = datetime(2026, 5, 1, tzinfo=UTC)


def updater(text: str = UPDATER) -> Updater:
    return site(ONE_BOX + text).site.updaters["u"]


@pytest.mark.parametrize(
    ("status", "text", "expected"),
    [
        (200, "kept 203.0.113.44", "done"),
        (200, "same", "unchanged"),
        (200, "well\nsame", "unchanged"),  # ^ fits at each line
        (200, "who are you", UpdaterRefuses),
        (200, "go away", UpdaterRefuses),
        (200, "something else", UpdaterUnclear),
        (429, "", UpdaterBusy),
        (503, "kept", UpdaterBusy),
        (500, "", UpdaterBusy),
        (401, "", UpdaterRefuses),
        (404, "", UpdaterUnclear),
        (302, "kept", UpdaterUnclear),  # a redirection is not followed
    ],
)
def test_what_answers_mean(status: int, text: str, expected: object) -> None:
    answer = HttpAnswer(status, content=text.encode())
    if isinstance(expected, str):
        assert understand(updater().answers, answer, NOW).means == expected
    else:
        with pytest.raises(expected):  # type: ignore[call-overload]
            understand(updater().answers, answer, NOW)


def test_without_a_list_the_status_decides() -> None:
    assert understand((), HttpAnswer(204), NOW) == UpdaterSaid("done", "it answers 204")
    for status, kind in ((403, UpdaterRefuses), (429, UpdaterBusy), (502, UpdaterBusy), (400, UpdaterUnclear)):
        with pytest.raises(kind):
            understand((), HttpAnswer(status), NOW)


def test_how_long_to_wait() -> None:
    assert retry_after(None, NOW) == retry_after("soon", NOW) == retry_after("٣", NOW) == WAIT_S
    assert retry_after("77", NOW) == 77
    assert retry_after("0", NOW) == 1
    assert retry_after("99999999999", NOW) == WAIT_AT_MOST_S
    assert retry_after("Thu, 01 Jan 2026 00:00:00 GMT", NOW) == 1


@given(st.text(min_size=1, max_size=30).filter(lambda text: text.strip() == text and "\0" not in text))
def test_what_is_filled_in_stays_what_it_was(word: str) -> None:
    """Whatever letters a secret has, it arrives whole and adds nothing around it."""
    try:
        word.encode()
    except UnicodeEncodeError:
        return
    given_updater = updater()
    assert given_updater.set is not None
    words = _words(given_updater, Secret(word, "env:WORD"), "a.heronquay.example", "A", "203.0.113.44")
    content, kind = _body(given_updater.set, {}, words)
    assert (json.loads(content), kind) == ({"a": "203.0.113.44", "k": word}, "application/json")
    form = given_updater.set.model_copy(update={"body": "k={token}&v={value}"})
    content, kind = _body(form, {}, words)
    assert parse_qs(content.decode(), keep_blank_values=True) == {"k": [word], "v": ["203.0.113.44"]}
    assert kind == "application/x-www-form-urlencoded"
    assert base64.b64decode(words["basic"]).decode() == f"club:{word}"
    assert (words["host"], words["zone"]) == ("a", "heronquay.example")


def test_filling_does_not_look_at_what_it_filled_in() -> None:
    assert placeholders.fill("{value}{name}", {"value": "{name}", "name": "n"}) == "{name}n"
    assert placeholders.fill('{"a": {nothing}}', {}) == '{"a": {nothing}}'


MISTAKES = {
    "unknown word": ('{"a": "{value}"', '{"a": "{valeu}"', "updaters.u.set.body", "{valeu} is not known"),
    "clear text": ("https://names", "http://names", "updaters.u.set.url", "would travel in clear text"),
    "no token": ('token = "env:WORD"\n', "", "updaters.u.set.body", "has no `token`"),
    "no request": ("[updaters.u.set]", "[updaters.u.set_text]", "updaters.u", "'set' is missing"),
    "no use": ('user = "club"', 'user = "club"\nkey = "k"', "updaters.u.key", "says nothing"),
    "no zone": ('zone = "heronquay.example"\n', "", None, ""),
    "bad pattern": ('"^kept"', '"^(kept"', "updaters.u.answers[0].says", "not a regular expression"),
    "bad status": ("[429, 503]", "[429, 99]", "updaters.u.answers[3].status", "from 100 to 599"),
    "bad meaning": ('means = "wait"', 'means = "later"', "updaters.u.answers[3].means", "allowed: done"),
    "bad url": ("https://names.example/{name}", "names.example", "updaters.u.set.url", "form"),
}


@pytest.mark.parametrize("name", MISTAKES)
def test_mistakes_in_an_updater_are_told_with_their_place(name: str) -> None:
    old, new, path, words = MISTAKES[name]
    assert old in UPDATER
    if path is None:
        updater(UPDATER.replace(old, new))
        return
    with pytest.raises(HooperError) as caught:
        updater(UPDATER.replace(old, new))
    errors = caught.value.errors if isinstance(caught.value, SeveralErrors) else (caught.value,)
    found = [error for error in errors if words in error.message]
    assert found, [error.message for error in errors]
    assert found[0].where is not None
    assert found[0].where.path == path
    assert found[0].exit_code == 3


def test_mistakes_in_dynamic_updates() -> None:
    for text, words in (
        ('kind = "dns-update"\ntoken = "env:W"', "'key' is missing"),
        ('kind = "dns-update"\nkey = "k"', "'token' is missing"),
        ('kind = "dns-update"\nkey = "k"\ntoken = "env:W"\nuser = "u"', "says nothing"),
        ('kind = "dns-update"\nkey = "k"\ntoken = "env:W"\nserver = "ns.example"', "a DNS server's address"),
    ):
        with pytest.raises(HooperError, match=words):
            site(ONE_BOX + f"[updaters.u]\n{text}\n")
    fine = site(ONE_BOX + '[updaters.u]\nkind = "dns-update"\nkey = "k"\ntoken = "env:W"\nserver = "192.0.2.53:5353"\n')
    assert fine.site.updaters["u"].server is not None
    assert fine.site.updaters["u"].server[1] == 5353


def test_a_certificate_needs_its_names() -> None:
    text = '[authorities.a]\ndirectory = "https://ca.example/d"\n'
    text += '[certificates.c]\nnames = ["b.example"]\nauthority = "a"\n'
    with pytest.raises(HooperError, match="is in no"):
        site(ONE_BOX + text)
    named = '[names."b.example"]\nline = "fibre"\n'
    assert site(ONE_BOX + text + named)
    assert site(ONE_BOX + text.replace("b.example", "*.b.example") + named)
