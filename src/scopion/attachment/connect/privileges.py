"""Keeps the capabilities of this process from the programs that it starts: those belong to the user and need none."""

from __future__ import annotations

import sys

_PR_CAP_AMBIENT, _RAISE, _CLEAR_ALL = 47, 2, 4  # linux/prctl.h
_CAP_NET_ADMIN = 12  # linux/capability.h


def keep_capabilities_to_itself() -> None:
    """Take our capabilities from programs that are started from now on; threads begun from now on keep them.

    A service manager passes capabilities in the ambient set (capabilities(7)), which every program inherits.
    """
    if sys.platform == "linux":
        import ctypes

        ctypes.CDLL(None).prctl(_PR_CAP_AMBIENT, _CLEAR_ALL, 0, 0, 0)


def hand_down_network_administration() -> None:
    """Let this process, and the program that it is about to become, change the firewall if we may.

    Called between fork and exec, for the firewall's own program only.
    """
    if sys.platform == "linux":
        import ctypes

        ctypes.CDLL(None).prctl(_PR_CAP_AMBIENT, _RAISE, _CAP_NET_ADMIN, 0, 0)
