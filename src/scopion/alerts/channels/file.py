"""A file to which each alert is added as one line of JSON.

It is opened again for each line, so that a program may rename it when it grows (log rotation).
"""

from __future__ import annotations

import json
import os
from pathlib import Path

from scopion.alerts.alert_settings import FileSettings
from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.alerts.message import Message
from scopion.model.errors import Refused
from scopion.roster.store.owner_rights import bound_to
from scopion.roster.store.write_files import open_file, reason


class FileChannel:
    """Adds to one file."""

    lasts_s = None

    def __init__(self, settings: FileSettings, folder: Path) -> None:
        self._folder = folder
        self._path = folder / settings.path

    def deliver(self, message: Message, trace: Trace) -> None:
        """Add a line, and make sure that it is on the disk. Raises DeliveryFailed."""
        path = self._path
        line = json.dumps(message.document(), ensure_ascii=False).encode() + b"\n"
        try:
            handle = open_file(path, os.O_WRONLY | os.O_APPEND, bound=bound_to(self._folder))
            try:
                end = os.fstat(handle).st_size
                if os.write(handle, line) < len(line):  # a full disk takes a part: no half line stays
                    os.ftruncate(handle, end)
                    raise DeliveryFailed(f"{path} cannot be written: the disk is full")
                os.fsync(handle)
            finally:
                os.close(handle)
        except Refused as error:
            raise DeliveryFailed(str(error)) from None
        except OSError as error:
            raise DeliveryFailed(f"{path} cannot be written: {reason(error)}") from None
        trace(f"added {len(line)} octets to {path}")
