"""One conversation with an SNMP agent: columns of its tables, several at once, in large requests (RFC 3416, 4.2.3).

Versions 2c and 3 (RFC 3414), read only. An agent that is silent for a large request is asked for less at once; one that
answers wrongly, endlessly or in circles is left, with what it has said up to then.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine, Mapping, Sequence
from typing import Any, TypeVar

from scopion.attachment.ports import SnmpAccess
from scopion.model.mac import MacAddress
from scopion.model.text import clean

Oid = tuple[int, ...]
Column = dict[Oid, Any]  # the rest of the index, and the value, in the agent's order
Result = TypeVar("Result")

# Values in one answer: some 30 octets each, so about 10 kB, which a switch sends in a few packets, or cuts shorter.
_VALUES_A_REQUEST = 320
_FEWEST_VALUES = 20
_FEW_ROWS = 4  # at once, of a table that is empty most often
# The largest tables of a small network's switches have some ten thousand rows: more are meant to fill our memory.
_MAX_ROWS = 65_536
_MAX_REQUESTS = 2_000
_TIMEOUT_S, _RETRIES = 1.0, 2


class SnmpFailed(Exception):
    """The agent cannot be read; the text has the library's words."""


class SnmpSession:
    """Asks one agent. Use it with ``async with``, inside ``run_within``."""

    def __init__(self, access: SnmpAccess) -> None:
        from pysnmp.hlapi.v3arch import asyncio as snmp

        self._snmp: Any = snmp
        self._access = access
        self._engine: Any = snmp.SnmpEngine()
        self._target: Any = None
        self._values = _VALUES_A_REQUEST
        self.requests = 0
        self.remarks: list[str] = []  # what was wrong with its tables, a clause each

    async def __aenter__(self) -> SnmpSession:
        snmp, access = self._snmp, self._access
        kind = snmp.UdpTransportTarget if access.address.version == 4 else snmp.Udp6TransportTarget
        self._target = await kind.create((str(access.address), access.port), timeout=_TIMEOUT_S, retries=_RETRIES)
        return self

    async def __aexit__(self, *_: object) -> None:
        self._engine.close_dispatcher()

    async def values(self, names: Sequence[Oid]) -> list[Any]:
        """Return single values; one that the agent does not have counts as nothing. Raises SnmpFailed."""
        answer = await self._ask(self._snmp.get_cmd, "", names) if names else []
        found = {tuple(name): value for name, value in answer}
        return [found.get(name) for name in names]

    async def columns(
        self, names: Sequence[Oid], context: str = "", rows: int = 0, *, often_empty: bool = False
    ) -> Mapping[Oid, Column]:
        """Return columns of tables, read side by side. Raises SnmpFailed.

        ``rows`` is how long the longest is said to be, which need not be true; 0 if nothing is: what an agent tells
        beyond the end of a table costs as much as the table. Of tables that are ``often_empty`` a few rows are read
        first. The ``context`` is one of version 3, or what some switches want behind the community (``public@10``).
        """
        found: dict[Oid, Column] = {name: {} for name in names}
        last = {name: name for name in names}  # how far each was read
        unread = list(names)
        while unread:
            times = max(1, self._values // len(unread))
            read = min(len(found[name]) for name in unread)
            if read <= rows != 0:  # the row after the last one shows that it was the last
                times = min(times, rows + 1 - read)
            times = min(times, _FEW_ROWS) if often_empty and not read else times
            answer = await self._ask(self._snmp.bulk_cmd, context, [last[name] for name in unread], times)
            if not answer:
                raise SnmpFailed("it gives an empty answer")
            ended = set[Oid]()
            for number, (full_name, value) in enumerate(answer):
                column, name = unread[number % len(unread)], tuple(full_name)
                if column in ended:
                    continue
                if name[: len(column)] != column or value.__class__.__name__ == "EndOfMibView":
                    ended.add(column)
                elif name <= last[column]:
                    self.remarks.append("a table of its goes in circles")
                    ended.add(column)
                elif len(found[column]) >= _MAX_ROWS:
                    self.remarks.append(f"a table of its has more than {_MAX_ROWS} rows")
                    ended.add(column)
                else:
                    found[column][name[len(column) :]] = value
                    last[column] = name
            unread = [column for column in unread if column not in ended]
        return found

    async def _ask(self, command: Any, context: str, names: Sequence[Oid], times: int = 0) -> list[Any]:
        """Ask once, or again for less while a large answer does not come through."""
        snmp = self._snmp
        while True:
            self.requests += 1
            if self.requests > _MAX_REQUESTS:
                raise SnmpFailed("its tables do not end")
            failure, status, _, answer = await command(
                self._engine, self._credentials(context), self._target, self._context(context),
                *((0, times) if times else ()),
                *(snmp.ObjectType(snmp.ObjectIdentity(name)) for name in names), lookupMib=False,
            )  # fmt: skip
            if not failure and not status:
                return list(answer)
            asked = times * len(names)
            if asked <= _FEWEST_VALUES:
                raise SnmpFailed(str(failure or status.prettyPrint()))
            self._values = max(_FEWEST_VALUES, min(self._values, asked) // 4)
            times = max(1, self._values // len(names))

    def _context(self, context: str) -> Any:
        return self._snmp.ContextData(contextName=context.encode() if self._access.version == "3" else b"")

    def _credentials(self, context: str) -> Any:
        snmp, access = self._snmp, self._access
        if access.version == "2c":
            return snmp.CommunityData(f"{access.community}@{context}" if context else access.community, mpModel=1)
        protocols = {
            "md5": snmp.USM_AUTH_HMAC96_MD5, "sha": snmp.USM_AUTH_HMAC96_SHA, "sha256": snmp.USM_AUTH_HMAC192_SHA256,
            "sha512": snmp.USM_AUTH_HMAC384_SHA512, "des": snmp.USM_PRIV_CBC56_DES, "aes": snmp.USM_PRIV_CFB128_AES,
            "aes256": snmp.USM_PRIV_CFB256_AES,
        }  # fmt: skip
        given: dict[str, Any] = {}
        if access.authentication is not None:
            given |= {"authProtocol": protocols[access.authentication[0]], "authKey": access.authentication[1]}
        if access.privacy is not None:
            given |= {"privProtocol": protocols[access.privacy[0]], "privKey": access.privacy[1]}
        return snmp.UsmUserData(access.user, **given)


def run_within(seconds: float, work: Callable[[], Coroutine[Any, Any, Result]]) -> Result:
    """Run a conversation. Raises TimeoutError after ``seconds``, SnmpFailed for all that the library says is wrong."""
    from pysnmp.error import PySnmpError

    try:
        # A datagram that is no message of SNMP raises within the event loop, which would print it: ignore it until the
        # deadline.
        with asyncio.Runner() as runner:
            runner.get_loop().set_exception_handler(lambda *_: None)
            return runner.run(asyncio.wait_for(work(), seconds))
    except TimeoutError:
        raise
    except (PySnmpError, OSError) as error:  # no route, or keys that the library cannot use
        raise SnmpFailed(str(error)) from None


def advice(access: SnmpAccess, said: str) -> str:
    """Return the library's words, and what to check: an agent that dislikes a community is simply silent."""
    check = "its address, its SNMP service and " + ("the community" if access.version == "2c" else "the user")
    return f"({' '.join(said.split()).rstrip('.')}): check {check} in site.toml"


def number(value: Any) -> int:
    """Return an integer of the agent's; 0, which means nothing in these tables, for anything else."""
    try:
        return int(value)
    except (TypeError, ValueError):
        return 0


def octets(value: Any) -> bytes:
    """Return a text's octets. Only texts have some: the bytes of a number would be as many zeros as its value."""
    return bytes(value.asOctets()) if hasattr(value, "asOctets") else b""


def text(value: Any, limit: int = 80) -> str:
    """Return a text, cleaned: the agent's administrator, or a neighbour of its, has written it."""
    return clean(octets(value)[: 4 * limit].decode("utf-8", "replace"), limit)


def mac(value: Any) -> MacAddress | None:
    """Return a MAC address; None for anything else, or for one that is all zeros."""
    found = octets(value)
    return MacAddress(found) if len(found) == 6 and any(found) else None
