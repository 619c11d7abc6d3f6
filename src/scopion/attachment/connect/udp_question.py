"""One question by UDP, repeated until it is answered."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable
from typing import TypeVar

from scopion.attachment.live_lock import require_unlocked
from scopion.model.address import Address
from scopion.model.errors import NoInterface

_LONGEST = 4_097
_Read = TypeVar("_Read")


def ask_by_udp(
    question: bytes,
    address: Address,
    port: int,
    read: Callable[[bytes], _Read | None],
    *,
    source: Address | None = None,
    wait_s: float = 1.0,
    tries: int = 2,
) -> _Read | None:
    """Return the first answer that ``read`` takes for one; None if none came in ``tries`` times ``wait_s`` seconds.

    ``source``: the address of this machine to ask from. Raises NoInterface if it has none of that, LiveNetworkLocked.
    """
    if not address.is_loopback:
        require_unlocked()
    family = socket.AF_INET if address.version == 4 else socket.AF_INET6
    with socket.socket(family, socket.SOCK_DGRAM) as used:
        try:
            if source is not None:
                used.bind((str(source), 0))
            used.connect((str(address), port))
        except OSError as error:
            where = f"from {source} " if source is not None else ""
            raise NoInterface(f"{address} cannot be asked {where}by UDP: {error.strerror}") from None
        for _ in range(tries):
            end = time.monotonic() + wait_s
            try:
                used.send(question)
                while (left := end - time.monotonic()) > 0:
                    used.settimeout(left)
                    if (found := read(used.recv(_LONGEST))) is not None:
                        return found
            except TimeoutError:
                continue
            except ConnectionRefusedError:  # nothing listens there: it may be just starting
                time.sleep(min(0.3, wait_s))
            except OSError as error:
                raise NoInterface(f"{address} cannot be asked by UDP: {error.strerror}") from None
    return None
