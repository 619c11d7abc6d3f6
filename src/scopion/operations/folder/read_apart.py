"""Reads something in a process of its own: what had to be loaded for it is gone with that process.

The library that checks settings takes fifteen megabytes and is needed once; a sensor may run on a very small machine.
"""

from __future__ import annotations

import os
import pickle
from collections.abc import Callable
from typing import TypeVar

from scopion.model.errors import ScopionError

_T = TypeVar("_T")


def read_apart(read: Callable[[], _T]) -> _T:
    """Return what a function returns, a value that can be pickled. Raises the ScopionError that it raises.

    Where a process cannot be forked, it is called here. For a process that has one thread only.
    """
    if not hasattr(os, "fork"):
        return read()
    out, into = os.pipe()
    child = os.fork()
    if child == 0:
        _answer(into, read)
    os.close(into)
    with os.fdopen(out, "rb") as stream:
        octets = stream.read()
    os.waitpid(child, 0)
    if not octets:  # it ended in a way that it could not tell: here it is seen
        return read()
    found = pickle.loads(octets)
    if isinstance(found, ScopionError):
        raise found
    return found  # type: ignore[no-any-return]


def _answer(into: int, read: Callable[[], object]) -> None:
    """In the child: write what comes of it, and end."""
    try:
        try:
            found = read()
        except ScopionError as error:
            found = error
        octets = pickle.dumps(found)
        with os.fdopen(into, "wb") as stream:
            stream.write(octets)
    finally:
        os._exit(0)
