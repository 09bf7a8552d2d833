"""Input as the world damages it: cut, spliced, repeated, with bits turned and numbers at their edges."""

from __future__ import annotations

import random
from collections.abc import Iterator, Sequence

EDGES = (b"\0", b"\xff", b"\x7f", b"\x80", b"\0\0", b"\xff\xff", b"\xff\xff\xff\xff", b"\0\0\0\0", b"\r\n", b"\n", b" ")
LONGEST = 65536  # bytes of one input


def damaged(seeds: Sequence[bytes], count: int, number: int) -> Iterator[bytes]:
    """`count` inputs made of `seeds`; the same for the same `number`."""
    chance = random.Random(number)
    for _ in range(count):
        if chance.random() < 0.05:
            yield chance.randbytes(chance.randrange(80))
            continue
        data = bytearray(chance.choice(seeds))
        for _ in range(chance.choice((1, 1, 1, 2, 3, 8))):
            _one(data, chance, seeds)
        yield bytes(data[:LONGEST])


def _one(data: bytearray, chance: random.Random, seeds: Sequence[bytes]) -> None:
    at = chance.randrange(len(data) + 1)
    end = min(len(data), at + chance.choice((1, 1, 2, 4, 16, 64)))
    match chance.randrange(8):
        case 0 if at < len(data):
            data[at] ^= 1 << chance.randrange(8)
        case 1:
            del data[at:end]
        case 2:
            del data[at:]
        case 3:
            data[at:at] = chance.choice(EDGES)
        case 4:
            edge = chance.choice(EDGES)
            data[at : at + len(edge)] = edge
        case 5:
            data[at:at] = data[at:end] * chance.randrange(1, 9)
        case 6:
            other = chance.choice(seeds)
            data[at:] = other[chance.randrange(len(other) + 1) :]
        case _:
            data[at:end] = chance.randbytes(end - at)
