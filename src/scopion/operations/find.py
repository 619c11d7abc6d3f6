"""Finding devices: by what they are, by when they were seen, by any part of a text or of the MAC on a sticker.

Pure: devices and wishes go in, those that fit come out, with why where that is not plain to see.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network

from scopion.model.device import Device
from scopion.model.errors import InvalidMacAddress, UsageError
from scopion.model.mac import OCTETS, MacAddress, hex_digits
from scopion.operations.hosts import Described

# The ports of one box have addresses that lie together; the label shows one of them.
NEAR = 8
_LEAST_DIGITS = 4  # a shorter part of a MAC fits by chance
_LEAST_NEAR_DIGITS = 4
_HEXADECIMAL = re.compile(r"[0-9a-f][0-9a-f:.\- ]*", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is looked for; empty and None mean anything."""

    words: tuple[str, ...] = ()  # each has to fit something
    standings: tuple[str, ...] = ()
    present: bool | None = None
    vendor: str = ""
    kind: str = ""
    owner: str = ""
    subnet: IPv4Network | None = None
    private: bool = False
    seen_since: datetime | None = None
    not_seen_since: datetime | None = None
    near: bool = False  # a word is a sticker's MAC, or its end: its neighbours are meant as well


@dataclass(frozen=True, slots=True)
class Found:
    """A device that fits; ``near`` says how far its MAC is from the sticker's, where that is why."""

    described: Described
    near: str = ""


def find(devices: Sequence[Described], wanted: Wanted) -> list[Found]:
    """Those that fit, in their order. Raises UsageError for a word that cannot have neighbours."""
    if wanted.near and not wanted.words:
        raise UsageError("--near needs the MAC on the sticker, or its end: scopion devices 4a:11:04 --near")
    if wanted == Wanted():
        return [Found(each) for each in devices]
    stickers = [_sticker(word) for word in wanted.words] if wanted.near else []
    found = []
    for each in devices:
        if not _fits(each, wanted):
            continue
        if not wanted.near:
            if all(_has(each, word) for word in wanted.words):
                found.append(Found(each))
            continue
        distances = [_distance(each.device, sticker) for sticker in stickers]
        if all(distance is not None for distance in distances):
            found.append(Found(each, next((words for words in distances if words), "")))
    return found


def _fits(each: Described, wanted: Wanted) -> bool:
    device = each.device
    tests: tuple[tuple[bool, Callable[[], bool]], ...] = (
        (bool(wanted.standings), lambda: device.standing in wanted.standings),
        (wanted.present is not None, lambda: device.present is wanted.present),
        (bool(wanted.vendor), lambda: any(_within(wanted.vendor, vendor.name) for vendor in each.vendors)),
        (bool(wanted.kind), lambda: _within(wanted.kind, each.guess.kind)),
        (bool(wanted.owner), lambda: _within(wanted.owner, device.owner)),
        (wanted.subnet is not None, lambda: _in_subnet(device, wanted.subnet)),
        (wanted.private, lambda: any(mac.is_private for mac in device.macs)),
        (wanted.seen_since is not None, lambda: _since(device, wanted.seen_since)),
        (wanted.not_seen_since is not None, lambda: not _since(device, wanted.not_seen_since)),
    )
    return all(fits() for asked, fits in tests if asked)


def _has(each: Described, word: str) -> bool:
    """Whether any text of a device contains a word, or any MAC the digits of one."""
    device = each.device
    texts = [
        device.label, device.owner, device.place, device.note, device.because, str(device.standing), each.guess.kind,
        *(vendor.name for vendor in each.vendors), *(vendor.place for vendor in each.vendors),
        *(known.trait.value for known in device.traits), *map(str, device.addresses),
    ]  # fmt: skip
    if any(_within(word, text) for text in texts):
        return True
    digits = _digits(word)
    return len(digits) >= _LEAST_DIGITS and any(digits in mac.octets.hex() for mac in device.macs)


def _digits(word: str) -> str:
    """The hexadecimal digits of any part of a MAC, in any notation; empty if the word is none."""
    if not _HEXADECIMAL.fullmatch(word.strip()):
        return ""
    try:
        return hex_digits(word.strip(" :.-"))
    except InvalidMacAddress:
        return "".join(filter(str.isalnum, word)).lower()


def _sticker(word: str) -> str:
    """The digits of a sticker: a whole MAC, or its end. Raises UsageError."""
    digits = _digits(word)
    if not _LEAST_NEAR_DIGITS <= len(digits) <= 2 * OCTETS:
        raise UsageError(
            f"{word!r} is no MAC address nor the end of one: --near needs its last {_LEAST_NEAR_DIGITS} digits at least"
        )
    return digits


def _distance(device: Device, sticker: str) -> str | None:
    """How a device's MAC lies to the sticker's: empty for the same, None if it is no neighbour."""
    nearest: int | None = None
    for mac in device.macs:
        apart = _apart(mac, sticker)
        if apart is not None and (nearest is None or abs(apart) < abs(nearest)):
            nearest = apart
    if nearest is None:
        return None
    return f"{abs(nearest)} {'above' if nearest > 0 else 'below'} the sticker" if nearest else ""


def _apart(mac: MacAddress, sticker: str) -> int | None:
    """By how much the last octet differs where all that is known before it is the same."""
    whole = mac.octets.hex()
    known = whole[-len(sticker) :]
    if known[:-2] != sticker[:-2]:
        return None
    apart = int(known[-2:], 16) - int(sticker[-2:], 16)
    return apart if abs(apart) <= NEAR else None


def _within(part: str, text: str) -> bool:
    return part.casefold() in text.casefold()


def _in_subnet(device: Device, subnet: IPv4Network | None) -> bool:
    return subnet is not None and any(
        isinstance(address, IPv4Address) and address in subnet for address in device.addresses
    )


def _since(device: Device, moment: datetime | None) -> bool:
    return moment is not None and (device.present or device.last_seen >= moment)
