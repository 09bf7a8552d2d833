"""Which protocol do these first bytes belong to? For saying what answered when it was not what was expected."""

from __future__ import annotations

import re

_SIGNS: tuple[tuple[str, re.Pattern[bytes]], ...] = (
    ("ssh", re.compile(rb"SSH-\d")),
    ("rtsp", re.compile(rb"RTSP/\d")),
    ("http", re.compile(rb"HTTP/\d|<!doctype html|<html", re.I)),
    ("vnc", re.compile(rb"RFB \d{3}\.")),
    ("rdp", re.compile(rb"\x03\x00\x00[\x0b-\xff].[\xd0-\xdf]", re.S)),
    ("tls", re.compile(rb"[\x15\x16]\x03[\x00-\x04]")),
    ("smb", re.compile(rb"\0...[\xfe\xff]SMB", re.S)),
    ("a mail or file server", re.compile(rb"220[ -]")),
    ("a mail server", re.compile(rb"\* OK|\+OK")),
)


def recognise(first: bytes) -> str | None:
    """The protocol that `first` starts, or None: nothing that is known."""
    return next((name for name, sign in _SIGNS if sign.match(first)), None)
