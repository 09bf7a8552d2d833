"""Durations, guesses, signs, questions: the small pure parts by themselves."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper import signs
from hooper.chosen import guess, nearest
from hooper.clock import UNITS, parse_duration, shown_duration
from hooper.planning.answers import problem, questions, text_of, wrong_answer
from hooper.planning.starting import Start
from hooper.site.load import parse_site
from hooper.site.protocols import SPEECHES

START = Start("", ())


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("5", 5), ("5s", 5), ("2m", 120), ("1.5h", 5400), ("3d", 259_200), ("1W", 604_800), (" 250 ms ", 0.25), ("0", 0)],
)
def test_durations(text: str, seconds: float) -> None:
    assert parse_duration(text) == seconds


@pytest.mark.parametrize("text", ["", "soon", "-5", "5x", "1h30m", "nan", "inf", "1e9", "٣s", "5 5"])
def test_what_is_no_duration(text: str) -> None:
    with pytest.raises(ValueError, match="is not a duration"):
        parse_duration(text)


@given(st.sampled_from(sorted(UNITS)), st.integers(1, 13))
def test_a_shown_duration_is_read_as_the_same(unit: str, count: int) -> None:
    seconds = count * UNITS[unit]
    assert parse_duration(shown_duration(seconds)) == pytest.approx(seconds)


@pytest.mark.parametrize(
    ("typed", "meant"),
    [("rstp", "rtsp"), ("htps", "https"), ("wiregaurd", "wireguard"), ("HTTPS", "https"), ("xyz", None), ("", None)],
)
def test_mistyped_protocols_are_guessed(typed: str, meant: str | None) -> None:
    assert nearest(typed, SPEECHES) == ([meant] if meant else [])
    assert bool(guess(typed, SPEECHES)) == (meant is not None)


@given(st.sampled_from(sorted(SPEECHES)), st.data())
def test_one_slip_of_a_long_word_is_guessed(word: str, data: st.DataObject) -> None:
    if len(word) < 6:
        return
    at = data.draw(st.integers(0, len(word) - 2))
    swapped = word[:at] + word[at + 1] + word[at] + word[at + 2 :]
    found = nearest(swapped, SPEECHES)
    assert found
    assert found[0] == word or swapped in SPEECHES


@given(st.text(), st.sampled_from(["ascii", "cp1252", "latin-1", "cp437", "utf-8", "no-such-encoding"]))
def test_no_sign_becomes_a_question_mark(text: str, encoding: str) -> None:
    worded = signs.worded(text, encoding)
    real = encoding if encoding != "no-such-encoding" else "ascii"
    written = worded.encode(real, signs.HANDLER)
    assert written.count(b"?") == text.count("?")


def _answered(**said: str) -> dict[str, str]:
    """All questions answered: as `said`, else by their defaults."""
    answers: dict[str, str] = {}
    while True:
        question = next((q for q in questions(answers, START) if q.key not in answers), None)
        if question is None:
            return answers
        answers[question.key] = said.get(question.key.replace(" ", "_"), question.default)
        assert wrong_answer(question, answers[question.key], answers, START) is None, question


def test_the_defaults_make_a_site() -> None:
    site = parse_site(text_of(_answered(), START).encode(), "x").site
    assert list(site.gateways) == ["own-router"]
    assert not site.hosts


def test_all_that_is_asked_stands_in_the_file() -> None:
    answers = _answered(
        boxes="3", wan_1="192.168.1.2", wan_2="10.44.7.3", pool_0="192.168.1.100-192.168.1.199", programs_0="no",
        blocked="tcp 25, udp 53", stun="192.0.2.10:3478", name="boathouse.heronquay.example", host="gate",
        speaks="wireguard", reach="public", host_address="10.44.8.9",
    )  # fmt: skip
    site = parse_site(text_of(answers, START).encode(), "x").site
    assert list(site.gateways) == ["provider-box", "own-router", "own-router2"]
    assert [str(box.lan) for box in site.gateways.values()] == ["192.168.1.1/24", "10.44.7.1/24", "10.44.8.1/24"]
    assert site.gateways["provider-box"].control == "hand"
    assert str(site.hosts["gate"].address) == "10.44.8.9"
    assert site.services["gate-wireguard"].reach == "public"
    assert list(site.names) == ["boathouse.heronquay.example"]


@given(
    st.dictionaries(
        st.sampled_from(["title", "key_0", "lan_0", "pool_0", "address", "blocked", "host"]), st.text(max_size=12)
    )
)
def test_whatever_is_answered_it_is_a_site_or_said_why_not(said: dict[str, str]) -> None:
    answers = {key.replace("_", " "): value for key, value in said.items()}
    found = problem(answers, START)
    if found is None:
        parse_site(text_of(answers, START).encode(), "x")
    else:
        assert found
