"""What this process may do: send raw frames, and hand its capabilities (capabilities(7)) down to programs or not."""

from __future__ import annotations

import errno
import shutil
import socket
import sys
from pathlib import Path

from scopion.model.errors import NotPermitted

# The answer of the unit's sandbox if the settings ask for a method without raw frames (systemd.exec(5),
# RestrictAddressFamilies).
_IN_A_SANDBOX = "for raw frames: a method in site.toml that uses them, and scopion service install once more"

_PR_CAP_AMBIENT, _RAISE, _CLEAR_ALL = 47, 2, 4  # linux/prctl.h
_CAP_NET_ADMIN = 12  # linux/capability.h


def how_to_get_raw_frames() -> str:
    """Return one line of advice. It never gives rights to the interpreter: all scripts would get them."""
    program = shutil.which(sys.argv[0]) or shutil.which("scopion") or "scopion"
    return f"for raw frames: sudo {Path(program).absolute()} (your own roster is used, and its files stay yours)"


def packet_socket() -> socket.socket:
    """Return a packet socket (packet(7)) that receives nothing yet. Raises NotPermitted, which says how to get the
    right.
    """
    try:
        # Protocol 0 until a filter is set, so that no frame gets in before it.
        return socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    except PermissionError:
        raise NotPermitted(how_to_get_raw_frames()) from None
    except OSError as error:
        if error.errno != errno.EAFNOSUPPORT:
            raise
        raise NotPermitted(_IN_A_SANDBOX) from None


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
