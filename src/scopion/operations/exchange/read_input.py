"""The content of a file, or of standard input, which can be read only once: what is imported is recognised by it."""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass
from datetime import UTC, datetime
from io import BufferedReader, BytesIO
from pathlib import Path

from scopion.model.errors import StorageFailed, UsageError
from scopion.wire.capture import is_capture

STANDARD_INPUT = "-"
MAX_BYTES = 64 * 1024 * 1024  # of a file that is read; ten thousand devices are 5 MB


@dataclass(frozen=True, slots=True)
class Input:
    """What is to be imported. A capture may be larger than memory: it is read from ``stream``, and has no ``data``."""

    path: str
    data: bytes
    changed: datetime | None  # when the file was; None for standard input
    capture: BufferedReader | None = None

    @property
    def stream(self) -> BufferedReader:
        """Return a stream from the beginning of it."""
        return self.capture if self.capture is not None else BufferedReader(BytesIO(self.data))

    def close(self) -> None:
        """Close a capture's file."""
        if self.capture is not None and self.path != STANDARD_INPUT:
            self.capture.close()


def read_input(path: str) -> Input:
    """Read a file, or standard input for ``-``. Raises StorageFailed, UsageError for one that is too large."""
    if path == STANDARD_INPUT:
        return _input(path, sys.stdin.buffer, None)
    try:
        stream = Path(path).open("rb")  # noqa: SIM115 - a capture is read later
        given = _input(path, stream, datetime.fromtimestamp(os.fstat(stream.fileno()).st_mtime, UTC))
        if given.capture is None:
            stream.close()
        return given
    except OSError as error:
        raise StorageFailed(f"{path} cannot be read: {error.strerror}") from None


def _input(path: str, stream: object, changed: datetime | None) -> Input:
    assert isinstance(stream, BufferedReader)
    if is_capture(stream.peek(4)[:4]):
        return Input(path, b"", changed, stream)
    data = stream.read(MAX_BYTES + 1)
    if len(data) > MAX_BYTES:
        raise UsageError(f"{path} is larger than {MAX_BYTES // 2**20} MB: that is not a list of devices")
    return Input(path, data, changed)
