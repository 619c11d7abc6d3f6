"""What switches tell: their ports, what they have learned on each, and which other devices say that they hang there."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.text import joined
from scopion.model.value import value


class Port(NamedTuple):
    """A port of a switch of the site."""

    switch: str  # as site.toml calls it
    name: str  # as the switch calls it; unique there

    def __str__(self) -> str:
        """Return it in words: ``port 7 of workshop switch``."""
        return f"{port_words(self.name)} of {self.switch}"


def port_words(name: str) -> str:
    """Return a port's name as a sentence has it: ``port 7``, ``port gi0/7``; ``Port 7`` stays as it is."""
    return name if name.casefold().startswith("port") else f"port {name}"


@value
class PortCounters:
    """What a port has counted since its switch began to."""

    received: int  # octets from what hangs on it
    sent: int  # octets to it
    errors: int  # frames that came or went damaged
    bits: int = 64  # the width of the two counts of octets: from its highest value a count goes on with 0


@value
class SwitchPort:
    """A port as it is now."""

    name: str
    number: int  # of the bridge's port (dot1dBasePort): the one that is printed beside it, on most switches
    alias: str = ""  # what people have written into the switch about it
    speed_mbit: int = 0  # 0: not told
    up: bool | None = None  # None: not told
    counters: PortCounters | None = None


@value
class Learned:
    """An entry of a forwarding table: frames of this adapter came in at this port."""

    mac: MacAddress
    port: str
    vlan: int = 0  # 0: not told


@value
class LldpNeighbour:
    """What a neighbouring device says of itself at a port (IEEE 802.1AB)."""

    port: str
    name: str = ""
    macs: frozenset[MacAddress] = frozenset()  # of its chassis and its port
    addresses: tuple[Address, ...] = ()  # by which it is administered
    far_port: str = ""  # its own end of the cable
    bridges: bool = False  # it passes frames on
    radio: bool = False  # to the air, too


@value
class SwitchReading:
    """All that was read of a switch in one pass."""

    switch: str  # as site.toml calls it
    name: str = ""  # as it calls itself
    uptime: int = 0  # its own time, in hundredths of a second since it started; 0: not told
    macs: frozenset[MacAddress] = frozenset()  # its own
    ports: tuple[SwitchPort, ...] = ()  # by number
    learned: tuple[Learned, ...] = ()
    neighbours: tuple[LldpNeighbour, ...] | None = ()  # None: it could not be asked for them
    remarks: tuple[str, ...] = ()  # what was wrong with its tables, a clause each


def numbered(ports: Iterable[SwitchPort]) -> tuple[SwitchPort, ...]:
    """Return ports by their numbers, each with a name of its own, whatever the switch calls them."""
    found: dict[str, SwitchPort] = {}
    for each in sorted(ports, key=lambda port: port.number):
        name = each.name or str(each.number)
        if name in found:
            name = f"{name} ({each.number})"
        found[name] = SwitchPort(name, each.number, each.alias, each.speed_mbit, each.up, each.counters)
    return tuple(found.values())


def spoken_speed(mbit: int) -> str:
    """Return a link's speed: ``100 Mbit/s``, ``2.5 Gbit/s``."""
    return f"{mbit} Mbit/s" if mbit < 1000 else f"{mbit / 1000:g} Gbit/s"


def spoken_others(names: Sequence[str], more: int) -> str:
    """Return with what something shares a port: ``with the till and two others``; empty if it is alone."""
    words = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten")
    if not names and not more:
        return ""
    others = f"{words[more] if more < len(words) else more} other{'s' * (more != 1)}"
    if not names:
        return f"with {others}"
    return f"with {joined([*names, others] if more else list(names))}"
