"""Writes the server's state and log in a thread of its own: a slow disk delays no answer."""

from __future__ import annotations

import json
import os
import queue
import threading
from collections.abc import Sequence

from scopion.model.errors import ScopionError
from scopion.operations.radius.radius_files import RadiusFiles
from scopion.roster.store.write_files import make_folder, open_file
from scopion.wireless.radius.answer import Answer, answer_document

# Two files of this size are some ten thousand answers.
_LOG_OCTETS = 1 << 20


class WriteBehind:
    """The thread, and what waits for it: the latest state, and all answers."""

    def __init__(self, files: RadiusFiles) -> None:
        self._files = files
        self._waiting: queue.SimpleQueue[tuple[str | None, Sequence[Answer]] | None] = queue.SimpleQueue()
        self.problem = ""
        self._thread = threading.Thread(target=self._run, name="files of the RADIUS server", daemon=True)
        self._thread.start()

    def write(self, state: str | None, answers: Sequence[Answer]) -> None:
        """Have a state and answers written."""
        self._waiting.put((state, answers))

    @property
    def is_behind(self) -> bool:
        """Tell whether something waits still: then less is given to it."""
        return not self._waiting.empty()

    def close(self) -> None:
        """Write all that waits, and end."""
        self._waiting.put(None)
        self._thread.join(timeout=10)

    def _run(self) -> None:
        while (work := self._waiting.get()) is not None:
            try:
                self._write(*work)
                self.problem = ""
            except (ScopionError, OSError) as error:
                self.problem = str(error)

    def _write(self, state: str | None, answers: Sequence[Answer]) -> None:
        if state is not None:
            self._files.write(self._files.state, state)
        if answers:
            make_folder(self._files.folder, like=self._files.folder.parent)
            handle = open_file(self._files.log, os.O_WRONLY | os.O_APPEND)
            try:
                lines = "".join(json.dumps(answer_document(each), ensure_ascii=False) + "\n" for each in answers)
                os.write(handle, lines.encode("utf-8", "surrogateescape"))
                full = os.fstat(handle).st_size > _LOG_OCTETS
            finally:
                os.close(handle)
            if full:
                self._files.log.replace(self._files.old_log)
