"""The devices of a site with what is looked up and guessed of them, for lists."""

from __future__ import annotations

from ipaddress import IPv4Network

from scopion.model.errors import UsageError
from scopion.operations.describe import devices
from scopion.operations.hosts import Described, described
from scopion.operations.site import Site


def described_devices(site: Site) -> list[Described]:
    """Every device that the roster remembers."""
    known = devices(site)
    return [described(device, site.vendors, site.kinds) for device in known]


def subnet_called(site: Site, text: str) -> IPv4Network:
    """A subnet by its range or by the name that site.toml gives it. Raises UsageError."""
    for each in site.settings.subnet:
        if each.name and each.name.casefold() == text.strip().casefold():
            return each.range
    try:
        return IPv4Network(text.strip(), strict=False)
    except ValueError:
        named = [each.name for each in site.settings.subnet if each.name]
        others = f", or one of: {', '.join(named)}" if named else ""
        raise UsageError(f"{text!r} is no subnet: write it as 192.0.2.0/24{others}") from None
