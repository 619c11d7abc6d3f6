"""The control socket of an access point daemon: a Unix datagram socket of this machine."""

from __future__ import annotations

import errno
import os
import secrets
import socket
import sys
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from tempfile import gettempdir

from scopion.attachment.connect.bounded_connection import Bounds
from scopion.attachment.live_lock import require_unlocked
from scopion.model.errors import EnforcerUnreachable

# A daemon that is busy with a channel change answers after a second; later than this it has stopped.
_ANSWER_S = 5.0
_ABSTRACT_S = 1.5  # then the answers may not reach us
_OWN = ".scopion-"  # what a name of ours begins with
_MOST_OCTETS = 65_536
_DEBUG = 2
_MOST_UNASKED = 64
_EVENT = "<"  # what the daemon says by itself begins with its level in brackets


class LocalControlLine:
    """Implements ``HearingLine`` for a socket of this machine. Raises LiveNetworkLocked, EnforcerUnreachable.

    The daemon answers to the address of our own socket. The kernel makes one up in its abstract space, which needs no
    folder that both can see; but that space ends at the network's namespace. From a container, or another namespace,
    the answers come to a socket in the folder of the daemon's own, or in that for temporary files, if both see it.
    """

    def __init__(self, path: str) -> None:
        require_unlocked()
        self._path = path
        self._own: Path | None = None  # a socket of ours that has a name
        self.remark = ""
        self._unasked: deque[str] = deque(maxlen=_MOST_UNASKED)  # came while a reply was waited for
        if sys.platform != "linux":
            raise EnforcerUnreachable(f"{path}: control sockets are used on Linux only, or over SSH")
        self._socket = _connected(path, "")
        if self._is_heard(_ABSTRACT_S):
            return
        self._socket.close()
        for folder in dict.fromkeys((Path(path).parent, Path(gettempdir()))):
            own = folder / f"{_OWN}{os.getpid()}-{secrets.token_hex(4)}"
            try:
                self._socket = _connected(path, str(own))
                own.chmod(0o666)  # the daemon may run as anybody; a connected socket hears no one else
            except (OSError, EnforcerUnreachable):
                own.unlink(missing_ok=True)
                continue
            self._own = own
            if self._is_heard(_ANSWER_S):
                self.remark = (
                    f"the answers of {path} come to {own}: none came to the address that the kernel makes up, as from "
                    "another network namespace"
                )
                _clear_away(folder)
                return
            self.close()
        raise EnforcerUnreachable(
            f"{path} does not answer: see whether the daemon is still running; in another network namespace than this "
            f"program it can answer only if both see the folder {Path(path).parent}, and this account may write there"
        )

    def _is_heard(self, within_s: float) -> bool:
        try:
            return self._ask("PING", within_s).strip() == "PONG"
        except TimeoutError:
            return False
        except OSError as error:
            self.close()
            raise EnforcerUnreachable(_said(self._path, error)) from None

    def ask(self, command: str) -> str:
        """Send a command as one datagram and return the reply, which is one datagram."""
        try:
            return self._ask(command, _ANSWER_S)
        except TimeoutError:
            raise EnforcerUnreachable(
                f"{self._path} does not answer: see whether the daemon is still running"
            ) from None
        except OSError as error:
            raise EnforcerUnreachable(_said(self._path, error)) from None

    def _ask(self, command: str, within_s: float) -> str:
        bounds = Bounds(within_s)  # for all of it: a busy daemon reports events all the time
        self._socket.settimeout(bounds.left_s())
        self._socket.send(command.encode())
        while True:
            self._socket.settimeout(bounds.left_s())
            reply = self._socket.recv(_MOST_OCTETS).decode(errors="replace")
            if not reply.startswith(_EVENT):
                return reply
            self._unasked.append(reply)

    def hear(self, until: float, take: Callable[[str], None]) -> None:
        """Attach, and hand over what comes, down to the debug level, because that tells refusals.

        A daemon that could not deliver for a moment gives up; then it is asked once more.
        """
        level = f"LEVEL {_DEBUG}"
        if self.ask(level).strip() != "OK" and (self.ask("ATTACH").strip(), self.ask(level).strip()) != ("OK", "OK"):
            raise EnforcerUnreachable(f"{self._path} does not report what happens")
        while self._unasked:
            take(self._unasked.popleft())
        try:
            while (left := until - time.monotonic()) > 0:
                self._socket.settimeout(left)
                with suppress(TimeoutError):
                    take(self._socket.recv(_MOST_OCTETS).decode(errors="replace"))
        except OSError as error:
            raise EnforcerUnreachable(_said(self._path, error)) from None

    def close(self) -> None:
        """Close the socket; its name goes with it."""
        self._socket.close()
        if self._own is not None:
            self._own.unlink(missing_ok=True)


def _connected(path: str, own: str) -> socket.socket:
    """Return a socket that is connected to the daemon's; ``own`` empty: the kernel gives ours a name."""
    made = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
    try:
        made.settimeout(_ANSWER_S)
        made.bind(own)
        made.connect(path)
    except OSError as error:
        made.close()
        raise EnforcerUnreachable(_said(path, error)) from None
    return made


def _clear_away(folder: Path) -> None:
    """Remove the sockets that killed processes of ours have left in a folder: no process listens at them any more."""
    for each in folder.glob(f"{_OWN}*"):
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as line, suppress(OSError):
            try:
                line.connect(str(each))
            except ConnectionRefusedError:
                each.unlink()


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
