"""IP addresses of both versions as one type, and small questions about one address."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address, ip_address

from scopion.model.bounded_cache import BoundedCache

_LINK_LOCAL = 0xA9FE  # 169.254.0.0/16 (RFC 3927)
_OCTETS = tuple(map(str, range(256)))
Address = IPv4Address | IPv6Address


def parse_address(text: str) -> Address:
    """Read an address of either version; a zone after ``%`` is dropped. Raises ValueError."""
    if ":" not in text and "%" not in text:
        return IPv4Address(text)
    return ip_address(text.partition("%")[0])


# The first three octets, ``192.0.2.``, by their number: a list has few of them.
_BEGINNINGS = BoundedCache[int, str](lambda number: str(IPv4Address(number << 8)).removesuffix("0"), 4_096)


def written(address: Address) -> str:
    """Return the usual text of an address: the same as ``str()``, in a third of the time for IPv4."""
    if isinstance(address, IPv6Address):
        return str(address)
    number = int(address)
    return _BEGINNINGS[number >> 8] + _OCTETS[number & 255]


def by_number(address: Address) -> tuple[int, int, int]:
    """Return a key to sort addresses by: IPv4, then IPv6 with a wide scope, then addresses that are valid on one link
    only.
    """
    if isinstance(address, IPv4Address):
        number = int(address)
        return (4, int(number >> 16 == _LINK_LOCAL), number)
    return (6, int(address.is_link_local), int(address))


def is_of_a_host(address: Address) -> bool:
    """Tell whether a single host can use an address: no group, broadcast, unspecified or loopback address."""
    if isinstance(address, IPv4Address) and (address.packed == b"\xff" * 4 or address.packed[0] in (0, 127)):
        return False
    return not (address.is_multicast or address.is_unspecified or address.is_loopback)
