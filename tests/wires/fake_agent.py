"""An SNMP agent on this machine's loopback, with a table that a test makes up, and ways of being odd."""

from __future__ import annotations

import socket
import threading
import time
from bisect import bisect_right
from collections.abc import Callable, Mapping
from operator import itemgetter
from typing import Any

from pyasn1.codec.ber import decoder, encoder  # type: ignore[import-untyped]
from pysnmp.proto import api

Oid = tuple[int, ...]
V2 = api.PROTOCOL_MODULES[api.SNMP_VERSION_2C]
BRIDGE: Oid = (1, 3, 6, 1, 2, 1, 17)
INTERFACES, FDB = (1, 3, 6, 1, 2, 1, 2, 2, 1), (*BRIDGE, 4, 3, 1, 2)


class FakeAgent:
    """An agent on this machine's loopback: a table, and a function that says what follows a name."""

    def __init__(
        self,
        table: dict[Oid, Any],
        follows: Callable[[Oid], tuple[Oid, Any] | None] | None = None,
        *,
        values: int = 40,
        others: Mapping[str, dict[Oid, Any]] | None = None,
        refuses: Oid = (2,),
        silent: Oid = (2,),
    ) -> None:
        # By community: a switch may have a table for each VLAN, behind a community of its own.
        self._tables = {name: sorted(each.items()) for name, each in {"x": table, **(others or {})}.items()}
        self._rows = self._tables["x"]
        self._follows = follows
        self._refuses = refuses  # with an error instead of "no such thing"
        self._silent = silent  # what it never answers about
        self._values = values  # at most, in one answer
        self.questions = 0
        self.pause_s = 0.0
        self._line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._line.bind(("127.0.0.1", 0))
        self.port = self._line.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def close(self) -> None:
        self._line.close()

    def _serve(self) -> None:
        while True:
            try:
                data, sender = self._line.recvfrom(65_535)
                self.questions += 1
                time.sleep(self.pause_s)
                if answer := self._answer(data):
                    self._line.sendto(answer, sender)
            except OSError:
                return

    def _answer(self, data: bytes) -> bytes:
        message, _ = decoder.decode(data, asn1Spec=V2.Message())
        self._rows = self._tables[str(V2.apiMessage.get_community(message))]
        asked = V2.apiMessage.get_pdu(message)
        answer = V2.apiMessage.get_response(message)
        told = V2.apiMessage.get_pdu(answer)
        names = [tuple(name) for name, _ in V2.apiPDU.get_varbinds(asked)]
        if any(name[: len(self._silent)] == self._silent for name in names):
            return b""
        if isinstance(asked, V2.GetRequestPDU):
            known = dict(self._rows)
            found = [(name, known.get(name, V2.Null(""))) for name in names]
        else:
            found = []
            times = min(int(V2.apiBulkPDU.get_max_repetitions(asked)), max(1, self._values // len(names)))
            for _ in range(times):
                following = [self._next(name) for name in names]
                found += following
                names = [name for name, _ in following]
        if any(each[: len(self._refuses)] == self._refuses for each, _ in V2.apiPDU.get_varbinds(asked)):
            V2.apiPDU.set_error_status(told, 5)  # genErr
            V2.apiPDU.set_error_index(told, 1)
        V2.apiPDU.set_varbinds(told, found)
        encoded: bytes = encoder.encode(answer)
        return encoded

    def _next(self, name: Oid) -> tuple[Oid, Any]:
        if self._follows is not None and (following := self._follows(name)) is not None:
            return following
        at = bisect_right(self._rows, name, key=itemgetter(0))
        return self._rows[at] if at < len(self._rows) else ((2, 1), V2.Null(""))


def ports(count: int) -> dict[Oid, Any]:
    """A switch with so many ports, whose counters are narrow."""
    found: dict[Oid, Any] = {}
    for number in range(1, count + 1):
        found[*BRIDGE, 1, 4, 1, 2, number] = V2.Integer(number)
        found[*INTERFACES, 2, number] = V2.OctetString(f"Port {number}\x1b[2J")
        found[*INTERFACES, 8, number] = V2.Integer(1)
        found[*INTERFACES, 10, number] = V2.Counter32(number)
        found[*INTERFACES, 16, number] = V2.Counter32(number)
    return found
