"""Reads a router's address table over SNMP: the hosts on the subnets behind it.

It reads ipNetToPhysicalTable (RFC 4293), or ipNetToMediaTable (RFC 1213) if a router does not have that; the router's
own addresses come from its address and interface tables. Versions 2c (RFC 3416) and 3 (RFC 3414), read only.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from ipaddress import ip_address
from typing import Any

from scopion.attachment.ports import Neighbour, NeighbourState, RouterAccess
from scopion.model.address import Address
from scopion.model.errors import RouterUnreadable
from scopion.model.mac import MacAddress

_PHYSICAL_ADDRESS, _PHYSICAL_STATE = (1, 3, 6, 1, 2, 1, 4, 35, 1, 4), (1, 3, 6, 1, 2, 1, 4, 35, 1, 7)
_MEDIA_ADDRESS, _MEDIA_TYPE = (1, 3, 6, 1, 2, 1, 4, 22, 1, 2), (1, 3, 6, 1, 2, 1, 4, 22, 1, 4)
_OWN_ADDRESS_INTERFACE, _INTERFACE_MAC = (1, 3, 6, 1, 2, 1, 4, 20, 1, 2), (1, 3, 6, 1, 2, 1, 2, 2, 1, 6)
_STATES = {  # ipNetToPhysicalState; 5 is invalid, 7 incomplete
    1: NeighbourState.REACHABLE, 2: NeighbourState.STALE, 3: NeighbourState.CHECKING, 4: NeighbourState.CHECKING,
}  # fmt: skip
_MEDIA_INVALID = 2
_ROWS_A_REQUEST = 25
# A router's table has a few thousand entries; a longer one is meant to fill our memory.
_MAX_ROWS = 65_536
_TIMEOUT_S, _RETRIES = 1.0, 2
_WHOLE_S = 30.0

_Row = tuple[tuple[int, ...], Any]  # the rest of the index, and the value


def read_router_table(access: RouterAccess) -> tuple[Neighbour, ...]:
    """Return all entries that pair an address with a MAC address. Raises RouterUnreadable."""
    from pysnmp.error import PySnmpError

    try:
        # A datagram that is no message of SNMP raises within the event loop, which would print it: ignore it until the
        # deadline.
        with asyncio.Runner() as runner:
            runner.get_loop().set_exception_handler(lambda *_: None)
            return runner.run(asyncio.wait_for(_read(access), _WHOLE_S))
    except TimeoutError:
        raise RouterUnreadable(f"{access.address} takes longer than {_WHOLE_S:.0f} s to give its table") from None
    except (PySnmpError, OSError) as error:  # no route, or keys that the library cannot use
        raise RouterUnreadable(_reason(access, str(error))) from None


async def _read(access: RouterAccess) -> tuple[Neighbour, ...]:
    async with _Reader(access) as reader:
        states = {row: _number(value) async for row, value in reader.column(_PHYSICAL_STATE)}
        found = [
            Neighbour(address, mac, _STATES.get(states.get(row, 1), NeighbourState.FAILED))
            async for row, value in reader.column(_PHYSICAL_ADDRESS)
            if (address := _counted_address(row[1:])) and (mac := _mac(value))
        ]
        if not found:
            types = {row: _number(value) async for row, value in reader.column(_MEDIA_TYPE)}
            found = [
                Neighbour(address, mac, NeighbourState.STALE)
                async for row, value in reader.column(_MEDIA_ADDRESS)
                if types.get(row) != _MEDIA_INVALID and (address := _address(row[1:])) and (mac := _mac(value))
            ]
        macs = {row[0]: _mac(value) async for row, value in reader.column(_INTERFACE_MAC) if row}
        found += [
            Neighbour(address, mac, NeighbourState.FIXED)
            async for row, value in reader.column(_OWN_ADDRESS_INTERFACE)
            if (address := _address(row)) and (mac := macs.get(_number(value)))
        ]
        return tuple(entry for entry in found if entry.state is not NeighbourState.FAILED)


class _Reader:
    """One session with a router."""

    def __init__(self, access: RouterAccess) -> None:
        from pysnmp.hlapi.v3arch import asyncio as snmp

        self._snmp: Any = snmp
        self._access = access
        self._engine: Any = snmp.SnmpEngine()
        self._target: Any = None

    async def __aenter__(self) -> _Reader:
        snmp, access = self._snmp, self._access
        kind = snmp.UdpTransportTarget if access.address.version == 4 else snmp.Udp6TransportTarget
        self._target = await kind.create((str(access.address), access.port), timeout=_TIMEOUT_S, retries=_RETRIES)
        return self

    async def __aexit__(self, *_: object) -> None:
        self._engine.close_dispatcher()

    async def column(self, number: tuple[int, ...]) -> AsyncIterator[_Row]:
        """The rows of a column, in the router's order."""
        snmp = self._snmp
        walk = snmp.bulk_walk_cmd(
            self._engine, self._credentials(), self._target, snmp.ContextData(), 0, _ROWS_A_REQUEST,
            snmp.ObjectType(snmp.ObjectIdentity(number)), lexicographicMode=False, lookupMib=False,
        )  # fmt: skip
        rows = 0
        async for failure, status, _, bindings in walk:
            if failure or status:
                raise RouterUnreadable(_reason(self._access, str(failure or status.prettyPrint())))
            for name, value in bindings:
                rows += 1
                if tuple(name)[: len(number)] != number or rows > _MAX_ROWS:
                    return
                yield tuple(name)[len(number) :], value

    def _credentials(self) -> Any:
        snmp, access = self._snmp, self._access
        if access.version == "2c":
            return snmp.CommunityData(access.community, mpModel=1)
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


def _reason(access: RouterAccess, said: str) -> str:
    """Return the library's words with what to check; a router that dislikes a community is simply silent."""
    check = "its address, its SNMP service and " + ("the community" if access.version == "2c" else "the user")
    text = " ".join(said.split()).rstrip(".")
    return f"the router {access.address} does not give its address table ({text}): check {check} in site.toml"


def _number(value: Any) -> int:
    """Return an integer of the router's; 0, which means nothing in these tables, for anything else."""
    try:
        return int(value)
    except (TypeError, ValueError):
        return 0


def _mac(value: Any) -> MacAddress | None:
    # Only texts have octets: the bytes of a number would be as many zeros as its value.
    octets = value.asOctets() if hasattr(value, "asOctets") else b""
    return MacAddress(octets) if len(octets) == 6 and any(octets) else None


def _counted_address(row: tuple[int, ...]) -> Address | None:
    """Return an InetAddress in an index (RFC 4001, 4.1): its type, its length, its octets; None if it is malformed."""
    return _address(row[2 : 2 + row[1]]) if len(row) > 2 and row[0] in (1, 2) else None


def _address(numbers: tuple[int, ...]) -> Address | None:
    if len(numbers) not in (4, 16) or any(number > 255 for number in numbers):
        return None
    return ip_address(bytes(numbers))
