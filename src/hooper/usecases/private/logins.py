"""Second factors and passwords: made by the system's randomness, tried against the right time, kept nowhere unasked."""

from __future__ import annotations

import base64
import math
import secrets
from dataclasses import dataclass
from pathlib import Path

from hooper.errors import HooperError, UsageError
from hooper.files import write_output
from hooper.line.facts import ClockRow
from hooper.line.right_time import clock_now, time_servers
from hooper.report.qr import picture
from hooper.secret import Secret
from hooper.usecases.run import Run
from hooper.words.said import Said, say, together

SHORTEST = 8  # bytes that are taken: many devices make secrets of 10, which the standard did not mean
BYTES = 20  # of a secret: the digest of HMAC-SHA-1 (RFC 4226 section 4, R6)
STEP_S, DIGITS = 30, 6  # RFC 6238 section 5.2; what all apps take
FAR = 40  # steps to either side in which a code is looked for: 20 minutes
RIGHT_S = 2.0  # seconds by which a clock may be off and is called right
LETTERS = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"  # none that is taken for another
SIGNS = "-_.+"


@dataclass(frozen=True, slots=True)
class LoginCodeDocument:
    """`hooper login code make`. host: whose login. user: who logs in. secret: base32 (RFC 4648), to type where no
    picture can be taken. uri: the same for an app. files: what was written.
    """

    host: str
    user: str
    secret: str
    uri: str
    files: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class LoginTriedDocument:
    """`hooper login code try`. right: it is the code of now, or of the step beside it. off_s: by how many seconds the
    clock that made it is ahead of this computer's; null: it is none of the last or next minutes. clock: this computer's
    own clock, held against a server's; null: none was to be had. says: in words.
    """

    right: bool
    off_s: int | None
    clock: ClockRow | None
    says: Said


@dataclass(frozen=True, slots=True)
class PasswordDocument:
    """`hooper login password`. password: shown this once, and kept nowhere. bits: of randomness."""

    password: str
    bits: int


@dataclass(frozen=True)
class CodeRequest:
    """host: its key in the site file. user: who logs in. picture: a file for the QR code. keep: one for the secret."""

    host: str
    user: str
    picture: Path | None = None
    keep: Path | None = None
    force: bool = False


def make_code(run: Run, request: CodeRequest) -> tuple[LoginCodeDocument, list[HooperError]]:
    """A secret for the second factor of a login. Raises: RefusedForSafety, MachineError: a file cannot be written."""
    import pyotp

    secret = base64.b32encode(secrets.token_bytes(BYTES)).decode()
    issuer = f"{run.site.site.title or run.file.name} {request.host}"[:60].replace(":", " ")
    uri = pyotp.TOTP(secret).provisioning_uri(name=request.user, issuer_name=issuer)
    files = []
    if request.keep is not None:
        write_output(request.keep, f"{secret}\n".encode(), keep=(run.path,), force=request.force, private=True)
        files.append(str(request.keep))
    if request.picture is not None:
        kind = request.picture.suffix.lower()
        if kind not in (".png", ".svg"):
            raise UsageError(f"{request.picture}: a picture is .png or .svg", remedy="Name such a file.")
        data = picture(uri, kind)
        write_output(request.picture, data, keep=(run.path,), force=request.force, private=True)
        files.append(str(request.picture))
    return LoginCodeDocument(request.host, request.user, secret, uri, tuple(files)), []


async def try_code(
    run: Run, code: str, secret: Secret, deadline: float
) -> tuple[LoginTriedDocument, list[HooperError]]:
    """Whether a code is right, and if not by how much a clock is off. Raises: UsageError: it is no code, no secret."""
    digits = "".join(code.split()).replace("-", "")
    if not digits.isascii() or not digits.isdigit() or len(digits) != DIGITS:
        raise UsageError(f"{code!r} is no code", remedy=f"A code has {DIGITS} digits, such as 123 456.")
    clock = await clock_now(run.here, await time_servers(run.here, run.site), deadline)
    now = run.here.clock.now()
    behind = clock.behind_s if clock is not None else 0.0
    steps = code_steps(secret, digits, now.timestamp() + behind)
    right = steps is not None and abs(steps) <= 1
    off = None if steps is None else steps * STEP_S
    return LoginTriedDocument(right, off, clock, _words(steps, clock)), []


def code_steps(secret: Secret, digits: str, at: float) -> int | None:
    """By how many steps the clock that made a code is ahead (RFC 6238 section 4); None: it is none of these.

    at: the right time, in seconds of POSIX. Raises: UsageError: the secret is no base32.
    """
    import pyotp

    text = "".join(secret.reveal().split()).replace("-", "").upper().rstrip("=")
    if text.startswith("OTPAUTH://"):
        try:
            text = str(getattr(pyotp.parse_uri(secret.reveal().strip()), "secret", ""))
        except ValueError:
            raise UsageError("the secret is no otpauth address that is understood", remedy="Give its base32.") from None

    class Counted(pyotp.HOTP):
        min_secret_length_bits = SHORTEST * 8

    step = int(at // STEP_S)  # RFC 6238 section 4.2: T
    try:
        if len(base64.b32decode(text + "=" * (-len(text) % 8))) < SHORTEST:
            raise ValueError("too short")
        counted = Counted(text)
        for away in sorted(range(-FAR, FAR + 1), key=abs):
            if secrets.compare_digest(counted.at(max(step + away, 0)), digits):
                return away
    except (ValueError, OverflowError, OSError):
        raise UsageError(
            "the secret is no base32 (RFC 4648)", remedy="Give the text that stood by the QR code."
        ) from None
    return None


def _words(steps: int | None, clock: ClockRow | None) -> Said:
    parts: list[Said] = []
    if steps is None:
        parts.append(say("code-matches-none", minutes=FAR * STEP_S // 60))
    elif abs(steps) <= 1:
        parts.append(say("code-is-right"))
    elif clock is None:
        parts.append(say("code-off-someone", seconds=abs(steps) * STEP_S))
    else:
        parts.append(say("code-ahead" if steps > 0 else "code-behind", seconds=abs(steps) * STEP_S))
    if clock is None:
        parts.append(say("clock-not-compared", key="ntp"))
    elif abs(clock.behind_s) <= RIGHT_S + clock.within_s:
        parts.append(say("clock-is-right", server=clock.server))
    else:
        said = "clock-is-behind" if clock.behind_s > 0 else "clock-is-ahead"
        parts.append(say(said, seconds=round(abs(clock.behind_s)), server=clock.server))
    return together(parts, ". ")


def make_password(length: int, *, signs: bool) -> PasswordDocument:
    """A password of the system's randomness. length: of letters. signs: with some that are no letters."""
    alphabet = LETTERS + (SIGNS if signs else "")
    while True:
        text = "".join(secrets.choice(alphabet) for _ in range(length))
        kinds = [str.islower, str.isupper, str.isdigit]
        if all(any(kind(letter) for letter in text) for kind in kinds) and (
            not signs or any(letter in SIGNS for letter in text)
        ):
            return PasswordDocument(text, math.floor(length * math.log2(len(alphabet))))
