"""The one place that slices a frame: every read is checked against what is left."""

from __future__ import annotations

from scopion.model.errors import MalformedFrame


class Cursor:
    """Reads big-endian fields from a frame in order; raises MalformedFrame when it is too short."""

    __slots__ = ("at", "data")

    def __init__(self, data: bytes, at: int = 0) -> None:
        self.data = data
        self.at = at

    @property
    def left(self) -> int:
        """How many bytes have not been read."""
        return len(self.data) - self.at

    def take(self, count: int) -> bytes:
        """The next ``count`` bytes."""
        if count > self.left:
            raise MalformedFrame(f"{count} bytes wanted at offset {self.at}, {self.left} left")
        self.at += count
        return self.data[self.at - count : self.at]

    def number(self, size: int) -> int:
        """The next unsigned number of ``size`` bytes."""
        return int.from_bytes(self.take(size))
