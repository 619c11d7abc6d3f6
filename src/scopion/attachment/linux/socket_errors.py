"""Turns the Linux kernel's errors about an interface that is down or gone into one clear line."""

from __future__ import annotations

import errno
import os

from scopion.attachment.ports import Interface
from scopion.model.errors import InterfaceLost

_SAID = {
    errno.ENETDOWN: "is down: switch it on (ip link set {name} up) or choose another with --interface",
    errno.ENODEV: "is gone: choose another with --interface, see scopion here",
    errno.ENXIO: "is gone: choose another with --interface, see scopion here",
    errno.EADDRNOTAVAIL: "has lost its address: see scopion here",
    errno.ENETUNREACH: "has no route to its own subnet any more: see scopion here",
}


def interface_lost(interface: Interface, error: OSError) -> InterfaceLost:
    """Return the error to raise for what a socket of ``interface`` reported."""
    said = _SAID.get(error.errno or 0)
    text = said.format(name=interface.name) if said else f"cannot be used: {os.strerror(error.errno or errno.EIO)}"
    return InterfaceLost(f"{interface.name} {text}")
