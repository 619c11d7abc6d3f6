"""Which MAC addresses an entry stands for, and what a person should know about each before it is typed in."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from scopion.model.device import Adapter, Device
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.roster.lists import Entry, ListMode


@dataclass(frozen=True, slots=True)
class Line:
    """One line to type: a MAC address and whose it is."""

    mac: MacAddress
    name: str
    own: bool
    caution: str = ""


def covered_adapters(device: Device) -> tuple[Adapter, ...]:
    """A device's adapters that may be on the air: those known to be on cable are left out."""
    return tuple(adapter for adapter in device.adapters if adapter.medium is not Medium.CABLE)


def lines_of(
    entries: Iterable[Entry], which: ListMode, devices: Mapping[int, Device], of_mac: Mapping[MacAddress, Device]
) -> list[Line]:
    """The lines of one list, own device first, then by name."""
    lines: list[Line] = []
    for entry in entries:
        if entry.list is not which:
            continue
        if entry.mac is not None:
            device = of_mac.get(entry.mac)
            name = entry.description or (device.called if device else "")
            lines.append(Line(entry.mac, name, bool(device and device.own), caution_about(entry.mac)))
        elif entry.device_id is not None and (device := devices.get(entry.device_id)):
            name = device.called if device.label or device.own or device.gateway else entry.description
            lines += [
                Line(adapter.mac, name, device.own, caution_about(adapter.mac)) for adapter in covered_adapters(device)
            ]
    unique = {line.mac: line for line in reversed(lines)}
    return sorted(unique.values(), key=lambda line: (not line.own, line.name.casefold(), line.mac))


def caution_about(mac: MacAddress) -> str:
    """What may go wrong with an address on a list; empty if nothing is known to."""
    if mac.is_private:
        return "a private address that may change: set the device to a fixed address for this network first"
    return ""


def of_unknown_medium(device: Device) -> Sequence[MacAddress]:
    """The adapters of a device of which nobody knows whether they are wireless."""
    return [adapter.mac for adapter in device.adapters if adapter.medium is Medium.UNKNOWN]
