"""The lock on the live network: with ``SCOPION_LIVE=namespaces`` nothing live runs in the machine's first namespace.

Development and tests always set it. All code that opens a socket to a network, or calls a firewall or a daemon, calls
``require_unlocked`` first.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

from scopion.model.errors import LiveNetworkLocked

VARIABLE = "SCOPION_LIVE"


def require_unlocked() -> None:
    """Raise LiveNetworkLocked if the live network must not be touched."""
    value = os.environ.get(VARIABLE, "")
    if value in ("", "anywhere"):
        return
    if value != "namespaces":
        raise LiveNetworkLocked(f"{VARIABLE}={value!r} is not understood: write 'namespaces' or unset it")
    if in_first_namespace():
        raise LiveNetworkLocked(
            f"the live network is locked: {VARIABLE}=namespaces allows it only inside a network namespace of its own; "
            "use a scene (scopion demo --keep DIR), a namespace, or unset the variable"
        )


def require_unlocked_towards(host: str) -> None:
    """Raise LiveNetworkLocked if a host is not this machine itself and the live network must not be touched."""
    if not re.fullmatch(r"localhost|127(\.\d{1,3}){3}", host):
        require_unlocked()


def in_first_namespace(proc: Path = Path("/proc")) -> bool:
    """Tell whether this process shares the network namespace of process 1; true if that cannot be found out.

    /proc/1/ns/net is closed to other users, but every namespace has a /proc/net of its own, whose files any user may
    look at: the same inode is the same namespace.
    """
    try:
        return (proc / "1/net/dev").stat().st_ino == (proc / "self/net/dev").stat().st_ino
    except OSError:
        return True
