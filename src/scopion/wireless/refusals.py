"""What Scopion refuses to put on a list unless a person insists, each with its reason. Pure."""

from __future__ import annotations

import shlex
from collections.abc import Collection, Iterable, Sequence

from scopion.model.device import Device
from scopion.model.errors import Refused, UsageError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.model.text import counted, joined
from scopion.roster.folding.find_contests import SPEAKS_FOR_OTHERS
from scopion.roster.wifi.lists import ListMode, Network
from scopion.wireless.coverage import Line, covered_adapters

INSIST = "add --insist to do it anyway"


def refuse_denying(ssid: str, device: Device) -> None:
    """Raise Refused for a device without which the administrator is cut off."""
    if device.own:
        raise Refused(f"denying this machine on {ssid!r} would lock you out of it: {INSIST}")
    if device.gateway:
        raise Refused(f"denying the gateway {device.label or device.macs[0]} on {ssid!r} could cut off all: {INSIST}")
    if device.essential:
        raise Refused(f"{device.called} is essential, so it is not denied on {ssid!r}: {INSIST}")
    if behind := addresses_behind(device):
        raise Refused(
            f"{device.called} answers for {behind} addresses, as a repeater or a proxy does: denying it on "
            f"{ssid!r} would hit every device behind it; {INSIST}"
        )


def addresses_behind(device: Device) -> int:
    """Return for how many addresses a device speaks, if they are so many that others are behind it; else 0."""
    here = {stay.address for stay in device.stays if stay.present and stay.address.version == 4}
    return len(here) if len(here) >= SPEAKS_FOR_OTHERS else 0


def refuse_denying_own(ssid: str, mac: MacAddress, own: Collection[MacAddress]) -> None:
    """Raise Refused for a bare MAC address that is this machine's, even if no scan has seen it yet."""
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


def refuse_more_than_fits(
    ssid: str,
    capacity: int | None,
    needed: int,
    *,
    stale: Sequence[str] = (),
    other: tuple[ListMode, int] | None = None,
) -> None:
    """Raise Refused if a list is longer than the enforcer's, with what would fit.

    ``stale``: the names of devices that were not seen for long; ``other``: how many entries the other mode needs.
    """
    if capacity is None or needed <= capacity:
        return
    advice = []
    if stale:
        more = f" and {len(stale) - 5} more" if len(stale) > 5 else ""
        verb = "was" if len(stale) == 1 else "were"
        advice.append(
            f"{joined(list(stale[:5]), 'or') if not more else ', '.join(stale[:5]) + more} {verb} not seen "
            "for two months (scopion wifi drop)"
        )
    if other is not None and 0 < other[1] <= capacity:
        advice.append(f"mode {other[0]} needs {other[1]} only")
    said = "; ".join(advice) or "drop one first (scopion wifi drop), or use the other mode if it needs fewer"
    raise Refused(f"{ssid!r} would need {needed} entries, the router holds {capacity}: {said}")


def refuse_lockout(
    network: Network,
    lines: Sequence[Line],
    own_wireless: Iterable[MacAddress],
    essential: Iterable[Device] = (),
    *,
    none: bool = False,
) -> None:
    """Raise Refused for an allow list that is empty, or lacks a device that must never be refused.

    ``lines`` are those that hold at all times; ``essential`` the devices that use this network; ``none``: the list is
    empty at any time.
    """
    if none and network.mode is ListMode.ALLOW:
        raise Refused(
            f"the allow list of {network.ssid!r} is empty, so no device could associate: "
            f"scopion wifi allow {quoted(network.ssid)} DEVICE... first, or {INSIST}"
        )
    listed = {line.mac for line in lines}
    missing = sorted(set(own_wireless) - listed)
    if missing:
        raise Refused(
            f"this machine's own wireless adapter {missing[0]} is not on the allow list of {network.ssid!r} at all "
            f"times, you would lock yourself out: scopion wifi allow {quoted(network.ssid)} this-machine first, or "
            f"{INSIST}"
        )
    for device in essential:
        lacking = [mac for mac in on_the_air(device) if mac not in listed]
        if lacking:
            raise Refused(
                f"{device.called} is essential, and {lacking[0]} is not on the allow list of {network.ssid!r} at all "
                f"times: scopion wifi allow {quoted(network.ssid)} {quoted(device.called)} first, or {INSIST}"
            )


def on_the_air(device: Device) -> list[MacAddress]:
    """Return the addresses of a device on the air: the wireless ones, else those of unknown medium; none on cable."""
    known = [adapter.mac for adapter in device.adapters if adapter.medium is Medium.WIRELESS]
    return known or [adapter.mac for adapter in device.adapters if adapter.medium is Medium.UNKNOWN]


def consequence(ssid: str, mode: ListMode, lines: Sequence[Line]) -> str:
    """Return one sentence: what a mode means on this network, with its count."""
    if mode is ListMode.OFF:
        return f"On {ssid!r} every device with the passphrase may associate; its lists have no effect."
    if not lines:
        who = "no device may associate" if mode is ListMode.ALLOW else "no device is refused"
        return f"On {ssid!r} {who}: there is nothing on its {mode} list."
    addresses = counted(len(lines), "address", "addresses")
    if mode is ListMode.ALLOW:
        return f"On {ssid!r} only {addresses} may associate, all others are refused."
    verb = "is" if len(lines) == 1 else "are"
    return f"On {ssid!r} {addresses} {verb} refused, all others may associate."


def quoted(text: str) -> str:
    """Return a text as a shell takes it."""
    return shlex.quote(text)
