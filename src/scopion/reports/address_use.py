"""What each address of a subnet is used for, and how a subnet too large for one screen is folded. Pure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from ipaddress import IPv4Address, IPv4Network

from scopion.model.device import Stay
from scopion.model.targets import Targets

# A /24 is drawn as 16 by 16; a larger subnet is folded into as many cells.
ACROSS, CELLS = 16, 256


class Use(StrEnum):
    """What an address is used for; in a cell of several the first of these is shown."""

    CONTESTED = "contested"  # several devices claim it
    NOW = "used-now"
    LATELY = "used-lately"
    RESERVED = "reserved"
    POOL = "dhcp-pool"  # the DHCP server gives it out, and no device has it
    FREE = "free"
    EDGE = "no-host"  # the network's own address and the broadcast address


@dataclass(frozen=True, slots=True)
class AddressUse:
    """One address."""

    address: IPv4Address
    use: Use
    devices: tuple[int, ...] = ()  # the device that has it now, else the last one
    last_used: datetime | None = None  # None: never, as far as the roster goes back
    reserved: bool = False
    in_pool: bool = False


@dataclass(frozen=True, slots=True)
class Cell:
    """One square of the grid: an address, or several neighbours."""

    first: IPv4Address
    last: IPv4Address
    use: Use  # the most important use in it
    now: int  # how many of its addresses are used now, contested ones included


@dataclass(frozen=True, slots=True)
class SubnetUse:
    """A subnet, address by address."""

    subnet: IPv4Network
    addresses: tuple[AddressUse, ...]
    counts: Mapping[Use, int] = field(default_factory=dict)

    @property
    def in_use(self) -> int:
        """Return how many addresses are in use now."""
        return self.counts.get(Use.NOW, 0) + self.counts.get(Use.CONTESTED, 0)

    @property
    def per_cell(self) -> int:
        """Return how many addresses one square of the grid stands for."""
        return max(1, len(self.addresses) // CELLS)

    def cells(self) -> Iterator[Cell]:
        """Yield the squares of the grid in the order of the addresses, row by row."""
        weights = list(Use)
        size = self.per_cell
        for begin in range(0, len(self.addresses), size):
            group = self.addresses[begin : begin + size]
            use = min((each.use for each in group), key=weights.index)  # an edge counts least
            now = sum(each.use in (Use.NOW, Use.CONTESTED) for each in group)
            yield Cell(group[0].address, group[-1].address, use, now)

    def rows(self) -> list[list[Cell]]:
        """Return the squares, sixteen in a row."""
        cells = list(self.cells())
        return [cells[at : at + ACROSS] for at in range(0, len(cells), ACROSS)]


def subnet_use(
    subnet: IPv4Network,
    stays: Iterable[tuple[int, Stay]],
    lately: datetime,
    pool: Targets | None = None,
    reserved: Targets | None = None,
) -> SubnetUse:
    """Return what the addresses of a subnet are used for, by the stays of devices (by number).

    An address was used lately if it was used after ``lately`` and is not used now.
    """
    here: dict[IPv4Address, list[int]] = {}
    past: dict[IPv4Address, tuple[datetime, int]] = {}
    for device, stay in stays:
        address = stay.address
        if not isinstance(address, IPv4Address) or address not in subnet:
            continue
        if stay.present and device not in here.setdefault(address, []):
            here[address].append(device)
        if address not in past or past[address][0] < stay.until:
            past[address] = stay.until, device
    edges = {subnet.network_address, subnet.broadcast_address} if subnet.prefixlen <= 30 else set()
    found = []
    for number in range(int(subnet.network_address), int(subnet.broadcast_address) + 1):
        address = IPv4Address(number)
        kept, given = _within(reserved, address), _within(pool, address)
        users = here.get(address, ())
        last = past.get(address)
        use = (
            Use.CONTESTED if len(users) > 1
            else Use.NOW if users
            else Use.EDGE if address in edges
            else Use.LATELY if last and last[0] > lately
            else Use.RESERVED if kept
            else Use.POOL if given
            else Use.FREE
        )  # fmt: skip
        devices = tuple(users) or ((last[1],) if last else ())
        found.append(AddressUse(address, use, devices, last[0] if last else None, kept, given))
    return SubnetUse(subnet, tuple(found), Counter(each.use for each in found))


def _within(targets: Targets | None, address: IPv4Address) -> bool:
    return targets is not None and address in targets
