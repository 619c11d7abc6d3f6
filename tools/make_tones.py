"""Makes the tones of the ``sound`` channel: short notes that swell and fade, as files with samples (WAV, 16 bit, mono).

python -m tools.make_tones
"""

from __future__ import annotations

import io
import math
import struct
import wave
from pathlib import Path

from scopion.alerts.channels.sound import tone_of
from scopion.model.alert import Severity

RATE = 16_000  # samples a second: enough for these notes, and every player knows it
_LOUDEST = 0.35 * 32_767  # loud enough beside speech, without startling
_SWELL_S = 0.02
# Notes as hertz and seconds; 0 Hz is a rest.
NOTES: dict[Severity, tuple[tuple[float, float], ...]] = {
    Severity.LOW: ((523.25, 0.22),),
    Severity.NORMAL: ((523.25, 0.16), (659.25, 0.24)),
    Severity.HIGH: ((783.99, 0.14), (0, 0.05), (783.99, 0.14), (0, 0.05), (1046.5, 0.3)),
}


def tone(notes: tuple[tuple[float, float], ...]) -> bytes:
    """A file with these notes, one after the other."""
    samples: list[int] = []
    for hertz, seconds in notes:
        count = round(seconds * RATE)
        for number in range(count):
            edge = min(number, count - 1 - number) / (_SWELL_S * RATE)
            samples.append(round(_LOUDEST * min(1.0, edge) * math.sin(2 * math.pi * hertz * number / RATE)))
    held = io.BytesIO()
    with wave.open(held, "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(RATE)
        file.writeframes(struct.pack(f"<{len(samples)}h", *samples))
    return held.getvalue()


def main() -> None:
    """Write all of them."""
    for severity, notes in NOTES.items():
        path: Path = tone_of(severity)
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(tone(notes))
        print(path.name, path.stat().st_size)


if __name__ == "__main__":
    main()
