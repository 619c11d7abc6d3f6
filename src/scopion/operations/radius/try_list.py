"""Tries a list: asks the server about devices by their names, or about one that is on the list and one that is not."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import islice

from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.radius.ask_server import TestAnswer, ask_server, radius_settings_of
from scopion.operations.radius.meant_macs import meant_macs, names_on_lists
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.wireless.coverage import covered_adapters
from scopion.wireless.radius.radius_settings import RadiusSettings

# Locally administered, so that no maker has given it to a device.
_NOBODY = MacAddress(bytes.fromhex("025c0910a000"))


@dataclass(frozen=True, slots=True)
class Tried:
    """One question about one device."""

    name: str
    answer: TestAnswer


def try_list(
    site: Site,
    ssid: str,
    which: Sequence[str] = (),
    *,
    access_point: str | None = None,
    source: Address | None = None,
) -> list[Tried]:
    """Return what the server answers. Raises NotFound, InvalidSettings, NoInterface."""
    settings = radius_settings_of(site, ssid)
    names = dict(_named(site, which) if which else _examples(site, settings))
    answers = ask_server(site, settings, list(names), access_point=access_point, source=source)
    return [Tried(names[each.mac], each) for each in answers]


def _named(site: Site, which: Sequence[str]) -> Iterator[tuple[MacAddress, str]]:
    devices = all_devices(site.roster_for_reading())
    for text in which:
        yield from meant_macs(devices, text, lambda device: (each.mac for each in covered_adapters(device)))


def _examples(site: Site, settings: RadiusSettings) -> Iterator[tuple[MacAddress, str]]:
    for mac, name in islice(names_on_lists(RadiusFiles(site.folder), [settings]), 1):
        yield mac, name or str(mac)
    yield _NOBODY, "a stranger"
