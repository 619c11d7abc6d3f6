"""Reads a switch over SNMP: its ports, its forwarding tables, and the neighbours that it hears.

The tables are those of BRIDGE-MIB (RFC 4188), Q-BRIDGE-MIB (RFC 4363), IF-MIB (RFC 2863) and LLDP-MIB (IEEE 802.1AB).
A switch with 48 ports and 500 adapters is read in about ten requests.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from ipaddress import ip_address

from scopion.attachment.connect.snmp_session import (
    Column,
    Oid,
    SnmpFailed,
    SnmpSession,
    advice,
    mac,
    number,
    octets,
    run_within,
    text,
)
from scopion.attachment.ports import SwitchAccess
from scopion.model.address import Address
from scopion.model.errors import SwitchUnreadable
from scopion.model.mac import MacAddress
from scopion.model.wires import Learned, LldpNeighbour, PortCounters, SwitchPort, SwitchReading, numbered

_MIB = (1, 3, 6, 1, 2, 1)
_SYSTEM_NAME, _UPTIME, _INTERFACES = (*_MIB, 1, 5, 0), (*_MIB, 1, 3, 0), (*_MIB, 2, 1, 0)
_BRIDGE = (*_MIB, 17)
_BRIDGE_MAC, _BRIDGE_PORTS = (*_BRIDGE, 1, 1, 0), (*_BRIDGE, 1, 2, 0)
_PORT_INTERFACE = (*_BRIDGE, 1, 4, 1, 2)
# Which entries are the switch's own (the status column) follows from its adapters: half of the table is left unread.
_FDB_PORT, _VLAN_FDB_PORT = (*_BRIDGE, 4, 3, 1, 2), (*_BRIDGE, 7, 1, 2, 2, 1, 2)
_FDB_OF_VLAN, _FDB_SIZE = (*_BRIDGE, 7, 1, 4, 2, 1, 3), (*_BRIDGE, 7, 1, 2, 1, 1, 2)
_MOST_SIZES = 32  # asked for at once
_IF, _IFX = (*_MIB, 2, 2, 1), (*_MIB, 31, 1, 1, 1)
_IF_DESCRIPTION, _IF_SPEED, _IF_MAC, _IF_STATUS = (*_IF, 2), (*_IF, 5), (*_IF, 6), (*_IF, 8)
_IF_IN, _IF_IN_ERRORS, _IF_OUT, _IF_OUT_ERRORS = (*_IF, 10), (*_IF, 14), (*_IF, 16), (*_IF, 20)
_IF_NAME, _IF_IN_64, _IF_OUT_64, _IF_MBIT, _IF_ALIAS = (
    (*_IFX, 1), (*_IFX, 6), (*_IFX, 10), (*_IFX, 15), (*_IFX, 18),
)  # fmt: skip
_LLDP = (1, 0, 8802, 1, 1, 2, 1)
_LLDP_PORT_KIND, _LLDP_PORT = (*_LLDP, 3, 7, 1, 2), (*_LLDP, 3, 7, 1, 3)
_FAR_CHASSIS_KIND, _FAR_CHASSIS, _FAR_PORT_KIND, _FAR_PORT, _FAR_PORT_SAYS, _FAR_NAME, _FAR_ABLE = (
    (*_LLDP, 4, 1, 1, 4), (*_LLDP, 4, 1, 1, 5), (*_LLDP, 4, 1, 1, 6), (*_LLDP, 4, 1, 1, 7), (*_LLDP, 4, 1, 1, 8),
    (*_LLDP, 4, 1, 1, 9), (*_LLDP, 4, 1, 1, 12),
)  # fmt: skip
_FAR_ADDRESS = (*_LLDP, 4, 2, 1, 3)
# What tells how much passed at each port, and what a port is.
_COUNTING = (_PORT_INTERFACE, _IF_NAME, _IF_MBIT, _IF_STATUS, _IF_IN_64, _IF_OUT_64)
_ALL_COLUMNS = (*_COUNTING, _IF_ALIAS, _IF_MAC, _IF_IN_ERRORS, _IF_OUT_ERRORS, _FDB_OF_VLAN)
_OF_INTERFACES = (*_COUNTING[1:], _IF_ALIAS, _IF_MAC, _IF_DESCRIPTION, _IF_SPEED, _IF_IN)
_UP = 1  # ifOperStatus
_CHASSIS_IS_MAC, _PORT_IS_MAC, _PORT_IS_NAME = 4, 3, 5  # LldpChassisIdSubtype, LldpPortIdSubtype
_BRIDGES, _RADIO = 0x20, 0x10  # LldpSystemCapabilitiesMap, of its first octet
_LATEST_ROW = 1 << 16
_LATEST_PORT = 4096  # a switch with more ports is a mistake, or meant to fill our memory
_MOST_COUNTED = 1 << 62  # octets: more than passes any port in a thousand years, or than the roster can keep
_WHOLE_S = 20.0


def read_switch(access: SwitchAccess) -> SwitchReading:
    """Return what a switch tells. Raises SwitchUnreadable."""
    address = access.snmp.address
    try:
        return run_within(_WHOLE_S, lambda: _read(access))
    except TimeoutError:
        problem = f"{access.name} ({address}) takes longer than {_WHOLE_S:.0f} s to give its tables"
        raise SwitchUnreadable(problem) from None
    except SnmpFailed as error:
        problem = f"the switch {access.name} ({address}) does not give its tables {advice(access.snmp, str(error))}"
        raise SwitchUnreadable(problem) from None


async def _read(access: SwitchAccess) -> SwitchReading:
    async with SnmpSession(access.snmp) as session:
        name, uptime, own, ports, interfaces = await session.values(
            [_SYSTEM_NAME, _UPTIME, _BRIDGE_MAC, _BRIDGE_PORTS, _INTERFACES]
        )
        rows = min(max(number(ports), number(interfaces)), _LATEST_PORT)
        wiring = await _read_ports(session, rows, _COUNTING if access.only_counters else _ALL_COLUMNS)
        learned = await _read_tables(session, access, wiring) if not access.only_counters else []
        neighbours: Sequence[LldpNeighbour] | None = ()
        if not access.only_counters:
            try:
                neighbours = await _read_neighbours(session, wiring, rows)
            except SnmpFailed as error:  # often a program of its own in the switch: all else was told
                neighbours = None
                session.remarks.append(f"it does not tell its neighbours by LLDP ({error})")
        if not wiring.ports:
            raise SnmpFailed("it has no ports of a bridge: is it a switch")
        macs = {*wiring.macs, *filter(None, [mac(own)])}
        return SwitchReading(
            switch=access.name,
            name=text(name),
            uptime=number(uptime),
            macs=frozenset(macs),
            ports=tuple(wiring.ports.values()),
            learned=tuple(each for each in learned if each.mac not in macs),
            neighbours=tuple(neighbours) if neighbours is not None else None,
            remarks=tuple(dict.fromkeys(session.remarks)),
        )


class _Ports:
    """The ports of a switch, and by which numbers its tables mean them."""

    def __init__(self, table: Mapping[Oid, Column], ports: Mapping[int, SwitchPort]) -> None:
        interfaces = {row[0]: number(value) for row, value in table[_PORT_INTERFACE].items() if len(row) == 1}
        self.ports = {each.name: each for each in numbered(ports.values())}
        self.by_number = {each.number: each.name for each in self.ports.values()}
        self.by_interface = {
            interface: self.by_number[bridge]
            for bridge, interface in (interfaces or {each: each for each in ports}).items()
            if bridge in self.by_number
        }
        found = {row[0]: mac(value) for row, value in table[_IF_MAC].items() if len(row) == 1}
        self.vlans = {number(value): row[-1] for row, value in table[_FDB_OF_VLAN].items() if row}  # by their tables
        self.macs = {each: self.by_interface.get(interface, "") for interface, each in found.items() if each}


async def _read_ports(session: SnmpSession, rows: int, columns: Sequence[Oid]) -> _Ports:
    """Read the ports with their names, speeds and counts."""
    table: dict[Oid, Column] = {each: {} for each in _ALL_COLUMNS}
    table |= await session.columns(columns, rows=rows)
    if not table[_IF_IN_64] or not table[_IF_NAME] or not table[_IF_MBIT]:  # no ifXTable, or not all of it
        table |= await session.columns([_IF_DESCRIPTION, _IF_SPEED, _IF_IN, _IF_OUT], rows=rows)
    numbers = {row[0]: number(value) for row, value in table[_PORT_INTERFACE].items() if len(row) == 1}
    told = {row[0] for each in _OF_INTERFACES for row in table.get(each, ()) if len(row) == 1}
    # A port that was put in a moment ago: its name follows. Under its number it would be another port.
    nameless = {each for each, interface in numbers.items() if told and interface not in told}
    if nameless:
        which = f"its port {min(nameless)} is" if len(nameless) == 1 else f"{len(nameless)} of its ports are"
        session.remarks.append(f"{which} in no table of its interfaces, and left out")
        numbers = {port: interface for port, interface in numbers.items() if port not in nameless}
    if not numbers:  # it counts its ports as its interfaces
        numbers = {row[0]: row[0] for row, value in table[_IF_MAC].items() if len(row) == 1 and mac(value)}
    return _Ports(
        table, {port: _port(table, port, interface) for port, interface in list(numbers.items())[:_LATEST_PORT]}
    )


def _port(table: Mapping[Oid, Column], port: int, interface: int) -> SwitchPort:
    row = (interface,)

    def told(*columns: Oid) -> object:
        return next((table[each][row] for each in columns if row in table.get(each, ())), None)

    status = told(_IF_STATUS)
    mbit = number(told(_IF_MBIT)) or number(told(_IF_SPEED)) // 1_000_000
    counters = None
    wide = row in table[_IF_IN_64] and row in table[_IF_OUT_64]
    received, sent = (told(_IF_IN_64), told(_IF_OUT_64)) if wide else (told(_IF_IN), told(_IF_OUT))
    if received is not None and sent is not None and max(number(received), number(sent)) <= _MOST_COUNTED:
        errors = number(told(_IF_IN_ERRORS)) + number(told(_IF_OUT_ERRORS))
        counters = PortCounters(number(received), number(sent), errors, 64 if wide else 32)
    return SwitchPort(
        name=text(told(_IF_NAME), 40) or text(told(_IF_DESCRIPTION), 40),
        number=port,
        alias=text(told(_IF_ALIAS)),
        speed_mbit=mbit,
        up=number(status) == _UP if status is not None else None,
        counters=counters,
    )


async def _read_tables(session: SnmpSession, access: SwitchAccess, wiring: _Ports) -> list[Learned]:
    """Read what was learned on each port, in each VLAN as far as the switch tells."""
    found: list[Learned] = []

    def take(ports: Column, vlans: Mapping[int, int], by_number: Mapping[int, str]) -> None:
        for row, value in ports.items():
            table, adapter = (row[0], row[1:]) if len(row) == 7 else (0, row)
            port = by_number.get(number(value))
            if port is not None and len(adapter) == 6 and all(each < 256 for each in adapter) and not adapter[0] & 1:
                found.append(Learned(MacAddress(bytes(adapter)), port, vlans.get(table, table)))

    table = (await session.columns([_VLAN_FDB_PORT], rows=await _said_rows(session, wiring)))[_VLAN_FDB_PORT]
    if table:
        take(table, wiring.vlans, wiring.by_number)
    elif not access.vlans:
        take((await session.columns([_FDB_PORT]))[_FDB_PORT], {}, wiring.by_number)
    for vlan in access.vlans:
        context = f"vlan-{vlan}" if access.snmp.version == "3" else str(vlan)
        tables = await session.columns([_FDB_PORT, _PORT_INTERFACE], context)
        # The ports may be numbered in each VLAN by themselves.
        numbers = {
            row[0]: wiring.by_interface[number(value)]
            for row, value in tables[_PORT_INTERFACE].items()
            if len(row) == 1 and number(value) in wiring.by_interface
        }
        take(tables[_FDB_PORT], {0: vlan}, numbers or wiring.by_number)
    return found


async def _said_rows(session: SnmpSession, wiring: _Ports) -> int:
    """Return how many adapters a switch says that it has learned; 0 if it does not say it."""
    try:
        sizes = await session.values([(*_FDB_SIZE, each) for each in list(wiring.vlans)[:_MOST_SIZES]])
    except SnmpFailed:  # an error instead of "no such thing": the table itself can be read all the same
        return 0
    return sum(min(number(each), _LATEST_ROW) for each in sizes)


async def _read_neighbours(session: SnmpSession, wiring: _Ports, rows: int) -> list[LldpNeighbour]:
    """Read who says at which port that it hangs there."""
    table = await session.columns(
        [
            _LLDP_PORT_KIND, _LLDP_PORT, _FAR_CHASSIS_KIND, _FAR_CHASSIS, _FAR_PORT_KIND, _FAR_PORT, _FAR_PORT_SAYS,
            _FAR_NAME, _FAR_ABLE, _FAR_ADDRESS,
        ],
        rows=rows,
        often_empty=True,
    )  # fmt: skip
    addresses: dict[Oid, list[Address]] = defaultdict(list)
    for row in table[_FAR_ADDRESS]:
        if (address := _address(row[3:])) is not None:
            addresses[row[:3]].append(address)
    ports = dict(_lldp_ports(table, wiring))
    found = []
    for row, chassis in table[_FAR_CHASSIS].items():
        port = ports.get(row[1], wiring.by_number.get(row[1])) if len(row) == 3 else None
        if port is None:
            continue

        def told(column: Oid, row: Oid = row) -> object:
            return table[column].get(row)

        macs = {
            each
            for kind, mac_kind, value in (
                (told(_FAR_CHASSIS_KIND), _CHASSIS_IS_MAC, chassis),
                (told(_FAR_PORT_KIND), _PORT_IS_MAC, told(_FAR_PORT)),
            )
            if number(kind) == mac_kind and (each := mac(value))
        }
        is_mac = number(told(_FAR_PORT_KIND)) == _PORT_IS_MAC
        able = octets(told(_FAR_ABLE))[:1] or b"\0"
        found.append(
            LldpNeighbour(
                port=port,
                name=text(told(_FAR_NAME)),
                macs=frozenset(macs),
                addresses=tuple(addresses[row]),
                far_port=text(told(_FAR_PORT_SAYS), 40) if is_mac else text(told(_FAR_PORT), 40),
                bridges=bool(able[0] & _BRIDGES),
                radio=bool(able[0] & _RADIO),
            )
        )
    return found


def _lldp_ports(table: Mapping[Oid, Column], wiring: _Ports) -> Iterator[tuple[int, str]]:
    """Yield the ports by the numbers that LLDP has for them: by name or MAC address, where the switch tells it."""
    for row, value in table[_LLDP_PORT].items():
        kind = number(table[_LLDP_PORT_KIND].get(row))
        if kind == _PORT_IS_NAME and text(value, 40) in wiring.ports:
            yield row[-1], text(value, 40)
        elif kind == _PORT_IS_MAC and (own := mac(value)) is not None and wiring.macs.get(own):
            yield row[-1], wiring.macs[own]


def _address(row: Oid) -> Address | None:
    """Return the management address in an index: its family (1: IPv4, 2: IPv6), its length, its octets."""
    if len(row) < 2 or row[0] not in (1, 2) or len(row) != 2 + row[1] or row[1] not in (4, 16):
        return None
    return ip_address(bytes(each & 255 for each in row[2:]))
