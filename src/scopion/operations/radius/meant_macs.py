"""Which MAC addresses are meant in questions about lists by RADIUS, and what they are called there.

An access point asks about devices that no scan has ever seen, so an address alone will do.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from scopion.model.device import Device
from scopion.model.errors import InvalidMacAddress, NotFound, ScopionError
from scopion.model.mac import MacAddress
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.roster.resolve import resolve
from scopion.wireless.radius.published import read_published
from scopion.wireless.radius.radius_settings import RadiusSettings


def meant_macs(
    devices: Sequence[Device], text: str, adapters: Callable[[Device], Iterable[MacAddress]]
) -> list[tuple[MacAddress, str]]:
    """Return the adapters of the device that a text means, with its name; an address that is not known is called so.

    Raises NotFound.
    """
    try:
        device = resolve(devices, text)
    except NotFound:
        try:
            return [(MacAddress.parse(text), "not known")]
        except InvalidMacAddress:
            raise NotFound(f"{text!r} is no device that is known, and no MAC address") from None
    return [(mac, device.called) for mac in adapters(device)]


def names_on_lists(files: RadiusFiles, lists: Iterable[RadiusSettings]) -> Iterator[tuple[MacAddress, str]]:
    """Yield what devices are called on published lists; empty: nothing but an address stands there."""
    for settings in lists:
        try:
            text = files.read(files.list_of(settings.network))
            rules = read_published(text).policy.rules if text is not None else ()
        except ScopionError:
            continue
        yield from ((rule.line.mac, rule.line.name) for rule in rules)
