"""Reads a router's address table over SNMP: the hosts on the subnets behind it.

It reads ipNetToPhysicalTable (RFC 4293), or ipNetToMediaTable (RFC 1213) if a router does not have that; the router's
own addresses come from its address and interface tables.
"""

from __future__ import annotations

from ipaddress import ip_address

from scopion.attachment.connect.snmp_session import SnmpFailed, SnmpSession, advice, mac, number, run_within
from scopion.attachment.ports import Neighbour, NeighbourState, SnmpAccess
from scopion.model.address import Address
from scopion.model.errors import RouterUnreadable

_PHYSICAL_ADDRESS, _PHYSICAL_STATE = (1, 3, 6, 1, 2, 1, 4, 35, 1, 4), (1, 3, 6, 1, 2, 1, 4, 35, 1, 7)
_MEDIA_ADDRESS, _MEDIA_TYPE = (1, 3, 6, 1, 2, 1, 4, 22, 1, 2), (1, 3, 6, 1, 2, 1, 4, 22, 1, 4)
_OWN_ADDRESS_INTERFACE, _INTERFACE_MAC = (1, 3, 6, 1, 2, 1, 4, 20, 1, 2), (1, 3, 6, 1, 2, 1, 2, 2, 1, 6)
_STATES = {  # ipNetToPhysicalState; 5 is invalid, 7 incomplete
    1: NeighbourState.REACHABLE, 2: NeighbourState.STALE, 3: NeighbourState.CHECKING, 4: NeighbourState.CHECKING,
}  # fmt: skip
_MEDIA_INVALID = 2
_WHOLE_S = 30.0


def read_router_table(access: SnmpAccess) -> tuple[Neighbour, ...]:
    """Return all entries that pair an address with a MAC address. Raises RouterUnreadable."""
    try:
        return run_within(_WHOLE_S, lambda: _read(access))
    except TimeoutError:
        raise RouterUnreadable(f"{access.address} takes longer than {_WHOLE_S:.0f} s to give its table") from None
    except SnmpFailed as error:
        problem = f"the router {access.address} does not give its address table {advice(access, str(error))}"
        raise RouterUnreadable(problem) from None


async def _read(access: SnmpAccess) -> tuple[Neighbour, ...]:
    async with SnmpSession(access) as session:
        table = await session.columns([_PHYSICAL_ADDRESS, _PHYSICAL_STATE, _OWN_ADDRESS_INTERFACE, _INTERFACE_MAC])
        states = table[_PHYSICAL_STATE]
        found = [
            Neighbour(address, owner, _STATES.get(number(states.get(row, 1)), NeighbourState.FAILED))
            for row, value in table[_PHYSICAL_ADDRESS].items()
            if (address := _counted_address(row[1:])) and (owner := mac(value))
        ]
        if not found:
            media = await session.columns([_MEDIA_ADDRESS, _MEDIA_TYPE])
            found = [
                Neighbour(address, owner, NeighbourState.STALE)
                for row, value in media[_MEDIA_ADDRESS].items()
                if number(media[_MEDIA_TYPE].get(row)) != _MEDIA_INVALID
                and (address := _address(row[1:]))
                and (owner := mac(value))
            ]
        macs = {row[0]: mac(value) for row, value in table[_INTERFACE_MAC].items() if row}
        found += [
            Neighbour(address, owner, NeighbourState.FIXED)
            for row, value in table[_OWN_ADDRESS_INTERFACE].items()
            if (address := _address(row)) and (owner := macs.get(number(value)))
        ]
        return tuple(entry for entry in found if entry.state is not NeighbourState.FAILED)


def _counted_address(row: tuple[int, ...]) -> Address | None:
    """Return an InetAddress in an index (RFC 4001, 4.1): its type, its length, its octets; None if it is malformed."""
    return _address(row[2 : 2 + row[1]]) if len(row) > 2 and row[0] in (1, 2) else None


def _address(numbers: tuple[int, ...]) -> Address | None:
    if len(numbers) not in (4, 16) or any(number > 255 for number in numbers):
        return None
    return ip_address(bytes(numbers))
