"""The long run of the decoders' fuzzing: ``make fuzz``, or ``python -m tests.fuzz SECONDS [SEED]``.

Each round takes a sample, damages it and decodes it. Anything but a value, None or MalformedFrame ends the run with
the bytes that did it; so does a decoding that takes longer than any datagram may.
"""

from __future__ import annotations

import random
import sys
import time

from scopion.model.errors import MalformedFrame
from tests.frames import DECODERS

# A datagram of 64 KB is decoded in a few milliseconds; this is far beyond, so a slow machine does not matter.
LONGEST_S = 1.0


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


def run(seconds: float, seed: int) -> int:
    """Fuzz every decoder in turn; the number of inputs tried. Raises what a decoder should not have raised."""
    chance = random.Random(seed)
    tried = 0
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        for name, decoder in DECODERS.items():
            data = damaged(chance.choice(decoder.samples), chance)
            began = time.monotonic()
            try:
                decoder.decode(data)
            except MalformedFrame:
                pass
            except BaseException:
                print(f"{name} breaks on {data.hex()}", file=sys.stderr)
                raise
            if time.monotonic() - began > LONGEST_S:
                raise AssertionError(f"{name} took {time.monotonic() - began:.1f} s for {data.hex()}")
            tried += 1
    return tried


if __name__ == "__main__":
    length = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    start = int(sys.argv[2]) if len(sys.argv) > 2 else random.randrange(10**9)
    print(f"fuzzing {', '.join(DECODERS)} for {length:g} s with seed {start}")
    print(f"{run(length, start):,} inputs, each a value or a clean refusal")
