"""Neighbour listings as systems print them: one address and one MAC address a line, with any words around them.

The documented forms: Linux ``ip neigh`` (ip-neighbour(8)) and ``arp -n``; macOS and the BSDs ``arp -an`` (arp(8)) and
``ndp -an``; Windows ``arp -a`` and ``netsh interface ipv6 show neighbors``. The words differ with the system's
language, so none is needed: what looks like an address and what looks like a MAC address make a pair.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from scopion.attachment.ports import Neighbour, NeighbourState
from scopion.model.address import Address, is_of_a_host, parse_address
from scopion.model.mac import MacAddress, mac_spans, without_macs

_ADDRESS_TEXT = re.compile(
    r"(?<![\w.:])(?:\d{1,3}(?:\.\d{1,3}){3}|[0-9A-Fa-f]{0,4}:[0-9A-Fa-f:.]+)(?:%[\w.-]+)?(?![\w.:])"
)
# Words that mark a line whose pair is not valid any more.
_NO_LONGER = re.compile(r"\b(?:failed|incomplete|unreachable|invalid)\b", re.IGNORECASE)
_STATES = {
    "stale": NeighbourState.STALE, "delay": NeighbourState.CHECKING, "probe": NeighbourState.CHECKING,
    "permanent": NeighbourState.FIXED, "static": NeighbourState.FIXED,
}  # fmt: skip
_MAX_LINES = 200_000


@dataclass(frozen=True, slots=True)
class ListedNeighbour:
    """A line that pairs an address with a MAC address."""

    address: Address
    mac: MacAddress
    state: NeighbourState
    name: str = ""  # arp -a without -n looks up names

    @property
    def neighbour(self) -> Neighbour:
        """Return the line as an entry of the neighbour table."""
        return Neighbour(self.address, self.mac, self.state)


def read_neighbours(text: str) -> Iterator[ListedNeighbour]:
    """Yield the pairs of a listing, in its order. Total: a line without a pair yields nothing."""
    for line in text.splitlines()[:_MAX_LINES]:
        found = list(mac_spans(line))
        macs = [mac for _, _, mac in found]
        without = without_macs(line, found)
        addresses = [address for text in _ADDRESS_TEXT.findall(without) if (address := _address(text))]
        if len(macs) != 1 or len(addresses) != 1 or _NO_LONGER.search(without):
            continue
        if macs[0].is_multicast or not any(macs[0].octets) or not is_of_a_host(addresses[0]):
            continue
        states = [_STATES[word] for word in without.casefold().split() if word in _STATES]
        name = re.match(r"\s*([A-Za-z][\w.-]*)\s+\(\d", line)
        state = states[0] if states else NeighbourState.REACHABLE
        yield ListedNeighbour(addresses[0], macs[0], state, name[1] if name else "")


def _address(text: str) -> Address | None:
    try:
        return parse_address(text)
    except ValueError:
        return None
