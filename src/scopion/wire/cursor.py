"""The one place that slices a frame: every read is checked against what is left."""

from __future__ import annotations

from scopion.model.errors import MalformedFrame


class Cursor:
    """Reads big-endian fields from a frame in order; raises MalformedFrame when it is too short."""

    __slots__ = ("at", "data", "end")

    def __init__(self, data: bytes, at: int = 0, end: int | None = None) -> None:
        self.data = data
        self.at = at
        self.end = len(data) if end is None else end

    @property
    def left(self) -> int:
        """Return how many bytes have not been read."""
        return self.end - self.at

    def take(self, count: int) -> bytes:
        """Return the next ``count`` bytes."""
        if count > self.left:
            raise MalformedFrame(f"{count} bytes wanted at offset {self.at}, {self.left} left")
        self.at += count
        return self.data[self.at - count : self.at]

    def number(self, size: int) -> int:
        """Return the next unsigned number of ``size`` bytes."""
        return int.from_bytes(self.take(size))

    def within(self, count: int) -> Cursor:
        """Return a cursor over the next ``count`` bytes, and skip them here. Offsets are those of the whole frame."""
        start = self.at
        self.take(count)
        return Cursor(self.data, start, self.at)
