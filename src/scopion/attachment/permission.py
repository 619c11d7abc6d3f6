"""Whether raw frames may be sent here, and what to tell somebody who may not."""

from __future__ import annotations

import errno
import shutil
import socket
import sys
from pathlib import Path

from scopion.model.errors import NotPermitted

# What the unit's sandbox answers where the settings asked for a method without raw frames (systemd.exec(5),
# RestrictAddressFamilies).
_IN_A_SANDBOX = "for raw frames: a method in site.toml that uses them, and scopion service install once more"


def how_to_get_raw_frames() -> str:
    """One line. Never by giving rights to the interpreter: every script of every user would have them."""
    program = shutil.which(sys.argv[0]) or shutil.which("scopion") or "scopion"
    return f"for raw frames: sudo {Path(program).absolute()} (your own roster is used, and its files stay yours)"


def packet_socket() -> socket.socket:
    """A packet socket (packet(7)) that receives nothing yet. Raises NotPermitted, which says how to get the right."""
    try:
        # Protocol 0 until a filter is in place: no frame slips in before it.
        return socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    except PermissionError:
        raise NotPermitted(how_to_get_raw_frames()) from None
    except OSError as error:
        if error.errno != errno.EAFNOSUPPORT:
            raise
        raise NotPermitted(_IN_A_SANDBOX) from None
