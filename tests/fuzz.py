"""Damage to bytes, and one attempt at reading them: for the property tests, ``make fuzz`` and ``make attack``."""

from __future__ import annotations

import random
import sys
from collections.abc import Callable
from typing import Any


def damaged(sample: bytes, chance: random.Random) -> bytes:
    """A sample with some octets changed, cut out, doubled or inserted; or only noise."""
    data = bytearray(sample)
    for _ in range(chance.randint(1, 6)):
        at, length = chance.randint(0, max(0, len(data) - 1)), chance.choice((1, 1, 1, 2, 4, 16))
        noise = chance.choice((chance.randbytes(length), b"\xff" * length, bytes(length), b"\xc0" + bytes(length)))
        match chance.randint(0, 4):
            case 0:
                data[at : at + length] = noise
            case 1:
                del data[at : at + length]
            case 2:
                data[at:at] = data[at : at + length]
            case 3:
                data[at:at] = noise
            case _:
                del data[at:]
    return bytes(data) if chance.random() < 0.99 else chance.randbytes(chance.randint(0, 600))


def attempt(name: str, read: Callable[[bytes], Any], data: bytes, allowed: tuple[type[Exception], ...]) -> None:
    """Read it: a value or an allowed error. Anything else is raised, and the bytes that did it are printed."""
    try:
        read(data)
    except allowed:
        pass
    except BaseException:
        print(f"{name} breaks on {data.hex()}", file=sys.stderr)
        raise
