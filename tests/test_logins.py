"""Second factors by the vectors of RFC 6238, the time by RFC 5905, passwords, and all of it by the program."""

from __future__ import annotations

import base64
from datetime import datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import HooperError, WireError
from hooper.secret import Secret
from hooper.usecases.private.logins import FAR, STEP_S, code_steps, make_password
from hooper.wire.ntp import ERA, PACKET, SINCE_1900, NtpAnswer, offset, question, seconds
from support.program import town_here, valid

KEY = Secret(base64.b32encode(b"12345678901234567890").decode(), "secret")  # RFC 6238 appendix B


@pytest.mark.parametrize(
    ("at", "code"),
    [(59, "94287082"), (1111111109, "07081804"), (1111111111, "14050471"), (1234567890, "89005924"),
     (2000000000, "69279037"), (20000000000, "65353130")],
)  # fmt: skip
def test_the_vectors_of_the_standard(at: int, code: str) -> None:
    """Appendix B has eight digits; apps show the last six of them."""
    assert code_steps(KEY, code[2:], at) == 0
    assert code_steps(KEY, code[2:], at + STEP_S * 3) == -3
    assert code_steps(KEY, code[2:], at - STEP_S * 5 if at > 200 else at) in (5, 0)


@given(st.integers(10**9, 4 * 10**9), st.integers(-FAR, FAR))
def test_by_how_much_a_clock_is_off(at: int, steps: int) -> None:
    import pyotp

    code = pyotp.HOTP(KEY.reveal()).at(at // STEP_S + steps)
    found = code_steps(KEY, code, at)
    assert found is not None
    assert found == steps or abs(found) < abs(steps)  # one of a million is that of another moment too


@pytest.mark.parametrize("text", ["", "nonsense!", "JBSWY3DP0", "otpauth://totp/x?secret=", "otpauth://x", "1" * 9])
def test_what_is_no_secret_is_a_message(text: str) -> None:
    with pytest.raises(HooperError, match="the secret is no"):
        code_steps(Secret(text, "s"), "123456", 10**9)
    code_steps(Secret("JBSWY3DPEHPK3PXP", "s"), "123456", 10**9)  # 80 bits, as many devices make them


def test_a_secret_is_taken_as_it_was_shown() -> None:
    code = "94287082"[2:]
    spaced = " ".join(KEY.reveal()[at : at + 4] for at in range(0, 32, 4)).lower()
    uri = f"otpauth://totp/Boathouse:cox?secret={KEY.reveal()}&issuer=Boathouse"
    assert code_steps(Secret(spaced, "s"), code, 59) == code_steps(Secret(uri, "s"), code, 59) == 0


# --- the time


@given(
    st.integers(-(10**6), 10**6), st.floats(0, 0.4), st.floats(0, 0.4), st.floats(0, 1),
    st.integers(10**9, 2 * ERA),
)  # fmt: skip
def test_how_far_a_clock_is_behind(behind: int, out: float, back: float, work: float, at: int) -> None:
    """However long the ways are, the clock's fault is found within half of what they differ (RFC 5905 section 8)."""

    def stamp(moment: float) -> int:
        return int((moment + SINCE_1900) * ERA) % 2**64

    sent = float(at)
    receive = sent + behind + out
    transmit = receive + work
    came = sent + out + work + back
    packet = PACKET.pack(0x24, 2, 0, 0, 0, 0, b"x" * 4, 0, 7, stamp(receive), stamp(transmit))
    answer = NtpAnswer.parse(packet)
    found, within = offset(answer, sent, came)
    assert answer.tells
    assert abs(found - behind) <= within + 0.001
    assert within <= (out + back) / 2 + 0.001


def test_the_era_after_2036() -> None:
    assert seconds(0, ERA - SINCE_1900 + 5) == ERA - SINCE_1900  # 7 February 2036, 06:28:16 UTC
    assert seconds((SINCE_1900 + 10**9) << 32, 10**9) == 10**9


@given(st.binary(max_size=80))
def test_any_datagram_is_an_answer_or_an_error(data: bytes) -> None:
    try:
        found = NtpAnswer.parse(data)
    except WireError:
        return
    assert found.tells in (True, False)


def test_a_question_and_who_declines() -> None:
    assert (len(question(5)), question(5)[0], question(5)[40:]) == (48, 0x23, (5).to_bytes(8, "big"))
    kiss = PACKET.pack(0xE4, 0, 0, 0, 0, 0, b"RATE", 0, 5, 1, 1)
    assert (NtpAnswer.parse(kiss).tells, NtpAnswer.parse(kiss).reason) == (False, "RATE")


# --- passwords


@pytest.mark.parametrize("signs", [True, False])
def test_passwords_are_of_all_kinds_and_never_the_same(signs: bool) -> None:
    made = [make_password(20, signs=signs) for _ in range(200)]
    assert len({one.password for one in made}) == 200
    for one in made:
        kinds = [any(map(kind, one.password)) for kind in (str.islower, str.isupper, str.isdigit)]
        assert (all(kinds), len(one.password), one.bits > 110) == (True, 20, True)
        assert any(not letter.isalnum() for letter in one.password) is signs


# --- the program


def test_from_the_secret_to_the_tick(tmp_path: Path) -> None:
    """In the town: its file is private, the code of now is right, that of a phone whose clock is off is told."""
    import pyotp

    with town_here(tmp_path / "lab") as lab:
        path = Path(lab.env["HOOPER_SITE"])
        path.write_text(path.read_text().replace("[measure]  ", '[measure]\nntp = ["198.51.100.91"]  '))
        kept = tmp_path / "hub-secret"
        ran = lab.run("login", "code", "make", "hub", "--keep-in", str(kept), "--json")
        made = valid("login-code-make", ran.document)
        assert (kept.stat().st_mode & 0o777, kept.read_text().strip()) == (0o600, made["secret"])
        assert pyotp.parse_uri(made["uri"]).name == "admin"
        assert len(base64.b32decode(made["secret"])) == 20
        again = lab.run("login", "code", "make", "hub", "--keep-in", str(kept))
        assert again.code == 5
        step = int(lab.town_time().timestamp()) // 30
        for away, words in ((0, "The code is right"), (-6, "180 s behind"), (8, "240 s ahead")):
            code = pyotp.HOTP(made["secret"]).at(step + away)
            ran = lab.run("login", "code", "try", code, "--secret", f"file:{kept}", "--json")
            told = valid("login-code-try", ran.document)
            assert words in told["says"], told
            assert (ran.code, told["right"]) == (0 if away == 0 else 1, away == 0)
            assert abs(told["clock"]["behind_s"]) < 1
        out = lab.run("login", "code", "make", "hub", "--out", str(tmp_path / "code.svg"))
        assert (out.code, made["secret"] in out.out) == (0, False)
        assert (tmp_path / "code.svg").stat().st_mode & 0o077 == 0
        assert lab.run("login", "code", "make", "nobody").code == 2
        assert lab.run("login", "code", "try", "123", "--secret", f"file:{kept}").code == 2
        assert lab.run("login", "code", "try", "123456").code == 2
        one, two = (lab.run("login", "password").out for _ in range(2))
        assert (len(one.strip()), one != two) == (20, True)


def test_a_computer_whose_own_clock_is_wrong(tmp_path: Path) -> None:
    """Its code is held against the right time, and it is said that its own clock is the one that is off."""
    import pyotp

    with town_here(tmp_path / "lab") as lab:
        path = Path(lab.env["HOOPER_SITE"])
        path.write_text(path.read_text().replace("[measure]  ", '[measure]\nntp = ["198.51.100.91"]  '))
        kept = tmp_path / "s"
        secret = lab.run("login", "code", "make", "hub", "--keep-in", str(kept), "--json").document["secret"]
        town, echo = lab.board.town, lab.board.town.nodes["echo"]
        from hooper.lab.devices import tells_time

        def right() -> datetime:
            return town.now() + timedelta(seconds=300)

        echo.udp[123] = tells_time(right)
        code = pyotp.HOTP(secret).at(int((lab.town_time() + timedelta(seconds=300)).timestamp()) // 30)
        told = lab.run("login", "code", "try", code, "--secret", f"file:{kept}", "--json").document
        assert told["right"]
        assert "300 s BEHIND" in told["says"]
        assert ip_address(told["clock"]["server"]) == ip_address("198.51.100.91")
        del echo.udp[123]
        told = lab.run("login", "code", "try", code, "--secret", f"file:{kept}", "--json").document
        assert (told["right"], told["clock"]) == (False, None)
        assert "clock of the phone or of this computer" in told["says"]
