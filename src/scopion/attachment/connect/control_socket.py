"""The control socket of an access point daemon: a Unix datagram socket of this machine."""

from __future__ import annotations

import errno
import socket
import sys
from pathlib import Path

from scopion.attachment.connect.bounded_connection import Bounds
from scopion.attachment.live_lock import require_unlocked
from scopion.model.errors import EnforcerUnreachable

# A daemon that is busy with a channel change answers after a second; later than this it has stopped.
_ANSWER_S = 5.0
_MOST_OCTETS = 65_536
_EVENT = "<"  # unasked messages of the daemon begin with their level in brackets


class LocalControlLine:
    """Implements ``ControlLine`` for a socket of this machine. Raises LiveNetworkLocked, EnforcerUnreachable."""

    def __init__(self, path: str) -> None:
        require_unlocked()
        self._path = path
        if sys.platform != "linux":
            raise EnforcerUnreachable(f"{path}: control sockets are used on Linux only, or over SSH")
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        self._socket.settimeout(_ANSWER_S)
        try:
            # The kernel makes up a name in its abstract space, to which the daemon replies. A file would have to be in
            # a folder that both can see, and a service in its sandbox shares no folder with the daemon.
            self._socket.bind("")
            self._socket.connect(path)
        except OSError as error:
            self._socket.close()
            raise EnforcerUnreachable(_said(path, error)) from None

    def ask(self, command: str) -> str:
        """Send a command as one datagram and return the reply, which is one datagram."""
        bounds = Bounds(_ANSWER_S)  # for all of it: a busy daemon reports events all the time
        try:
            self._socket.settimeout(bounds.left_s())
            self._socket.send(command.encode())
            while True:
                self._socket.settimeout(bounds.left_s())
                reply = self._socket.recv(_MOST_OCTETS).decode(errors="replace")
                if not reply.startswith(_EVENT):
                    return reply
        except TimeoutError:
            raise EnforcerUnreachable(
                f"{self._path} does not answer: see whether the daemon is still running"
            ) from None
        except OSError as error:
            raise EnforcerUnreachable(_said(self._path, error)) from None

    def close(self) -> None:
        """Close the socket; its name goes with it."""
        self._socket.close()


def _said(path: str, error: OSError) -> str:
    if error.errno == errno.ENOENT:
        there = Path(path).parent
        hint = "is hostapd running, with ctrl_interface set?" if not there.exists() else f"{there} has other sockets"
        return f"there is no control socket {path}: {hint}"
    if error.errno in (errno.EACCES, errno.EPERM):
        return f"{path} is closed to this account: join the group that owns it (ctrl_interface_group), or run as root"
    if error.errno in (errno.ECONNREFUSED, errno.ECONNRESET, errno.ENOTCONN, errno.EPIPE):
        return f"{path}: no daemon listens there any more: it has stopped or restarted"
    return f"{path}: {error.strerror or error}"
