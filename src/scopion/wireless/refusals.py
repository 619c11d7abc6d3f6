"""What Scopion refuses to put on a list unless somebody insists, each with its reason. Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from scopion.model.device import Device
from scopion.model.errors import Refused, UsageError
from scopion.model.mac import MacAddress
from scopion.model.text import counted
from scopion.roster.contests import SPEAKS_FOR_OTHERS
from scopion.roster.lists import ListMode, Network
from scopion.wireless.coverage import Line, covered_adapters

INSIST = "insist with --insist"


def refuse_denying(ssid: str, device: Device) -> None:
    """Raise Refused for a device without which the administrator is cut off."""
    if device.own:
        raise Refused(f"denying this machine on {ssid!r} would lock you out of it: {INSIST}")
    if device.gateway:
        raise Refused(f"denying the gateway {device.label or device.macs[0]} on {ssid!r} could cut off all: {INSIST}")
    behind = {stay.address for stay in device.stays if stay.present and stay.address.version == 4}
    if len(behind) >= SPEAKS_FOR_OTHERS:
        raise Refused(
            f"{device.called} answers for {len(behind)} addresses, as a repeater or a proxy does: denying it on "
            f"{ssid!r} would hit everybody behind it; {INSIST}"
        )


def refuse_denying_own(ssid: str, mac: MacAddress, own: Collection[MacAddress]) -> None:
    """Raise Refused for a bare MAC address that is this machine's, though no scan has seen it yet."""
    if mac in own:
        raise Refused(f"denying {mac}, which is this machine's, on {ssid!r} would lock you out of it: {INSIST}")


def refuse_cable_only(device: Device) -> None:
    """Raise Refused for a device that is on cable only: a wireless list does not concern it."""
    if device.adapters and not covered_adapters(device):
        macs = ", ".join(map(str, device.macs))
        raise Refused(
            f"{device.called} ({macs}) is on cable, so a wireless list does not concern it: "
            "give its wireless MAC instead"
        )


def require_single_address(mac: MacAddress) -> None:
    """Raise UsageError for a MAC address that no single adapter can have."""
    if mac.is_multicast or not any(mac.octets):
        group = "the broadcast address" if mac.is_broadcast else "a multicast address"
        what = group if any(mac.octets) else "no address at all"
        raise UsageError(f"{mac} is {what}: no device has it, so it cannot be on a list")


def refuse_more_than_fits(network: Network, lines: Sequence[Line]) -> None:
    """Raise Refused if a list is longer than the router's."""
    if network.capacity is not None and len(lines) > network.capacity:
        raise Refused(
            f"{network.ssid!r} would need {len(lines)} entries, the router holds {network.capacity}: "
            "drop one first (scopion wifi drop), or use the other mode if it needs fewer"
        )


def refuse_lockout(network: Network, lines: Sequence[Line], own_wireless: Iterable[MacAddress]) -> None:
    """Raise Refused for an allow list that is empty or lacks this machine's own wireless adapter."""
    if not lines:
        raise Refused(
            f"the allow list of {network.ssid!r} is empty, so nobody could associate: "
            f"scopion wifi allow {_quoted(network.ssid)} DEVICE... first, or {INSIST}"
        )
    missing = sorted(set(own_wireless) - {line.mac for line in lines})
    if missing:
        raise Refused(
            f"this machine's own wireless adapter {missing[0]} is not on the allow list of {network.ssid!r}, you would "
            f"lock yourself out: scopion wifi allow {_quoted(network.ssid)} this-machine first, or {INSIST}"
        )


def consequence(network: Network, mode: ListMode, lines: Sequence[Line]) -> str:
    """One sentence: what a mode means on this network, with its count."""
    if mode is ListMode.OFF:
        return f"On {network.ssid!r} everybody who knows the passphrase may associate; its lists have no effect."
    addresses = counted(len(lines), "address", "addresses")
    if mode is ListMode.ALLOW:
        return f"On {network.ssid!r} only {addresses} may associate, all others are refused."
    verb = "is" if len(lines) == 1 else "are"
    return f"On {network.ssid!r} {addresses} {verb} refused, all others may associate."


def _quoted(ssid: str) -> str:
    """The SSID as a shell takes it."""
    import shlex

    return shlex.quote(ssid)
