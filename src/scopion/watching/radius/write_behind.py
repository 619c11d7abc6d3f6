"""Writes the server's state and log in a thread of its own: a slow disk delays no answer."""

from __future__ import annotations

import queue
import threading
from collections.abc import Sequence

from scopion.model.errors import ScopionError
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.answers.write_answers import write_work
from scopion.wireless.radius.answer import Answer


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
                write_work(self._files, *work)
                self.problem = ""
            except (ScopionError, OSError) as error:
                self.problem = str(error)
