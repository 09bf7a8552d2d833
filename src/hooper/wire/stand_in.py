"""What Hooper says in place of a service: an answer to a number that only this test knows. Our own format.

A question and its answer are 48 bytes each, so that nobody can make a listener send more than it was sent: the mark
(8 bytes), what it is (1: question, 2: answer) and seven zeros, the number (16 bytes), then zeros in a question, in an
answer the first 16 bytes of HMAC-SHA256 over the answer so far, by the test's key.
"""

from __future__ import annotations

import hashlib
import hmac

MARK = b"HOOPER\x00\x01"
SIZE, NUMBER = 48, 16
QUESTION, ANSWER = b"\x01" + bytes(7), b"\x02" + bytes(7)


def serialize_question(number: bytes) -> bytes:
    """number: 16 bytes. Raises: ValueError: they are not."""
    if len(number) != NUMBER:
        raise ValueError(f"{len(number)} bytes are no number")
    return MARK + QUESTION + number + bytes(16)


def answer_to(data: bytes, key: bytes) -> bytes | None:
    """The answer to a question; None: it is none."""
    if len(data) != SIZE or data[:16] != MARK + QUESTION or any(data[32:]):
        return None
    body = MARK + ANSWER + data[16:32]
    return body + _proof(body, key)


def is_answer(data: bytes, number: bytes, key: bytes) -> bool:
    """Whether this answers the question with that number, and was made with that key."""
    if len(data) != SIZE or data[:16] != MARK + ANSWER or data[16:32] != number:
        return False
    return hmac.compare_digest(data[32:], _proof(data[:32], key))


def _proof(body: bytes, key: bytes) -> bytes:
    return hmac.new(key, body, hashlib.sha256).digest()[:16]
