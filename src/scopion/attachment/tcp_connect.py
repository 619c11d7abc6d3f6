"""TCP connections that are closed as soon as they are open: a host that accepts or refuses one is there."""

from __future__ import annotations

import errno
import selectors
import socket
import time

from scopion.attachment.ports import Connected
from scopion.model.address import Address

# A process may have 1,024 files open by default; the rest of the program needs some.
MAX_ATTEMPTS = 512
# A host that has not answered by then is not there, or behind a filter that drops.
ATTEMPT_S = 0.7
_PENDING = (0, errno.EINPROGRESS, errno.EWOULDBLOCK)


class TcpConnector:
    """A ``Connector``."""

    def __init__(self) -> None:
        self._selector = selectors.DefaultSelector()
        self._attempts: dict[socket.socket, tuple[Address, int, float]] = {}
        self._decided: list[Connected] = []

    def start(self, address: Address, port: int) -> bool:
        """Begin to connect."""
        self._give_up(time.monotonic())
        if len(self._attempts) >= MAX_ATTEMPTS:
            return False
        used = socket.socket(socket.AF_INET if address.version == 4 else socket.AF_INET6, socket.SOCK_STREAM)
        used.setblocking(False)
        result = used.connect_ex((str(address), port))
        if result not in _PENDING:
            used.close()
            self._decide(address, port, result)
            return True
        self._attempts[used] = (address, port, time.monotonic())
        self._selector.register(used, selectors.EVENT_WRITE)
        return True

    def results(self, deadline: float) -> tuple[Connected, ...]:
        """Return the results since the last call."""
        left = 0.0 if self._decided else deadline - time.monotonic()
        for key, _ in self._selector.select(max(0.0, left)):
            used = key.fileobj
            assert isinstance(used, socket.socket)
            address, port, _ = self._attempts[used]
            self._decide(address, port, used.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR))
            self._drop(used)
        self._give_up(time.monotonic())
        decided, self._decided = tuple(self._decided), []
        return decided

    def close(self) -> None:
        """End all attempts."""
        for used in list(self._attempts):
            self._drop(used)
        self._selector.close()

    def _decide(self, address: Address, port: int, result: int) -> None:
        if result in (0, errno.ECONNREFUSED):
            self._decided.append(Connected(address, port, accepted=result == 0, at=time.monotonic()))

    def _give_up(self, now: float) -> None:
        for used in [used for used, (_, _, began) in self._attempts.items() if now - began > ATTEMPT_S]:
            self._drop(used)

    def _drop(self, used: socket.socket) -> None:
        self._selector.unregister(used)
        del self._attempts[used]
        used.close()
