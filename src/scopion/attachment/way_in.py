"""Finds the addresses from which somebody is logged in to this machine, if the command was given over SSH (Linux).

``sudo`` removes ``SSH_CONNECTION`` from the environment. Then the processes above this one are asked, then the sockets
of the SSH server among them, whatever its port, and at last all connections to the usual port.
"""

from __future__ import annotations

import os
import sys
from contextlib import suppress
from ipaddress import ip_address
from pathlib import Path

from scopion.model.address import Address, parse_address

_PROC = Path("/proc")
_SSH_PORT = 22
_ESTABLISHED = "01"  # as /proc/net/tcp has it (proc(5))
_INODE = 5  # the position after the state
_MOST_ANCESTORS = 32


def way_in(proc: Path = _PROC) -> frozenset[Address] | None:
    """Return the addresses from which the command may have been given over SSH.

    Empty: it was given at this machine. Several: it may be any of them. None: it was given over SSH, from an address
    that is not known.
    """
    own = os.environ.get("SSH_CONNECTION", "")
    if own:
        return _peer(own)
    servers: list[str] = []
    for process in _ancestors(proc):
        said = _variable(proc / process / "environ", b"SSH_CONNECTION=")
        if said:
            return _peer(said)
        with suppress(OSError):
            if (proc / process / "comm").read_text().startswith("sshd"):
                servers.append(process)
    if not servers:
        return frozenset()
    sockets = {name for process in servers for name in _sockets(proc / process / "fd")}
    return _peers(proc, sockets) or _peers(proc, None) or None


def _ancestors(proc: Path) -> list[str]:
    """Return the numbers of the processes above this one, the nearest first."""
    found: list[str] = []
    number = str(os.getppid())
    while number not in ("0", "1", *found) and len(found) < _MOST_ANCESTORS:
        found.append(number)
        try:
            number = (proc / number / "stat").read_text().rpartition(")")[2].split()[1]
        except (OSError, IndexError):
            break
    return found


def _variable(path: Path, name: bytes) -> str:
    """Return a variable of another process's environment; empty if it has none, or cannot be read."""
    with suppress(OSError):
        for each in path.read_bytes().split(b"\0"):
            if each.startswith(name):
                return each[len(name) :].decode(errors="replace")
    return ""


def _peer(connection: str) -> frozenset[Address]:
    words = connection.split()
    with suppress(ValueError):
        return frozenset([parse_address(words[0])]) if words else frozenset()
    return frozenset()


def _sockets(folder: Path) -> set[str]:
    """Return the numbers (inodes) of a process's sockets; none if they cannot be read."""
    found = set()
    with suppress(OSError):
        for each in folder.iterdir():
            with suppress(OSError):  # closed meanwhile
                kind, _, number = str(each.readlink()).partition(":")
                if kind == "socket":
                    found.add(number.strip("[]"))
    return found


def _peers(proc: Path, sockets: set[str] | None) -> frozenset[Address]:
    """Return the other ends of some sockets' connections, or of all connections to the usual port if it is not known
    which.
    """
    found: set[Address] = set()
    for name in ("tcp", "tcp6"):
        with suppress(OSError, ValueError, IndexError):
            for line in (proc / "net" / name).read_text().splitlines()[1:]:
                _, local, remote, state, *rest = line.split()
                usual = int(local.rpartition(":")[2], 16) == _SSH_PORT
                if state == _ESTABLISHED and (usual if sockets is None else rest[_INODE] in sockets):
                    found.add(_address(remote.rpartition(":")[0]))
    return frozenset(found)


def _address(digits: str) -> Address:
    """Return an address from the kernel's hexadecimal form: words of 32 bits in the machine's order."""
    words = [bytes.fromhex(digits[at : at + 8]) for at in range(0, len(digits), 8)]
    octets = b"".join(word[::-1] if sys.byteorder == "little" else word for word in words)
    address = ip_address(octets)
    mapped = getattr(address, "ipv4_mapped", None)
    return mapped if mapped is not None else address
