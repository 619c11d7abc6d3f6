"""Which addresses a scan asks: the notations that people write, as disjoint ranges.

A ``Targets`` is a sorted tuple of ranges that neither touch nor overlap, so that every address is asked once.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Network

from scopion.model.errors import InvalidTarget

# A /16: 33 s a round at 2,000 requests a second. A larger range is nearly always a typing mistake.
MAX_WITHOUT_A_YES = 65_536


@dataclass(frozen=True, slots=True)
class Targets:
    """Addresses to ask, as disjoint inclusive ranges of IPv4 numbers in ascending order."""

    ranges: tuple[tuple[int, int], ...]

    @classmethod
    def parse(cls, texts: Sequence[str], exclude: Sequence[str] = (), subnets: Iterable[IPv4Network] = ()) -> Targets:
        """Read targets: ``192.0.2.0/24``, ``192.0.2.7``, ``192.0.2.10-192.0.2.20``, ``192.0.2.10-20``, ``192.0.2.*``,
        ``192.0.2.0/255.255.255.0``, ``192.0.2.0 255.255.255.0``, or lists of these.

        ``subnets`` are the attached ones: their network and broadcast addresses are left out, and a part of a subnet (a
        /25 of an attached /24) keeps all of its own addresses. Raises InvalidTarget.
        """
        attached = tuple(subnets)
        wanted = [_spec(part, attached) for part in _parts(texts)]
        without = [_spec(part, None) for part in _parts(exclude, arguments=False)]
        edges = [(int(edge), int(edge)) for subnet in attached for edge in _edges(subnet)]
        ranges = _subtract(_merged(wanted), _merged(without + edges))
        if not ranges:
            raise InvalidTarget("no address is left to ask: every target is excluded")
        return cls(tuple(ranges))

    @classmethod
    def of_subnet(cls, subnet: IPv4Network, exclude: Sequence[str] = ()) -> Targets:
        """Return every host address of a subnet."""
        return cls.parse([str(subnet)], exclude, [subnet])

    def without(self, addresses: Iterable[IPv4Address]) -> Targets | None:
        """Return these targets without some addresses; None if nothing is left."""
        left = _subtract(list(self.ranges), _merged((int(each), int(each)) for each in addresses))
        return Targets(tuple(left)) if left else None

    def __len__(self) -> int:
        return sum(last - first + 1 for first, last in self.ranges)

    def __contains__(self, address: object) -> bool:
        if not isinstance(address, IPv4Address):
            return False
        number = int(address)
        return any(first <= number <= last for first, last in self.ranges)

    def __iter__(self) -> Iterator[IPv4Address]:
        return (IPv4Address(number) for first, last in self.ranges for number in range(first, last + 1))

    def covers(self, subnet: IPv4Network) -> bool:
        """Tell whether every host address of ``subnet`` is among the targets."""
        first, last = int(subnet.network_address), int(subnet.broadcast_address)
        if subnet.prefixlen <= 30:
            first, last = first + 1, last - 1
        return any(low <= first and last <= high for low, high in self.ranges)

    def __str__(self) -> str:
        return ", ".join(_range_text(first, last) for first, last in self.ranges)


def _parts(texts: Sequence[str], *, arguments: bool = True) -> list[str]:
    found: list[str] = []
    for text in texts:
        for place, part in enumerate(text.split(",")):
            if not part.strip():
                raise InvalidTarget(f"{','.join(texts)!r} has an empty place between its commas")
            for number, word in enumerate(part.split()):
                # Behind a comma stands another target; arguments of a command may be an address and its netmask.
                begins = number == 0 and (place > 0 or not arguments)
                if found and not begins and _is_netmask(word) and "/" not in found[-1] and "-" not in found[-1]:
                    found[-1] = f"{found[-1]}/{word}"  # a netmask stands behind its address
                else:
                    found.append(word)
    return found


def _is_netmask(text: str) -> bool:
    """Tell whether a text is a netmask, which no host has for its address."""
    return text.startswith("255.") and _prefix_length(text) is not None


def _prefix_length(netmask: str) -> int | None:
    """Return the prefix length of a netmask; None if its bits are not set from the left on."""
    try:
        bits = int(IPv4Address(netmask))
    except ValueError:
        return None
    length = bits.bit_count()
    return length if bits == (0xFFFFFFFF << (32 - length)) & 0xFFFFFFFF else None


def _starred(text: str) -> str:
    """Return ``192.0.2.*`` as ``192.0.2.0/24``. Raises InvalidTarget for stars in other places."""
    octets = text.split(".")
    stars = len(octets) - len(list(_until_star(octets)))
    if len(octets) != 4 or any(each != "*" for each in octets[4 - stars :]):
        raise InvalidTarget(f"{text!r} is not a range: stars stand for its last octets, as in 192.0.2.*")
    return f"{'.'.join([*octets[: 4 - stars], *('0' for _ in range(stars))])}/{32 - 8 * stars}"


def _until_star(octets: Sequence[str]) -> Iterator[str]:
    for each in octets:
        if "*" in each:
            return
        yield each


def _spec(text: str, attached: Sequence[IPv4Network] | None) -> tuple[int, int]:
    """Return one notation as a range; ``attached`` is None for exclusions, which keep their edges."""
    if "*" in text:
        text = _starred(text)
    if "/" in text:
        return _cidr(text, attached)
    if "-" in text:
        return _span(text)
    number = int(_address(text, text))
    return number, number


def _cidr(text: str, attached: Sequence[IPv4Network] | None) -> tuple[int, int]:
    address, _, length = text.partition("/")
    base = _address(address.strip(), text)
    bits = int(length) if length.strip().isdecimal() else _prefix_length(length.strip())
    if bits is None or not 0 <= bits <= 32:
        raise InvalidTarget(f"{text!r} is not a subnet: after the slash goes a prefix length of 0 to 32, or a netmask")
    network = IPv4Network(f"{base}/{bits}", strict=False)
    first, last = int(network.network_address), int(network.broadcast_address)
    part_of_larger = attached is not None and any(
        network.subnet_of(subnet) and network != subnet for subnet in attached
    )
    if attached is not None and not part_of_larger and network.prefixlen <= 30:
        return first + 1, last - 1
    return first, last


def _span(text: str) -> tuple[int, int]:
    start, _, end = (part.strip() for part in text.partition("-"))
    first = _address(start, text)
    if end.isdecimal():
        if int(end) > 255:
            raise InvalidTarget(f"{text!r} is not a range: its last octet {end} is over 255")
        last = IPv4Address(int(first) & ~0xFF | int(end))
    else:
        last = _address(end, text)
    if last < first:
        raise InvalidTarget(f"{text!r} is not a range: it ends at {last}, before its start")
    return int(first), int(last)


def _address(text: str, whole: str) -> IPv4Address:
    try:
        return IPv4Address(text)
    except ValueError:
        what = repr(whole) if len(whole) <= 60 else repr(whole[:57] + "...")
        raise InvalidTarget(
            f"{what} is not an IPv4 target: write 192.0.2.0/24, 192.0.2.7, 192.0.2.10-20 or a list of them"
        ) from None


def _edges(subnet: IPv4Network) -> tuple[IPv4Address, ...]:
    """Return network and broadcast address; a /31 (RFC 3021) and a /32 have neither."""
    return (subnet.network_address, subnet.broadcast_address) if subnet.prefixlen <= 30 else ()


def _merged(ranges: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    merged: list[tuple[int, int]] = []
    for first, last in sorted(ranges):
        if merged and first <= merged[-1][1] + 1:
            merged[-1] = (merged[-1][0], max(last, merged[-1][1]))
        else:
            merged.append((first, last))
    return merged


def _subtract(ranges: list[tuple[int, int]], holes: list[tuple[int, int]]) -> list[tuple[int, int]]:
    left: list[tuple[int, int]] = []
    for start, last in ranges:
        first = start
        for low, high in holes:
            if high < first or low > last:
                continue
            if low > first:
                left.append((first, low - 1))
            first = high + 1
        if first <= last:
            left.append((first, last))
    return left


def _range_text(first: int, last: int) -> str:
    start, end = IPv4Address(first), IPv4Address(last)
    if first == last:
        return str(start)
    return f"{start}-{last & 0xFF}" if first >> 8 == last >> 8 else f"{start}-{end}"
