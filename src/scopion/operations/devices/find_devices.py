"""Finds devices: by what they are, when they were seen, any part of a text, or the MAC address on a sticker.

Pure: devices and a filter go in, those that fit come out, with the reason if it is not obvious.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network

from scopion.model.device import Device
from scopion.model.errors import InvalidMacAddress, UsageError
from scopion.model.mac import OCTETS, MacAddress, hex_digits
from scopion.operations.devices.identify_device import Described

# The ports of one box have addresses close together; the sticker shows one of them.
NEAR = 8
_LEAST_DIGITS = 4  # a shorter part of a MAC address fits by chance
_LEAST_NEAR_DIGITS = 4
_HEXADECIMAL = re.compile(r"[0-9a-f][0-9a-f:.\- ]*", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class DeviceFilter:
    """What is looked for; empty and None mean anything."""

    words: tuple[str, ...] = ()  # each has to fit something
    standings: tuple[str, ...] = ()
    present: bool | None = None
    vendor: str = ""
    kind: str = ""
    owner: str = ""
    subnet: IPv4Network | None = None
    place: str | None = None  # where it is, else was last
    private: bool = False
    seen_since: datetime | None = None
    not_seen_since: datetime | None = None
    near: bool = False  # a word is a sticker's MAC, or its end: its neighbours are meant as well


def find(devices: Sequence[Described], wanted: DeviceFilter) -> list[Described]:
    """Return those that fit, in their order. Raises UsageError for a word that cannot have neighbours."""
    if wanted == DeviceFilter():
        return list(devices)
    if wanted.near and not wanted.words:
        raise UsageError("--near needs the MAC on the sticker, or its end: scopion devices 4a:11:04 --near")
    stickers = [_sticker(word) for word in wanted.words] if wanted.near else []
    tests = _tests(wanted)
    found = []
    for each in devices:
        if not all(test(each) for test in tests):
            continue
        if not wanted.near:
            if all(_has(each, word) for word in wanted.words):
                found.append(each)
            continue
        distances = [_distance(each.device, sticker) for sticker in stickers]
        if all(distance is not None for distance in distances):
            found.append(replace(each, near=next((words for words in distances if words), "")))
    return found


def _tests(wanted: DeviceFilter) -> list[Callable[[Described], bool]]:
    """Return the tests that a device has to pass, one for each setting of the filter."""
    subnet, since, not_since = wanted.subnet, wanted.seen_since, wanted.not_seen_since
    tests: list[tuple[object, Callable[[Described], bool]]] = [
        (wanted.standings, lambda each: each.device.standing in wanted.standings),
        (wanted.present is not None, lambda each: each.device.present is wanted.present),
        (wanted.vendor, lambda each: any(_within(wanted.vendor, vendor.name) for vendor in each.vendors)),
        (wanted.kind, lambda each: _within(wanted.kind, each.guess.kind)),
        (wanted.owner, lambda each: _within(wanted.owner, each.device.owner)),
        (subnet, lambda each: subnet is not None and _in_subnet(each.device, subnet)),
        (wanted.place is not None, lambda each: wanted.place in each.device.places),
        (wanted.private, lambda each: any(mac.is_private for mac in each.device.macs)),
        (since, lambda each: since is not None and _since(each.device, since)),
        (not_since, lambda each: not_since is not None and not _since(each.device, not_since)),
    ]
    return [test for asked, test in tests if asked]


def _has(each: Described, word: str) -> bool:
    """Tell whether any text of a device contains a word, or any MAC address its digits."""
    device = each.device
    texts = [
        device.label, device.owner, device.place, *device.places, device.note, device.because, str(device.standing),
        each.guess.kind,
        *(vendor.name for vendor in each.vendors), *(vendor.place for vendor in each.vendors),
        *(known.trait.value for known in device.traits), *map(str, device.addresses),
    ]  # fmt: skip
    if any(_within(word, text) for text in texts):
        return True
    digits = _digits(word)
    return len(digits) >= _LEAST_DIGITS and any(digits in mac.octets.hex() for mac in device.macs)


def _digits(word: str) -> str:
    """Return the hexadecimal digits of any part of a MAC address, in any notation; empty if the word is none."""
    if not _HEXADECIMAL.fullmatch(word.strip()):
        return ""
    try:
        return hex_digits(word.strip(" :.-"))
    except InvalidMacAddress:
        return "".join(filter(str.isalnum, word)).lower()


def _sticker(word: str) -> str:
    """Return the digits of a sticker: a whole MAC address, or its end. Raises UsageError."""
    digits = _digits(word)
    if not _LEAST_NEAR_DIGITS <= len(digits) <= 2 * OCTETS:
        raise UsageError(
            f"{word!r} is neither a MAC address nor the end of one: --near needs {_LEAST_NEAR_DIGITS} digits at least"
        )
    return digits


def _distance(device: Device, sticker: str) -> str | None:
    """Return how far a device's MAC address is from the sticker's: empty for the same, None if it is no neighbour."""
    nearest: int | None = None
    for mac in device.macs:
        apart = _apart(mac, sticker)
        if apart is not None and (nearest is None or abs(apart) < abs(nearest)):
            nearest = apart
    if nearest is None:
        return None
    return f"{abs(nearest)} {'above' if nearest > 0 else 'below'} the sticker" if nearest else ""


def _apart(mac: MacAddress, sticker: str) -> int | None:
    """Return the difference of the last octet if everything known before it is the same."""
    whole = mac.octets.hex()
    known = whole[-len(sticker) :]
    if known[:-2] != sticker[:-2]:
        return None
    apart = int(known[-2:], 16) - int(sticker[-2:], 16)
    return apart if abs(apart) <= NEAR else None


def _within(part: str, text: str) -> bool:
    return part.casefold() in text.casefold()


def _in_subnet(device: Device, subnet: IPv4Network) -> bool:
    return any(isinstance(address, IPv4Address) and address in subnet for address in device.addresses)


def _since(device: Device, moment: datetime) -> bool:
    return device.present or device.last_seen >= moment
