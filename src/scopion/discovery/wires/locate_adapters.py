"""Decides at which port each adapter hangs. Many ports know an adapter: those between switches know all that is behind.

Which ports lead to other switches is told by LLDP; else by the adapters of the switches themselves, which are learned
like those of any host; else by number: of all ports that know an adapter, the one that knows the fewest is at the edge.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from scopion.model.mac import MacAddress
from scopion.model.wires import LldpNeighbour, Port, SwitchReading


@dataclass(frozen=True, slots=True)
class Hanging:
    """Where an adapter hangs."""

    port: Port
    vlan: int = 0  # 0: not told
    # False: only a port that leads to another switch knows it. It is somewhere behind that one.
    at_edge: bool = True


@dataclass(frozen=True, slots=True)
class Wiring:
    """How the switches and the adapters are connected."""

    hanging: Mapping[MacAddress, Hanging] = field(default_factory=dict)
    leads_to: Mapping[Port, str] = field(default_factory=dict)  # ports, and the switch of the site that is behind each
    behind: Mapping[Port, LldpNeighbour] = field(default_factory=dict)  # ports, and another device that passes on there
    sharing: Mapping[Port, int] = field(default_factory=dict)  # how many adapters hang at each port


def locate(
    readings: Sequence[SwitchReading],
    *,
    led_before: Mapping[Port, str] | None = None,
    hung_before: Mapping[MacAddress, Port] | None = None,
    addresses: Mapping[str, Collection[object]] | None = None,
) -> Wiring:
    """Return the wiring by the latest readings, one of each switch.

    ``led_before`` is what was known of ports before, ``hung_before`` settles what else would be a guess. ``addresses``
    are those by which each switch is read: a neighbour that tells one of them is that switch.
    """
    leads_to = _links(readings, led_before or {}, addresses or {})
    known: dict[MacAddress, dict[Port, int]] = defaultdict(dict)  # the ports that know it, with the VLAN
    count: dict[Port, int] = defaultdict(int)
    down = {Port(each.switch, port.name) for each in readings for port in each.ports if port.up is False}
    own = {mac for each in readings for mac in each.macs}
    for each in readings:
        for entry in each.learned:
            port = Port(each.switch, entry.port)
            if entry.mac not in own and port not in known[entry.mac]:
                known[entry.mac][port] = entry.vlan
                count[port] += 1
    hanging: dict[MacAddress, Hanging] = {}
    for mac, ports in known.items():
        edge = [port for port in ports if port not in leads_to]
        at = _chosen(edge or list(ports), count, down, (hung_before or {}).get(mac))
        if at is not None:
            hanging[mac] = Hanging(at, ports[at], bool(edge))
    leads_to = {**leads_to, **_links_by_number(known, hanging, leads_to)}
    sharing: dict[Port, int] = defaultdict(int)
    for found in hanging.values():
        sharing[found.port] += found.at_edge
    behind = {
        Port(each.switch, neighbour.port): neighbour
        for each in readings
        for neighbour in each.neighbours or ()
        if (neighbour.bridges or neighbour.radio) and Port(each.switch, neighbour.port) not in leads_to
    }
    return Wiring(hanging, leads_to, behind, dict(sharing))


def _links(
    readings: Sequence[SwitchReading], led_before: Mapping[Port, str], addresses: Mapping[str, Collection[object]]
) -> dict[Port, str]:
    """Return the ports that lead to another switch of the site: by LLDP, else by the other's own adapters."""
    owner = {mac: each.switch for each in readings for mac in each.macs}
    at_address = {address: switch for switch, those in addresses.items() for address in those}
    names = _unambiguous(readings)
    read = {each.switch for each in readings}
    found = _links_by_own_adapters(readings, owner)
    heard: dict[Port, str] = {}
    for each in readings:
        for neighbour in each.neighbours or ():
            told = next((owner[mac] for mac in neighbour.macs if mac in owner), None)
            told = told or next((at_address[a] for a in neighbour.addresses if a in at_address), None)
            told = told or (names.get(neighbour.name) if neighbour.bridges else None)
            if told not in (None, each.switch):
                heard[Port(each.switch, neighbour.port)] = str(told)
    links = {**found, **heard}
    # Switches are silent for a while, and LLDP, too: what led to another one does so until something speaks against it.
    reached = {(port.switch, to) for port, to in links.items()}
    before = {
        port: to
        for port, to in led_before.items()
        if port.switch in read
        and (to not in read or ((port.switch, to) not in reached and _may_lead(readings, port, to, led_before)))
    }
    return {**before, **links}


