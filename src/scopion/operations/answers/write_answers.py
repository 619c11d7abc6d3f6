"""Writes what a RADIUS server knows and has answered: its state as a whole, answers at the end of a log."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence

from scopion.operations.answers.radius_files import RadiusFiles
from scopion.roster.store.write_files import make_folder, open_file
from scopion.wireless.radius.answer import Answer, answer_document

# Two files of this size are some ten thousand answers.
_LOG_OCTETS = 1 << 20


def write_work(files: RadiusFiles, state: str | None, answers: Sequence[Answer]) -> None:
    """Write a state, if there is one, and answers. Raises StorageFailed, OSError."""
    if state is not None:
        files.write(files.state, state)
    if not answers:
        return
    make_folder(files.folder, like=files.site_folder)
    handle = open_file(files.log, os.O_WRONLY | os.O_APPEND)
    try:
        lines = "".join(json.dumps(answer_document(each), ensure_ascii=False) + "\n" for each in answers)
        os.write(handle, lines.encode("utf-8", "surrogateescape"))
        full = os.fstat(handle).st_size > _LOG_OCTETS
    finally:
        os.close(handle)
    if full:
        files.log.replace(files.old_log)
