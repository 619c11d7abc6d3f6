"""Finds the device that a text means: MAC, address, label, host name, ``this-machine``, ``gateway``, or a beginning.

Behind an ``@`` may stand the place in which it is: two places may use the same addresses, and each has its gateway.
Never a guess: if several fit, all are named and nothing is done.
"""

from __future__ import annotations

from collections.abc import Sequence

from scopion.model.address import Address, parse_address
from scopion.model.device import Device, short_name
from scopion.model.errors import AmbiguousDevice, InvalidMacAddress, NotFound
from scopion.model.mac import MacAddress, hex_digits
from scopion.model.text import clean, joined

THIS_MACHINE = "this-machine"
GATEWAY = "gateway"
# Shorter beginnings of a MAC address are mostly mistakes, and would fit half of all devices.
LEAST_MAC_DIGITS = 4
_NAMED_AT_MOST = 8
_SIMILAR, _LEAST_TO_CONTAIN = 3, 3


def resolve(devices: Sequence[Device], text: str) -> Device:
    """Return the one device that ``text`` means. Raises NotFound, or AmbiguousDevice with those that fit."""
    wanted = clean(text)
    for candidates in (*_candidates(devices, wanted), *_in_a_place(devices, wanted)):
        if len(candidates) == 1:
            return candidates[0]
        if candidates:
            raise AmbiguousDevice(
                f"{wanted!r} fits {len(candidates)} devices: {_named(candidates)}; {_more(candidates, wanted)}"
            )
    similar = _similar(devices, wanted)
    if other := _other_place(devices, wanted):
        raise NotFound(other)
    hint = f"did you mean {joined(similar, 'or')}?" if similar else "see scopion devices"
    raise NotFound(f"no device is called {wanted!r}: {hint}")


def _similar(devices: Sequence[Device], wanted: str) -> list[str]:
    """Return names that look like the text, or contain it, for typing mistakes."""
    import difflib  # only when something was mistyped

    names = {name.casefold(): name for device in devices for name in (device.label, device.name) if name}
    of_word = {word: name for name in names for word in (name, *name.split())}
    small = wanted.casefold()
    close = [of_word[word] for word in difflib.get_close_matches(small, of_word, n=_SIMILAR, cutoff=0.7)]
    containing = [name for name in names if len(small) >= _LEAST_TO_CONTAIN and small in name]
    return [repr(names[name]) for name in dict.fromkeys([*close, *containing])][:_SIMILAR]


def _other_place(devices: Sequence[Device], wanted: str) -> str:
    """Return that there is no such place, if that is what keeps a text from meaning a device; else empty."""
    name, _, place = wanted.rpartition("@")
    places = sorted({each for device in devices for each in device.places})
    if not name or not places or place.strip().casefold() in map(str.casefold, places):
        return ""
    return f"no device is in a place {place!r}: places are {joined([repr(each) for each in places])}"


def _in_a_place(devices: Sequence[Device], wanted: str) -> list[list[Device]]:
    """Return the same for what stands before an ``@``, of the devices in the place that stands behind it."""
    name, _, place = wanted.rpartition("@")
    places = {each for device in devices for each in (*device.places, *device.gateway_in)}
    there = next((each for each in places if each.casefold() == place.strip().casefold()), None)
    if not name or there is None:
        return []
    if name.casefold() == GATEWAY and any(there in device.gateway_in for device in devices):
        return [[device for device in devices if there in device.gateway_in]]
    return _candidates([device for device in devices if there in device.places], name.strip(), there)


def _candidates(devices: Sequence[Device], wanted: str, place: str | None = None) -> list[list[Device]]:
    """Return groups of fitting devices, the surest way of meaning one first; addresses in one place, or in any."""
    small = wanted.casefold()
    if not small:
        return []
    if small == THIS_MACHINE:
        return [[device for device in devices if device.own]]
    if small == GATEWAY:
        return [[device for device in devices if device.gateway]]
    digits = _digits(wanted)
    return [
        [device for device in devices if device.label.casefold() == small],
        [device for device in devices if digits in {mac.octets.hex() for mac in device.macs}],
        _at_address(devices, wanted, place),
        [device for device in devices if small in _host_names(device)],
        _beginning(devices, small, digits),
    ]


def _at_address(devices: Sequence[Device], wanted: str, place: str | None) -> list[Device]:
    """Return the devices at an address now; if none is, all that were last seen there, because it is not guessed."""
    address = _address(wanted)
    stays = [
        (stay, device)
        for device in devices
        for stay in device.stays
        if stay.address == address and place in (None, stay.place)
    ]
    present = [device for stay, device in stays if stay.present]
    return list(dict.fromkeys(present or [device for _, device in stays]))


def _beginning(devices: Sequence[Device], small: str, digits: str) -> list[Device]:
    """Return devices by the beginning of a label, name or MAC; not of an address: 192.0.2.14 is not 192.0.2.144."""
    return [
        device
        for device in devices
        if any(name.startswith(small) for name in (device.label.casefold(), *_host_names(device)))
        or (len(digits) >= LEAST_MAC_DIGITS and any(mac.octets.hex().startswith(digits) for mac in device.macs))
    ]


def _host_names(device: Device) -> set[str]:
    """Return its host names, whole and short, casefolded."""
    names = [name.value.casefold() for name in device.host_names]
    return {*names, *map(short_name, names)}


def _address(text: str) -> Address | None:
    try:
        return parse_address(text)
    except ValueError:
        return None


def _digits(text: str) -> str:
    try:
        return hex_digits(text)
    except InvalidMacAddress:
        return ""


def _named(devices: Sequence[Device]) -> str:
    names = [
        f"{device.name or joined(list(map(str, device.macs))) or 'without a MAC'} "
        f"({', '.join(map(str, device.addresses)) or 'no address'}{_in_places(device)})"
        for device in devices[:_NAMED_AT_MOST]
    ]
    more = len(devices) - _NAMED_AT_MOST
    return ", ".join(names) + (f" and {more} more" if more > 0 else "")


def _in_places(device: Device) -> str:
    return f" in {joined(list(device.places))}" if device.places else ""


def _more(candidates: Sequence[Device], wanted: str) -> str:
    """Return what to write instead: of devices in different places the place is enough."""
    places = [each for device in candidates for each in device.places]
    if len(set(places)) == len(places) == len(candidates) and "@" not in wanted:
        return f"write {f'{wanted}@{places[-1]}'!r} for the one there"
    return "write more of it"


def is_reserved(label: str) -> str:
    """Return why a label would be mistaken for something else; empty if it would not."""
    if label.casefold() in (THIS_MACHINE, GATEWAY):
        return "it is a word with a meaning of its own"
    if _address(label) is not None:
        return "it reads as an address"
    try:
        MacAddress.parse(label)
    except InvalidMacAddress:
        return ""
    return "it reads as a MAC address"