def _may_lead(readings: Iterable[SwitchReading], port: Port, to: str, led_before: Mapping[Port, str]) -> bool:
    """Tell whether what a port knows may be behind another switch: that one does not have most of it in the direction
    of the port; if it has none of it at all, there are several.
    """
    here = {
        entry.mac
        for each in readings
        if each.switch == port.switch
        for entry in each.learned
        if entry.port == port.name
    }
    there = {entry.mac: Port(to, entry.port) for each in readings if each.switch == to for entry in each.learned}
    back = [led_before.get(there[mac]) == port.switch for mac in here if mac in there]
    return 2 * sum(back) <= len(back) if back else len(here) > 1


def _links_by_own_adapters(readings: Sequence[SwitchReading], owner: Mapping[MacAddress, str]) -> dict[Port, str]:
    """Return the ports at which adapters of other switches were learned, each with the nearest of these switches."""
    sees: dict[str, dict[str, str]] = {each.switch: {} for each in readings}  # a switch, another, and at which port
    for each in readings:
        for entry in each.learned:
            other = owner.get(entry.mac)
            if other is not None and other != each.switch:
                sees[each.switch].setdefault(other, entry.port)
    found: dict[Port, str] = {}
    for switch, others in sees.items():
        for other, port in others.items():
            there = [each for each, at in others.items() if at == port]
            # The nearest one has this switch on one side, and those behind it on another.
            between = all(sees[other].get(each) != sees[other].get(switch) for each in there if each != other)
            if between or Port(switch, port) not in found:
                found[Port(switch, port)] = other
    return found


def _unambiguous(readings: Iterable[SwitchReading]) -> dict[str, str]:
    """Return the switches by what they call themselves, without names that several have."""
    names: dict[str, str] = {}
    shared = set[str]()
    for each in readings:
        if each.name in names:
            shared.add(each.name)
        names[each.name] = each.switch
    return {name: switch for name, switch in names.items() if name and name not in shared}


def _chosen(
    ports: Sequence[Port], count: Mapping[Port, int], down: Collection[Port], before: Port | None
) -> Port | None:
    """Return the port at the edge: one whose link is up, that knows the fewest; of equals the one from before."""
    linked = [port for port in ports if port not in down]
    if not linked:
        return None
    fewest = min(count[port] for port in linked)
    best = sorted(port for port in linked if count[port] == fewest)
    return before if before in best else best[0]


def _links_by_number(
    known: Mapping[MacAddress, Mapping[Port, int]],
    hanging: Mapping[MacAddress, Hanging],
    leads_to: Mapping[Port, str],
) -> dict[Port, str]:
    """Return further ports that lead to a switch: all that they know hangs elsewhere, and there are several."""
    elsewhere: dict[Port, set[str]] = defaultdict(set)
    here, count = set[Port](), dict[Port, int]()
    for mac, ports in known.items():
        at = hanging.get(mac)
        for port in ports:
            count[port] = count.get(port, 0) + 1
            if at is None or at.port == port:
                here.add(port)
            elif at.port.switch != port.switch:
                elsewhere[port].add(at.port.switch)
    return {
        port: min(switches)
        for port, switches in elsewhere.items()
        if port not in here and port not in leads_to and count[port] > 1
    }
