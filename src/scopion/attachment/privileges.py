"""Keeps what this process may do from the programs that it starts: they are the user's own, and need none of it."""

from __future__ import annotations

import sys

_PR_CAP_AMBIENT, _CLEAR_ALL = 47, 4  # linux/prctl.h


def keep_capabilities_to_itself() -> None:
    """Let programs that are started from now on have no capability of ours; the threads begun from now on keep them.

    A service manager hands capabilities over in the ambient set (capabilities(7)), which every program inherits.
    """
    if sys.platform == "linux":
        import ctypes

        ctypes.CDLL(None).prctl(_PR_CAP_AMBIENT, _CLEAR_ALL, 0, 0, 0)
