"""Which MAC addresses an entry stands for, and what a person should know about each before it is typed in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from scopion.model.device import Adapter, Device
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium


@dataclass(frozen=True, slots=True)
class Line:
    """One line to type: a MAC address and its device."""

    mac: MacAddress
    name: str
    own: bool
    caution: str = ""
    essential: bool = False  # it must never be refused


def covered_adapters(device: Device) -> tuple[Adapter, ...]:
    """Return a device's adapters that may be on the air: those that are known to be on cable are left out.

    A device that uses several links at once (IEEE 802.11be) has an adapter for its own address and one for each link.
    """
    return tuple(adapter for adapter in device.adapters if adapter.medium is not Medium.CABLE)


def line_of_mac(mac: MacAddress, description: str, device: Device | None) -> Line:
    """Return the line of a bare address; ``device`` is its device, if that is known."""
    name = description or (_name(device) if device else "")
    return Line(mac, name, bool(device and device.own), caution_about(mac), essential=bool(device and device.essential))


def line_of_device(mac: MacAddress, description: str, device: Device) -> Line:
    """Return the line of one of a device's addresses."""
    name = device.called if device.label or device.own or device.gateway else description or _name(device)
    return Line(mac, name, device.own, caution_about(mac), essential=device.essential)


def _name(device: Device) -> str:
    """Return the name beside its address; an address is not a name."""
    return device.called if device.own or device.gateway else device.name


def caution_about(mac: MacAddress) -> str:
    """Return what may go wrong with an address on a list; empty if nothing is known."""
    if mac.is_private:
        return "a private address that may change: set the device to a fixed address for this network first"
    return ""


def of_unknown_medium(device: Device) -> Sequence[MacAddress]:
    """Return the adapters of a device whose medium is not known."""
    return [adapter.mac for adapter in device.adapters if adapter.medium is Medium.UNKNOWN]
